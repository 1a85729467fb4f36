package system

import "syscall"

// PeakMemory is the largest resident size in bytes that getrusage(2) tells, which counts bytes on macOS.
func PeakMemory(r *syscall.Rusage) int64 { return r.Maxrss }

// Listening returns the TCP ports on which processes listen, the lowest first, by lsof(8).
func Listening(pids []int) []int {
	if len(pids) == 0 {
		return nil
	}
	return portsOfLsof(said("/usr/sbin/lsof", "-nP", "-a", "-iTCP", "-sTCP:LISTEN", "-Fpn"), pids)
}
