package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/run"
)

// outputView is the state of the Output page.
type outputView struct {
	run    *run.Run // that the Output and the Tally page show
	top    int
	follow bool // the end is kept in view
	lines  int

	finding bool
	find    input
	found   int // the line of the last hit, -1 for none
}

// outputMargin is the width of the margin column: the mark and the number.
const outputMargin = 9

func (m *Model) outputColumns() int { return max(20, m.width-outputMargin-1) }

// outputHeight is the number of lines of output in view.
func (m *Model) outputHeight() int { return max(1, m.bodyHeight()-2) }

func (v *outputView) scroll(rows int) {
	v.top += rows
	v.follow = false
}

func (v *outputView) clamp(m *Model) {
	if v.run == nil {
		return
	}
	v.lines = 0 // of a run that has not begun
	v.run.Output(func(x *output.Index) { v.lines = shownLines(x) })
	last := max(0, v.lines-m.outputHeight())
	if v.follow || v.top >= last && v.top > 0 {
		v.top, v.follow = last, true
	}
	v.top = max(0, min(v.top, last))
}

// shownLines leaves out the empty line behind the last line feed.
func shownLines(x *output.Index) int {
	n := x.Lines()
	if n > 0 && x.Line(n-1).Plain == "" {
		n--
	}
	return n
}

func (m *Model) outputBody() []string {
	v := &m.output
	if v.run == nil {
		return []string{"", "", m.ink.row(m.width).to(4).put("No run yet: choose a task on the page tasks (t) and press enter.", Plain).String()}
	}
	r := m.ink.row(m.width)
	r.put("find ", Slate)
	if v.finding {
		v.find.show(r, max(20, m.width/2))
	} else {
		r.put(v.find.String(), Plain)
	}
	snap := v.run.Snapshot()
	if snap.Fault != "" {
		r.to(max(r.at+3, m.width*3/10)).put(clean(snap.Fault), Madder)
	} else if snap.Address != "" {
		r.to(max(r.at+3, m.width*3/10)).put("up at ", Slate).put(clean(snap.Address), Verdigris)
	}
	lines := []string{r.String(), ""}
	height := m.outputHeight()
	marks := map[int]problem.Severity{}
	chosenLine := -1
	v.run.Output(func(x *output.Index) {
		first, last := x.StartOf(min(v.top, x.Lines()-1)), x.StartOf(min(v.top+height, x.Lines()-1))
		for i := range snap.Problems {
			p := &snap.Problems[i]
			if p.Output.StartByte < first || p.Output.StartByte > last {
				continue // out of view
			}
			at := x.LineAt(p.Output.StartByte)
			if s, ok := marks[at]; !ok || p.Severity < s {
				marks[at] = p.Severity
			}
		}
		if p := m.tally.current(); p != nil && p.seqOf != nil {
			chosenLine = x.LineAt(p.seqOf.Output.StartByte)
		}
		// The run may have begun, or gone on, since the lines were counted.
		for i := v.top; i < min(v.lines, x.Lines(), v.top+height); i++ {
			lines = append(lines, m.outputLine(x.Line(i), i, marks, i == chosenLine))
		}
	})
	if v.lines == 0 && snap.State.Ended() && snap.Fault == "" {
		lines = append(lines, m.ink.row(m.width).to(4).put("It printed nothing.", Slate).String())
	}
	return lines
}

func (m *Model) outputLine(text output.Text, i int, marks map[int]problem.Severity, chosen bool) string {
	r := m.ink.row(m.width)
	if s, ok := marks[i]; ok {
		r.put(s.String()[:1], severityInk(s)|Bold)
	}
	ink := Slate
	if chosen {
		ink = Reverse
	}
	r.right(fmt.Sprint(i+1), outputMargin-2, ink).put(" ¦ ", Slate)
	hits := findHits(text.Plain, m.output.find.String())
	r.b.WriteString(m.cells(text.Cells, r.limit-r.at, hits))
	if text.Cut {
		r.b.WriteString(m.ink.write("…", Slate))
	}
	return r.String()
}

// findHits marks the columns of a plain text where the search hits.
func findHits(plain, want string) map[int]bool {
	if want == "" {
		return nil
	}
	hay := plain
	if strings.ToLower(want) == want {
		hay = strings.ToLower(plain)
	}
	if len(hay) != len(plain) { // a letter whose small form is longer
		hay = plain
	}
	hits := map[int]bool{}
	for from := 0; ; {
		i := strings.Index(hay[from:], want)
		if i < 0 {
			return hits
		}
		for k := range want {
			hits[from+i+k] = true
		}
		from += i + len(want)
	}
}

