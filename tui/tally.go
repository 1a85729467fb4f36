package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/run"
)

// tallyView is the state of the Tally page: the problems of the run that the
// Output page shows, by file.
type tallyView struct {
	rows     []tallyRow
	places   []int // indexes into rows that are problems
	chosen   int   // index into places
	top      int   // first screen line shown, counted over rows and their details
	problems []problem.Problem
	compared problem.Comparison
	of       *run.Run
	version  int

	excerpts map[string]*source // files that excerpts were taken from
	opened   []string           // the lines of the chosen problem, as last drawn
	openedOf string
}

// tallyRow is a file's heading or a problem.
type tallyRow struct {
	file  string
	count problem.Count
	p     *problem.Problem
	state problem.State
	seqOf *problem.Problem // p, unless it was struck: then it is not in the output
}

// refresh takes the problems of the run anew when they have changed.
func (v *tallyView) refresh(m *Model) {
	r := m.output.run
	if r == nil {
		return
	}
	s := r.Snapshot()
	if v.of == r && v.version == s.Version {
		return
	}
	var keep *problem.Problem
	if row := v.current(); row != nil && v.of == r {
		keep = row.p
	}
	v.of, v.version, v.openedOf = r, s.Version, ""
	if s.State.Ended() {
		v.excerpts = nil
	}
	c := m.compared(r)
	v.problems, v.compared = c.problems, c.Comparison
	v.rows, v.places = nil, nil
	type entry struct {
		p     *problem.Problem
		state problem.State
	}
	byFile := map[string][]entry{}
	var order []string
	add := func(p *problem.Problem, state problem.State) {
		if _, seen := byFile[p.File]; !seen {
			order = append(order, p.File)
		}
		byFile[p.File] = append(byFile[p.File], entry{p, state})
	}
	for i := range v.problems {
		add(&v.problems[i], v.compared.States[i])
	}
	for i := range v.compared.Struck {
		add(&v.compared.Struck[i], problem.Struck)
	}
	for _, file := range order {
		entries := byFile[file]
		sort.SliceStable(entries, func(i, j int) bool {
			a, b := entries[i].p, entries[j].p
			if a.Line != b.Line {
				return a.Line < b.Line
			}
			return a.Column < b.Column
		})
		head := tallyRow{file: file}
		at := len(v.rows)
		v.rows = append(v.rows, head)
		for _, e := range entries {
			row := tallyRow{file: file, p: e.p, state: e.state}
			if e.state != problem.Struck {
				row.seqOf = e.p
				switch e.p.Severity {
				case problem.Error:
					v.rows[at].count.Errors++
				case problem.Warning:
					v.rows[at].count.Warnings++
				default:
					v.rows[at].count.Notes++
				}
			}
			if keep != nil && e.state != problem.Struck && e.p.Seq == keep.Seq {
				v.chosen = len(v.places)
			}
			v.places = append(v.places, len(v.rows))
			v.rows = append(v.rows, row)
		}
	}
}

func (v *tallyView) current() *tallyRow {
	if v.chosen >= 0 && v.chosen < len(v.places) {
		return &v.rows[v.places[v.chosen]]
	}
	return nil
}

// position is the number of the chosen problem among those that are there.
func (v *tallyView) position() int {
	n := 0
	for i, r := range v.places {
		if v.rows[r].state != problem.Struck {
			n++
		}
		if i == v.chosen {
			break
		}
	}
	return max(1, n)
}

func (v *tallyView) move(rows int) { v.chosen += rows }

func (v *tallyView) clamp(m *Model) {
	v.chosen = max(0, min(v.chosen, len(v.places)-1))
	height := m.tallyHeight()
	row := v.current()
	if row == nil {
		v.top = 0
		return
	}
	at := v.places[v.chosen]
	open := len(m.openedLines(row))
	// What is opened under the chosen row is seen too, as far as it fits.
	bottom := at + min(open, height-1)
	v.top = min(v.top, at)
	if at > 0 && v.rows[at-1].p == nil {
		v.top = min(v.top, at-1)
	}
	v.top = max(v.top, bottom-height+1)
	v.top = max(0, min(v.top, len(v.rows)+open-height))
}

