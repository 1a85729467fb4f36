package keeper

import (
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

// reap makes the process the parent of all orphans below it, and gives it a name of its own.
func reap() {
	_ = unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) // there since Linux 3.4
	_ = os.WriteFile("/proc/self/comm", []byte(name), 0)    // for ps alone; 15 bytes of it
}

// endsWithKeeper are attributes by which the command is killed when the keeper is.
func endsWithKeeper() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
}
