package tui

import (
	"bytes"
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/history"
	"tidytally/core/printable"
	"tidytally/core/task"
	"tidytally/tui/ink"
)

const (
	historyHead = 2
	historyBar  = 9
	// mostDetails and leastDetails are the rows below the list; leastRuns those of the list.
	mostDetails, leastDetails = 9, 4
	leastRuns                 = 5
)

func (p *historyPage) edges() (above, below int) { return p.top, 0 }

func (p *historyPage) listHeight() int { return max(1, p.bodyHeight()-historyHead-p.detailsHeight()) }

// detailsHeight is the number of rows below the list: the list goes first.
func (p *historyPage) detailsHeight() int {
	rows := min(mostDetails, p.bodyHeight()-historyHead-leastRuns)
	if rows < leastDetails {
		return 0
	}
	return rows
}

func (p *historyPage) heading(r *ink.Row) {
	r.Put("  "+historyName, ink.Plain)
	if p.session.Store() != nil {
		r.Right(plural(len(p.runs), "run")+" kept", p.width-1, ink.Slate)
	}
}

func (p *historyPage) body() []string {
	r := p.row().Put("find ", ink.Slate)
	half := max(20, p.width*3/10)
	if p.finding {
		p.find.show(r, half-6)
	} else {
		r.Fit(p.find.String(), half-6, ink.Plain)
	}
	words := fmt.Sprintf("%d of %s shown", len(p.places), plural(len(p.runs), "run"))
	r.To(half).Put(words, ink.Slate)
	lines := []string{r.String(), ""}
	if len(p.places) == 0 {
		text := "Nothing matches the filter; esc clears it."
		switch {
		case p.session.Store() == nil:
			text = "The history is not open."
		case !p.read:
			text = "It is being read."
		case len(p.runs) == 0:
			text = "Nothing was run here yet: choose a task on the page tasks (t) and press enter."
		}
		return append(lines, p.row().To(4).Put(text, ink.Plain).String())
	}
	names, args := 10, 0
	last := min(len(p.rows), p.top+p.listHeight())
	for _, row := range p.rows[p.top:last] {
		if row.run != nil {
			names = max(names, ansi.StringWidth(shownTask(row.run))+2)
			args = max(args, ansi.StringWidth(clean(task.QuoteArguments(row.run.Args)))+2)
		}
	}
	names = min(names, p.width*2/5)
	args = min(args, max(0, p.width-names-70))
	labels := make([]string, last-p.top)
	for i, row := range p.rows[p.top:last] {
		if row.run != nil {
			labels[i] = shownTask(row.run)
		}
	}
	labels = ink.Distinct(labels, names-1)
	for i := p.top; i < last; i++ {
		lines = append(lines, p.line(&p.rows[i], labels[i-p.top], names, args))
	}
	for len(lines) < historyHead+p.listHeight() {
		lines = append(lines, "")
	}
	return append(lines, p.detailLines()...)
}

// shownTask is the short id of a run's task.
func shownTask(r *history.Run) string {
	file, name := task.SplitID(r.Task)
	return clean(shortID(&task.Task{File: file, Name: name}))
}

func (p *historyPage) line(row *historyRow, label string, names, args int) string {
	r := p.row()
	if row.run == nil {
		return r.To(historyBar+2).Put(row.head, ink.Bold).String()
	}
	of := row.run
	worstStrokes(r, of.Count, historyBar-1)
	r.To(historyBar).Put("¦ ", ink.Slate)
	style := ink.Plain
	if of == p.current() {
		style = ink.Reverse
	}
	mark := "  "
	if p.compare != nil && p.compare.ID == of.ID {
		mark = "= "
	}
	when := of.Start.Format("15:04")
	if p.byTask {
		when = fmt.Sprintf("%12s", of.Start.Format("2 Jan 15:04"))
	}
	r.Put(when+" "+mark, ink.Slate)
	r.Fit(label, names, style)
	if args > 0 {
		r.Fit(clean(task.QuoteArguments(of.Args)), args, ink.Slate)
	}
	r.Fit(of.Words(), 14, pastInk(of))
	r.Right(printable.Duration(of.Elapsed(p.now)), r.At()+10, ink.Plain)
	balance := ""
	if of.Balance.New+of.Balance.Gone > 0 {
		balance = fmt.Sprintf("+%d -%d", of.Balance.New, of.Balance.Gone)
	}
	r.To(r.At()+2).Fit(balance, 10, ink.Plain)
	r.Put(commitWords(of), ink.Slate)
	return r.String()
}

