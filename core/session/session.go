// Package session is one open workspace. A Session owns all that goes on in it: the survey and the watcher that keeps it
// current, the runs, the history, and the verdict of each run. The commands, the terminal interface and the language server are views of
// a session: they ask it for things, hold its newest Snapshot, and are told when there is another one.
//
// Several sessions may be open on one workspace, in several programs. They share the history: each sees the runs of the
// others, while they go on and when they have ended.
package session

import (
	"cmp"
	"context"
	"log/slog"
	"sync"
	"sync/atomic"

	"tidytally/core/crash"
	"tidytally/core/history"
	"tidytally/core/keep"
	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/tallyfile"
)

// Options say how a session is opened.
type Options struct {
	// Run says how runs are executed. Its Recorder and Jobs are set by the session; its Learned and Changed are called after the
	// session has noted what they are about.
	Run run.Options
	// File is the current file, absolute, and Line a line of it; "" for none.
	File string
	Line int
	// NoHistory keeps nothing of runs: they are compared with the runs before them in this session.
	NoHistory bool
	// Follow follows the changes of files and of the history, until the session is closed.
	Follow bool
	// Known says that each snapshot has the problems that are known of all tasks.
	Known bool
	// Changed is called, from any goroutine, when there is a new snapshot, or something changed in a run. It must not block and
	// must not call the session; may be nil.
	Changed func()
	// Fault is called, from any goroutine, with what a person should know; may be nil.
	Fault func(error)
}

// Session is an open workspace. Its methods are safe for concurrent use. The supervisor starts and stops its runs.
type Session struct {
	*run.Supervisor
	root    string
	opts    Options
	ctx     context.Context // ends when the session is closed
	cancel  context.CancelFunc
	work    sync.WaitGroup // goroutines that end with ctx
	closing sync.Mutex     // held while ctx ends, and while a goroutine is added to work

	publishing sync.Mutex // held while a snapshot is made of the last one
	snapshot   atomic.Pointer[Snapshot]

	files    follower
	past     past
	verdicts verdicts
}

// Snapshot is what is known of a workspace at one moment. It never changes.
type Snapshot struct {
	Number int64 // grows with each snapshot
	// Survey is the newest survey, which may be partial while the first one is made; nil before that.
	Survey *survey.Survey
	// Past is what the history says; nil until it was read.
	Past *Past
	// Ahead says whether runs would do anything; nil until that was found out.
	Ahead *Ahead
	// Chosen is the current file by choice, and Saved the source file that was saved last or came into hand in an editor; both
	// are absolute, or "".
	Chosen, Saved string
	// Saves counts how often source files of the workspace were saved.
	Saves int
}

// Ahead is what runs of tasks would do now.
type Ahead struct {
	Outlooks map[string]plan.Outlook // by the ids of tasks, of which it is known what they read and made
}

// File is the current file, absolute: the one that was chosen, else the one saved last; "" if no file was chosen or saved.
func (s *Snapshot) File() string { return cmp.Or(s.Chosen, s.Saved) }

// Outlooks returns what runs of tasks would do, by their ids.
func (s *Snapshot) Outlooks() map[string]plan.Outlook {
	if s.Ahead == nil {
		return nil
	}
	return s.Ahead.Outlooks
}

// Open opens the workspace at root, an absolute folder. Nothing is read before Open returns: the first survey and the history come
// with later snapshots.
func Open(root string, o Options) (*Session, error) {
	if o.Changed == nil {
		o.Changed = func() {}
	}
	tell := o.Fault
	o.Fault = func(err error) {
		slog.Debug("fault", "error", err)
		if tell != nil {
			tell(err)
		}
	}
	s := &Session{root: root, opts: o}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	s.snapshot.Store(&Snapshot{Chosen: o.File})
	s.files.open(s)
	s.past.open(s)
	s.verdicts.open(s)
	runs := o.Run
	runs.Jobs, _ = keep.JobsFolder(root) // without one nothing can be taken up, and the history says that nothing is kept
	runs.Recorder = recorder{s}
	runs.Learned = func(r *run.Run, k *learn.Known, err error) {
		s.learned(r, k, err)
		if o.Run.Learned != nil {
			o.Run.Learned(r, k, err)
		}
	}
	runs.Known = s.past.known
	runs.Changed = func(r *run.Run) {
		s.verdicts.changed(r)
		o.Changed()
	}
	var err error
	if s.Supervisor, err = run.NewSupervisor(run.Context{Root: root, Tally: &tallyfile.Merged{}, File: o.File, Line: o.Line}, runs); err != nil {
		s.cancel()
		return nil, err
	}
	if o.Follow {
		s.follow("following the history", s.past.followHistory)
		s.files.watch()
	}
	return s, nil
}

// Snapshot returns the newest snapshot.
func (s *Session) Snapshot() *Snapshot { return s.snapshot.Load() }

// publish makes a snapshot that differs from the last one by a change, and tells the view.
func (s *Session) publish(change func(*Snapshot)) {
	s.publishing.Lock()
	next := *s.snapshot.Load()
	next.Number++
	change(&next)
	s.snapshot.Store(&next)
	s.publishing.Unlock()
	s.opts.Changed()
}

// follow runs f until the session is closed.
func (s *Session) follow(what string, f func()) {
	s.closing.Lock()
	defer s.closing.Unlock()
	if s.ctx.Err() != nil {
		return
	}
	s.work.Add(1)
	crash.Go(what, func() {
		defer s.work.Done()
		f()
	}, s.opts.Fault)
}

// Close stops all runs but those that batch systems have, to the last process, and waits until what is kept of them is
// kept. Another Close does nothing.
func (s *Session) Close() error {
	s.closing.Lock()
	again := s.ctx.Err() != nil
	s.cancel()
	s.closing.Unlock()
	if again {
		return nil
	}
	s.work.Wait()
	s.past.leave()
	err := s.Supervisor.Close()
	s.past.close()
	return err
}

// Closed is closed when the session is.
func (s *Session) Closed() <-chan struct{} { return s.ctx.Done() }

// Store is the history; nil while it is not open, or where no history is kept.
func (s *Session) Store() *history.Store { return s.past.store.Load() }
