package system

import "syscall"

// PeakMemory is the largest resident size in bytes that getrusage(2) tells, which counts kilobytes.
func PeakMemory(r *syscall.Rusage) int64 { return int64(r.Maxrss) << 10 }

// Listening returns nothing: fstat(1) is not asked.
func Listening([]int) []int { return nil }
