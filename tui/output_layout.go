package tui

import (
	"fmt"
	"strings"

	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/tui/ink"
)

const (
	// outputMargin is the width of the margin column in cells: the mark and the
	// line's number.
	outputMargin = 9
	// outputHead is the number of rows above the text.
	outputHead = 2
)

// textColumns is the width of the text, for which tasks lay out what they print.
func (p *outputPage) textColumns() int { return max(20, p.width-outputMargin-1) }

// textHeight is the number of lines in view.
func (p *outputPage) textHeight() int { return max(1, p.bodyHeight()-outputHead) }

func (p *outputPage) heading(r *ink.Row) {
	right := ""
	if p.width >= narrow || p.lines > p.textHeight() {
		right = p.placeWords()
	}
	p.runHeading(r, outputName, right)
}

func (p *outputPage) edges() (above, below int) { return edgesOf(p.top, p.textHeight(), p.lines) }

// placeWords says which part of the output is in view.
func (p *outputPage) placeWords() string {
	text := plural(p.lines, "line")
	if !p.follow && p.lines > p.textHeight() {
		text = fmt.Sprintf("line %d of %d", p.top+1, p.lines)
	} else if p.run != nil && !p.run.Snapshot().State.Ended() {
		text += ", followed"
	}
	return text
}

func (p *outputPage) body() []string {
	if p.run == nil {
		return p.paragraph(noRunYet)
	}
	r := p.row()
	switch {
	case p.writing:
		p.file.show(r.Put("write to ", ink.Slate), max(20, p.width/2))
	case p.finding:
		p.find.show(r.Put("find ", ink.Slate), max(20, p.width/2))
	default:
		r.Put("find ", ink.Slate).Put(p.find.String(), ink.Plain)
	}
	snap := p.run.Snapshot()
	if snap.Fault != "" {
		r.To(max(r.At()+3, p.width*3/10)).Put(snap.Fault, ink.Madder)
	} else if snap.Address != "" {
		r.To(max(r.At()+3, p.width*3/10)).Put("up at ", ink.Slate).Put(snap.Address, ink.Verdigris).Put("  "+snap.UpBy, ink.Slate)
	} else if snap.State == run.Up {
		r.To(max(r.At()+3, p.width*3/10)).Put("up "+snap.UpBy, ink.Slate)
	}
	switch {
	case p.typingTo() == p.run:
		text := "the keyboard is the task's"
		if p.run.Secret() {
			text += ", which does not show what is typed"
		}
		if n := p.run.Unread(); n > 0 {
			text += fmt.Sprintf("; %d bytes wait to be read", n)
		}
		r.To(max(r.At()+3, p.width*3/10)).Put(text, ink.Ochre)
	case snap.Asks:
		r.To(max(r.At()+3, p.width*3/10)).Put("it waits for input: i gives it the keyboard", ink.Ochre)
	}
	lines := []string{r.String(), ""}
	p.run.Output(func(x *output.Index) {
		marks := p.marks(x, snap.Problems)
		marks.passes = p.passes(x, snap.Passes)
		lines[1] = p.passLine(marks.passes, snap.Passes)
		// The run may have begun, or gone on, since the lines were counted.
		for i := p.top; i < min(p.lines, x.Lines(), p.top+p.textHeight()); i++ {
			lines = append(lines, p.outputLine(x.Line(i), i, marks))
		}
	})
	if p.lines == 0 && snap.State.Ended() && snap.Fault == "" {
		lines = append(lines, p.row().To(4).Put("It printed nothing.", ink.Slate).String())
	}
	return lines
}

// outputMarks are what the margin and the text of lines of output show.
type outputMarks struct {
	problems map[int]problem.Severity // the worst one of each line
	chosen   map[int]bool             // lines of the chosen problem
	find     string                   // what is looked for in the text
	passes   map[int]int              // the number of the pass that begins at a line
}

// passes finds the lines at which the passes of a run begin that is run again on change. The
// first pass has no mark.
func (p *outputPage) passes(x *output.Index, passes []run.Pass) map[int]int {
	at := map[int]int{}
	for _, pass := range passes {
		at[x.LineAt(pass.StartByte)] = pass.Number
	}
	return at
}

// passLine says what led to the pass that is last in view.
func (p *outputPage) passLine(at map[int]int, passes []run.Pass) string {
	number := 0
	for line, n := range at {
		if line < p.top+p.textHeight() {
			number = max(number, n)
		}
	}
	if number == 0 {
		return ""
	}
	pass := passes[number-passes[0].Number]
	text := fmt.Sprintf("pass %d at %s, as ", number, pass.Started.Format("15:04:05"))
	shown := pass.Changed[:min(len(pass.Changed), maxChanged)]
	text += strings.Join(shown, ", ")
	if more := len(pass.Changed) - len(shown); more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return p.row().To(outputMargin+1).Put(text+" changed", ink.Slate).String()
}

// maxChanged bounds the files that are named as the reason for a pass.
const maxChanged = 4

// marks finds the problems of the lines in view.
func (p *outputPage) marks(x *output.Index, problems []problem.Problem) outputMarks {
	m := outputMarks{problems: map[int]problem.Severity{}, chosen: map[int]bool{}, find: p.find.String()}
	first, last := x.StartOf(min(p.top, x.Lines()-1)), x.StartOf(min(p.top+p.textHeight(), x.Lines()-1))
	for i := range problems {
		q := &problems[i]
		if q.Output.StartByte < first || q.Output.StartByte > last {
			continue // out of view
		}
		at := x.LineAt(q.Output.StartByte)
		if s, ok := m.problems[at]; !ok || q.Severity < s {
			m.problems[at] = q.Severity
		}
	}
	if q := p.problem; q != nil && q.printed != nil {
		m.chosen[x.LineAt(q.printed.Output.StartByte)] = true
	}
	return m
}

// outputLine lays out a line of output, counted from 0.
func (d *desk) outputLine(text output.Text, i int, marks outputMarks) string {
	r := d.row()
	if s, ok := marks.problems[i]; ok {
		r.Put(s.String()[:1], severityInk(s)|ink.Bold)
	}
	style := ink.Slate
	if marks.chosen[i] {
		style = ink.Reverse
	}
	number := fmt.Sprint(i + 1)
	if n := marks.passes[i]; n > 0 {
		number, style = fmt.Sprintf("pass %d", n), style|ink.Bold
	}
	r.Right(number, outputMargin-2, style).Put(" ¦ ", ink.Slate)
	r.Styled(d.cells(text.Cells, r.Limit-r.At(), findHits(text.Plain, marks.find)))
	if text.Cut {
		r.Styled(d.ink.Write("…", ink.Slate), 1)
	}
	return r.String()
}

// findHits returns the bytes of a plain text that belong to hits of a search. Small
// letters match large ones too.
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

// cells writes cells of output in the tool's own colours, as far as they fit, and
// returns their width.
func (d *desk) cells(cells []output.Cell, columns int, hits map[int]bool) (text string, width int) {
	var b strings.Builder
	var style output.Style
	bytes := 0
	for _, c := range cells {
		if width+c.Width > columns {
			break
		}
		want := c.Style
		if d.ink.NoColour {
			want = output.Style{}
		}
		if hits[bytes] {
			want.Attributes |= output.Reversed
		}
		b.WriteString(want.From(style))
		style = want
		b.WriteString(c.Text)
		width += c.Width
		bytes += len(c.Text)
	}
	b.WriteString(output.Style{}.From(style))
	return b.String(), width
}
