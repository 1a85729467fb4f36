package tui

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/sieve/family"
	"tidytally/tui/ink"
)

// tallyHead is the number of rows above the list: the filter and a blank.
const tallyHead = 2

// maxRelated is the number of places that belong to a problem and are shown under it.
const maxRelated = 12

func (p *tallyPage) heading(r *ink.Row) {
	right := ""
	if total := p.total(); total > 0 {
		right = fmt.Sprintf("%d of %d", p.position(), total)
		if p.width >= narrow {
			right = "problem " + right
		}
	}
	p.runHeading(r, tallyName, right)
}

// runHeading says which run a page shows, and how it stands.
func (d *desk) runHeading(r *ink.Row, name, right string) {
	if d.run == nil {
		r.Put("  "+name, ink.Plain)
		return
	}
	s := d.run.Snapshot()
	r.Put("  "+name+" of ", ink.Plain).Put(shortID(s.Prepared.Task), ink.Bold)
	r.Limit = max(r.At(), d.width-len(right)-3)
	r.Put("   ", ink.Plain)
	stands, command := d.since(&s), clean(strings.ReplaceAll(s.Prepared.Display, d.root+"/", ""))
	if r.At()+ansi.StringWidth(stands) > r.Limit {
		stands = s.Words()
	}
	if command != "" && r.At()+ansi.StringWidth(command)+ansi.StringWidth(stands)+2 <= r.Limit { // else how it stands matters more
		r.Put(command+", ", ink.Slate)
	}
	r.Put(stands, stateInk(&s))
	r.Limit = d.width
	r.Right(right, d.width-1, ink.Slate)
}

// beyond returns how many lines of the list are out of view.
func (p *tallyPage) beyond() (above, below int) {
	if p.problem == nil {
		return 0, 0
	}
	return edgesOf(p.top, p.listHeight(), len(p.rows)+len(p.openedLines(p.problem)))
}

func (p *tallyPage) edges() (above, below int) {
	above, below = p.beyond()
	if p.outputBelow() {
		below = 0 // the rule above the output says so
	}
	return above, below
}

// listHeight is the number of screen lines of the list.
func (p *tallyPage) listHeight() int {
	body := p.bodyHeight() - tallyHead
	if p.outputBelow() {
		return body - p.outputPart()
	}
	return max(1, body)
}

// outputBelow reports whether the problem's lines of output stand below the list,
// and outputBeside whether they stand beside it.
func (p *tallyPage) outputBelow() bool {
	return p.height >= detailsHeight && p.run != nil && !p.outputBeside()
}

func (p *tallyPage) outputBeside() bool { return p.width >= besideWidth && p.run != nil }

// listWidth is the width of the list in cells.
func (p *tallyPage) listWidth() int {
	if p.outputBeside() {
		return p.width * 12 / 20
	}
	return p.width
}

func (p *tallyPage) outputPart() int { return max(6, p.bodyHeight()/3) }

func (p *tallyPage) body() []string {
	if len(p.rows) == 0 {
		return p.nothing()
	}
	lines := []string{p.findLine(), ""}
	height := p.listHeight()
	chosen := p.places[p.chosen]
	list := p.listLines(chosen, height)
	if p.outputBeside() {
		return append(lines, p.sideBySide(list, p.listWidth(), p.outputOf(&p.rows[chosen], height), height)...)
	}
	lines = append(lines, list...)
	if !p.outputBelow() {
		return lines
	}
	for len(lines) < tallyHead+height {
		lines = append(lines, "")
	}
	_, below := p.beyond()
	return append(append(lines, p.rule(below)), p.outputOf(&p.rows[chosen], p.outputPart()-1)...)
}

// listLines are the screen lines of the list, with what is opened under the chosen
// row.
func (p *tallyPage) listLines(chosen, height int) (list []string) {
	for i := p.top; len(list) < height; i++ {
		at := i
		if i > chosen {
			open := p.openedLines(&p.rows[chosen])
			if i <= chosen+len(open) {
				list = append(list, open[i-chosen-1])
				continue
			}
			at = i - len(open)
		}
		if at >= len(p.rows) {
			break
		}
		list = append(list, p.line(&p.rows[at], at == chosen))
	}
	return list
}

