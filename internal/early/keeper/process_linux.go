package keeper

import (
	"os"
	"os/signal"
	"syscall"
)

// maxrssUnit is the unit of ru_maxrss in bytes (getrusage(2)).
const maxrssUnit = 1024

// prSetChildSubreaper is PR_SET_CHILD_SUBREAPER of prctl(2).
const prSetChildSubreaper = 36

// reap makes the process the parent of all orphans below it, and gives it a name of its own.
func reap() {
	_, _, _ = syscall.RawSyscall(syscall.SYS_PRCTL, prSetChildSubreaper, 1, 0) // there since Linux 3.4
	_ = os.WriteFile("/proc/self/comm", []byte(name), 0)                       // for ps alone; 15 bytes of it
}

// reapAbove makes the program the parent of what a keeper that is killed leaves behind, and waits for what of it ends. The
// children that the program has started itself are in its process group, or keepers: they are waited for by whoever
// started them.
func reapAbove() {
	_, _, _ = syscall.RawSyscall(syscall.SYS_PRCTL, prSetChildSubreaper, 1, 0)
	ended := make(chan os.Signal, 1)
	signal.Notify(ended, syscall.SIGCHLD)
	go func() {
		for range ended {
			_ = orphans() // waits for the dead ones
		}
	}()
}

// endsWithKeeper are attributes by which the command is killed when the keeper is.
func endsWithKeeper() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
}
