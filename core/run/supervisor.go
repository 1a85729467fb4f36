package run

import (
	"io"
	"os"
	"sync"
	"time"

	"github.com/creack/pty"

	"a.early/keeper"
	"tidytally/core/crash"
	"tidytally/core/learn"
	"tidytally/core/output"
	"tidytally/core/task"
)

// Options say how runs are executed.
type Options struct {
	// Terminal runs each command on a pseudo-terminal of Cols by Rows cells.
	Terminal   bool
	Cols, Rows int
	// Stdin is the standard input of a run without a terminal.
	Stdin *os.File
	// Tee returns where the output of a run goes as it comes; may be nil, and return nil. It is called from
	// several goroutines.
	// When a write fails, the output is closed: a task without a terminal ends as in a pipe
	// of the shell.
	Tee func(*Run) io.Writer
	// Weave keeps the outputs of a plan's steps woven into one, too.
	Weave bool
	// Recorder is told of runs; may be nil.
	Recorder Recorder
	// Learned is called, from any goroutine, with what a run read and made, after it has ended well, as
	// it was declared or as watching showed it, or with why that is not known; may be nil. Runs of tasks
	// that say so are watched, and, with Learn, those of all.
	Learned func(*Run, *learn.Known, error)
	Learn   bool
	// Known returns what is known of a task from earlier runs; may be nil.
	Known func(*task.Task) learn.Records
	// Jobs is the folder for the files of steps that batch systems run, which they and this machine share, so that a later program can take them
	// up; without one they end with this program.
	Jobs string
	// Once runs tasks once that are else run again on change.
	Once bool
	// Keeper is one that was started before, for the first run; may be nil.
	Keeper *keeper.Keeper
	// UpWhenQuiet is how long a long-running task without a ready line must print nothing to count
	// as up; 0 for the usual time.
	UpWhenQuiet time.Duration
	// Changed is called, from any goroutine, when a run changed. It must not
	// block and must not call back into the run.
	Changed func(*Run)
}

// Recorder keeps what runs did. Its methods are called from any goroutine, and hold up the run
// that they are about: each pass of one that is run again on change is told by itself.
type Recorder interface {
	// Began is called when the command of a run has started.
	Began(*Run)
	// Ended is called when it has ended, before whoever waits for the run learns of it.
	Ended(*Run)
	// Fresh returns the last good run of a task, if nothing that it reads has changed since; else nil.
	Fresh(*Prepared) *Past
	// Finish returns when all that it was told of is kept: until then the files of outputs are needed.
	Finish()
}

// Supervisor starts runs and watches over them.
type Supervisor struct {
	ctx    Context
	opts   Options
	spools *output.Folder

	connecting  sync.Mutex             // guards the field below
	connections map[string]*connection // connections to places, by their names

	mu         sync.Mutex
	spare      *keeper.Keeper // waits for the next run
	cols, rows int
	runs       []*Run
	next       int
	slots      *slots
	placeSlots map[string]*slots // of places
	batches    map[string]*batch // by the names of their places
	jobserver  jobserver
	jobs       sync.WaitGroup
	stops      sync.WaitGroup // what is being stopped, to the last process
}

// NewSupervisor makes a supervisor with a folder for spools. Close removes it.
func NewSupervisor(ctx Context, opts Options) (*Supervisor, error) {
	spools, err := output.NewFolder(output.Spools)
	if err != nil {
		return nil, err
	}
	if opts.UpWhenQuiet == 0 {
		opts.UpWhenQuiet = quietAfter
	}
	if opts.Recorder != nil {
		opts.Recorder = contained{opts.Recorder}
	}
	if learned := opts.Learned; learned != nil {
		opts.Learned = func(r *Run, k *learn.Known, err error) {
			r.tell(crash.Contain("the history", func() { learned(r, k, err) }))
		}
	}
	s := &Supervisor{ctx: ctx, opts: opts, spools: spools, spare: opts.Keeper, cols: max(opts.Cols, 20), rows: max(opts.Rows, 5)}
	s.slots = &slots{limit: s.Slots}
	s.jobserver = jobserver{slots: s.slots, dir: spools.Path()}
	return s, nil
}

// Context returns the context in which commands are prepared.
func (s *Supervisor) Context() Context {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ctx
}

// ChangeContext changes the context for the runs that start from now on. change must not call the supervisor.
func (s *Supervisor) ChangeContext(change func(*Context)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change(&s.ctx)
}

// Slots returns how many tasks may run at once.
func (s *Supervisor) Slots() int {
	ctx := s.Context()
	return ctx.Slots()
}

// staysUp reports whether a task does not end by itself: it is long-running, or run again on
// change.
func (s *Supervisor) staysUp(t *task.Task) bool {
	return t.LongRunning || t.Reruns() && !s.opts.Once
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

// contained is a Recorder whose panics cost no run: a run goes on without being kept, and says so.
type contained struct{ to Recorder }

func (c contained) Began(r *Run) {
	r.tell(crash.Contain("the history", func() { c.to.Began(r) }))
}

func (c contained) Ended(r *Run) {
	r.tell(crash.Contain("the history", func() { c.to.Ended(r) }))
}

func (c contained) Fresh(p *Prepared) (past *Past) {
	if crash.Contain("the history", func() { past = c.to.Fresh(p) }) != nil {
		return nil // it runs
	}
	return past
}

func (c contained) Finish() { _ = crash.Contain("the history", c.to.Finish) } // the report says what is not kept

// tell notes a fault of the program for whoever looks at the run; nil is none.
func (r *Run) tell(fault error) {
	if fault == nil {
		return
	}
	r.mu.Lock()
	if r.fault == "" {
		r.fault = fault.Error()
	}
	r.version++
	r.mu.Unlock()
	r.super.changed(r)
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

// StopAll stops every run and waits until all have ended, and all processes that they
// started: those that ignore their signals are killed.
func (s *Supervisor) StopAll() {
	for _, r := range s.Runs() {
		r.Stop()
	}
	s.jobs.Wait()
	s.stops.Wait()
}

// Close stops every run but those that batch systems have, waits until the recorder has what it needs, and removes the
// spools.
func (s *Supervisor) Close() error {
	s.LeaveBatches()
	s.StopAll()
	if s.opts.Recorder != nil {
		s.opts.Recorder.Finish()
	}
	s.connecting.Lock()
	for _, w := range s.connections {
		w.close()
	}
	s.connecting.Unlock()
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
