package tui

import (
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/history"
	"tidytally/core/learn"
	"tidytally/core/printable"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/task"
)

// The pages know earlier runs, and those of other programs on the same workspace, from the
// store, which is opened beside the first survey.

// past holds the last run and the usual duration of each task.
type past struct {
	last     map[string]history.Run   // the newest run of each task, by its id
	expected map[string]time.Duration // of good runs
	version  int64                    // of the store when this was read
	learned  map[string]learn.Records // what runs read and made, by their tasks
	watched  int64                    // the version of learned
}

// pastMsg brings what is known of earlier runs; nil if nothing has changed.
type pastMsg struct {
	past *past
	err  error
}

// lateRecorder passes runs on to a recorder that is made while the program starts.
type lateRecorder struct {
	ready chan struct{} // closed when it is made, or cannot be; nil if it is never made

	heardSome func() // called when something new was learned

	mu    sync.Mutex // guards the fields below
	to    *history.Recorder
	heard map[string]learn.Records // in this sitting
}

func (l *lateRecorder) recorder() *history.Recorder {
	if l.ready == nil {
		return nil
	}
	<-l.ready
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.to
}

// Began implements run.Recorder.
func (l *lateRecorder) Began(r *run.Run) {
	if to := l.recorder(); to != nil {
		to.Began(r)
	}
}

// Ended implements run.Recorder.
func (l *lateRecorder) Ended(r *run.Run) {
	if to := l.recorder(); to != nil {
		to.Ended(r)
	}
}

// Fresh implements run.Recorder.
func (l *lateRecorder) Fresh(p *run.Prepared) *run.Past {
	if to := l.recorder(); to != nil {
		return to.Fresh(p)
	}
	return nil
}

// Learned hands what a watched run read and made on to the recorder.
func (l *lateRecorder) Learned(r *run.Run, k *learn.Known, err error) {
	if to := l.recorder(); to != nil {
		to.Learned(r, k, err)
	}
	if err != nil {
		return
	}
	l.mu.Lock()
	id := r.Prepared.Task.ID()
	records := maps.Clone(l.heard[id]) // others may read it
	if records == nil {
		records = learn.Records{}
	}
	records[k.Origin] = k
	if l.heard == nil {
		l.heard = map[string]learn.Records{}
	}
	l.heard[id] = records
	l.mu.Unlock()
	l.heardSome()
}

// heardOf returns what was learned of a task in this sitting; nil if nothing was.
func (l *lateRecorder) heardOf(id string) learn.Records {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.heard[id]
}

// historyMsg says that the store is open.
type historyMsg struct {
	store *history.Store
	err   error
}

// openHistory opens the store. Runs that begin meanwhile wait for it.
func (d *desk) openHistory() {
	defer close(d.recorder.ready)
	store, err := history.Open(d.root)
	if err == nil {
		err = store.Recover()
	}
	if store != nil {
		d.recorder.mu.Lock()
		d.recorder.to = history.NewRecorder(store, func(err error) {
			select {
			case d.faults <- err:
			default: // one is told
			}
		})
		d.recorder.mu.Unlock()
	}
	d.opened <- historyMsg{store, err}
}

// listenHistory waits until the store is open.
func (d *desk) listenHistory() tea.Cmd {
	if d.recorder.ready == nil {
		return nil
	}
	return func() tea.Msg { return <-d.opened }
}

// Finish implements run.Recorder.
func (l *lateRecorder) Finish() {
	if to := l.recorder(); to != nil {
		to.Finish()
	}
}

// pastEvery is how often the store is asked whether other programs have written to it.
const pastEvery = 2 * time.Second

// readPast reads what is known of earlier runs, after a while.
func (d *desk) readPast(after time.Duration) tea.Cmd {
	store, known := d.store, d.past
	if store == nil {
		return nil
	}
	return tea.Tick(after, func(time.Time) tea.Msg {
		version := store.Version()
		if known != nil && known.version == version {
			return pastMsg{}
		}
		p := &past{version: version}
		var err error
		if p.last, err = store.Last(); err == nil {
			p.expected, err = store.Expected()
		}
		if err == nil {
			err = p.readLearned(store, known)
		}
		return pastMsg{p, err}
	})
}

