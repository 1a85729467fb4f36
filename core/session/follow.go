package session

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tidytally/core/crash"
	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/core/toolchain"
	"tidytally/core/workspace"
)

// follower keeps the survey current: what changes is gathered, and surveyed by one goroutine, one survey after the other.
type follower struct {
	session  *Session
	surveyor *survey.Surveyor   // of the goroutine that surveys
	watcher  *workspace.Watcher // nil if nothing is watched
	// read are the names of the files that watched runs read or made.
	read atomic.Pointer[map[string]bool]

	mu      sync.Mutex // guards the fields below
	due     due
	busy    bool            // the goroutine runs
	settled []chan struct{} // closed when nothing is due
	chosen  string          // the current file by choice; ""
	saved   string          // the source file saved last; ""
	line    int             // of the current file
}

// due is what is to be surveyed.
type due struct {
	paths    map[string]bool
	all      bool
	stamps   bool // what has changed is to be found by time stamps
	ended    bool // runs have ended, which may have made files in ignored folders
	outlooks bool // what would be done is to be found out anew
}

func (f *follower) open(s *Session) {
	f.session, f.surveyor = s, survey.NewSurveyor(s.root)
	f.chosen, f.line = s.opts.File, s.opts.Line
}

// watch begins to watch files.
func (f *follower) watch() {
	s := f.session
	var err error
	if f.watcher, err = workspace.NewWatcher(s.root, f.matters, filepath.Dir(survey.PersonalFile())); err != nil {
		s.opts.Fault(fmt.Errorf("changes of files are not seen: %w", err))
		return
	}
	s.follow("watching files", func() {
		f.watcher.Run(s.ctx, func(paths []string) { s.Touch(paths...) }, func() {
			f.want(func(d *due) { d.stamps = true }) // what changed before was not seen
			s.Touch(survey.PersonalFile())
		})
	})
}

// matters reports by its name whether a changed file counts: a file with declarations, a source, or what a
// watched run read, made or looked for.
func (f *follower) matters(name string) bool {
	if survey.Wants(name) || toolchain.IsSource(name) {
		return true
	}
	names := f.read.Load()
	return names != nil && (*names)[name]
}

// remember takes the names of the files of watched runs.
func (f *follower) remember(learned map[string]learn.Records) {
	names := map[string]bool{}
	for _, records := range learned {
		for _, k := range records {
			for i := range k.Stamps {
				if s := &k.Stamps[i]; !filepath.IsAbs(s.Path) {
					names[path.Base(s.Path)] = true
				}
			}
		}
	}
	f.read.Store(&names)
}

// Touch says that files or folders changed, by their paths in the workspace, or absolute ones outside of it; none says that
// anything may have. They are surveyed soon.
func (s *Session) Touch(paths ...string) {
	s.files.want(func(d *due) {
		d.all = d.all || len(paths) == 0
		for _, p := range paths {
			if d.paths == nil {
				d.paths = map[string]bool{}
			}
			d.paths[p] = true
		}
	})
}

// LookAhead finds out anew what runs of tasks would do.
func (s *Session) LookAhead() { s.files.want(func(d *due) { d.outlooks = true }) }

// want changes what is due, and starts the goroutine that does it if it does not run.
func (f *follower) want(change func(*due)) {
	f.mu.Lock()
	defer f.mu.Unlock()
	change(&f.due)
	if f.busy || f.session.ctx.Err() != nil {
		return
	}
	f.busy = true
	crash.Go("a survey", f.survey, func(err error) {
		f.session.opts.Fault(err)
		f.mu.Lock()
		f.rest()
		f.mu.Unlock()
	})
}

// rest says that nothing is due. f.mu must be held.
func (f *follower) rest() {
	f.busy = false
	for _, c := range f.settled {
		close(c)
	}
	f.settled = nil
}

