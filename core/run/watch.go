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

// tracer returns the path of strace, if it can trace here: in some containers it must not. It is
// tried once, on a program that does nothing.
var tracer = sync.OnceValues(func() (string, error) {
	strace, err := exec.LookPath("strace")
	if err != nil {
		return "", noTracer()
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

// learn reports the reads and writes of a good run to Options.Learned: as they are declared, as watching it showed, or as they
// are known of an earlier run that was watched.
func (r *Run) learn(w *watch, good bool) {
	t, opts := r.Prepared.Task, &r.super.opts
	r.mu.Lock()
	began, again := r.started, r.again
	r.mu.Unlock()
	root, tells := r.super.Context().Root, good && opts.Learned != nil && t.Of == ""
	var before *learn.Known
	if opts.Learned != nil && t.Of == "" && opts.Known != nil && Watches(t) { // else nothing is known of it
		before = opts.Known(t)[learn.Watched]
	}
	if !good && before != nil {
		if k := before.AfterFailed(r.Prepared.Setting(), began); k != before {
			opts.Learned(r, k, nil)
		}
	}
	if tells && len(t.Reads) > 0 {
		opts.Learned(r, learn.OfDeclared(root, t.Reads, t.Makes, r.Prepared.Setting(), began), nil)
	}
	if w != nil {
		defer w.closed.Close()
		defer os.Remove(w.file)
		if !good && again == nil {
			return
		}
		k, err := r.sawIn(w)
		if err != nil && tells {
			opts.Learned(r, nil, fmt.Errorf("it is not known what %s read: %w", t.Name, err))
		} else if err == nil {
			if again != nil {
				again.learned(k)
			}
			if tells {
				opts.Learned(r, k.Including(before, root), nil)
			}
			return
		}
	}
	if good && before != nil {
		if k := before.After(root, r.Prepared.Setting(), began); k != before {
			opts.Learned(r, k, nil)
		}
	}
}

// sawIn returns what the trace of a run shows.
func (r *Run) sawIn(w *watch) (*learn.Known, error) {
	// The tracer closes its file when the last process that it traces has ended.
	_ = w.closed.SetReadDeadline(time.Now().Add(tracerEnds))
	if _, err := w.closed.Read(make([]byte, 4096)); errors.Is(err, os.ErrDeadlineExceeded) {
		return nil, errors.New("something that it started goes on")
	}
	f, err := os.Open(w.file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	tr, err := trace.Read(f, r.Prepared.Dir)
	if err != nil {
		return nil, err
	}
	return learn.Of(tr, r.super.Context().Root, r.Prepared.Setting(), w.began, r.Prepared.variable), nil
}