// commitWords is a short commit, with a dot where the tree had changes.
func commitWords(r *history.Run) string {
	text := r.Commit[:min(7, len(r.Commit))]
	if r.Dirty != nil && *r.Dirty {
		text += "·"
	}
	return text
}

// trendRuns is how many runs of a task its trend shows.
const trendRuns = 40

// detailLines describe the chosen run: how it went, and how the task's runs went before; or
// how it differs from the one that is marked.
func (p *historyPage) detailLines() []string {
	of := p.current()
	height := p.detailsHeight()
	if height == 0 {
		return nil
	}
	_, below := edgesOf(p.top, p.listHeight(), len(p.rows))
	lines := []string{p.rule(below)}
	if of == nil {
		return lines
	}
	add := func(name string, text string, style ink.Ink) {
		if text != "" && len(lines) < height {
			lines = append(lines, p.label(p.width, name, ink.Slate).Put(text, style).String())
		}
	}
	if p.compare != nil && p.compare.ID != of.ID {
		return append(lines, p.difference(p.compare, of)...)
	}
	r := p.row().Put(shownTask(of), ink.Bold).Put(fmt.Sprintf("   run %d, %s", of.ID, of.Start.Format("Monday 2 January 15:04:05")), ink.Slate)
	if of.Job != of.ID {
		r.Put(fmt.Sprintf("   %s run %d", of.Role, of.Job), ink.Slate)
	}
	lines = append(lines, r.String())
	add("ran", of.Command+"   in "+p.shownFolder(of.Dir), ink.Plain)
	if of.State == "running" {
		add("runs", "for "+printable.Duration(of.Elapsed(p.now))+" by now", ink.Plain)
		return lines
	}
	used := of.Words() + " after " + printable.Duration(of.Elapsed(p.now))
	if of.CPU > 0 {
		used += fmt.Sprintf(", %s of processor time, %d MB", printable.Duration(of.CPU), of.Memory>>20)
	}
	add("ended", used, pastInk(of))
	add("fault", of.Fault, ink.Madder)
	add("problems", fmt.Sprintf("%s: %d new, %d still there, %d gone, %d not checked", of.Count.With(of.Balance.NotChecked), of.Balance.New, of.Balance.Still, of.Balance.Gone, of.Balance.NotChecked), ink.Plain)
	if steps := p.stepsOf(of); len(steps) > 1 {
		return append(lines, p.timelineLines(steps, height-len(lines))...)
	}
	var took []float64
	var found []float64
	for i := range p.runs {
		if r := &p.runs[i]; r.Task == of.Task && r.State != "running" && len(took) < trendRuns {
			took = append([]float64{r.Elapsed(p.now).Seconds()}, took...)
			found = append([]float64{float64(r.Count.Total())}, found...)
		}
	}
	if len(took) > 1 {
		add("duration", fmt.Sprintf("%s  of %s, the latest at the right", bars(took), plural(len(took), "run")), ink.Plain)
		if strings.Trim(bars(found), " ▁") != "" {
			add("problems", bars(found), ink.Plain)
		}
	}
	return lines
}

