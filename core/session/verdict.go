package session

import (
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"tidytally/core/crash"
	"tidytally/core/history"
	"tidytally/core/problem"
	"tidytally/core/run"
)

// Verdict is what a run, or the newest pass of one that is run again on change, has found so far, and what became of the problems known before
// it. It never changes.
type Verdict struct {
	*history.Verdict
	Number  int64         // no other verdict has it
	Count   problem.Count // of the problems that are known now
	Settled bool          // the run, or its pass, has ended: this is what is kept of it
}

// verdicts are those of the session's runs. While a run goes on, a verdict is made anew by a goroutine of its own when it is asked for and
// the run has changed since; and once and for all when the run, or its pass, ends.
type verdicts struct {
	session *Session
	number  atomic.Int64

	mu    sync.Mutex // guards the fields below
	of    map[*run.Run]*judged
	here  map[string]history.Known // the problems known after the newest run of each task in this session
	dirty map[*run.Run]bool        // runs that have changed since they were judged
	asked map[*run.Run]bool        // those of them whose verdict was asked for
	busy  bool                     // the goroutine runs
	wait  []chan struct{}          // closed when those that are dirty have been judged
	away  map[int64][]int          // see history.Store.Settled
}

// judged is what is known of a run.
type judged struct {
	id      int64 // of the run in the store
	pass    int
	before  func() (history.Known, error) // what was known before it; nil once that is not needed any more
	verdict *Verdict                      // nil until there is one
	now     *Verdict                      // the same without the problems that other tasks have settled since; nil until it is asked for
	away    int                           // how many these are
}

func (v *verdicts) open(s *Session) {
	v.session = s
	v.of, v.here, v.dirty = map[*run.Run]*judged{}, map[string]history.Known{}, map[*run.Run]bool{}
	v.asked = map[*run.Run]bool{}
}

// none is the verdict of a run of which nothing is known yet.
var none = &Verdict{Verdict: &history.Verdict{}}

// Verdict returns the newest verdict of a run, without the problems that runs of other tasks have settled since. If the run has changed since that was made, another one is made in the background,
// and the view is told.
func (s *Session) Verdict(r *run.Run) *Verdict {
	v := &s.verdicts
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.dirty[r] && !v.asked[r] {
		v.asked[r] = true
		v.wake()
	}
	j := v.of[r]
	if j == nil || j.verdict == nil {
		return none
	}
	away := v.away[j.id]
	if !j.verdict.Settled || len(away) == 0 {
		return j.verdict
	}
	if j.now == nil || j.away != len(away) {
		j.now, j.away = v.numbered(j.verdict.Without(away), true), len(away)
	}
	return j.now
}

// takeAway takes which problems known after which runs other tasks have settled since.
func (v *verdicts) takeAway(away map[int64][]int) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.away = away
}

// RunID returns the number of a run, or of its newest pass, in the history; 0 if it has none.
func (s *Session) RunID(r *run.Run) int64 {
	v := &s.verdicts
	v.mu.Lock()
	defer v.mu.Unlock()
	if j := v.of[r]; j != nil {
		return j.id
	}
	return 0
}

// knownHere returns the problems known after the newest run of a task in this session.
func (v *verdicts) knownHere(task string) history.Known {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.here[task]
}

// begin notes that a run, or a pass of it, has begun.
func (v *verdicts) begin(r *run.Run, id int64, before func() (history.Known, error)) {
	s := r.Snapshot()
	v.mu.Lock()
	defer v.mu.Unlock()
	if j := v.of[r]; j != nil && j.pass == s.Pass() {
		return // it was started again after it had failed
	}
	v.of[r] = &judged{id: id, pass: s.Pass(), before: before}
	v.dirty[r] = true
}

// settle gives a run, or its pass, its last verdict.
func (v *verdicts) settle(r *run.Run, verdict *history.Verdict) {
	s := r.Snapshot()
	v.mu.Lock()
	defer v.mu.Unlock()
	begun := v.of[r] != nil
	v.of[r] = &judged{id: verdict.Run, pass: s.Pass(), verdict: v.numbered(verdict, true)}
	if begun || s.State == run.Failed {
		v.here[r.Prepared.Task.ID()] = history.Known{Run: verdict.Run, Since: s.Started, Lives: verdict.Lives}
	}
}

