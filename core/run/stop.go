package run

import (
	"bytes"
	"os"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"tidytally/core/plan"
)

// markName is an environment variable of all processes of a run. It finds those that
// left the session and the process group (Linux).
const markName = "TIDYTALLY_RUN"

// hardGrace is how long TERM is given before KILL.
const hardGrace = 2 * time.Second

// Stop asks the run to end: with its own signal, then TERM, then KILL, each after a
// grace period. It returns at once; Done is closed when the run has ended. Processes
// that left the run's group are stopped too.
func (r *Run) Stop() {
	r.mu.Lock()
	waiting := r.state == Waiting
	if r.stopping || r.state.Ended() && len(family(r.mark)) == 0 {
		r.mu.Unlock()
		return
	}
	r.stopping = true
	r.version++
	r.mu.Unlock()
	r.super.changed(r)
	if r.job.Main == r {
		r.job.stopOthers()
	}
	if waiting {
		return // whoever waits to start it sees that it is stopping
	}
	r.super.stops.Go(r.stop)
}

// stopOthers stops the steps before and beside the main one that no other job uses. Those
// after it still run.
func (j *Job) stopOthers() {
	for i, r := range j.Steps {
		r.super.mu.Lock()
		alone := r.job == j && r.users == 1
		r.super.mu.Unlock()
		if alone && (j.roles[i] == plan.Before || j.roles[i] == plan.With) {
			select {
			case <-r.done:
			default:
				r.Stop()
			}
		}
	}
}

func (r *Run) stop() {
	r.signalGroup(signalNumber(r.Prepared.Signal))
	if r.gone(r.Prepared.Grace) {
		return
	}
	r.signalAll(syscall.SIGTERM)
	if r.gone(hardGrace) {
		return
	}
	r.signalAll(syscall.SIGKILL)
}

// gone waits until no process of the run is left. It returns false when the grace
// period is over.
func (r *Run) gone(grace time.Duration) bool {
	over := time.NewTimer(grace)
	defer over.Stop()
	select {
	case <-r.done:
	case <-over.C:
		return false
	}
	// The leader has ended; its children may need a little longer.
	check := time.NewTicker(20 * time.Millisecond)
	defer check.Stop()
	for {
		if len(family(r.markNow())) == 0 {
			return true
		}
		select {
		case <-check.C:
		case <-over.C:
			return false
		}
	}
}

// signalGroup signals the run's process group, and the group in the
// foreground of its terminal.
func (r *Run) signalGroup(sig syscall.Signal) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.process == nil {
		return
	}
	_ = syscall.Kill(-r.process.Pid, sig) // ESRCH: it is gone already
	if r.terminal != nil {
		if conn, err := r.terminal.SyscallConn(); err == nil {
			_ = conn.Control(func(fd uintptr) {
				if front, err := unix.IoctlGetInt(int(fd), unix.TIOCGPGRP); err == nil && front > 1 && front != r.process.Pid {
					_ = syscall.Kill(-front, sig)
				}
			})
		}
	}
}

// signalAll signals everything that the run started.
func (r *Run) signalAll(sig syscall.Signal) {
	r.signalGroup(sig)
	for _, pid := range family(r.markNow()) {
		_ = syscall.Kill(pid, sig)
	}
}

func (r *Run) markNow() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.mark
}

// family lists the processes that carry a run's mark.
func family(ofMark string) (pids []int) {
	if ofMark == "" {
		return nil
	}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	mark := []byte(ofMark)
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil || pid == os.Getpid() {
			continue
		}
		env, err := os.ReadFile("/proc/" + e.Name() + "/environ")
		if err != nil || len(env) == 0 || !bytes.Contains(env, mark) {
			continue
		}
		if stat, err := os.ReadFile("/proc/" + e.Name() + "/stat"); err == nil {
			if i := bytes.LastIndexByte(stat, ')'); i > 0 && bytes.HasPrefix(stat[i:], []byte(") Z")) {
				continue
			}
		}
		pids = append(pids, pid)
	}
	return pids
}

func signalName(s syscall.Signal) string { return strings.TrimPrefix(unix.SignalName(s), "SIG") }

func signalNumber(name string) syscall.Signal {
	if s := unix.SignalNum("SIG" + name); s != 0 {
		return s
	}
	return syscall.SIGINT
}

// HasLeftovers reports whether processes that the run started outlive it.
func (r *Run) HasLeftovers() bool { return len(family(r.markNow())) > 0 }