// tallyHead is the number of rows above the list.
const tallyHead = 2

// tallyHeight is the number of screen lines of the list.
func (m *Model) tallyHeight() int {
	body := m.bodyHeight() - tallyHead
	if m.showsOutput() {
		return body - m.outputPart()
	}
	return max(1, body)
}

// showsOutput tells whether the problem's lines of output stand below the list.
func (m *Model) showsOutput() bool { return m.height >= 30 && m.output.run != nil }

func (m *Model) outputPart() int { return max(6, m.bodyHeight()/3) }

func (v *tallyView) click(row int) bool {
	line := v.top + row - tallyHead
	if row < tallyHead || v.current() == nil {
		return false
	}
	at := v.places[v.chosen]
	if open := len(v.opened); line > at {
		if line <= at+open {
			return true
		}
		line -= open
	}
	for i, r := range v.places {
		if r == line {
			v.chosen = i
			return true
		}
	}
	return false
}

func (m *Model) tallyBody() []string {
	v := &m.tally
	r := m.ink.row(m.width)
	say := func(texts ...string) []string {
		lines := []string{"", ""}
		for _, t := range texts {
			lines = append(lines, m.ink.row(m.width).to(4).put(t, Plain).String())
		}
		return lines
	}
	if m.output.run == nil {
		return say("No run yet: choose a task on the page tasks (t) and press enter.")
	}
	s := m.output.run.Snapshot()
	if len(v.rows) == 0 {
		id := clean(short(s.Prepared.Task.ID()))
		switch {
		case s.Fault != "":
			return say(clean(s.Fault))
		case s.State == run.Failed:
			return say(fmt.Sprintf("No problems were found in %s of output, but %s %s.", plural(s.Lines, "line"), id, s.Words()), "o shows the output.")
		case s.State.Ended():
			return say(fmt.Sprintf("No problems. %s of %s were read.", plural(max(0, s.Lines-1), "line"), id))
		}
		return say(fmt.Sprintf("No problems so far; %s is %s.", id, m.standing(&s)))
	}
	r.put(fmt.Sprintf("%s in %s, by file", problem.CountOf(v.problems), plural(m.filesOf(), "file")), Slate)
	lines := []string{r.String(), ""}
	height := m.tallyHeight()
	list := make([]string, 0, height)
	chosen := v.places[v.chosen]
	for i := v.top; len(list) < height; i++ {
		at := i
		if i > chosen {
			open := m.openedLines(&v.rows[chosen])
			if i <= chosen+len(open) {
				list = append(list, open[i-chosen-1])
				continue
			}
			at = i - len(open)
		}
		if at >= len(v.rows) {
			break
		}
		list = append(list, m.tallyLine(&v.rows[at], at == chosen))
	}
	lines = append(lines, list...)
	if !m.showsOutput() {
		return lines
	}
	for len(lines) < tallyHead+height {
		lines = append(lines, "")
	}
	lines = append(lines, m.ink.write(strings.Repeat("┄", m.width), Slate))
	return append(lines, m.outputOf(&v.rows[chosen], m.outputPart()-1)...)
}

func (m *Model) filesOf() int {
	n := 0
	for i := range m.tally.rows {
		if m.tally.rows[i].p == nil {
			n++
		}
	}
	return n
}

// tallyBar is the column of the margin's rule.
func (m *Model) tallyBar() int {
	if m.width < 100 {
		return 5
	}
	return 9
}

