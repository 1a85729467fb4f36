package main

import (
	"bytes"
	"errors"
	"os"
	"os/signal"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"tidytally/core/run"
)

// notStopped is when it is clear that the kernel did not stop the program: nobody could let
// it go on, as it runs without a shell.
const notStopped = 200 * time.Millisecond

const (
	ctrlC = 3
	ctrlZ = 26
)

// Pressed so often, so close together, ctrl+c stops a task that does not care for it.
const (
	urgent       = 3
	urgentWithin = 2 * time.Second
)

// keyboard hands what is typed on our terminal to the task that runs on its own.
type keyboard struct {
	in int // the terminal

	// While it is attached. stop is closed to end the reading, so that what is typed behind
	// the task's end is the shell's; done is closed when it has ended.
	stop *os.File
	done chan struct{}

	mu     sync.Mutex
	before *term.State // how the terminal was; nil while it is as it was
	job    *run.Job
}

// attach begins to hand what is typed to the runs of a job. It does nothing while the program
// is in the background: a terminal is set by who is in front.
func (k *keyboard) attach(job *run.Job) {
	front, err := unix.IoctlGetInt(k.in, unix.TIOCGPGRP)
	if err != nil || front != unix.Getpgrp() {
		return
	}
	wake, stop, err := os.Pipe()
	if err != nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	k.job = job
	k.stop, k.done = stop, make(chan struct{})
	k.before, _ = term.MakeRaw(k.in) // nil if it cannot be set: then it stays as it is
	go k.read(wake)
}

// release gives the terminal back as it was.
func (k *keyboard) release() {
	if k.stop == nil {
		return
	}
	k.stop.Close()
	<-k.done
	k.stop = nil
	k.mu.Lock()
	defer k.mu.Unlock()
	k.job = nil
	k.restore()
}

func (k *keyboard) restore() {
	if k.before != nil {
		_ = term.Restore(k.in, k.before) // gone: nothing is left to restore
		k.before = nil
	}
}

// read reads the keyboard until the other end of wake is closed.
func (k *keyboard) read(wake *os.File) {
	defer close(k.done)
	defer wake.Close()
	buf := make([]byte, 4096)
	var interrupts []time.Time
	ready := []unix.PollFd{{Fd: int32(k.in), Events: unix.POLLIN}, {Fd: int32(wake.Fd()), Events: unix.POLLIN}}
	for {
		if _, err := unix.Poll(ready, -1); err == unix.EINTR {
			continue
		} else if err != nil || ready[1].Revents != 0 {
			return
		}
		n, err := unix.Read(k.in, buf)
		if err == unix.EINTR || err == unix.EAGAIN {
			continue
		}
		if err != nil || n <= 0 {
			return
		}
		keys := buf[:n]
		k.mu.Lock()
		job := k.job
		k.mu.Unlock()
		if job == nil {
			continue
		}
		r := reading(job)
		if r == nil {
			if bytes.IndexByte(keys, ctrlC) >= 0 { // nothing runs: it waits for a change
				job.Main.Stop()
			}
			continue
		}
		if signals := r.TakesSignals(); signals && bytes.IndexByte(keys, ctrlC) >= 0 {
			if lastsUntilStopped(job) {
				job.Main.Stop()
				continue
			}
			now := time.Now()
			interrupts = append(interrupts, now)
			if i := len(interrupts) - urgent; i >= 0 && now.Sub(interrupts[i]) < urgentWithin {
				job.Main.Stop()
			}
		} else if signals && bytes.IndexByte(keys, ctrlZ) >= 0 {
			k.suspend(r)
			continue
		}
		if err := r.Type(keys); errors.Is(err, run.ErrNoTerminal) && bytes.IndexByte(keys, ctrlC) >= 0 {
			job.Main.Stop() // its command has just ended, or is about to begin: the key is for the whole job
		}
	}
}

// lastsUntilStopped reports whether a job is a group, or is run again on change: ctrl+c is meant
// for all of it, not for the command that runs at the moment.
func lastsUntilStopped(job *run.Job) bool {
	t := job.Plan.Task
	return t.Command.IsZero() || t.Reruns()
}

// reading returns the run of a job that the keyboard belongs to: the main one, or a step
// before it.
func reading(job *run.Job) *run.Run {
	for _, r := range append([]*run.Run{job.Main}, job.Steps...) {
		if s := r.Snapshot(); (s.State == run.Running || s.State == run.Up) && !r.Prepared.Command.IsZero() {
			return r
		}
	}
	return nil
}

// suspend stops the task and the program, as ctrl+z does; it returns when both go on.
func (k *keyboard) suspend(r *run.Run) {
	r.Suspend()
	k.mu.Lock()
	defer k.mu.Unlock()
	k.restore()
	continued := make(chan os.Signal, 1)
	signal.Notify(continued, syscall.SIGCONT)
	defer signal.Stop(continued)
	_ = syscall.Kill(0, syscall.SIGTSTP) // to our own group
	select {
	case <-continued:
	case <-time.After(notStopped):
	}
	r.Resume()
	if k.job != nil {
		k.before, _ = term.MakeRaw(k.in)
	}
}
