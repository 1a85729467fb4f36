package tui

import (
	"fmt"
	"path/filepath"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/printable"
	"tidytally/core/problem"
	"tidytally/core/run"
)

// narrow is below what the words of heading and footing fit in whole.
const narrow = 70

func clean(s string) string { return printable.Text(s) }

// heading names the workspace and the page.
func (m *Model) heading() string {
	r := m.ink.row(m.width)
	name := filepath.Base(m.root)
	if m.survey != nil {
		name = m.survey.Name
	}
	r.put(clean(name), Bold)
	switch m.page {
	case tasksPage:
		r.put("  tasks", Plain)
		right := ""
		if hand := m.inHand(); hand != "" {
			word := "saved last "
			if m.file != "" {
				word = "in hand "
			}
			right = word + shortPath(clean(hand), 30) + "   "
		}
		if u := m.usual(); u != nil {
			right += "usual " + clean(short(u.ID()))
		}
		if r.at+3+len(right) < m.width {
			r.right(right, m.width-1, Slate)
		}
	case outputPage, tallyPage:
		of := m.output.run
		if of == nil {
			return r.put("  "+m.page.name(), Plain).String()
		}
		s := of.Snapshot()
		r.put("  "+m.page.name()+" of ", Plain).put(clean(short(s.Prepared.Task.ID())), Bold)
		right := ""
		if total := m.tally.total(); m.page == tallyPage && total > 0 {
			right = fmt.Sprintf("%d of %d", m.tally.position(), total)
			if m.width >= narrow {
				right = "problem " + right
			}
		}
		if m.page == outputPage && (m.width >= narrow || m.output.lines > m.outputHeight()) {
			right = m.outputPlace()
		}
		room := m.width - len(right) - 3
		r.limit = max(r.at, room)
		r.put("   ", Plain)
		stands, command := m.standing(&s), clean(s.Prepared.Display)
		if r.at+ansi.StringWidth(stands) > r.limit {
			stands = s.Words()
		}
		if r.at+ansi.StringWidth(command)+ansi.StringWidth(stands)+2 <= r.limit { // else how it stands matters more
			r.put(command+", ", Slate)
		}
		r.put(stands, stateInk(s.State))
		r.limit = m.width
		r.right(right, m.width-1, Slate)
	case valuesPage:
		r.put("  values", Plain)
		if t := m.tasks.current(); t != nil {
			r.put(" of ", Plain).put(clean(t.ID()), Bold)
		}
		if note := "where each comes from"; r.at+3+len(note) < m.width {
			r.right(note, m.width-1, Slate)
		}
	case sievePage:
		r.put("  sieve ", Plain).put(clean(m.sieves.name), Bold)
		if of := m.sieves.of; of != nil {
			r.put("  tried on the output of ", Plain).put(clean(short(of.Prepared.Task.ID())), Bold)
		}
	case surveyPage:
		r.put("  survey", Plain)
		if m.survey != nil {
			r.right(plural(m.survey.Files, "file")+" seen in "+plural(len(m.survey.Folders), "folder")+", nothing was run", m.width-1, Slate)
		}
	}
	return r.String()
}

// short is an id without the name of the declaring file.
func short(id string) string {
	file, name, _ := strings.Cut(id, "#")
	if i := strings.LastIndexByte(file, '/'); i >= 0 {
		return file[:i] + "#" + name
	}
	return name
}

// standing says how a run stands, and since when or for how long.
func (m *Model) standing(s *run.Snapshot) string {
	switch {
	case s.State == run.Up:
		return "up since " + s.UpSince.Format("15:04")
	case s.State == run.Waiting:
		return "waiting"
	case !s.State.Ended():
		return s.Words() + " " + printable.Duration(s.Elapsed(m.now))
	case s.State == run.Skipped:
		return s.Words()
	}
	return s.Words() + " after " + printable.Duration(s.Elapsed(m.now))
}

// footing gives the totals on the left and what is running on the right.
func (m *Model) footing() string {
	r := m.ink.row(m.width)
	if m.notice != "" {
		ink := Verdigris
		if m.bad {
			ink = Madder
		}
		return r.put(m.notice, ink).String()
	}
	right := m.runningWords()
	r.limit = max(20, m.width-len([]rune(right))-2)
	m.totals(r)
	r.limit = m.width
	if right != "" {
		r.right(right, m.width-1, Verdigris)
	}
	return r.String()
}

// totals writes the balance of the tally, or what was found when nothing has
// run yet.
func (m *Model) totals(r *row) {
	var b problem.Balance
	var count problem.Count
	ran := false
	add := func(one *run.Run) {
		c := m.compared(one)
		b.Before += c.Before
		b.New += c.New
		b.Gone += c.Balance.Gone
		b.Now += c.Now
		n := c.count
		count.Errors, count.Warnings, count.Notes = count.Errors+n.Errors, count.Warnings+n.Warnings, count.Notes+n.Notes
		ran = true
	}
	switch {
	case m.page == tallyPage || m.page == outputPage:
		if m.output.run != nil {
			b, count, ran = m.tally.compared.Balance, problem.CountOf(m.tally.problems), true
		}
	default:
		for _, rec := range m.records {
			if n := len(rec.runs); n > 0 {
				add(rec.runs[n-1])
			}
		}
	}
	if !ran {
		if m.survey != nil {
			m.foundWords(r)
		}
		return
	}
	number := func(n int, ink Ink) {
		if n == 0 {
			ink = Plain
		}
		r.put(fmt.Sprint(n), ink)
	}
	forward := " forward "
	if m.width < narrow {
		forward = " "
	}
	r.put("brought"+forward, Slate)
	number(b.Before, Plain)
	r.put(" · entered ", Slate)
	number(b.New, Madder)
	r.put(" · struck ", Slate)
	number(b.Gone, Verdigris)
	r.put(" · carried"+forward, Slate)
	number(b.Now, Bold)
	if text := "      " + count.String(); r.at+len(text) <= r.limit {
		r.put(text, Slate)
	}
}

func (m *Model) foundWords(r *row) {
	members := map[string]bool{}
	shown := 0
	for _, t := range m.survey.Tasks {
		if !t.Hidden {
			members[t.Member()] = true
			shown++
		}
	}
	r.put(plural(shown, "task")+" in "+plural(len(members), "member"), Slate)
}

func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// runningWords names what runs.
func (m *Model) runningWords() string {
	active := m.active()
	if len(active) == 0 {
		return ""
	}
	s := active[len(active)-1]
	text := clean(short(s.Prepared.Task.ID())) + " " + m.standing(&s)
	if n := len(active) - 1; n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return text
}
