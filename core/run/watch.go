package run

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"tidytally/core/learn"
	"tidytally/core/task"
	"tidytally/core/trace"
)

// Runs that are watched, to learn what they read and make: by strace(1), where there is one.

// watch is the trace of a command while it runs.
type watch struct {
	hold  *os.File // a writer of the fifo, until the tracer has it open for certain
	in    *os.File
	file  *os.File // what came through the fifo
	began time.Time
	ended chan error // gets one value when the tracer has ended
}

// tracerEnds is how long the tracer may take after the command has ended. It takes longer if
// something that the command started goes on.
const tracerEnds = 2 * time.Second

// maxTrace is the size in bytes from which no more of a trace is kept.
const maxTrace = 1 << 30

// ErrNoTracer is returned where runs cannot be watched.
var ErrNoTracer = errors.New("strace is not on the path, by which a run is watched (Debian: apt-get install strace)")

// Watches reports whether a run of a task can be watched: it ends by itself, and all that it does is
// done on this machine.
func Watches(t *task.Task) bool {
	return !t.LongRunning && len(t.RerunOn) == 0 && t.Via == "" && !t.Login
}

// LearnedText is the text by which runs of a task are the same: the command and what it adds to the
// environment.
func (p *Prepared) LearnedText() string {
	env := slices.Clone(p.Env)
	slices.Sort(env)
	return strings.Join(append(env, p.Display), "\n")
}

// watch prepares that a command is watched. Without a tracer the command runs as it is, and the
// receiver is told.
func (r *Run) watch(argv []string, program string) (path string, watched []string, w *watch) {
	tell := r.super.opts.Learned
	if tell == nil || !(r.Prepared.Task.Learn || r.super.opts.Learn) || !Watches(r.Prepared.Task) {
		return program, argv, nil
	}
	strace, err := exec.LookPath("strace")
	if err != nil {
		tell(r, nil, ErrNoTracer)
		return program, argv, nil
	}
	w = &watch{began: time.Now(), ended: make(chan error, 1)}
	fifo := filepath.Join(r.super.spools.Path(), fmt.Sprintf("trace-%d", r.ID))
	if err := w.open(fifo); err != nil {
		tell(r, nil, fmt.Errorf("the run is not watched: %w", err))
		return program, argv, nil
	}
	// The tracer looks the program up as we did, so that its name stays what it is.
	command := slices.Clone(argv)
	if !strings.Contains(command[0], "/") {
		if found, err := exec.LookPath(command[0]); err != nil || found != program {
			command[0] = program
		}
	}
	return strace, trace.Argv("strace", fifo, command), w
}

// open makes the fifo and reads from it until the tracer has ended.
func (w *watch) open(fifo string) error {
	if err := syscall.Mkfifo(fifo, 0o600); err != nil {
		return err
	}
	var err error
	if w.in, err = os.OpenFile(fifo, os.O_RDONLY|syscall.O_NONBLOCK, 0); err != nil {
		return err
	}
	if w.hold, err = os.OpenFile(fifo, os.O_WRONLY|syscall.O_NONBLOCK, 0); err != nil {
		w.in.Close()
		return err
	}
	if w.file, err = os.Create(fifo + ".log"); err != nil {
		w.in.Close()
		w.hold.Close()
		return err
	}
	go func() {
		n, err := io.Copy(w.file, io.LimitReader(w.in, maxTrace))
		if err == nil && n == maxTrace {
			err = errors.New("the trace is too long")
			_, _ = io.Copy(io.Discard, w.in) // else the run would wait for us
		}
		w.ended <- err
	}()
	return nil
}

// learn makes what was watched known, if the run was good.
func (r *Run) learn(w *watch, good bool) {
	if w == nil {
		return
	}
	w.hold.Close()
	err := error(nil)
	select {
	case err = <-w.ended:
	case <-time.After(tracerEnds):
		err = errors.New("something that it started goes on")
	}
	w.in.Close()
	defer func() {
		w.file.Close()
		os.Remove(w.file.Name())
		os.Remove(strings.TrimSuffix(w.file.Name(), ".log"))
	}()
	if !good {
		return
	}
	var tr *trace.Trace
	if err == nil {
		if _, err = w.file.Seek(0, io.SeekStart); err == nil {
			tr, err = trace.Read(w.file, r.Prepared.Dir)
		}
	}
	if err != nil {
		r.super.opts.Learned(r, nil, fmt.Errorf("it is not known what %s read: %w", r.Prepared.Task.Name, err))
		return
	}
	r.super.opts.Learned(r, learn.Of(tr, r.super.Context().Root, r.Prepared.LearnedText(), w.began), nil)
}
