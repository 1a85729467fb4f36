package run

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"a.early/system"
)

// ErrNoTerminal is returned for a run that has no terminal, or has it no longer.
var ErrNoTerminal = errors.New("the task has no terminal")

// maxUnread bounds the bytes of keys that wait, beyond the terminal's own buffer, until the task
// reads: more than a person types ahead, and a pasted file.
const maxUnread = 64 << 10

// Type sends keys to the terminal of the run. It does not wait: keys that the task does not read
// stay in the terminal's buffer, and what does not fit there waits for its turn. An error says
// that keys were not taken: there is no terminal, or too many wait already.
func (r *Run) Type(keys []byte) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.terminal == nil {
		return ErrNoTerminal
	}
	taken := min(len(keys), maxUnread-len(r.unread))
	r.unread = append(r.unread, keys[:taken]...)
	if !r.typing && taken > 0 {
		r.typing = true
		go r.writeKeys(r.terminal)
	}
	if left := len(keys) - taken; left > 0 {
		return fmt.Errorf("%s does not read what is typed: %d bytes were not taken", r.Prepared.Task.ShownID(), left)
	}
	return nil
}

// Unread returns how many bytes of what was typed wait for the task to read, beyond the terminal's own
// buffer.
func (r *Run) Unread() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.unread)
}

// keysAtOnce is the number of bytes that are written to a terminal at once: so few that Unread is
// about right while the task reads slowly.
const keysAtOnce = 256

// writeKeys writes what was typed to the terminal until nothing is left. It ends when the terminal
// is closed, with the end of the command; keys that wait by then are dropped, as they were typed for that
// one.
func (r *Run) writeKeys(to *os.File) {
	for {
		r.mu.Lock()
		if r.terminal != to || len(r.unread) == 0 {
			r.typing, r.unread = false, nil
			r.mu.Unlock()
			return
		}
		keys := slices.Clone(r.unread[:min(len(r.unread), keysAtOnce)])
		r.mu.Unlock()
		n, err := to.Write(keys)
		r.mu.Lock()
		if r.unread = r.unread[n:]; err != nil {
			r.typing, r.unread = false, nil
			r.mu.Unlock()
			return
		}
		r.mu.Unlock()
	}
}

// settings returns the settings of the run's terminal (termios(3)); nil if it has none.
func (r *Run) settings() (set *unix.Termios) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.terminal == nil {
		return nil
	}
	if conn, err := r.terminal.SyscallConn(); err == nil {
		_ = conn.Control(func(fd uintptr) { set, _ = unix.IoctlGetTermios(int(fd), readTermios) }) // it is being closed
	}
	return set
}

// TakesSignals reports whether keys such as ctrl+c are signals on the run's terminal, rather
// than input for the task.
func (r *Run) TakesSignals() bool {
	set := r.settings()
	return set != nil && set.Lflag&unix.ISIG != 0
}

// Secret reports whether the task reads without showing what is typed, line by line: a
// password.
func (r *Run) Secret() bool {
	set := r.settings()
	return set != nil && set.Lflag&unix.ECHO == 0 && set.Lflag&unix.ICANON != 0
}

// Suspend stops all that the run started, and Resume lets it go on.
func (r *Run) Suspend() { r.signalKept(syscall.SIGSTOP) }

// Resume lets go on what Suspend stopped.
func (r *Run) Resume() { r.signalKept(syscall.SIGCONT) }

func (r *Run) signalKept(sig syscall.Signal) {
	if k := r.keeperNow(); k != nil {
		signalEach(k, sig)
	}
}

// A run on a terminal that prints nothing is asked whether it waits for input: soon, and then
// ever more rarely.
const (
	firstAsk = 300 * time.Millisecond
	lastAsk  = 10 * time.Second
)

// watchInput looks now and then whether the task waits for what is typed, until it ends.
func (r *Run) watchInput() {
	pause := firstAsk
	timer := time.NewTimer(pause)
	defer timer.Stop()
	var heard time.Time
	for {
		select {
		case <-r.done:
			return
		case <-timer.C:
		}
		r.mu.Lock()
		last, was := r.heard, r.asks
		r.mu.Unlock()
		now := was
		if silent := time.Since(last); last.IsZero() || silent >= firstAsk {
			now = r.reads()
		}
		if last.Equal(heard) {
			pause = min(pause*2, lastAsk)
		} else {
			pause, heard = firstAsk, last
		}
		if now != was {
			r.mu.Lock()
			r.asks = now
			r.version++
			r.mu.Unlock()
			r.super.changed(r)
		}
		timer.Reset(pause)
	}
}

// reads reports whether a process in the foreground of the run's terminal reads from it.
func (r *Run) reads() bool {
	set, k := r.settings(), r.keeperNow()
	if set == nil || k == nil {
		return false
	}
	byKeys := set.Lflag&unix.ICANON == 0 // an editor of lines
	return slices.ContainsFunc(k.Kept(), func(pid int) bool { return system.ReadsTerminal(pid, byKeys) })
}
