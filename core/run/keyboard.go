package run

import (
	"errors"
	"syscall"

	"golang.org/x/sys/unix"
)

// ErrNoTerminal is returned for a run that has no terminal, or has it no longer.
var ErrNoTerminal = errors.New("the task has no terminal")

// Type sends what a person types to the terminal of the run. What is not read by the task
// waits in the terminal, as it does by hand.
func (r *Run) Type(keys []byte) error {
	r.mu.Lock()
	terminal := r.terminal
	r.mu.Unlock()
	if terminal == nil {
		return ErrNoTerminal
	}
	_, err := terminal.Write(keys)
	return err
}

// settings returns the settings of the run's terminal (termios(3)); nil if it has none.
func (r *Run) settings() (set *unix.Termios) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.terminal == nil {
		return nil
	}
	if conn, err := r.terminal.SyscallConn(); err == nil {
		_ = conn.Control(func(fd uintptr) { set, _ = unix.IoctlGetTermios(int(fd), unix.TCGETS) }) // it is being closed
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