// nothing says why there are no problems.
func (p *tallyPage) nothing() []string {
	if p.hidden > 0 || p.finding {
		lines := p.paragraph(fmt.Sprintf("Nothing matches the filter; it hides %s.", plural(p.hidden, "problem")), "esc clears it.")
		lines[0] = p.findLine()
		return lines
	}
	if p.run == nil {
		return p.paragraph(noRunYet)
	}
	s := p.run.Snapshot()
	id := shortID(s.Prepared.Task)
	printed := 0
	p.run.Output(func(x *output.Index) { printed = x.Printed() })
	switch {
	case s.Fault != "":
		if p.lacksSomething() {
			return p.paragraph(s.Fault, "", "I runs what brings it.")
		}
		return p.paragraph(s.Fault)
	case s.State == run.Skipped && s.Blamed != "":
		return p.paragraph(fmt.Sprintf("%s was not run: %s.", id, s.Blamed), "T shows all steps side by side, l the plan.")
	case s.State == run.Failed && printed == 0:
		return p.paragraph(fmt.Sprintf("%s %s, and printed nothing.", id, s.Words()))
	case s.State == run.Failed:
		return append(p.paragraph(
			fmt.Sprintf("No problems were found in %s of output, but %s %s. It ends with:", plural(printed, "line"), id, s.Words()), "",
		), append(p.lastLines(p.bodyHeight()-8), p.paragraph("m makes a sieve from a line of it, o shows the output.")[1:]...)...)
	case s.State.Ended():
		return p.paragraph(fmt.Sprintf("No problems. %s printed %s.", id, plural(printed, "line")))
	}
	return p.paragraph(fmt.Sprintf("No problems so far; %s is %s.", id, p.since(&s)))
}

// lastLines shows the last lines of the output, at most so many.
func (p *tallyPage) lastLines(most int) (lines []string) {
	p.run.Output(func(x *output.Index) {
		n := x.Printed()
		for i := max(0, n-max(1, most)); i < n; i++ {
			lines = append(lines, p.outputLine(x.Line(i), i, outputMarks{}))
		}
	})
	return lines
}

const noRunYet = "No run yet: choose a task on the page tasks (t) and press enter."

// findLine counts what is shown, and shows the filter.
func (p *tallyPage) findLine() string {
	r := p.row()
	if text := p.find.String(); p.finding || text != "" {
		half := max(20, p.width*3/10)
		r.Put("find ", ink.Slate)
		if p.finding {
			p.find.show(r, half-6)
		} else {
			r.Fit(text, half-6, ink.Plain)
		}
		words := fmt.Sprintf("%d shown", len(p.places))
		if p.hidden > 0 {
			words += fmt.Sprintf(", %d hidden by the filter", p.hidden)
		}
		return r.To(half).Put(words, ink.Slate).String()
	}
	r.Put(p.shownWords()+", "+p.order.String(), ink.Slate)
	if p.run != nil {
		for _, s := range p.run.Snapshot().Summaries {
			if s.Said != s.Found {
				r.Put(fmt.Sprintf("   the tool itself counts %d, of which %d were found: see line %d of the output", s.Said, s.Found, s.Line), ink.Ochre)
				break
			}
		}
	}
	return r.String()
}

// shownWords counts the problems that are shown and there, and the files that they are in.
func (p *tallyPage) shownWords() string {
	text := p.shown.String()
	if p.files > 0 {
		text += " in " + plural(p.files, "file")
	}
	switch {
	case p.nowhere == 0:
	case p.files == 0:
		text += " without a place"
	default:
		text += fmt.Sprintf(", %d of them without a place", p.nowhere)
	}
	return text
}

// barColumn is the column of the margin's rule.
func (p *tallyPage) barColumn() int {
	if p.listWidth() < 100 {
		return 5
	}
	return 9
}

// worstStrokes writes the errors as tally strokes that end at a column, or the
// warnings if there are no errors.
func worstStrokes(r *ink.Row, c problem.Count, end int) {
	style, n := ink.Madder, c.Errors
	if n == 0 {
		style, n = ink.Ochre, c.Warnings
	}
	r.Strokes(n, end, style)
}