// cells writes cells in the tool's own colours, as far as they fit.
func (m *Model) cells(cells []output.Cell, columns int, hits map[int]bool) string {
	var b strings.Builder
	style, at, bytes := "", 0, 0
	for _, c := range cells {
		if at+c.Width > columns-1 && len(cells) > 0 && at+c.Width > columns {
			break
		}
		want := c.Style
		if m.ink.plain {
			want = ""
		}
		if hits[bytes] {
			want = strings.TrimPrefix(want+";7", ";")
		}
		if want != style {
			b.WriteString("\x1b[m")
			if want != "" {
				b.WriteString("\x1b[" + want + "m")
			}
			style = want
		}
		b.WriteString(c.Text)
		at += c.Width
		bytes += len(c.Text)
	}
	if style != "" {
		b.WriteString("\x1b[m")
	}
	return b.String()
}

// outputPlace says which part of the output is in view.
func (m *Model) outputPlace() string {
	v := &m.output
	text := plural(v.lines, "line")
	if !v.follow && v.lines > m.outputHeight() {
		text = fmt.Sprintf("line %d of %d", v.top+1, v.lines)
	} else if v.run != nil && !v.run.Snapshot().State.Ended() {
		text += ", followed"
	}
	return text
}

func (m *Model) findNext() tea.Cmd     { return m.findText(true) }
func (m *Model) findPrevious() tea.Cmd { return m.findText(false) }

// findText goes to the next place of the text that was looked for.
func (m *Model) findText(forward bool) tea.Cmd {
	v := &m.output
	want := v.find.String()
	if v.run == nil || want == "" {
		return nil
	}
	v.run.Output(func(x *output.Index) {
		from := v.top
		switch {
		case v.found >= v.top && v.found < v.top+m.outputHeight() && forward:
			from = v.found + 1
		case v.found >= v.top && v.found < v.top+m.outputHeight():
			from = v.found - 1
		}
		v.found = x.Find(want, from, forward)
	})
	if v.found < 0 {
		m.say(true, "%q is nowhere in the output", want)
		return nil
	}
	m.showLine(v.found)
	m.say(false, "line %d", v.found+1)
	return nil
}

// showLine brings a line of the output into view, with some around it.
func (m *Model) showLine(line int) {
	v := &m.output
	if line < v.top || line >= v.top+m.outputHeight() {
		v.top = max(0, line-m.outputHeight()/3)
	}
	v.follow = false
	v.clamp(m)
	v.follow = false
}

// clickOutput chooses the problem that came from the line clicked.
func (m *Model) clickOutput(row int) bool {
	v := &m.output
	line := v.top + row - 2
	if v.run == nil || row < 2 || line >= v.lines {
		return false
	}
	hit := false
	v.run.Output(func(x *output.Index) {
		for i, r := range m.tally.places {
			if p := m.tally.rows[r].seqOf; p != nil && x.LineAt(p.Output.StartByte) <= line && line <= x.LineAt(p.Output.EndByte) {
				m.tally.chosen, hit = i, true
				return
			}
		}
	})
	return hit
}

// otherRun shows the run of the same task before or after the one shown.
func (m *Model) otherRun(by int) tea.Cmd {
	if m.output.run == nil {
		return nil
	}
	rec := m.records[m.output.run.Prepared.Task.ID()]
	i := slices.Index(rec.runs, m.output.run) + by
	if i < 0 || i >= len(rec.runs) {
		m.say(false, "there is no other run of it that way")
		return nil
	}
	m.choose(rec.runs[i])
	return nil
}

func (m *Model) olderRun() tea.Cmd { return m.otherRun(-1) }
func (m *Model) newerRun() tea.Cmd { return m.otherRun(1) }

// runAgain runs the task of the page again, with the arguments of that run.
func (m *Model) runAgain() tea.Cmd {
	if m.output.run == nil {
		return nil
	}
	s := m.output.run.Snapshot()
	for _, t := range m.survey.Tasks {
		if t.ID() == s.Prepared.Task.ID() {
			return m.start(t, s.Args)
		}
	}
	m.say(true, "%s is declared no longer", s.Prepared.Task.ID())
	return nil
}

func (m *Model) toTally() tea.Cmd {
	m.previous, m.page = m.page, tallyPage
	m.clamp()
	return nil
}