// Settle waits until nothing that was touched is still to be surveyed, and until the runs have been judged as they are now. It
// returns the newest snapshot, or the error of ctx.
func (s *Session) Settle(ctx context.Context) (*Snapshot, error) {
	f := &s.files
	settled := make(chan struct{})
	f.mu.Lock()
	if f.busy {
		f.settled = append(f.settled, settled)
	} else {
		close(settled)
	}
	f.mu.Unlock()
	for _, c := range []<-chan struct{}{settled, s.verdicts.judged()} {
		select {
		case <-c:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	return s.Snapshot(), nil
}

// survey does what is due, until nothing is.
func (f *follower) survey() {
	for {
		f.mu.Lock()
		d := f.due
		f.due = due{}
		if !d.all && !d.stamps && !d.ended && !d.outlooks && len(d.paths) == 0 || f.session.ctx.Err() != nil {
			f.rest()
			f.mu.Unlock()
			return
		}
		f.mu.Unlock()
		f.do(d)
	}
}

func (f *follower) do(d due) {
	s := f.session
	began, paths := time.Now(), slices.Collect(maps.Keys(d.paths))
	if !d.all {
		f.noteSaved(paths)
	}
	paths = slices.DeleteFunc(paths, func(p string) bool { return !countsForSurvey(p) })
	var found *survey.Survey
	var err error
	switch {
	case d.all:
		found, err = f.surveyor.Survey(func(part *survey.Survey) {
			if now := s.Snapshot().Survey; now == nil || now.Partial { // what is whole is better
				f.take(part)
			}
		})
	default:
		if d.stamps {
			paths = append(paths, f.surveyor.Newer()...)
		}
		if d.ended {
			found = f.surveyor.Recount()
		}
		if len(paths) > 0 {
			found, err = f.surveyor.Update(paths)
		}
	}
	if err != nil {
		s.opts.Fault(fmt.Errorf("the workspace could not be read: %w; what was read before is shown", err))
	}
	if found != nil {
		slog.Debug("surveyed", "whole", d.all, "paths", len(paths), "tasks", len(found.Tasks), "faults", len(found.Faults), "took", time.Since(began))
	}
	first := s.Snapshot().Survey == nil || s.Snapshot().Survey.Partial
	if found != nil {
		f.take(found)
		if first {
			s.follow("the cache of the survey", func() { _ = f.surveyor.Remember() }) // without it the next start is slower
		}
	}
	if now := s.Snapshot().Survey; f.watcher != nil && now != nil && !now.Partial && (found != nil || slices.ContainsFunc(paths, filepath.IsAbs)) {
		f.watcher.Follow(now.Watched) // also where nothing was found: a folder outside of the workspace may be there now
	}
	if found != nil || len(d.paths) > 0 || d.outlooks || d.all {
		f.lookAhead()
	}
}

// countsForSurvey reports whether a survey may depend on a path that changed.
func countsForSurvey(p string) bool {
	return survey.Wants(path.Base(p)) || !toolchain.IsSource(p) // folders, too
}

// take publishes a survey.
func (f *follower) take(found *survey.Survey) {
	s := f.session
	s.ChangeContext(func(c *run.Context) { c.Tally, c.Search = found.Tally, workspace.NewFinder(s.root).Find })
	s.publish(func(next *Snapshot) { next.Survey = found })
}

// lookAhead finds out what runs of the tasks would do, of which it is known what they read and made.
func (f *follower) lookAhead() {
	s := f.session
	snap := s.Snapshot()
	if snap.Survey == nil {
		return
	}
	ctx := s.Context()
	found := map[string]plan.Outlook{}
	for _, t := range snap.Survey.Tasks {
		if records := s.Learned(t.ID()); len(records) > 0 {
			found[t.ID()] = plan.OutlookOf(t, records, s.root, ctx.SettingOf(t))
		}
	}
	if len(found) > 0 || len(snap.Outlooks()) > 0 {
		s.publish(func(next *Snapshot) { next.Ahead = &Ahead{found} })
	}
}

// noteSaved takes the source file saved last from what changed.
func (f *follower) noteSaved(paths []string) {
	newest := ""
	var at int64
	for _, p := range paths {
		if !toolchain.IsSource(p) || filepath.IsAbs(p) {
			continue
		}
		full := filepath.Join(f.session.root, filepath.FromSlash(p))
		if info, err := os.Lstat(full); err == nil && info.Mode().IsRegular() && info.ModTime().UnixNano() > at {
			newest, at = full, info.ModTime().UnixNano()
		}
	}
	if newest != "" {
		f.mu.Lock()
		f.saved = newest
		f.mu.Unlock()
		f.currentChanged(true)
	}
}

// Choose makes a file, absolute, the current one whatever is saved, until another one is chosen. line is a line of it; 0 for
// none.
func (s *Session) Choose(file string, line int) {
	f := &s.files
	f.mu.Lock()
	f.chosen, f.line = file, line
	f.mu.Unlock()
	f.currentChanged(false)
}

// Took notes that a file, absolute, came into hand in an editor: if it is a source file of the workspace it is the current one, unless
// another one was chosen.
func (s *Session) Took(file string) {
	rel, err := filepath.Rel(s.root, file)
	if err != nil || !filepath.IsLocal(rel) || !toolchain.IsSource(file) {
		return
	}
	f := &s.files
	f.mu.Lock()
	f.saved = file
	f.mu.Unlock()
	f.currentChanged(false)
}

// currentChanged makes the current file that of the runs that start from now on.
func (f *follower) currentChanged(saved bool) {
	s := f.session
	s.publish(func(next *Snapshot) {
		f.mu.Lock()
		next.Chosen, next.Saved = f.chosen, f.saved
		line := f.line
		f.mu.Unlock()
		if next.Chosen == "" {
			line = 0
		}
		s.ChangeContext(func(c *run.Context) { c.File, c.Line = next.File(), line })
		if saved {
			next.Saves++
		}
	})
}

// Names returns the files that the survey has seen, relative to the workspace. It returns false while they are being read.
func (s *Session) Names() (names []string, ok bool) {
	f := &s.files
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.busy || s.Snapshot().Survey == nil {
		return nil, false
	}
	return f.surveyor.Names(), true
}

// Find returns the task with an id, as it is declared now; nil if no file declares it.
func (s *Snapshot) Find(id string) *task.Task {
	if s.Survey == nil {
		return nil
	}
	for _, t := range s.Survey.Tasks {
		if t.ID() == id {
			return t
		}
	}
	return nil
}
