package tui

import (
	"strings"

	"tidytally/tui/ink"
)

// draftHead is the number of rows above the values.
const draftHead = 2

// listHeight is the number of rows of the values.
func (p *draftPage) listHeight() int { return max(1, p.bodyHeight()-draftHead-p.linesHeight()) }

// linesHeight is the number of rows of what will be written, with the rule above.
func (p *draftPage) linesHeight() int { return max(5, p.bodyHeight()*2/5) }

func (p *draftPage) body() []string {
	if len(p.asks) > 0 {
		a := p.asks[0]
		r := p.row().To(4).Put(a.Name+" ", ink.Bold)
		p.edit.show(r, p.width-r.At()-2)
		return []string{"", p.row().To(4).Put(p.offer.Name+": "+a.About, ink.Slate).String(), "", r.String()}
	}
	if p.draft == nil {
		return p.paragraph("No task is being written: n on the page tasks begins one, C copies the chosen one, E changes it.")
	}
	into := "it will stand in "
	if !p.draft.New() {
		into = "what differs will stand in "
	}
	lines := []string{p.row().Put(into, ink.Slate).Put(shownFile(p.files[p.file]), ink.Plain).String(), ""}
	rows := p.rows()
	const value = 20
	for i := p.top; i < min(len(rows), p.top+p.listHeight()); i++ {
		row := &rows[i]
		r := p.row().To(4)
		label := ink.Slate
		if row.set {
			label = ink.Plain
		}
		r.Put(row.key.Name, label).To(value)
		switch {
		case i == p.chosen && p.typing:
			p.edit.show(r, p.width-value-2)
		case i == p.chosen && row.set:
			r.Put(row.typed, ink.Reverse)
		case row.set:
			r.Put(row.typed, ink.Plain)
		case i == p.chosen:
			r.Put("–", ink.Reverse).Put("  "+row.key.About, ink.Slate)
		default:
			r.Put("–  "+row.key.About, ink.Slate)
		}
		lines = append(lines, r.String())
	}
	for len(lines) < draftHead+p.listHeight() {
		lines = append(lines, "")
	}
	_, below := edgesOf(p.top, p.listHeight(), len(rows))
	lines = append(lines, p.rule(below))
	for _, l := range p.outcome() {
		if len(lines) < p.bodyHeight() {
			lines = append(lines, l)
		}
	}
	return lines
}

// shownFile names a tally file; the user's own by what it is.
func shownFile(file string) string {
	if strings.HasPrefix(file, "/") {
		return file + " (your own, for every workspace)"
	}
	return file
}

// outcome shows the lines that will be written, and what will run then.
func (p *draftPage) outcome() (lines []string) {
	text := p.draft.Lines()
	if text == "" {
		text = "nothing differs from what is declared"
	}
	will := p.label(p.width, "will run", ink.Slate)
	t, err := p.draft.Task(p.files[p.file])
	switch {
	case err != nil:
		will.Put(err.Error(), ink.Madder)
	case t == nil:
		will.Put("nothing by itself: tasks run through it with via", ink.Slate)
	default:
		ctx := p.session.Context()
		if prepared, err := ctx.Prepare(t, nil); err != nil {
			will.Put(err.Error(), ink.Ochre)
		} else {
			will.Put(prepared.Display, ink.Bold)
			if t.Dir != "." {
				will.Put("   in "+t.Dir, ink.Slate)
			}
		}
	}
	lines = append(lines, will.String())
	for i, l := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		name := ""
		if i == 0 {
			name = "writes"
		}
		lines = append(lines, p.label(p.width, name, ink.Slate).Put(l, ink.Plain).String())
	}
	return lines
}