func (m *Model) tallyLine(tr *tallyRow, chosen bool) string {
	r := m.ink.row(m.width)
	bar := m.tallyBar()
	if tr.p == nil {
		ink, n := Madder, tr.count.Errors
		if n == 0 {
			ink, n = Ochre, tr.count.Warnings
		}
		text, width := m.ink.strokes(n, bar-1, ink)
		r.to(bar - 1 - width)
		r.b.WriteString(text)
		r.at += width
		name := clean(tr.file)
		if name == "" {
			name = "without a place"
		}
		return r.to(bar+2).put(shortPath(name, m.width-bar-3), Bold).String()
	}
	p := tr.p
	ink, mark := Plain, ""
	switch tr.state {
	case problem.Entered:
		mark = "+"
	case problem.Struck:
		mark, ink = "-", Verdigris|Strike
	}
	markInk := severityInk(p.Severity)
	if tr.state == problem.Struck {
		markInk = Verdigris
	}
	r.to(bar-3).put(mark, markInk).to(bar).put("¦ ", Slate)
	where := ""
	switch {
	case p.Column > 0:
		where = fmt.Sprintf("%d:%d", p.Line, p.Column)
	case p.Line > 0:
		where = fmt.Sprint(p.Line)
	}
	message := clean(strings.SplitN(p.Message, "\n", 2)[0])
	code := clean(p.Code)
	room := m.width
	if code != "" && m.width >= 100 {
		room = m.width - max(26, ansi.StringWidth(code)+2)
	}
	r.limit = room - 1
	sev := severityInk(p.Severity)
	place, rest := Slate, Plain
	if tr.state == problem.Struck {
		sev, place, rest = ink, ink, ink
	}
	if chosen {
		sev, place, rest = Reverse, Reverse, Reverse
		if tr.state == problem.Struck {
			sev, place, rest = Reverse|Strike, Reverse|Strike, Reverse|Strike
		}
	}
	text := strings.Repeat(" ", max(0, 8-len(where))) + where + "  "
	r.put(text, place).fit(p.Severity.String(), 9, sev).put(message, rest)
	if p.Times > 1 {
		r.put(fmt.Sprintf("  %d times", p.Times), Slate)
	}
	r.limit = m.width
	if room < m.width {
		r.to(room).put(code, Slate)
	}
	return r.String()
}

// openedLines are the lines under the chosen problem: the rest of its message,
// the source, and the places that belong to it.
func (m *Model) openedLines(tr *tallyRow) []string {
	v := &m.tally
	key := fmt.Sprintf("%p %d %d %v", tr.p, m.width, m.height, m.ink.dark)
	if v.openedOf == key {
		return v.opened
	}
	p := tr.p
	var out []string
	bar := m.tallyBar()
	indent := bar + 12
	if m.width < 100 {
		indent = bar + 4
	}
	message := strings.Split(clean2(p.Message), "\n")
	first := message[0]
	room := m.width - bar - 22
	if ansi.StringWidth(first) > room { // the row cut it: it stands here whole
		for _, l := range wrap(first, m.width-indent-2) {
			out = append(out, m.ink.row(m.width).to(indent).put(l, Plain).String())
		}
	}
	for _, l := range message[1:] {
		for _, l := range wrap(strings.TrimSpace(l), m.width-indent-2) {
			out = append(out, m.ink.row(m.width).to(indent).put(l, Plain).String())
		}
	}
	if p.FoundByName {
		out = append(out, m.ink.row(m.width).to(indent).put("found by its name: the output says only "+clean(filepath.Base(p.File)), Slate).String())
	}
	out = append(out, m.sourceLines(p.Place, indent, tr.state)...)
	for i, rel := range p.Related {
		if i == 12 {
			out = append(out, m.ink.row(m.width).to(indent).put(fmt.Sprintf("and %s", plural(len(p.Related)-i, "more place")), Slate).String())
			break
		}
		r := m.ink.row(m.width).to(indent-5).put("see  ", Slate)
		at := clean(rel.Place.String())
		r.put(shortPath(at, m.width/2), Plain).put("   "+clean(strings.Join(strings.Fields(rel.Message), " ")), Slate)
		out = append(out, r.String())
	}
	if len(out) > 0 {
		out = append(out, "")
	}
	if limit := max(3, m.tallyHeight()-2); len(out) > limit {
		out = out[:limit]
	}
	v.opened, v.openedOf = out, key
	return out
}