// line lays out a row of the list.
func (p *tallyPage) line(row *problemRow, chosen bool) string {
	r := p.ink.Row(p.listWidth())
	bar := p.barColumn()
	if row.p == nil {
		worstStrokes(r, row.count, bar-1)
		name := clean(row.head)
		if name == "" {
			name = "without a place"
		}
		room := p.listWidth() - bar - 3
		if p.listWidth() >= leastBars {
			room -= barCells + 2
		}
		r.To(bar+2).Put(ink.ShortPath(name, room), ink.Bold)
		if p.listWidth() >= leastBars {
			p.severityBar(r, row.count)
		}
		return r.String()
	}
	q := row.p
	mark, severity, place, message := "", severityInk(q.Severity), ink.Slate, ink.Plain
	markInk := severity
	switch row.state {
	case problem.New:
		mark = "+"
	case problem.Gone:
		mark, markInk = "-", ink.Verdigris
		severity, place, message = ink.Verdigris|ink.Strike, ink.Verdigris|ink.Strike, ink.Verdigris|ink.Strike
	case problem.NotChecked:
		mark, markInk = "?", ink.Slate
		severity, place, message = ink.Slate, ink.Slate, ink.Slate
	}
	if chosen {
		style := ink.Reverse
		if row.state == problem.Gone {
			style |= ink.Strike
		}
		severity, place, message = style, style, style
	}
	r.To(bar-3).Put(mark, markInk).To(bar).Put("¦ ", ink.Slate)
	where, wide := p.where(row)
	code := clean(q.Code)
	if q.Test != "" && !strings.Contains(code, q.Test) {
		code = clean(q.Test)
	}
	room := p.listWidth()
	if code != "" && p.listWidth() >= 100 {
		room = p.listWidth() - max(26, ansi.StringWidth(code)+2)
	}
	r.Limit = room - 1
	r.Put(strings.Repeat(" ", max(0, wide-ansi.StringWidth(where)))+where+"  ", place)
	r.Fit(q.Severity.String(), 9, severity)
	first, _, _ := strings.Cut(q.Message, "\n")
	r.Put(first, message)
	if q.Times > 1 {
		r.Put(fmt.Sprintf("  %d times", q.Times), ink.Slate)
	}
	r.Limit = p.listWidth()
	if room < p.listWidth() {
		r.To(room).Put(code, ink.Slate)
	}
	return r.String()
}

const (
	// leastBars is the width of the list in cells from which the headings have bars.
	leastBars = 120
	// barCells is the length of the bar of the heading with the most problems.
	barCells = 24
)

// severityBar draws how many problems of each severity a heading has, on a scale that all headings
// share: a cell a problem, if there are not too many.
func (p *tallyPage) severityBar(r *ink.Row, c problem.Count) {
	of := max(p.most, barCells)
	r.To(p.listWidth() - barCells - 1)
	for _, part := range []struct {
		n     int
		sign  string
		style ink.Ink
	}{{c.Errors, "━", ink.Madder}, {c.Warnings, "╍", ink.Ochre}, {c.Notes, "┄", ink.Slate}} {
		cells := part.n * barCells / of
		if part.n > 0 {
			cells = max(1, cells)
		}
		r.Put(strings.Repeat(part.sign, cells), part.style)
	}
}

// where is the place of a problem as its row shows it, and the width of its column.
func (p *tallyPage) where(row *problemRow) (where string, wide int) {
	q := row.p
	line, _ := p.placeNow(row)
	switch {
	case q.Column > 0:
		where = fmt.Sprintf("%d:%d", line, q.Column)
	case q.Line > 0:
		where = fmt.Sprint(line)
	}
	if p.order == tallyByFile && row.run != nil {
		return where, 8
	}
	wide = max(20, p.listWidth()/4)
	return strings.TrimSuffix(ink.ShortPath(clean(q.File), wide-1-len(where))+":"+where, ":"), wide
}

// openedRows are the lines under the chosen problem, as they were last made.
type openedRows struct {
	of    openedOf
	lines []string
}

type openedOf struct {
	p             *problem.Problem
	width, height int
	dark          bool
	kept          bool // the run is in the history, which knows since when the problem is there
	coloured      int64
}

// openedLines are the lines under the chosen problem: the rest of its message, the
// source, and the places that belong to it.
func (p *tallyPage) openedLines(row *problemRow) []string {
	of := openedOf{row.p, p.listWidth(), p.height, p.ink.Dark, row.life != nil, p.sources.coloured.Load()}
	if p.opened.of != of {
		p.opened = openedRows{of, p.openLines(row)}
	}
	return p.opened.lines
}

