package keeper

import (
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
)

// prSetChildSubreaper is PR_SET_CHILD_SUBREAPER of prctl(2).
const prSetChildSubreaper = 36

// reap makes the process the parent of all orphans below it, and gives it a name of its own.
func reap() {
	_, _, _ = syscall.RawSyscall(syscall.SYS_PRCTL, prSetChildSubreaper, 1, 0) // there since Linux 3.4
	_ = os.WriteFile("/proc/self/comm", []byte(name), 0)                       // for ps alone; 15 bytes of it
}

// reapAbove makes the program the parent of what a keeper that is killed leaves behind, and waits for what of it ends.
func reapAbove() {
	_, _, _ = syscall.RawSyscall(syscall.SYS_PRCTL, prSetChildSubreaper, 1, 0)
	ended := make(chan os.Signal, 1)
	signal.Notify(ended, syscall.SIGCHLD)
	go func() {
		for range ended {
			known.changed()
		}
	}()
}

// held returns the processes of which this one holds a file descriptor.
func held() map[int]bool {
	pids := map[int]bool{}
	entries, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return pids
	}
	for _, e := range entries {
		if to, err := os.Readlink("/proc/self/fd/" + e.Name()); err != nil || to != "anon_inode:[pidfd]" {
			continue
		}
		info, err := os.ReadFile("/proc/self/fdinfo/" + e.Name())
		if err != nil {
			continue // it was just closed
		}
		for _, line := range strings.Split(string(info), "\n") {
			if pid, err := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(line, "Pid:"))); err == nil && strings.HasPrefix(line, "Pid:") {
				pids[pid] = true
			}
		}
	}
	return pids
}

// endsWithKeeper are attributes by which the command is killed when the keeper is.
func endsWithKeeper() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
}
