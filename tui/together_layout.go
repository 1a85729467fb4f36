package tui

import (
	"strings"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/output"
	"tidytally/core/run"
	"tidytally/tui/ink"
)

const (
	togetherHead = 2  // rows above the text
	leastColumn  = 34 // cells
	columnGap    = 3
)

func (p *togetherPage) textHeight() int { return max(1, p.bodyHeight()-togetherHead) }

// columnCount is how many columns fit.
func (p *togetherPage) columnCount() int {
	return max(1, min(len(p.runs), (p.width+columnGap)/(leastColumn+columnGap)))
}

func (p *togetherPage) heading(r *ink.Row) {
	r.Put("  "+togetherName, ink.Plain)
	if p.job != nil {
		s := p.job.Main.Snapshot()
		r.Put(": the steps of ", ink.Plain).Put(shortID(p.job.Plan.Task), ink.Bold).Put("   ", ink.Plain).Put(p.since(&s), stateInk(&s))
	}
	words := plural(len(p.runs), "run")
	if n := p.columnCount(); !p.woven && n < len(p.runs) {
		words += ", more with the right arrow"
	}
	r.Right(words, p.width-1, ink.Slate)
}

func (p *togetherPage) body() []string {
	switch {
	case len(p.runs) == 0:
		return p.paragraph(noRunYet)
	case p.woven:
		return p.wovenBody()
	}
	n := p.columnCount()
	width := (p.width+columnGap)/n - columnGap
	columns := make([][]string, n)
	for i := range columns {
		columns[i] = p.columnLines(p.runs[p.first+i], width, p.first+i == p.chosen)
	}
	lines := make([]string, togetherHead+p.textHeight())
	for row := range lines {
		var b strings.Builder
		for i, c := range columns {
			text := c[row]
			b.WriteString(text)
			if i < n-1 {
				b.WriteString(strings.Repeat(" ", max(0, width-ansi.StringWidth(text))))
				b.WriteString(p.ink.Write(" ¦ ", ink.Slate))
			}
		}
		lines[row] = b.String()
	}
	return lines
}

// columnLines are the rows of one run: who it is, and the end of its output.
func (p *togetherPage) columnLines(of *run.Run, width int, chosen bool) []string {
	s := of.Snapshot()
	style := ink.Bold
	if chosen {
		style = ink.Bold | ink.Reverse
	}
	head := p.ink.Row(width)
	state := p.since(&s)
	worst := p.session.Verdict(of).Count
	name := ansi.Truncate(clean(shortID(s.Prepared.Task)), max(8, width-ansi.StringWidth(state)-10), "…")
	head.Put(name, style).Put("  ", ink.Plain).Put(state, stateInk(&s))
	if worst.Errors+worst.Warnings > 0 && head.At() < width-6 {
		worstStrokes(head, worst, width-1)
	}
	lines := []string{head.String(), ""}
	height := p.textHeight()
	of.Output(func(x *output.Index) {
		n := x.Printed()
		from := max(0, n-height-p.back[of])
		for i := from; i < min(n, from+height); i++ {
			lines = append(lines, p.textLine(x.Line(i), width))
		}
	})
	for len(lines) < togetherHead+height {
		lines = append(lines, "")
	}
	return lines
}

// textLine writes a line of output into so many cells.
func (p *togetherPage) textLine(text output.Text, width int) string {
	line, n := p.cells(text.Cells, width, nil)
	if n < ansi.StringWidth(text.Plain) && n > 0 {
		if n == width {
			line, _ = p.cells(text.Cells, width-1, nil)
		}
		line += p.ink.Write("…", ink.Slate)
	}
	return line
}

// wovenBody are the rows of the outputs woven into one.
func (p *togetherPage) wovenBody() []string {
	r := p.row()
	for i, of := range p.runs {
		s := of.Snapshot()
		if i > 0 {
			r.Put("   ", ink.Plain)
		}
		r.Put(s.Prepared.Task.Name, ink.Bold).Put(" "+p.since(&s), stateInk(&s))
	}
	lines := []string{r.String(), ""}
	height := p.textHeight()
	p.job.Woven(func(x *output.Index) {
		n := x.Printed()
		from := max(0, n-height-p.backWoven)
		for i := from; i < min(n, from+height); i++ {
			lines = append(lines, p.textLine(x.Line(i), p.width))
		}
	})
	return lines
}
