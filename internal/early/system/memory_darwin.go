package system

import "syscall"

// PeakMemory returns the largest resident size in bytes. On macOS getrusage(2) counts bytes.
func PeakMemory(r *syscall.Rusage) int64 { return r.Maxrss }