// numbered makes a verdict of the session.
func (v *verdicts) numbered(of *history.Verdict, settled bool) *Verdict {
	return &Verdict{Verdict: of, Number: v.number.Add(1), Count: problem.CountOf(of.Found, of.NotChecked), Settled: settled}
}

// judge compares what a run has found so far with what was known before it. over says that it has come to its end.
func (v *verdicts) judge(r *run.Run, over bool) *history.Verdict {
	v.mu.Lock()
	var id int64
	before, j := v.here[r.Prepared.Task.ID()], v.of[r]
	v.mu.Unlock()
	if j != nil && j.before != nil {
		id = j.id
		var err error
		if before, err = j.before(); err != nil {
			v.session.opts.Fault(fmt.Errorf("the problems before this run of %s: %w", r.Prepared.Task.ShownID(), err))
		}
	}
	s := r.Snapshot()
	if s.Cycle > 0 && !over && !r.Prepared.Task.Reruns() { // a tool that watches: the pass before is what it is compared with
		before = history.Known{Lives: make([]history.Lived, len(s.Before))}
		for i, p := range s.Before {
			before.Lives[i] = history.Lived{Problem: p, LineText: p.LineText}
		}
	}
	return history.JudgeRun(r, id, before, s.Problems)
}

// changed notes that a run has changed.
func (v *verdicts) changed(r *run.Run) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.dirty[r] = true
}

// wake starts the goroutine, if it does not run. v.mu must be held.
func (v *verdicts) wake() {
	if v.busy {
		return
	}
	v.busy = true
	crash.Go("the verdicts", v.judgeAll, func(err error) {
		v.session.opts.Fault(err)
		v.mu.Lock()
		defer v.mu.Unlock()
		v.busy = false
		for _, c := range v.wait {
			close(c)
		}
		v.wait = nil
	})
}

// Runs that go on are judged once in judgeEvery at most, and where they have very many problems, so seldom that the goroutine rests for
// judgeRests times as long as it works.
const (
	judgeEvery = 16 * time.Millisecond
	judgeRests = 4
)

// judgeAll judges the runs whose verdict was asked for, until all are.
func (v *verdicts) judgeAll() {
	for {
		v.mu.Lock()
		runs, wait := slices.Collect(maps.Keys(v.asked)), v.wait
		v.wait = nil
		clear(v.asked)
		for _, r := range runs {
			delete(v.dirty, r)
		}
		v.mu.Unlock()
		began, news := time.Now(), false
		for _, r := range runs {
			news = v.judgeNow(r) || news
		}
		for _, c := range wait {
			close(c)
		}
		if news {
			v.session.opts.Changed()
		}
		v.mu.Lock()
		if len(v.asked) == 0 && len(v.wait) == 0 {
			v.busy = false
			v.mu.Unlock()
			return
		}
		v.mu.Unlock()
		select {
		case <-time.After(max(judgeEvery, judgeRests*time.Since(began))): // changes meanwhile are judged together
		case <-v.session.ctx.Done():
		}
	}
}

// judged returns a channel that is closed when the runs as they are now have been judged.
func (v *verdicts) judged() <-chan struct{} {
	c := make(chan struct{})
	v.mu.Lock()
	defer v.mu.Unlock()
	maps.Copy(v.asked, v.dirty)
	if !v.busy && len(v.asked) == 0 {
		close(c)
		return c
	}
	v.wait = append(v.wait, c)
	v.wake()
	return c
}

// judgeNow judges a run that goes on. It reports whether there is a new verdict.
func (v *verdicts) judgeNow(r *run.Run) bool {
	s := r.Snapshot()
	v.mu.Lock()
	j := v.of[r]
	v.mu.Unlock()
	if s.Started.IsZero() || j != nil && (j.pass != s.Pass() || j.verdict != nil && j.verdict.Settled) {
		return false
	}
	if j == nil && !s.State.Ended() {
		return false // it is about to begin
	}
	made := v.numbered(v.judge(r, false), s.State.Ended())
	v.mu.Lock()
	defer v.mu.Unlock()
	if now := v.of[r]; now != j {
		return false // it has begun or ended meanwhile
	}
	if j == nil {
		j = &judged{pass: s.Pass()}
		v.of[r] = j
	}
	j.verdict = made
	return true
}
