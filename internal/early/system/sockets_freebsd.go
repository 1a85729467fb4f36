package system

import "syscall"

// PeakMemory is the largest resident size in bytes that getrusage(2) tells, which counts kilobytes.
func PeakMemory(r *syscall.Rusage) int64 { return int64(r.Maxrss) << 10 }

// Listening returns the TCP ports on which processes listen, the lowest first, by sockstat(1).
func Listening(pids []int) []int {
	if len(pids) == 0 {
		return nil
	}
	return portsOfSockstat(said("/usr/bin/sockstat", "-46lq", "-P", "tcp"), pids)
}
