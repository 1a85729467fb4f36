package tui

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/filter"
	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/sieve/family"
)

// tallyView is the state of the Tally page: the problems of the run that the
// Output page shows, by file.
type tallyView struct {
	order    tallyOrder
	finding  bool
	find     input
	hidden   int           // problems that the filter hides
	shown    problem.Count // of those that are there, without the faults of the survey
	files    int           // that they are in
	rows     []tallyRow
	places   []int // indexes into rows that are problems
	chosen   int   // index into places
	top      int   // first screen line shown, counted over rows and their details
	problems []problem.Problem
	compared problem.Comparison
	of       *run.Run
	version  int

	drawn    string             // what the rows were made from, beside the run
	excerpts map[string]*source // files that excerpts were taken from
	opened   []string           // the lines of the chosen problem, as last drawn
	openedOf string
}

// tallyOrder is what the problems are gathered by.
type tallyOrder int

const (
	tallyByFile tallyOrder = iota
	tallyBySeverity
	tallyByTask
	tallyAsPrinted
)

func (o tallyOrder) String() string {
	return [...]string{tallyByFile: "by file", tallyBySeverity: "by severity", tallyByTask: "by task", tallyAsPrinted: "as they came"}[o]
}

// tallyRow is a heading or a problem.
type tallyRow struct {
	head  string
	count problem.Count
	p     *problem.Problem
	state problem.State
	run   *run.Run         // that said it; nil for a fault of the survey
	seqOf *problem.Problem // p, unless it was struck: then it is not in the output
}

// standing is a problem as a filter sees it: with what became of it.
type standing struct {
	*problem.Problem
	state problem.State
}

func (s standing) Field(name string) ([]string, bool) {
	if name == "is" {
		return []string{s.state.String()}, true
	}
	return s.Problem.Field(name)
}

// faultsOfSurvey are the faults of the task files as problems.
func (m *Model) faultsOfSurvey() (out []problem.Problem) {
	if m.survey == nil {
		return nil
	}
	for _, f := range m.survey.Faults {
		out = append(out, problem.Problem{Place: problem.Place{File: f.File, Line: f.Line, Column: f.Column}, Message: f.Message, Family: "survey", Times: 1})
	}
	return out
}

// refresh takes the problems of the run anew when they, or the way in which
// they are shown, have changed.
func (v *tallyView) refresh(m *Model) {
	r := m.output.run
	drawn := fmt.Sprint(v.order, v.find.String())
	if m.survey != nil {
		drawn += fmt.Sprintf(" %p", m.survey)
	}
	if v.order == tallyByTask {
		for _, rec := range m.records {
			if n := len(rec.runs); n > 0 {
				drawn += fmt.Sprintf(" %p%d", rec.runs[n-1], rec.runs[n-1].Snapshot().Version)
			}
		}
	}
	version := 0
	if r != nil {
		version = r.Snapshot().Version
	}
	if v.of == r && v.version == version && v.drawn == drawn {
		return
	}
	var keep tallyRow
	// What is wrong with task files is left again as soon as a run says something,
	// unless it was chosen.
	if row := v.current(); row != nil && v.of == r && (row.run != nil || v.chosen > 0) {
		keep = *row
	}
	if v.of != r || v.version != version {
		if r == nil || r.Snapshot().State.Ended() {
			v.excerpts = nil
		}
	}
	v.of, v.version, v.drawn, v.openedOf = r, version, drawn, ""
	v.problems, v.compared = nil, problem.Comparison{}
	var all []tallyRow
	take := func(r *run.Run) {
		c := m.compared(r)
		if r == v.of {
			v.problems, v.compared = c.problems, c.Comparison
		}
		for i := range c.problems {
			all = append(all, tallyRow{p: &c.problems[i], seqOf: &c.problems[i], state: c.States[i], run: r})
		}
		for i := range c.Comparison.Gone {
			all = append(all, tallyRow{p: &c.Comparison.Gone[i], state: problem.Gone, run: r})
		}
	}
	if v.order == tallyByTask {
		for _, r := range m.super.Runs() {
			if r == m.last(r.Prepared.Task) {
				take(r)
			}
		}
	} else if r != nil {
		take(r)
	}
	faults := m.faultsOfSurvey()
	for i := range faults {
		all = append(all, tallyRow{p: &faults[i]})
	}
	v.gather(m, all)
	if keep.p == nil {
		v.chosen = 0
	}
	for i, at := range v.places {
		row := &v.rows[at]
		if keep.p != nil && row.run == keep.run && row.state != problem.Gone && row.p.Seq == keep.p.Seq && (row.run != nil || row.p.Place == keep.p.Place) {
			v.chosen = i
		}
	}
}