// clean2 cleans a text of several lines.
func clean2(s string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = clean(lines[i])
	}
	return strings.Join(lines, "\n")
}

func wrap(s string, columns int) []string {
	return strings.Split(ansi.Wrap(s, max(20, columns), ""), "\n")
}

// outputOf shows the lines of output that a problem came from.
func (m *Model) outputOf(tr *tallyRow, count int) []string {
	if tr.seqOf == nil {
		return []string{m.ink.row(m.width).put("struck: the run no longer says it", Slate).String()}
	}
	var lines []string
	m.output.run.Output(func(x *output.Index) {
		first, last := x.LineAt(tr.seqOf.Output.StartByte), x.LineAt(max(0, tr.seqOf.Output.EndByte-1))
		lines = append(lines, m.ink.row(m.width).put(fmt.Sprintf("output, line %d of %d", first+1, shownLines(x)), Slate).String())
		from := max(0, first-1)
		for i := from; i < x.Lines() && len(lines) < count && i <= last+1; i++ {
			lines = append(lines, m.outputLine(x.Line(i), i, nil, false))
		}
	})
	return lines
}

// nextProblem goes to the next problem, on any page.
func (m *Model) nextProblem() tea.Cmd     { return m.stepProblem(1) }
func (m *Model) previousProblem() tea.Cmd { return m.stepProblem(-1) }

func (m *Model) stepProblem(by int) tea.Cmd {
	v := &m.tally
	i := v.chosen
	if m.output.run == nil || len(v.problems) == 0 {
		m.say(false, "there are no problems to go to")
		return nil
	}
	if m.page != tallyPage && m.page != outputPage {
		// Coming from elsewhere, the first step shows the problem chosen.
		m.previous, m.page = m.page, tallyPage
		by = 0
	}
	for {
		i += by
		if i < 0 || i >= len(v.places) {
			m.say(false, "no more problems that way")
			break
		}
		if v.rows[v.places[i]].state != problem.Struck {
			v.chosen = i
			break
		}
		if by == 0 {
			by = 1
		}
	}
	if p := v.current(); m.page == outputPage && p != nil && p.seqOf != nil {
		line := 0
		m.output.run.Output(func(x *output.Index) { line = x.LineAt(p.seqOf.Output.StartByte) })
		m.showLine(line)
		m.say(false, "problem %d of %d: %s", v.position(), len(v.problems), strings.SplitN(p.p.Message, "\n", 2)[0])
	}
	m.clamp()
	return nil
}

// openPlace opens the editor at the chosen problem.
func (m *Model) openPlace() tea.Cmd {
	row := m.tally.current()
	if row == nil {
		return nil
	}
	if row.p.File == "" {
		m.say(true, "the problem names no file")
		return nil
	}
	return m.openEditor(row.p.File, row.p.Line, row.p.Column)
}

// copyProblem copies place and message of the chosen problem.
func (m *Model) copyProblem() tea.Cmd {
	row := m.tally.current()
	if row == nil {
		return nil
	}
	text := clean(row.p.GNU())
	m.say(false, "copied: %s", text)
	return tea.SetClipboard(text)
}

// readSource reads a source file for excerpts, once.
func (m *Model) readSource(file string) *source {
	v := &m.tally
	if s, ok := v.excerpts[file]; ok {
		return s
	}
	if v.excerpts == nil {
		v.excerpts = map[string]*source{}
	}
	abs := file
	if !filepath.IsAbs(abs) {
		abs = filepath.Join(m.root, filepath.FromSlash(file))
	}
	s := &source{}
	info, err := os.Stat(abs)
	switch {
	case err != nil:
		s.fault = "the file is gone"
	case !info.Mode().IsRegular():
		s.fault = "no regular file"
	case info.Size() > maxSource:
		s.fault = fmt.Sprintf("the file has %d bytes: no excerpt", info.Size())
	default:
		data, err := os.ReadFile(abs)
		if err != nil {
			s.fault = "the file cannot be read"
		} else {
			s.load(file, data)
		}
	}
	v.excerpts[file] = s
	return s
}