// readLearned reads the results of watched runs, unless they are as before: there may be many paths.
func (p *past) readLearned(store *history.Store, before *past) (err error) {
	if p.watched, err = store.LearnedVersion(); err != nil {
		return err
	}
	if before != nil && before.watched == p.watched {
		p.learned = before.learned
		return nil
	}
	p.learned, err = store.Learned()
	return err
}

// lastOf returns the newest run of a task in an earlier sitting or another program, or nil.
func (d *desk) lastOf(t *task.Task) *history.Run {
	if d.past == nil || len(d.past.last) == 0 {
		return nil
	}
	if r, ok := d.past.last[t.ID()]; ok && r.State != "running" {
		return &r
	}
	return nil
}

// livesAfter returns the problems that were known after a run. It shows an error in the footing.
func (d *desk) livesAfter(of *history.Run) []history.Lived {
	lives, err := d.store.Lives(of.ID)
	if err != nil {
		d.say(true, "the problems of run %d: %v", of.ID, err)
	}
	return lives
}

func problemsOf(lives []history.Lived) []problem.Problem {
	out := make([]problem.Problem, len(lives))
	for i := range lives {
		out[i] = lives[i].Problem
	}
	return out
}

// recall puts a run of earlier into the record of its task, with the problems that were known
// after it.
func (d *desk) recall(rec *record, t *task.Task, of *history.Run) {
	lives := d.livesAfter(of)
	r := d.pastRun(t, of, lives)
	rec.runs = append([]*run.Run{r}, rec.runs...)
	rec.stands(r, problemsOf(lives))
	if len(of.Args) > 0 && len(rec.earlier) == 0 {
		rec.earlier = [][]string{of.Args}
	}
}

// recallLate puts the runs of earlier into the records of tasks that were run before the history was read. What was worked out without them is
// worked out again.
func (d *desk) recallLate() {
	for _, rec := range d.records {
		if len(rec.runs) == 0 {
			continue
		}
		t := rec.runs[0].Prepared.Task
		runs, err := d.store.Runs(history.Wanted{Task: t.ID(), Steps: true, Limit: mostOfSitting})
		if err != nil {
			d.say(true, "earlier runs: %v", err)
			return
		}
		i := slices.IndexFunc(runs, func(r history.Run) bool { return r.Start.Before(d.opening) && r.State != "running" })
		if i < 0 {
			continue
		}
		rec.kept, rec.passes, rec.compared = nil, nil, comparedRun{}
		d.recall(rec, t, &runs[i])
	}
}

// mostOfSitting is more than the runs of one task before the history is read.
const mostOfSitting = 50

// pastRun makes a run of earlier, with the problems that it reported.
func (d *desk) pastRun(t *task.Task, of *history.Run, lives []history.Lived) *run.Run {
	r := d.super.Replay(d.store.Past(t, of, lives))
	if d.pastIDs == nil {
		d.pastIDs = map[*run.Run]int64{}
	}
	d.pastIDs[r] = of.ID
	return r
}

// idOf returns the number of a run in the store; 0 if it has none.
func (d *desk) idOf(r *run.Run) int64 {
	if id := d.pastIDs[r]; id != 0 {
		return id
	}
	return d.recorder.idOf(r)
}

// storedBeside returns the ended run of the same task that the store has before a run (by -1) or
// after it (1); nil if there is none.
func (d *desk) storedBeside(r *run.Run, by int) (*history.Run, error) {
	id := d.idOf(r)
	if d.store == nil || id == 0 {
		return nil, nil
	}
	return d.store.Beside(r.Prepared.Task.ID(), id, by)
}