// gather puts what passes the filter under headings.
func (v *tallyView) gather(m *Model, all []tallyRow) {
	q := filter.Parse(v.find.String(), problem.FilterFields...)
	v.rows, v.places, v.hidden = make([]tallyRow, 0, len(all)+16), make([]int, 0, len(all)), 0
	v.shown = problem.Count{}
	files := map[string]bool{}
	file := "" // the last one seen: most problems stand in the file of the one before
	type group struct {
		head string
		rows []int // indexes into all
	}
	var groups []*group
	byHead := map[string]*group{}
	var last *group // problems of one group stand together, mostly
	var lastRun *run.Run
	task := ""
	subject := &standing{}
	for i := range all {
		row := &all[i]
		if subject.Problem, subject.state = row.p, row.state; !q.Empty() && !q.Passes(subject) {
			v.hidden++
			continue
		}
		head := row.p.File
		switch {
		case row.run == nil:
			head = surveyHead
		case v.order == tallyBySeverity:
			head = severityHeads[row.p.Severity]
		case v.order == tallyByTask:
			if row.run != lastRun {
				lastRun, task = row.run, short(row.run.Prepared.Task.ID())
			}
			head = task
		case v.order == tallyAsPrinted:
			head = tallyAsPrinted.String()
		}
		if last == nil || last.head != head {
			if last = byHead[head]; last == nil {
				last = &group{head: head}
				byHead[head] = last
				groups = append(groups, last)
			}
		}
		last.rows = append(last.rows, i)
		if row.state != problem.Gone && row.run != nil {
			v.shown.Add(row.p.Severity)
			if row.p.File != file || len(files) == 0 {
				file = row.p.File
				files[file] = true
			}
		}
	}
	v.files = len(files)
	if v.order == tallyBySeverity {
		worst := func(g *group) int {
			if g.head == surveyHead {
				return len(severityHeads)
			}
			return int(all[g.rows[0]].p.Severity)
		}
		slices.SortStableFunc(groups, func(a, b *group) int { return worst(a) - worst(b) })
	}
	before := func(i, j int) int { return 0 }
	switch v.order {
	case tallyByFile:
		before = func(i, j int) int {
			a, b := all[i].p, all[j].p
			return cmp.Or(a.Line-b.Line, a.Column-b.Column)
		}
	case tallyAsPrinted:
		// What is gone stands where it was, as far as that can be said.
		before = func(i, j int) int { return all[i].p.Output.FirstLine - all[j].p.Output.FirstLine }
	}
	for _, g := range groups {
		if !slices.IsSortedFunc(g.rows, before) {
			slices.SortStableFunc(g.rows, before)
		}
		at := len(v.rows)
		v.rows = append(v.rows, tallyRow{head: g.head})
		c := &problem.Count{}
		for _, i := range g.rows {
			if all[i].state != problem.Gone {
				c.Add(all[i].p.Severity)
			}
			v.places = append(v.places, len(v.rows))
			v.rows = append(v.rows, all[i])
		}
		v.rows[at].count = *c
	}
}

// severityHeads are the headings of the problems of each severity.
var severityHeads = [...]string{problem.Error: "errors", problem.Warning: "warnings", problem.Note: "notes"}

// surveyHead is the heading of what is wrong with the task files themselves.
const surveyHead = "in the task files"

// nextOrder shows the problems in another order.
func (m *Model) nextOrder() tea.Cmd {
	m.tally.order = (m.tally.order + 1) % 4
	m.tally.refresh(m)
	m.clamp()
	m.say(false, "the problems stand %s", m.tally.order)
	return nil
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
		if v.rows[r].state != problem.Gone && v.rows[r].run != nil {
			n++
		}
		if i == v.chosen {
			break
		}
	}
	return max(1, n)
}

// total counts the problems that are there and shown.
func (v *tallyView) total() int { return v.shown.Total() }

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

// showsOutput tells whether the problem's lines of output stand below the list,
// and outputBeside whether they stand beside it.
func (m *Model) showsOutput() bool {
	return m.height >= 30 && m.output.run != nil && !m.outputBeside()
}

func (m *Model) outputBeside() bool { return m.width >= besideWidth && m.output.run != nil }