func (p *tallyPage) openLines(row *problemRow) (out []string) {
	q := row.p
	line, moved := p.placeNow(row)
	bar, width := p.barColumn(), p.listWidth()
	indent := bar + 12
	if width < 100 {
		indent = bar + 4
	}
	put := func(text string, style ink.Ink) {
		out = append(out, p.ink.Row(width).To(indent).Put(text, style).String())
	}
	for i, l := range strings.Split(q.Message, "\n") {
		if l = clean(l); i == 0 && ansi.StringWidth(l) <= width-bar-22 {
			continue // the row has it whole
		}
		for _, part := range wrap(strings.TrimSpace(l), width-indent-2) {
			put(part, ink.Plain)
		}
	}
	if life := p.life(row); life != "" {
		put(life, ink.Slate)
	}
	if q.FoundByName {
		put("found by its name: the output says only "+filepath.Base(q.File), ink.Slate)
	}
	if len(q.MayBe) > 0 {
		put("the file is not there; it may be "+strings.Join(q.MayBe, " or "), ink.Ochre)
	}
	if moved != "" {
		put(moved, ink.Ochre)
	}
	at := q.Place
	at.Line, at.EndLine = line, max(0, at.EndLine+line-q.Line)
	out = append(out, p.sources.excerpt(at, q.Message, family.All.Columns(q.Family), indent, width, row.state)...)
	for i, rel := range q.Related {
		if i == maxRelated {
			put("and "+plural(len(q.Related)-i, "more place"), ink.Slate)
			break
		}
		r := p.ink.Row(width).To(indent-5).Put("see  ", ink.Slate)
		r.Put(ink.ShortPath(clean(rel.Place.String()), width/2), ink.Plain).Put("   "+strings.Join(strings.Fields(rel.Message), " "), ink.Slate)
		out = append(out, r.String())
	}
	if len(out) > 0 {
		out = append(out, "")
	}
	return out[:min(len(out), max(3, p.listHeight()-2))]
}

// life says since when a problem is known, from the history.
func (p *tallyPage) life(row *problemRow) string {
	l, store := row.life, p.session.Store()
	if l == nil || l.Seen < 2 || store == nil {
		return ""
	}
	first, err := store.Run(l.First)
	if err != nil {
		return fmt.Sprintf("in the last %d runs", l.Seen)
	}
	text := fmt.Sprintf("in the last %d runs; first %s", l.Seen, onDay(first.Start.Local(), p.now.Local()))
	if first.Commit != "" {
		text += " (" + first.Commit[:min(7, len(first.Commit))] + ")"
	}
	return text
}

// onDay says when something was: the time of today, or else the day.
func onDay(when, now time.Time) string {
	switch {
	case when.YearDay() == now.YearDay() && when.Year() == now.Year():
		return "at " + when.Format("15:04")
	case when.Year() == now.Year():
		return "on " + when.Format("2 January")
	}
	return "on " + when.Format("2 January 2006")
}

// leastWrap is the width in cells below which text is not wrapped.
const leastWrap = 20

func wrap(s string, columns int) []string {
	return strings.Split(ansi.Wrap(s, max(leastWrap, columns), ""), "\n")
}

// outputOf shows the lines of output that a problem came from.
func (p *tallyPage) outputOf(row *problemRow, count int) []string {
	if row.run == nil {
		return []string{p.row().Put("found by the survey, in no output", ink.Slate).String()}
	}
	if row.state == problem.NotChecked {
		return []string{p.row().Put("not checked this time: the run did not compile or check its file again", ink.Slate).String()}
	}
	if row.printed == nil {
		return []string{p.row().Put("gone: this run no longer reports it", ink.Slate).String()}
	}
	var lines []string
	row.run.Output(func(x *output.Index) {
		first, last := x.LineAt(row.printed.Output.StartByte), x.LineAt(max(0, row.printed.Output.EndByte-1))
		lines = append(lines, p.row().Put(fmt.Sprintf("output, line %d of %d", first+1, x.Printed()), ink.Slate).String())
		for i := max(0, first-1); i < x.Lines() && len(lines) < count && i <= last+1; i++ {
			lines = append(lines, p.outputLine(x.Line(i), i, outputMarks{}))
		}
	})
	return lines
}
