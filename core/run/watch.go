package run

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tidytally/core/learn"
	"tidytally/core/task"
	"tidytally/core/trace"
)

// Runs that are watched, to learn what they read and make: by strace(1), where there is one.

// watch is the trace of a command while it runs.
type watch struct {
	file   string // that the tracer writes
	closed *os.File
	began  time.Time
}

// tracerEnds is how long the tracer may take after the command has ended. It takes longer if
// something that the command started goes on.
const tracerEnds = 2 * time.Second

// ErrNoTracer is returned where runs cannot be watched.
var ErrNoTracer = errors.New("strace is not on the path, by which a run is watched (Debian: apt-get install strace)")

// tracer returns the path of strace, if it can trace here: in some containers it must not. It is
// tried once, on a program that does nothing.
var tracer = sync.OnceValues(func() (string, error) {
	strace, err := exec.LookPath("strace")
	if err != nil {
		return "", ErrNoTracer
	}
	argv := trace.Argv(strace, os.DevNull, []string{"true"})
	if out, err := exec.Command(argv[0], argv[1:]...).CombinedOutput(); err != nil {
		said, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
		return "", fmt.Errorf("runs cannot be watched here: %w (%s)", err, said)
	}
	return strace, nil
})

// Watches reports whether a run of a task can be watched: it ends by itself, and all that it does is
// done on this machine.
func Watches(t *task.Task) bool {
	return !t.LongRunning && len(t.RerunOn) == 0 && t.Via == "" && t.At == "" && !t.Login
}

// watch returns the command that runs argv under the tracer. Without a tracer it returns argv, and
// reports why to Options.Learned.
func (r *Run) watch(argv []string, program string) (path string, watched []string, w *watch) {
	t, tell := r.Prepared.Task, r.super.opts.Learned
	if tell == nil {
		tell = func(*Run, *learn.Known, error) {}
	}
	kept := r.super.opts.Learned != nil && t.Of == "" && (t.Learn || r.super.opts.Learn)
	if !(kept || t.RerunLearned) || !Watches(t) {
		return program, argv, nil
	}
	strace, err := tracer()
	if err != nil {
		tell(r, nil, err)
		return program, argv, nil
	}
	w = &watch{began: time.Now(), file: filepath.Join(r.super.spools.Path(), fmt.Sprintf("trace-%d", r.ID))}
	if err = os.WriteFile(w.file, nil, 0o600); err == nil {
		w.closed, err = whenClosed(w.file)
	}
	if err != nil {
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
	return strace, trace.Argv("strace", w.file, command), w
}

// learn reports the reads and writes of a good run to Options.Learned.
func (r *Run) learn(w *watch, good bool) {
	if t := r.Prepared.Task; good && len(t.Reads) > 0 && r.super.opts.Learned != nil && t.Of == "" {
		r.mu.Lock()
		began := r.started
		r.mu.Unlock()
		r.super.opts.Learned(r, learn.OfDeclared(r.super.Context().Root, t.Reads, t.Makes, r.Prepared.Setting(), began), nil)
	}
	if w == nil {
		return
	}
	defer w.closed.Close()
	defer os.Remove(w.file)
	r.mu.Lock()
	again := r.again
	r.mu.Unlock()
	if !good && again == nil {
		return
	}
	tell := func(k *learn.Known, err error) {
		if again != nil && k != nil {
			again.learned(k)
		}
		if r.super.opts.Learned != nil && good {
			r.super.opts.Learned(r, k, err)
		}
	}
	// The tracer closes its file when the last process that it traces has ended.
	_ = w.closed.SetReadDeadline(time.Now().Add(tracerEnds))
	_, err := w.closed.Read(make([]byte, 4096))
	var tr *trace.Trace
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = errors.New("something that it started goes on")
	} else if f, opened := os.Open(w.file); opened != nil {
		err = opened
	} else {
		tr, err = trace.Read(f, r.Prepared.Dir)
		f.Close()
	}
	if err != nil {
		tell(nil, fmt.Errorf("it is not known what %s read: %w", r.Prepared.Task.Name, err))
		return
	}
	tell(learn.Of(tr, r.super.Context().Root, r.Prepared.Setting(), w.began), nil)
}