// tallyColumns is the width of the list.
func (m *Model) tallyColumns() int {
	if m.outputBeside() {
		return m.width * 12 / 20
	}
	return m.width
}

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
	say := func(texts ...string) []string {
		lines := []string{"", ""}
		for _, t := range texts {
			lines = append(lines, m.ink.row(m.width).to(4).put(t, Plain).String())
		}
		return lines
	}
	if len(v.rows) == 0 && (v.hidden > 0 || v.finding) {
		lines := say(fmt.Sprintf("Nothing matches the filter; it hides %s.", plural(v.hidden, "problem")), "esc clears it.")
		lines[0] = m.tallyFindLine()
		return lines
	}
	if m.output.run == nil && len(v.rows) == 0 {
		return say("No run yet: choose a task on the page tasks (t) and press enter.")
	}
	if len(v.rows) == 0 {
		s := m.output.run.Snapshot()
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
	lines := []string{m.tallyFindLine(), ""}
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
	if m.outputBeside() {
		width := m.tallyColumns()
		beside := m.outputOf(&v.rows[chosen], height)
		for i := range height {
			left, right := "", ""
			if i < len(list) {
				left = list[i]
			}
			if i < len(beside) {
				right = ansi.Truncate(beside[i], m.width-width-3, "…")
			}
			lines = append(lines, left+strings.Repeat(" ", max(0, width-ansi.StringWidth(left)))+m.ink.write(" ¦ ", Slate)+right)
		}
		return lines
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

// tallyFindLine counts what is shown, and shows the filter.
func (m *Model) tallyFindLine() string {
	v := &m.tally
	r := m.ink.row(m.width)
	if v.finding || len(v.find.text) > 0 {
		half := max(20, m.width*3/10)
		r.put("find ", Slate)
		if v.finding {
			v.find.show(r, half-6)
		} else {
			r.fit(v.find.String(), half-6, Plain)
		}
		text := fmt.Sprintf("%d shown", len(v.places))
		if v.hidden > 0 {
			text += fmt.Sprintf(", %d hidden by the filter", v.hidden)
		}
		return r.to(half).put(text, Slate).String()
	}
	r.put(fmt.Sprintf("%s in %s, %s", v.shown, plural(v.files, "file"), v.order), Slate)
	if v.of != nil {
		for _, s := range v.of.Snapshot().Summaries {
			if s.Said != s.Found {
				r.put(fmt.Sprintf("   the tool itself counts %d, of which %d were found: see line %d of the output", s.Said, s.Found, s.Line), Ochre)
				break
			}
		}
	}
	return r.String()
}

// tallyBar is the column of the margin's rule.
func (m *Model) tallyBar() int {
	if m.tallyColumns() < 100 {
		return 5
	}
	return 9
}

func (m *Model) tallyLine(tr *tallyRow, chosen bool) string {
	r := m.ink.row(m.tallyColumns())
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
		name := clean(tr.head)
		if name == "" {
			name = "without a place"
		}
		return r.to(bar+2).put(shortPath(name, m.tallyColumns()-bar-3), Bold).String()
	}
	p := tr.p
	ink, mark := Plain, ""
	switch tr.state {
	case problem.New:
		mark = "+"
	case problem.Gone:
		mark, ink = "-", Verdigris|Strike
	}
	markInk := severityInk(p.Severity)
	if tr.state == problem.Gone {
		markInk = Verdigris
	}
	r.to(bar-3).put(mark, markInk).to(bar).put("¦ ", Slate)
	where, wide := "", 8
	line, _ := m.placeNow(tr)
	switch {
	case p.Column > 0:
		where = fmt.Sprintf("%d:%d", line, p.Column)
	case p.Line > 0:
		where = fmt.Sprint(line)
	}
	if m.tally.order != tallyByFile || tr.run == nil {
		wide = max(20, m.tallyColumns()/4)
		where = strings.TrimSuffix(shortPath(clean(p.File), wide-1-len(where))+":"+where, ":")
	}
	message := clean(strings.SplitN(p.Message, "\n", 2)[0])
	code := clean(p.Code)
	room := m.tallyColumns()
	if code != "" && m.tallyColumns() >= 100 {
		room = m.tallyColumns() - max(26, ansi.StringWidth(code)+2)
	}
	r.limit = room - 1
	sev := severityInk(p.Severity)
	place, rest := Slate, Plain
	if tr.state == problem.Gone {
		sev, place, rest = ink, ink, ink
	}
	if chosen {
		sev, place, rest = Reverse, Reverse, Reverse
		if tr.state == problem.Gone {
			sev, place, rest = Reverse|Strike, Reverse|Strike, Reverse|Strike
		}
	}
	text := strings.Repeat(" ", max(0, wide-ansi.StringWidth(where))) + where + "  "
	r.put(text, place).fit(p.Severity.String(), 9, sev).put(message, rest)
	if p.Times > 1 {
		r.put(fmt.Sprintf("  %d times", p.Times), Slate)
	}
	r.limit = m.tallyColumns()
	if room < m.tallyColumns() {
		r.to(room).put(code, Slate)
	}
	return r.String()
}

// openedLines are the lines under the chosen problem: the rest of its message,
// the source, and the places that belong to it.
func (m *Model) openedLines(tr *tallyRow) []string {
	v := &m.tally
	key := fmt.Sprintf("%p %d %d %v", tr.p, m.tallyColumns(), m.height, m.ink.dark)
	if v.openedOf == key {
		return v.opened
	}
	p := tr.p
	line, moved := m.placeNow(tr)
	var out []string
	bar := m.tallyBar()
	indent := bar + 12
	if m.tallyColumns() < 100 {
		indent = bar + 4
	}
	message := strings.Split(clean2(p.Message), "\n")
	first := message[0]
	room := m.tallyColumns() - bar - 22
	if ansi.StringWidth(first) > room { // the row cut it: it stands here whole
		for _, l := range wrap(first, m.tallyColumns()-indent-2) {
			out = append(out, m.ink.row(m.tallyColumns()).to(indent).put(l, Plain).String())
		}
	}
	for _, l := range message[1:] {
		for _, l := range wrap(strings.TrimSpace(l), m.tallyColumns()-indent-2) {
			out = append(out, m.ink.row(m.tallyColumns()).to(indent).put(l, Plain).String())
		}
	}
	if p.FoundByName {
		out = append(out, m.ink.row(m.tallyColumns()).to(indent).put("found by its name: the output says only "+clean(filepath.Base(p.File)), Slate).String())
	}
	if len(p.MayBe) > 0 {
		out = append(out, m.ink.row(m.tallyColumns()).to(indent).put("the file is not there; it may be "+clean(strings.Join(p.MayBe, " or ")), Ochre).String())
	}
	if moved != "" {
		out = append(out, m.ink.row(m.tallyColumns()).to(indent).put(moved, Ochre).String())
	}
	at := p.Place
	at.Line, at.EndLine = line, max(0, at.EndLine+line-p.Line)
	out = append(out, m.sourceLines(at, family.All.Columns(p.Family), indent, tr.state)...)
	for i, rel := range p.Related {
		if i == 12 {
			out = append(out, m.ink.row(m.tallyColumns()).to(indent).put(fmt.Sprintf("and %s", plural(len(p.Related)-i, "more place")), Slate).String())
			break
		}
		r := m.ink.row(m.tallyColumns()).to(indent-5).put("see  ", Slate)
		at := clean(rel.Place.String())
		r.put(shortPath(at, m.tallyColumns()/2), Plain).put("   "+clean(strings.Join(strings.Fields(rel.Message), " ")), Slate)
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
	if tr.run == nil {
		return []string{m.ink.row(m.width).put("found by the survey, in no output", Slate).String()}
	}
	if tr.seqOf == nil {
		return []string{m.ink.row(m.width).put("struck: the run no longer says it", Slate).String()}
	}
	var lines []string
	tr.run.Output(func(x *output.Index) {
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
	if len(v.places) == 0 {
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
		if v.rows[v.places[i]].state != problem.Gone {
			v.chosen = i
			break
		}
		if by == 0 {
			by = 1
		}
	}
	if p := v.current(); m.page == outputPage && p != nil && p.seqOf != nil && p.run == m.output.run {
		line := 0
		m.output.run.Output(func(x *output.Index) { line = x.LineAt(p.seqOf.Output.StartByte) })
		m.showLine(line)
		m.say(false, "problem %d of %d: %s", v.position(), v.total(), strings.SplitN(p.p.Message, "\n", 2)[0])
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
	line, _ := m.placeNow(row)
	return m.openEditor(row.p.File, line, row.p.Column)
}

// placeNow gives the line of a problem as the file stands now, and says so when
// the file has changed since: moved with the text of the line where it can be.
func (m *Model) placeNow(row *tallyRow) (line int, note string) {
	p := row.p
	if p.LineText == "" || p.Line == 0 || row.state == problem.Gone {
		return p.Line, ""
	}
	s := m.readSource(p.File)
	if s.fault != "" || p.Line <= len(s.lines) && problem.TrimSource(s.lines[p.Line-1]) == p.LineText {
		return p.Line, ""
	}
	if now := s.find(p.LineText, p.Line); now > 0 {
		return now, fmt.Sprintf("the file has changed since the run: line %d was line %d", now, p.Line)
	}
	return p.Line, fmt.Sprintf("the file has changed since the run, and this line with it; it said: %s", clean(p.LineText))
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
