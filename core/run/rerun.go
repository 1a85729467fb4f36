package run

import (
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"a.early/keeper"
	"tidytally/core/crash"
	"tidytally/core/learn"
	"tidytally/core/output"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// A task that names files in rerun_on is run again when they change, until it is stopped.
// Each time is a pass of the same run: the output goes on, and the problems are those of the
// newest pass.

// Pass is one pass of a run that is run again on change.
type Pass struct {
	Number  int // the first pass is 1
	Started time.Time
	// StartByte is where its output begins.
	StartByte int64
	// Changed are the files that led to it, relative to the workspace where they are in it;
	// none for the first pass.
	Changed []string
}

// maxPasses is the number of passes that are remembered: of more, the newest.
const maxPasses = 1000

// A task that changes its own inputs would run for ever. When so many passes in a row were
// each begun by files that changed during the pass before, the next ones run to their end,
// and then with a pause that doubles.
const (
	patience   = 3
	firstPause = time.Second
	lastPause  = time.Minute
)

// changes are files, absolute, that have changed since a time.
type changes struct {
	files []string
	since time.Time
}

// A change that is seen so soon after the end of a command may be its own.
const seenLate = 50 * time.Millisecond

// rerun is the state of a run that is run again on change. Its goroutine owns it.
type rerun struct {
	run     *Run
	files   chan changes
	over    chan struct{} // a pass has ended
	watch   *workspace.Patterns
	pending []string // changed since the pass began, or since the last one
	own     bool     // all pending files changed while the command ran
	streak  int      // passes in a row that were begun by such files
	halting bool     // the command is being ended for the next pass
	pause   <-chan time.Time
	paused  bool // the pause before the next pass is over, or goes on
}

// watchFiles begins to watch the files on whose change the run is run again.
func (r *Run) watchFiles() error {
	t := r.Prepared.Task
	if t.RerunLearned {
		if _, err := tracer(); err != nil {
			return &StartError{CodeOwn, fmt.Sprintf("rerun_on = \"learned\": %v; or name the files", err)}
		}
		if !Watches(t) {
			return &StartError{CodeOwn, "rerun_on = \"learned\" is for a command that ends by itself, on this machine; name the files instead"}
		}
	}
	watch, err := workspace.WatchPatterns(r.Prepared.Dir, t.RerunOn, t.Makes)
	if err != nil {
		return fmt.Errorf("rerun_on: %w", err)
	}
	x := &rerun{run: r, files: make(chan changes), over: make(chan struct{}, 1), watch: watch}
	r.mu.Lock()
	r.again = x
	r.mu.Unlock()
	crash.Go("running again", func() {
		watch.Run(func(files []string, since time.Time) {
			select {
			case x.files <- changes{files, since}:
			case <-r.done:
			}
		})
	}, nil)
	crash.Go("running again", func() {
		defer watch.Close()
		x.follow()
	}, nil)
	return nil
}

// follow runs the command again after changes, until the run ends.
func (x *rerun) follow() {
	r := x.run
	for {
		select {
		case <-r.done:
			return
		case <-r.halt:
			r.mu.Lock()
			idle := r.state == Watching
			r.mu.Unlock()
			if idle {
				r.end(Stopped)
			}
			<-r.done
			return
		case c := <-x.files:
			x.changed(c)
		case <-x.over:
			x.halting = false
		case <-x.pause:
			x.pause = nil
		}
		if len(x.pending) == 0 || x.pause != nil {
			continue
		}
		r.mu.Lock()
		state, k := r.state, r.keeper
		r.mu.Unlock()
		switch {
		case state == Watching:
			x.next()
		case (state == Running || state == Up) && !x.halting && !x.finishes():
			x.halting = true
			crash.Go("running again", func() { r.endPass(k) }, nil)
		}
	}
}

// changed takes files that have changed.
func (x *rerun) changed(c changes) {
	r := x.run
	r.mu.Lock()
	during := r.state != Watching || c.since.Before(r.ended.Add(seenLate))
	r.mu.Unlock()
	if len(x.pending) == 0 {
		x.own = true
	}
	x.own = x.own && during
	root := r.super.Context().Root
	for _, f := range c.files {
		if rel, err := filepath.Rel(root, f); err == nil && filepath.IsLocal(rel) {
			f = filepath.ToSlash(rel)
		}
		if !slices.Contains(x.pending, f) {
			x.pending = append(x.pending, f)
		}
	}
}

// learned takes what a pass read: from now on that is watched. What has changed since it was read is a
// change.
func (x *rerun) learned(k *learn.Known) {
	if !x.run.Prepared.Task.RerunLearned {
		return
	}
	root := x.run.super.Context().Root
	var files, folders []string
	for i := range k.Stamps {
		s := &k.Stamps[i]
		if filepath.IsAbs(s.Path) {
			continue
		}
		full := filepath.Join(root, filepath.FromSlash(s.Path))
		switch s.Role {
		case learn.Read, learn.Missing, learn.Runs:
			files = append(files, full)
		case learn.Listed:
			folders = append(folders, full)
		}
	}
	x.watch.Follow(files, folders)
	var late []string
	for i := range k.Stamps {
		if s := &k.Stamps[i]; s.Role != learn.Made && !filepath.IsAbs(s.Path) && s.State(root) != "" {
			late = append(late, filepath.Join(root, filepath.FromSlash(s.Path)))
		}
	}
	if len(late) > 0 {
		crash.Go("running again", func() {
			select {
			case x.files <- changes{late, k.Started}:
			case <-x.run.done:
			}
		}, nil)
	}
}

// finishes reports whether a pass that runs is let finish, rather than ended for the next
// one. A check is worth its result; and one that never comes to its end must.
func (x *rerun) finishes() bool {
	kind := x.run.Prepared.Task.Kind
	return kind == task.Check || kind == task.Test || x.streak >= patience
}

// next begins the next pass, or the pause before it.
func (x *rerun) next() {
	switch {
	case !x.own:
		x.streak = 0
	case !x.paused:
		if x.streak++; x.streak > patience {
			x.paused = true
			x.pause = time.After(min(lastPause, firstPause<<min(x.streak-patience-1, 10)))
			x.advise()
			return
		}
	}
	files := x.pending
	x.pending, x.paused = nil, false
	x.run.nextPass(files)
}

// advise tells that the task seems to change its own inputs.
func (x *rerun) advise() {
	r := x.run
	r.mu.Lock()
	if r.fault == "" {
		r.fault = fmt.Sprintf("%s changes %s itself, it seems; name what it writes in makes, so that it does not run again for that", r.Prepared.Task.ShownID(), x.pending[0])
	}
	r.version++
	r.mu.Unlock()
	r.super.changed(r)
}

// nextPass begins a pass for files that have changed.
func (r *Run) nextPass(files []string) {
	if r.holdsSlot() {
		r.mu.Lock()
		r.state = Waiting
		r.mu.Unlock()
	}
	if !r.takeSlot() {
		r.end(Stopped)
		return
	}
	if k := r.keeperNow(); holds(k) {
		r.endPass(k) // what the pass before has left
	}
	r.awaitRecorded() // the pass before is kept
	from, line := r.spool.Size(), 0
	r.Output(func(x *output.Index) { line = x.Lines() - 1 })
	r.mu.Lock()
	r.collected.NextCycle(r.collected.Cycle + 1)
	r.passFrom, r.endedFrom, r.summaries, r.sieveFault = from, 0, nil, ""
	if r.pass++; len(r.passes) == maxPasses {
		r.passes = slices.Clone(r.passes[1:]) // snapshots have the old ones
	}
	r.passes = append(r.passes, Pass{r.pass + 1, time.Now(), from, files})
	r.state = Running // it is no longer the pass before that has ended
	r.code, r.signal, r.fault, r.timedOut, r.upBy, r.address = 0, "", "", false, "", ""
	r.passBefore = r.started
	r.started, r.ended, r.upSince = time.Now(), time.Time{}, time.Time{}
	r.version++
	r.mu.Unlock()
	r.sift.open(r, from, line)
	if err := r.command(); err != nil {
		r.cannotBegin(err)
	}
}

// passEnded records that the command has ended, and that the run waits for a change. It
// returns false if the run ends with it.
func (r *Run) passEnded(state State) bool {
	r.mu.Lock()
	if r.again == nil || r.stopping {
		r.mu.Unlock()
		return false
	}
	r.mu.Unlock()
	r.sift.close()
	r.recording.Lock()
	defer r.recording.Unlock()
	r.mu.Lock()
	if r.stopping { // asked for meanwhile: who ends a run that watches was told before it does
		r.mu.Unlock()
		return false
	}
	r.quiet()
	r.state, r.ended, r.settled = Watching, time.Now(), true
	r.alone = false // its process group may be another's from now on
	if state == OK && !r.wasUp {
		r.wasUp = true
		close(r.up)
	}
	r.version++
	x := r.again
	r.mu.Unlock()
	r.giveSlot()
	if rec := r.super.opts.Recorder; rec != nil {
		rec.Ended(r)
	}
	r.super.changed(r)
	select {
	case x.over <- struct{}{}:
	default:
	}
	return true
}

// awaitRecorded waits until the recorder has what it is told of the end of a pass.
func (r *Run) awaitRecorded() {
	r.recording.Lock()
	defer r.recording.Unlock()
}

// endPass ends the command of a pass, and all that it started.
func (r *Run) endPass(k *keeper.Keeper) {
	r.mu.Lock()
	r.noProblemsNow()
	r.mu.Unlock()
	r.escalate(k, func(grace time.Duration) bool {
		select {
		case <-k.Gone():
			return true
		case <-time.After(grace):
			return false
		}
	})
}
