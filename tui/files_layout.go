package tui

import (
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/tui/ink"
)

const (
	filesHead  = 3 // rows above the files
	besideHead = 2 // rows above two files beside each other
)

// roleWords say what a file was to the run.
var roleWords = map[learn.Role]string{
	learn.Made: "made", learn.Read: "read", learn.Runs: "executed", learn.Listed: "listed", learn.Missing: "looked for", learn.Removed: "removed",
}

func (p *filesPage) listHeight() int { return max(1, p.bodyHeight()-filesHead) }

func (p *filesPage) heading(r *ink.Row) {
	r.Put("  "+filesName, ink.Plain)
	if p.task == nil {
		return
	}
	r.Put(" of ", ink.Plain).Put(shortID(p.task), ink.Bold)
	if p.known != nil {
		if words := "of the run at " + printable.Moment(p.known.Started, p.now); r.At()+3+len(words) < p.width {
			r.Right(words, p.width-1, ink.Slate)
		}
	}
}

func (p *filesPage) body() []string {
	switch {
	case p.task == nil:
		return p.paragraph("No task is chosen: choose one on the page tasks (t).")
	case p.known == nil:
		return p.paragraph("It is not known what "+p.task.ShownID()+" reads and makes.", "",
			"L on the page tasks runs it once and watches it; learn = true in a tally file watches each of its runs;",
			"reads and makes in a tally file declare it.")
	case p.beside:
		return p.besideBody()
	}
	lines := []string{p.stateLine(), "", p.columnHeads()}
	for i := p.top; i < min(len(p.files), p.top+p.listHeight()); i++ {
		lines = append(lines, p.fileLine(i))
	}
	if len(p.files) == 0 {
		return append(lines, p.paragraph("none has changed since; c shows all")...)
	}
	return lines
}

// stateLine says whether the task is fresh, and how that is known.
func (p *filesPage) stateLine() string {
	r := p.row().To(2)
	switch {
	case p.look.State == plan.Fresh:
		r.Put("fresh", ink.Verdigris).Put(": nothing that it read has changed since "+printable.Moment(p.look.Since, p.now), ink.Plain)
	case p.look.Stale():
		r.Put("stale", ink.Ochre).Put(": "+strings.Join(p.look.Why, ", "), ink.Plain)
	case p.look.State == plan.Unknown:
		r.Put("unknown: "+strings.Join(p.look.Why, ", "), ink.Slate)
	}
	return r.Put("   "+fromWords(&p.look), ink.Slate).String()
}

// Columns of a file, in cells.
const (
	roleColumn  = 2
	pathColumn  = 14
	sizeColumn  = 12 // from the column of the state to the left
	ageColumn   = 16
	leastStates = 24
)

func (p *filesPage) stateColumn() int { return max(pathColumn+20, p.width-max(leastStates, p.width/3)) }

func (p *filesPage) columnHeads() string {
	at := p.stateColumn()
	return p.row().To(roleColumn).Put("it", ink.Slate).To(pathColumn).Put("file", ink.Slate).Right("bytes", at-ageColumn, ink.Slate).To(at-ageColumn+2).Put("written", ink.Slate).To(at).Put("since the run", ink.Slate).String()
}

func (p *filesPage) fileLine(i int) string {
	f, at := &p.files[i], p.stateColumn()
	r := p.row().To(roleColumn)
	if i == p.top || p.files[i-1].Role != f.Role {
		r.Put(roleWords[f.Role], ink.Slate)
	}
	style := ink.Plain
	if i == p.chosen {
		style = ink.Reverse
	}
	r.To(pathColumn).Put(ink.ShortPath(clean(f.Path), at-ageColumn-sizeColumn-pathColumn), style)
	if f.There && !f.Dir {
		r.Right(fmt.Sprint(f.Size), at-ageColumn, ink.Plain).To(at-ageColumn+2).Put(ago(f.Time, p.now), ink.Slate)
	}
	r.To(at)
	switch {
	case f.State != "":
		r.Put(strings.TrimSpace(strings.TrimPrefix(strings.TrimPrefix(f.State, f.Path), ", which it made,")), ink.Ochre)
	case f.Older:
		r.Put("stale: "+f.Source+" is newer", ink.Ochre)
	case f.Source != "":
		r.Put("of "+f.Source, ink.Slate)
	}
	return r.String()
}

// pair returns the chosen file and the one that is shown to its right: its source, or, of a file that was
// read, what was made of it.
func (p *filesPage) pair() (left, right string) {
	f := p.current()
	if f == nil {
		return "", ""
	}
	if f.Source != "" {
		return f.Path, f.Source
	}
	for _, g := range p.all {
		if g.Source == f.Path {
			return g.Path, f.Path
		}
	}
	return f.Path, ""
}

// longest is the number of lines of the longer of the two files.
func (p *filesPage) longest() int {
	left, right := p.pair()
	n := len(p.texts.read(left).lines)
	if right != "" {
		n = max(n, len(p.texts.read(right).lines))
	}
	return n
}

func (p *filesPage) besideBody() []string {
	left, right := p.pair()
	height := p.bodyHeight()
	if right == "" {
		return p.textOf(left, p.width, height)
	}
	width := (p.width - 3) / 2
	return p.sideBySide(p.textOf(left, width, height), width, p.textOf(right, p.width-width-3, height), height)
}

// textOf returns the lines of a file in view, below its name.
func (p *filesPage) textOf(file string, width, height int) []string {
	s := p.texts.read(file)
	head := p.ink.Row(width).Put(ink.ShortPath(clean(file), width-20), ink.Bold)
	for _, f := range p.all {
		if f.Path == file && f.There {
			words, style := "  "+ago(f.Time, p.now), ink.Slate
			if f.Older {
				words, style = "  stale", ink.Ochre
			}
			head.Put(words, style)
			break
		}
	}
	lines := []string{head.String(), ""}
	if s.fault != "" {
		return append(lines, p.ink.Row(width).Put(s.fault, ink.Slate).String())
	}
	p.texts.lex(s)
	digits := len(fmt.Sprint(len(s.lines)))
	for n := p.line; n < min(len(s.lines), p.line+height-besideHead); n++ {
		r := p.ink.Row(width).Right(fmt.Sprint(n+1), digits, ink.Slate).Put(" ¦ ", ink.Slate)
		s.write(r, n, -1, -1)
		lines = append(lines, ansi.Truncate(r.String(), width, "…"))
	}
	return lines
}