// timelineLines draw when the steps of a run began and ended, the first one first.
func (p *historyPage) timelineLines(steps []*history.Run, most int) (lines []string) {
	first, last := steps[0].Start, steps[0].Start
	names := 0
	for _, s := range steps {
		if s.Start.Before(first) {
			first = s.Start
		}
		if end := s.Start.Add(s.Elapsed(p.now)); end.After(last) {
			last = end
		}
		names = max(names, ansi.StringWidth(shownTask(s)))
	}
	names = min(names, p.width/3)
	room := max(10, p.width-names-40)
	whole := max(last.Sub(first).Seconds(), 0.001)
	for _, s := range slices.Backward(steps) {
		if len(lines) == most {
			break
		}
		from := int(s.Start.Sub(first).Seconds() / whole * float64(room))
		width := max(1, int(s.Elapsed(p.now).Seconds()/whole*float64(room)))
		r := p.row().To(2).Fit(ansi.Truncate(shownTask(s), names, "…"), names+2, ink.Slate)
		r.To(r.At()+from).Put(strings.Repeat("█", width), pastInk(s))
		r.To(r.At()+1).Put(printable.Duration(s.Elapsed(p.now))+"  "+s.Words(), ink.Slate)
		lines = append(lines, r.String())
	}
	return lines
}

// bars draws values as small bars, scaled to the largest.
func bars(values []float64) string {
	const steps = "▁▂▃▄▅▆▇█"
	all := []rune(steps)
	most := 0.0
	for _, v := range values {
		most = max(most, v)
	}
	var b strings.Builder
	for _, v := range values {
		i := 0
		if most > 0 {
			i = int(v / most * float64(len(all)-1))
		}
		b.WriteRune(all[i])
	}
	return b.String()
}

// difference says how two runs differ: time, problems, and the first line of output where they
// part.
func (p *historyPage) difference(a, b *history.Run) (lines []string) {
	if a.ID > b.ID {
		a, b = b, a
	}
	add := func(name, text string, style ink.Ink) {
		lines = append(lines, p.label(p.width, name, ink.Slate).Put(text, style).String())
	}
	lines = append(lines, p.row().Put(fmt.Sprintf("run %d against run %d", b.ID, a.ID), ink.Bold).Put("   "+shownTask(b), ink.Slate).String())
	change := b.Elapsed(p.now) - a.Elapsed(p.now)
	sign := "+"
	if change < 0 {
		sign, change = "-", -change
	}
	add("time", fmt.Sprintf("%s, before %s: %s%s", printable.Duration(b.Elapsed(p.now)), printable.Duration(a.Elapsed(p.now)), sign, printable.Duration(change)), ink.Plain)
	if a.Command != b.Command {
		add("command", b.Command, ink.Ochre)
		add("before", a.Command, ink.Ochre)
	}
	if p.session.Store() == nil {
		return lines
	}
	before, err := p.session.Store().Lives(a.ID)
	after, err2 := p.session.Store().Lives(b.ID)
	if err == nil && err2 == nil {
		v := history.Judge(0, history.Known{Lives: before}, history.Problems(after), nil)
		add("problems", fmt.Sprintf("%d, before %d: %d new, %d gone", len(after), len(before), v.New, len(v.Gone)), ink.Plain)
	}
	x, _, _, err := p.session.Store().Output(a.ID)
	y, _, _, err2 := p.session.Store().Output(b.ID)
	if err == nil && err2 == nil {
		if bytes.Equal(x, y) {
			add("output", "the same, to the byte", ink.Plain)
		} else {
			n, old, now := firstDifference(x, y)
			add("output", fmt.Sprintf("parts at line %d:", n), ink.Plain)
			add("  now", now, ink.Plain)
			add("  before", old, ink.Slate)
		}
	}
	return lines[:min(len(lines), p.detailsHeight()-1)]
}

// firstDifference returns the number of the first line in which two outputs differ, and that line
// of each.
func firstDifference(x, y []byte) (number int, old, now string) {
	for number = 1; ; number++ {
		a, restX, moreX := bytes.Cut(x, []byte("\n"))
		b, restY, moreY := bytes.Cut(y, []byte("\n"))
		if !bytes.Equal(a, b) || moreX != moreY || !moreX {
			plain := func(line []byte) string { return strings.TrimSuffix(ansi.Strip(string(line)), "\r") } // lines of a terminal end with it
			return number, plain(a), plain(b)
		}
		x, y = restX, restY
	}
}
