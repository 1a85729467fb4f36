package tui

import (
	"fmt"
	"path/filepath"
	"time"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/printable"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/tui/ink"
)

// narrow is the width below which the words of heading and footing do not fit whole.
const narrow = 70

// leastWhose is the width from which the footing says whose problems it counts.
const leastWhose = 90

// clean is for texts that are measured before they are written.
func clean(s string) string { return printable.Text(s) }

func durationOf(s *run.Snapshot, now time.Time) string { return printable.Duration(s.Elapsed(now)) }

// heading names the workspace and the page.
func (m *Model) heading() string {
	r := m.row()
	name := filepath.Base(m.root)
	if m.snap.Survey != nil {
		name = m.snap.Survey.Name
	}
	r.Put(name, ink.Bold)
	m.at.heading(r)
	return r.String()
}

// footing returns the totals on the left and what is running on the right.
func (m *Model) footing() string {
	r := m.row()
	if m.notice != "" {
		style := ink.Verdigris
		if m.bad {
			style = ink.Madder
		}
		return r.Put(m.notice, style).String()
	}
	active := m.active()
	room := m.width
	if len(active) > 0 {
		room -= leastRunning + 3
	}
	m.totals(r, active, room)
	if right := m.runningWords(active, m.width-1-r.At()-2); right != "" {
		style := ink.Verdigris
		if stateInk(&active[len(active)-1]) == ink.Madder { // of the one that is named
			style = ink.Madder
		}
		r.Right(right, m.width-1, style)
	}
	return r.String()
}

// leastRunning is the number of cells that say what runs, if something does: the totals leave out words for it.
const leastRunning = 10

// totals writes the balance of a run into at most room cells: the run of the page, or the run that ended last with the
// number of problems of other tasks. Before the first run it writes the number of tasks. active are the current runs.
func (m *Model) totals(r *ink.Row, active []run.Snapshot, room int) {
	b, count, own := m.at.count()
	if own && m.run != nil {
		writeBalance(r, b, room)
		putCount(r, count, room)
		return
	}
	last, left, others := m.newestRun()
	if last == nil {
		if m.snap.Survey != nil {
			r.Put(m.foundWords(), ink.Slate)
		}
		return
	}
	v, s := m.session.Verdict(last), last.Snapshot()
	if m.width >= leastWhose {
		state := ""
		if len(active) == 0 || active[len(active)-1].ID != s.ID { // else it stands on the right
			state = " " + m.since(&s)
		}
		for _, words := range []string{shortID(s.Prepared.Task) + state + ": ", s.Prepared.Task.Name + ": "} {
			if words = clean(words); ansi.StringWidth(words)+leastBalance <= room {
				r.Put(words, ink.Slate)
				break
			}
		}
	}
	switch {
	case v.Balance != (problem.Balance{}):
		writeBalance(r, v.Balance, room)
		putCount(r, v.Count, room)
	case s.State == run.Failed:
		r.Put("no problem recognised, o shows why", ink.Slate)
	default:
		r.Put("no problems", ink.Slate)
	}
	if left > 0 {
		if text := "   " + plural(left, "problem") + " left in " + plural(others, "other task"); r.At()+len(text) <= room {
			r.Put(text, ink.Slate)
		}
	}
}

// leastBalance is the number of cells that a balance of small numbers takes.
const leastBalance = 40

func putCount(r *ink.Row, count problem.Count, room int) {
	if text := "      " + count.String(); r.At()+len(text) <= room {
		r.Put(text, ink.Slate)
	}
}

// newestRun returns the run whose end, or last pass, is the newest. If none has ended, it returns the newest start; nil if
// nothing ran. left is the number of problems of other tasks, and others the number of those tasks.
func (m *Model) newestRun() (last *run.Run, left, others int) {
	var at time.Time
	ended := false
	counted := map[*run.Run]int{}
	for _, runs := range m.runs {
		r := runs[len(runs)-1]
		s := r.Snapshot()
		if s.State == run.Skipped || s.Started.IsZero() {
			continue
		}
		when, over := s.Started, s.State.Ended()
		switch {
		case over:
			when = s.Ended
		case s.State == run.Watching:
			over = true
			if n := len(s.Passes); n > 0 {
				when = s.Passes[n-1].Started
			}
		}
		if last == nil || over && !ended || over == ended && when.After(at) {
			last, at, ended = r, when, over
		}
		if of := s.Prepared.Task; of.OfTest == "" || len(m.runs[of.Of]) == 0 { // one test alone: its suite has its problem
			counted[r] = m.session.Verdict(r).Now
		}
	}
	for r, n := range counted {
		of := last.Prepared.Task
		if r != last && n > 0 && (of.OfTest == "" || r.Prepared.Task.ID() != of.Of) {
			left += n
			others++
		}
	}
	return last, left, others
}

// writeBalance writes what a run changed, as a balance that adds up. Where it is too wide for room, in cells,
// the count from before is left out, and then all but what there is now: no number is cut.
func writeBalance(r *ink.Row, b problem.Balance, room int) {
	digits := func(n int) int { return len(fmt.Sprint(n)) }
	short := len(" · new  · gone  · now ") - 3 + digits(b.New) + digits(b.Gone) + digits(b.Now) // "·" has two bytes
	if b.NotChecked > 0 {
		short += len("· not checked  ") - 1 + digits(b.NotChecked)
	}
	left := room - r.At()
	whole := short+len("before ")+digits(b.Before) <= left
	number := func(n int, style ink.Ink) {
		if n == 0 {
			style = ink.Plain
		}
		r.Put(fmt.Sprint(n), style)
	}
	if !whole && short-len(" · ")+1 > left {
		r.Put("now ", ink.Slate)
		number(b.Now, ink.Bold)
		return
	}
	if whole {
		r.Put("before ", ink.Slate)
		number(b.Before, ink.Plain)
		r.Put(" · ", ink.Slate)
	}
	r.Put("new ", ink.Slate)
	number(b.New, ink.Madder)
	r.Put(" · gone ", ink.Slate)
	number(b.Gone, ink.Verdigris)
	if b.NotChecked > 0 {
		r.Put(" · not checked ", ink.Slate)
		number(b.NotChecked, ink.Plain)
	}
	r.Put(" · now ", ink.Slate)
	number(b.Now, ink.Bold)
}

func (m *Model) foundWords() string {
	c := m.snap.Survey.Count()
	return plural(c.Tasks, "task") + " in " + plural(c.Folders, "folder")
}

func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// runningWords names what runs, in so many cells: the newest run and how it stands, or only how many there are.
func (m *Model) runningWords(active []run.Snapshot, room int) string {
	if len(active) == 0 {
		return ""
	}
	s := active[len(active)-1]
	name, state := clean(shortID(s.Prepared.Task)), " "+m.since(&s)
	if n := len(active) - 1; n > 0 {
		state += fmt.Sprintf(" and %d more", n)
	}
	if left := room - ansi.StringWidth(state); left >= min(ansi.StringWidth(name), leastTaskName) {
		return ansi.Truncate(name, left, "…") + state
	}
	if text := fmt.Sprintf("%d active", len(active)); len(text) <= room {
		return text
	}
	return ""
}

// leastTaskName is the number of cells of a task's name that is worth reading.
const leastTaskName = 8
