package run

import (
	"fmt"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"a.early/keeper"
	"a.early/system"

	"tidytally/core/printable"
)

// hardGrace is how long TERM is given before KILL.
const hardGrace = 2 * time.Second

// Stop asks the run to end: with its own signal, then TERM, then KILL, each after a
// grace period. It returns at once; Done is closed when the run has ended. Processes
// that left the run's group are stopped too.
func (r *Run) Stop() {
	r.mu.Lock()
	waiting := r.state == Waiting
	if r.stopping || r.state.Ended() && !holds(r.keeper) {
		r.mu.Unlock()
		return
	}
	r.stopping = true
	r.noProblemsNow()
	close(r.halt)
	r.version++
	between := r.state == Restarting && r.retry.Stop()
	r.mu.Unlock()
	r.super.changed(r)
	if between {
		r.end(Stopped)
	}
	if r.job.Main == r {
		r.job.stopOthers()
	}
	if r.handed != nil {
		r.super.batchAt(r.Prepared.remote.place).stop(r.handed)
		return
	}
	if waiting {
		return // whoever waits to start it is told by halt
	}
	r.super.stops.Go(r.stop)
}

// noProblemsNow makes the sieves ignore the problems in later output: an ended command reports its end in many forms, and no
// source is at fault. r.mu must be held.
func (r *Run) noProblemsNow() {
	if r.spool != nil && r.endedFrom == 0 {
		r.endedFrom = r.spool.Size() + 1
	}
}

func (r *Run) stop() {
	if r.escalate(r.keeperNow(), r.gone) {
		return
	}
	r.mu.Lock()
	if k := r.keeper; k != nil {
		r.fault = fmt.Sprintf("%s: still running after KILL: %s", r.Prepared.Task.ShownID(), pidWords(k.Kept()))
		r.version++
	}
	r.mu.Unlock()
	r.super.changed(r)
}

// escalate ends all that a keeper holds: with the task's own signal, then TERM, then KILL. gone
// waits for the end, for so long at most. escalate reports whether that came.
func (r *Run) escalate(k *keeper.Keeper, gone func(grace time.Duration) bool) bool {
	if f := r.Prepared.remote; f != nil {
		if left := f.stop(r); left != "" {
			r.mu.Lock()
			r.fault = left
			r.mu.Unlock()
		}
	}
	r.signalGroup(signalNumber(r.Prepared.Signal))
	if gone(r.Prepared.Grace) {
		return true
	}
	signalAll(k, syscall.SIGTERM)
	if gone(hardGrace) {
		return true
	}
	// A process that forks without end may escape one round.
	for range killRounds {
		signalAll(k, syscall.SIGKILL)
		if gone(killEvery) {
			return true
		}
	}
	return false
}

// pidWords lists process ids.
func pidWords(pids []int) string {
	words := make([]string, len(pids))
	for i, pid := range pids {
		words[i] = strconv.Itoa(pid)
	}
	return "process " + strings.Join(words, ", ")
}

// KILL is sent so many times, so far apart, before what is left counts as a survivor.
const (
	killRounds = 40
	killEvery  = 50 * time.Millisecond
)

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
	// The command has ended; what it started may need a little longer.
	k := r.keeperNow()
	if k == nil {
		return true
	}
	select {
	case <-k.Gone():
		return true
	case <-over.C:
		return false
	}
}

// signalGroup signals the run's process group, and the group in the foreground of its
// terminal. Without a group of its own, it signals all that the run started.
func (r *Run) signalGroup(sig syscall.Signal) {
	r.mu.Lock()
	k, alone := r.keeper, r.alone && !r.state.Ended() // its id may be another's by then
	if k == nil {
		r.mu.Unlock()
		return
	}
	if alone {
		_ = syscall.Kill(-r.pid, sig) // ESRCH: it is gone already
	}
	if r.terminal != nil {
		if conn, err := r.terminal.SyscallConn(); err == nil {
			_ = conn.Control(func(fd uintptr) {
				if front, err := unix.IoctlGetInt(int(fd), unix.TIOCGPGRP); err == nil && front > 1 && front != r.pid {
					_ = syscall.Kill(-front, sig)
				}
			})
		}
	}
	r.mu.Unlock()
	if !alone {
		signalEach(k, sig)
	}
}

func signalEach(k *keeper.Keeper, sig syscall.Signal) {
	for _, pid := range k.Kept() {
		_ = syscall.Kill(pid, sig) // ESRCH: it is gone already
	}
}

// signalAll signals everything that a keeper holds. Stopped processes are continued, so that
// they take the signal.
func signalAll(k *keeper.Keeper, sig syscall.Signal) {
	if k != nil {
		signalEach(k, sig)
		signalEach(k, syscall.SIGCONT)
	}
}

func (r *Run) keeperNow() *keeper.Keeper {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.keeper
}

// left reports whether a keeper still holds something.
func left(k *keeper.Keeper) bool {
	if k == nil {
		return false
	}
	select {
	case <-k.Gone():
		return false
	default:
		return true
	}
}

func signalName(s syscall.Signal) string { return strings.TrimPrefix(unix.SignalName(s), "SIG") }

func signalNumber(name string) syscall.Signal {
	if s := unix.SignalNum("SIG" + name); s != 0 {
		return s
	}
	return syscall.SIGINT
}

// HasLeftovers reports whether processes that the run started outlive it.
func (r *Run) HasLeftovers() bool { return holds(r.keeperNow()) }

// Leftovers names the processes that outlive the run, which has ended: "sleep (4711)".
func (r *Run) Leftovers() (names []string) {
	k := r.keeperNow()
	if !holds(k) {
		return nil
	}
	for _, pid := range k.Kept() {
		p, _ := system.Find(pid) // it may have ended
		names = append(names, fmt.Sprintf("%s (%d)", printable.Text(p.Name), pid))
	}
	return names
}

// lastMoment is how much longer than the last process in its care a keeper lives, at most.
const lastMoment = 20 * time.Millisecond

// holds reports whether there are processes in a keeper's care.
func holds(k *keeper.Keeper) bool {
	if !left(k) {
		return false
	}
	select {
	case <-k.Gone():
		return false
	case <-time.After(lastMoment):
		return len(k.Kept()) > 0
	}
}
