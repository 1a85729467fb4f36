package tui

import (
	"fmt"
	"time"

	"tidytally/core/history"
	"tidytally/core/printable"
	"tidytally/core/run"
	"tidytally/core/task"
)

// The pages know earlier runs, and those of other programs on the same workspace, from the
// session's history.

// lastOf returns the newest run of a task that the history knows and that has ended, or nil.
func (d *desk) lastOf(t *task.Task) *history.Run {
	if d.snap.Past == nil || len(d.snap.Past.Last) == 0 {
		return nil
	}
	if r, ok := d.snap.Past.Last[t.ID()]; ok && r.State != "running" {
		return &r
	}
	return nil
}

// recall shows a run of the history as it was. It says so and returns false if that cannot be read.
func (d *desk) recall(t *task.Task, id int64) bool {
	r, err := d.session.Recall(t, id)
	if err != nil {
		d.say(true, "earlier runs: %v", err)
		return false
	}
	d.choose(r)
	return true
}

// turnToChosen turns to the last run of the chosen task, if one was chosen since the last run began:
// of this session, or of an earlier one as it was then. It says so and returns false if the task
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
	return d.recall(d.task, before.ID)
}

// toGo says how much of a run is done, from 0 to 1, and in words how long it will still take:
// by the median of the task's earlier good runs. ok is false where that says nothing.
func (d *desk) toGo(s *run.Snapshot) (done float64, words string, ok bool) {
	if d.snap.Past == nil || s.State != run.Running || s.Prepared.Task.LongRunning {
		return 0, "", false
	}
	expected, known := d.snap.Past.Expected[s.Prepared.Task.ID()]
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
