//go:build !linux

package files

import "os"

// ofKernel reports false: other systems have no such file systems where a workspace may lead.
func ofKernel(*os.File) bool { return false }
