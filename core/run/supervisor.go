package run

import (
	"io"
	"os"
	"slices"
	"strconv"
	"sync"

	"github.com/creack/pty"

	"a.early/keeper"
	"tidytally/core/output"
	"tidytally/core/plan"
	"tidytally/core/task"
)

// Options say how runs are executed.
type Options struct {
	// Terminal runs each command on a pseudo-terminal of Cols by Rows cells.
	Terminal   bool
	Cols, Rows int
	// Stdin is the standard input of a run without a terminal.
	Stdin *os.File
	// Tee receives all output as it comes; may be nil. When it fails, the output is
	// closed: a task without a terminal ends as in a pipe of the shell.
	Tee io.Writer
	// Keeper is one that was started before, for the first run; may be nil.
	Keeper *keeper.Keeper
	// Changed is called, from any goroutine, when a run changed. It must not
	// block and must not call back into the run.
	Changed func(*Run)
}

// Supervisor starts runs and watches over them.
type Supervisor struct {
	ctx    Context
	opts   Options
	spools *output.Folder

	mu         sync.Mutex
	spare      *keeper.Keeper // waits for the next run
	cols, rows int
	runs       []*Run
	next       int
	jobs       sync.WaitGroup
	stops      sync.WaitGroup // what is being stopped, to the last process
}

// NewSupervisor makes a supervisor with a folder for spools. Close removes it.
func NewSupervisor(ctx Context, opts Options) (*Supervisor, error) {
	spools, err := output.NewFolder()
	if err != nil {
		return nil, err
	}
	return &Supervisor{ctx: ctx, opts: opts, spools: spools, spare: opts.Keeper, cols: max(opts.Cols, 20), rows: max(opts.Rows, 5)}, nil
}

// Context returns the context in which commands are prepared.
func (s *Supervisor) Context() Context {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ctx
}

// SetContext replaces the context for the runs that start from now on.
func (s *Supervisor) SetContext(c Context) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.ctx = c
}

// keeper returns the keeper that waits, or a new one.
func (s *Supervisor) keeper() (*keeper.Keeper, error) {
	s.mu.Lock()
	k := s.spare
	s.spare = nil
	s.mu.Unlock()
	if k != nil {
		return k, nil
	}
	return keeper.New()
}

func (s *Supervisor) changed(r *Run) {
	if s.opts.Changed != nil {
		s.opts.Changed(r)
	}
}

func (s *Supervisor) size() (cols, rows int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.cols, s.rows
}

// Resize changes the size of the terminals of all runs, in cells.
func (s *Supervisor) Resize(cols, rows int) {
	s.mu.Lock()
	s.cols, s.rows = max(cols, 20), max(rows, 5)
	size := &pty.Winsize{Cols: uint16(s.cols), Rows: uint16(s.rows)}
	runs := s.runs
	s.mu.Unlock()
	for _, r := range runs {
		r.mu.Lock()
		if r.terminal != nil {
			_ = pty.Setsize(r.terminal, size) // it is being closed
		}
		r.mu.Unlock()
	}
}

// Runs returns all runs, the oldest first.
func (s *Supervisor) Runs() []*Run {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.runs[:len(s.runs):len(s.runs)]
}

// Job is the run of a task with its steps before, beside and after it. A step that is to
// stay up and is up already is the run that another job started.
type Job struct {
	Steps []*Run // in the order of the plan
	Main  *Run
	done  chan struct{}
	roles []plan.Role
}

// Done is closed when all steps have ended.
func (j *Job) Done() <-chan struct{} { return j.done }

// Start runs a task with further arguments. tasks are those that it may name. If a
// step cannot be prepared, that is an error, and nothing runs.
func (s *Supervisor) Start(tasks []*task.Task, t *task.Task, args []string) (*Job, error) {
	steps, err := plan.Of(tasks, t)
	if err != nil {
		return nil, err
	}
	ctx := s.Context()
	j := &Job{done: make(chan struct{})}
	more := func(step plan.Step) []string {
		if step.Role == plan.Main {
			return args
		}
		return nil
	}
	prepared := make([]*Prepared, len(steps))
	for i, step := range steps {
		prepared[i] = &Prepared{Task: step.Task}
		if !step.Task.Command.IsZero() {
			if prepared[i], err = ctx.Prepare(step.Task, more(step)); err != nil {
				return nil, err
			}
		}
	}
	for i, step := range steps {
		r := s.borrow(prepared[i], step.Role)
		if r == nil {
			r = &Run{Prepared: prepared[i], Args: more(step), super: s, job: j, users: 1, state: Waiting, up: make(chan struct{}), done: make(chan struct{})}
		}
		j.Steps, j.roles = append(j.Steps, r), append(j.roles, step.Role)
		if step.Role == plan.Main {
			j.Main = r
		}
	}
	s.mu.Lock()
	for _, r := range j.Steps {
		if r.job == j {
			s.next++
			r.ID = s.next
			s.runs = append(s.runs, r)
		}
	}
	s.mu.Unlock()
	s.jobs.Add(1)
	go func() {
		defer s.jobs.Done()
		j.run()
	}()
	return j, nil
}