// replay makes a run of earlier that is shown as it was: its problems with what had become of
// them then. Of a run of this sitting it returns that one.
func (d *desk) replay(t *task.Task, of *history.Run) *run.Run {
	for _, r := range d.super.Runs() {
		if d.recorder.idOf(r) == of.ID {
			return r
		}
	}
	for r := range d.replayed {
		if d.pastIDs[r] == of.ID && t == r.Prepared.Task {
			return r
		}
	}
	if now, err := d.store.Run(of.ID); err == nil {
		of = &now // it may have ended since it was read
	}
	lives := d.livesAfter(of)
	r := d.pastRun(t, of, lives)
	gone, err := d.store.GoneIn(of.ID)
	if err != nil {
		d.say(true, "the problems that went in run %d: %v", of.ID, err)
	}
	c := &comparedRun{of: r}
	c.Found = r.Snapshot().Problems
	for _, l := range lives {
		if l.State == problem.NotChecked {
			c.NotChecked = append(c.NotChecked, l.Problem)
		} else {
			c.States = append(c.States, l.State)
		}
	}
	for _, g := range gone {
		c.Comparison.Gone = append(c.Comparison.Gone, g.Problem)
	}
	c.count = problem.CountOf(c.Found, c.NotChecked)
	c.Balance = problem.Balance{
		Before: of.Balance.Still + of.Balance.Gone + of.Balance.NotChecked, New: of.Balance.New, Gone: of.Balance.Gone,
		NotChecked: of.Balance.NotChecked, Now: len(lives),
	}
	if of.State == "running" { // in another program
		return r
	}
	if d.replayed == nil {
		d.replayed = map[*run.Run]*comparedRun{}
	}
	d.replayed[r] = c
	return r
}

// turnToChosen turns to the last run of the chosen task, if one was chosen since the last run began:
// of this sitting, or of an earlier one as it was then. It says so and returns false if the task
// has not run yet.
func (d *desk) turnToChosen() bool {
	if !d.picked || d.task == nil {
		return true
	}
	if r := d.lastOfChosen(); r != nil {
		d.choose(r)
		return true
	}
	before := d.lastOf(d.task)
	if before == nil {
		d.say(false, "%s has not run yet: enter on the page tasks runs it", d.task.Name)
		return false
	}
	d.choose(d.replay(d.task, before))
	return true
}

// isKept reports whether the history has the run, its end and its problems.
func (d *desk) isKept(r *run.Run) bool {
	if r == nil || d.store == nil || d.recorder.idOf(r) == 0 {
		return false
	}
	select {
	case <-r.Done():
		return true
	default:
		return false
	}
}

// livesOf returns the lives of the problems of a run that is kept, by their JSON. They are read once.
func (d *desk) livesOf(r *run.Run) map[string]*history.Lived {
	if !d.isKept(r) {
		return nil
	}
	id := d.recorder.idOf(r)
	if d.lives.of == id {
		return d.lives.by
	}
	lives, err := d.store.Lives(id)
	if err != nil {
		return nil
	}
	d.lives.of, d.lives.by = id, map[string]*history.Lived{}
	for i := range lives {
		d.lives.by[string(lives[i].Problem.AppendJSON(nil))] = &lives[i]
	}
	return d.lives.by
}

// idOf returns the number of a run in the store; 0 if it has none.
func (l *lateRecorder) idOf(r *run.Run) int64 {
	if to := l.recorder(); to != nil {
		return to.IDOf(r)
	}
	return 0
}

// toGo says how much of a run is done, from 0 to 1, and in words how long it will still take:
// by the median of the task's earlier good runs. ok is false where that says nothing.
func (d *desk) toGo(s *run.Snapshot) (done float64, words string, ok bool) {
	if d.past == nil || s.State != run.Running || s.Prepared.Task.LongRunning {
		return 0, "", false
	}
	expected, known := d.past.expected[s.Prepared.Task.ID()]
	if !known || expected < time.Second {
		return 0, "", false
	}
	elapsed := s.Elapsed(d.now)
	if elapsed > expected {
		return 1, fmt.Sprintf("%s over the usual %s", printable.Duration(elapsed-expected), printable.Duration(expected)), true
	}
	left := (expected - elapsed).Round(time.Second)
	return float64(elapsed) / float64(expected), fmt.Sprintf("about %.0f s to go", max(1, left.Seconds())), true
}

// ago says how long ago a time was, in few words.
func ago(t, now time.Time) string {
	d := now.Sub(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case sameDay(t, now):
		return t.Format("15:04")
	case sameDay(t, now.AddDate(0, 0, -1)):
		return "yesterday"
	case d < 7*24*time.Hour:
		return t.Format("Monday")
	case t.Year() == now.Year():
		return t.Format("2 January")
	}
	return t.Format("2006-01-02")
}

func sameDay(a, b time.Time) bool {
	ay, am, ad := a.Date()
	by, bm, bd := b.Date()
	return ay == by && am == bm && ad == bd
}
