//go:build !darwin

package system

import "syscall"

// PeakMemory returns the largest resident size in bytes. getrusage(2) counts kilobytes.
func PeakMemory(r *syscall.Rusage) int64 { return int64(r.Maxrss) << 10 }