// borrow returns the run of a long-running step that is up already, with the same
// command, folder and environment, or nil. The job becomes one of its users.
func (s *Supervisor) borrow(p *Prepared, role plan.Role) *Run {
	if !p.Task.LongRunning || role != plan.Before && role != plan.With {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, r := range s.runs {
		q := r.Prepared
		if q.Task.ID() != p.Task.ID() || q.Display != p.Display || q.Dir != p.Dir || !slices.Equal(q.Env, p.Env) || r.users == 0 {
			continue
		}
		if snap := r.Snapshot(); !snap.Stopping && (snap.State == Running || snap.State == Up) {
			r.users++
			return r
		}
	}
	return nil
}

// release ends a job's use of a step that stays up. The last user stops it, unless it was
// started for itself.
func (r *Run) release() {
	r.super.mu.Lock()
	r.users--
	last := r.users == 0
	r.super.mu.Unlock()
	if last {
		r.Stop()
		<-r.done
	}
}

// StatusVariable is in the environment of the tasks that run after another one: its exit
// code.
const StatusVariable = "TIDYTALLY_STATUS"

// run runs the steps in order.
func (j *Job) run() {
	defer close(j.done)
	good := true
	var longRunning, beside []*Run
	for i, r := range j.Steps {
		switch j.roles[i] {
		case plan.Before:
			if r.job != j { // up already
				longRunning = append(longRunning, r)
				good = good && r.awaitUp()
				continue
			}
			if !good || !r.launch() {
				good = false
				r.skip()
				continue
			}
			if r.Prepared.Task.LongRunning {
				longRunning = append(longRunning, r)
				good = r.awaitUp()
			} else {
				<-r.done
				good = r.Snapshot().State == OK
			}
		case plan.With:
			if r.job != j || good && r.launch() {
				beside = append(beside, r)
			} else {
				r.skip()
			}
		case plan.Main:
			if !good || !r.launch() {
				r.skip()
			}
			<-r.done
			for _, other := range append(beside, longRunning...) {
				other.release()
			}
		case plan.After:
			main := j.Main.Snapshot()
			r.Prepared.Env = append(slices.Clip(r.Prepared.Env), StatusVariable+"="+strconv.Itoa(main.Code))
			if r.launch() {
				<-r.done
			} else {
				r.skip()
			}
		}
	}
}

// launch starts a waiting run, unless it was stopped before.
func (r *Run) launch() bool {
	r.mu.Lock()
	stopped := r.stopping
	empty := r.Prepared.Command.IsZero()
	r.mu.Unlock()
	if stopped {
		return false
	}
	if empty { // a task that only names others
		r.end(OK)
		return true
	}
	r.start()
	return true
}

// skip ends a run that never started.
func (r *Run) skip() {
	r.mu.Lock()
	state := Skipped
	if r.stopping {
		state = Stopped
	}
	r.mu.Unlock()
	r.end(state)
}

// awaitUp waits until a long-running task is up, or has ended.
func (r *Run) awaitUp() bool {
	select {
	case <-r.up:
		return true
	case <-r.done:
		return false
	}
}

// StopAll stops every run and waits until all have ended, and all processes that they
// started: those that ignore their signals are killed.
func (s *Supervisor) StopAll() {
	for _, r := range s.Runs() {
		r.Stop()
	}
	s.jobs.Wait()
	s.stops.Wait()
}

// Close stops every run and removes the spools.
func (s *Supervisor) Close() error {
	s.StopAll()
	s.mu.Lock()
	if s.spare != nil {
		s.spare.Dismiss()
	}
	s.mu.Unlock()
	for _, r := range s.Runs() {
		r.mu.Lock()
		spool := r.spool
		r.mu.Unlock()
		if spool != nil {
			_ = spool.Remove() // the folder goes anyway
		}
	}
	return s.spools.Remove()
}
