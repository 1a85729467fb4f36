package tui

import (
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/run"
	"tidytally/core/task"
	"tidytally/tui/ink"
)

const valuesName = "values"

// valuesPage shows every value of the chosen task with its origin.
type valuesPage struct {
	*desk
	plainPage
	rows   []valueRow
	chosen int
	top    int
}

func newValuesPage(d *desk) *valuesPage { return &valuesPage{desk: d} }

func (p *valuesPage) name() string { return valuesName }

func (p *valuesPage) goes() key {
	return key{names: []string{"tab"}, label: valuesName, help: "every value of the task with its origin, and back", on: []string{tasksName}, late: true, ofRow: true}
}

func (p *valuesPage) keys() []key {
	return []key{
		{names: []string{"enter", "e"}, label: "open in editor", help: "open the editor where the value comes from, or go to the task that is called", ofRow: true, act: p.open},
	}
}

type valueRow struct {
	field string
	text  string
	from  task.Origin
	goes  string // the id of a task that the row leads to
}

func (p *valuesPage) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case surveyedMsg, tea.WindowSizeMsg:
		p.fill()
	case pageMsg:
		if msg.name == valuesName {
			p.chosen, p.top = 0, 0
			p.fill()
		}
	}
	return nil
}

// fill makes the rows: when the page opens, and after a survey.
func (p *valuesPage) fill() {
	p.rows = p.rows[:0]
	t := p.task
	if t == nil || p.snap.Survey == nil {
		return
	}
	for _, value := range p.snap.Survey.Values(t) {
		for i, text := range strings.Split(value.Text, "\n") {
			for j, part := range wrap(clean(text), p.originColumn()-valueColumn-2) {
				row := valueRow{text: part, from: value.Origin}
				if i+j == 0 {
					row.field = value.Field
				} else if row.from.Line > 0 || j > 0 {
					row.from = task.Origin{}
				}
				p.rows = append(p.rows, row)
			}
		}
	}
	for i, c := range p.snap.Survey.Calls(t) {
		row := valueRow{text: c.Text, goes: c.ID}
		if i == 0 {
			row.field = "calls"
		}
		if c.Hook != "" {
			row.text += "  (" + c.Hook + " it)"
		}
		p.rows = append(p.rows, row)
	}
}

func (p *valuesPage) move(rows int)   { p.chosen += rows }
func (p *valuesPage) scroll(rows int) { p.chosen += rows }

func (p *valuesPage) clamp() {
	p.chosen = max(0, min(p.chosen, len(p.rows)-1))
	p.top = scrollTo(p.top, p.bodyHeight()-1, len(p.rows), p.chosen)
}

func (p *valuesPage) click(row int) bool {
	at := p.top + row - 1
	if row < 1 || at >= len(p.rows) {
		return false
	}
	p.chosen = at
	return true
}

func (p *valuesPage) edges() (above, below int) { return edgesOf(p.top, p.bodyHeight()-1, len(p.rows)) }

func (p *valuesPage) subject() *run.Run { return p.lastOfChosen() }

func (p *valuesPage) heading(r *ink.Row) {
	r.Put("  "+valuesName, ink.Plain)
	if p.task != nil {
		r.Put(" of ", ink.Plain).Put(p.task.ShownID(), ink.Bold)
	}
	if note := "where each comes from"; r.At()+3+len(note) < p.width {
		r.Right(note, p.width-1, ink.Slate)
	}
}

// valueColumn is where the values stand, and originColumn where their origins do, in cells.
const valueColumn = 14

func (p *valuesPage) originColumn() int { return max(40, p.width*9/20) }

func (p *valuesPage) body() []string {
	if p.task == nil {
		return p.paragraph("No task is chosen.")[1:]
	}
	lines := []string{""}
	from := p.originColumn()
	for i := p.top; i < min(len(p.rows), p.top+p.bodyHeight()-1); i++ {
		row := p.rows[i]
		r := p.row().To(2).Put(row.field, ink.Slate).To(valueColumn)
		style := ink.Plain
		if i == p.chosen {
			style = ink.Reverse
		}
		r.Fit(row.text, from-valueColumn-2, style).To(from)
		switch {
		case row.goes != "":
			file, name := task.SplitID(row.goes)
			r.Put("task ", ink.Slate).Put(file+"#"+name, ink.Plain)
		case row.from.File != "":
			manner := ink.Slate
			if row.from.Manner == task.Adjusted {
				manner = ink.Ochre
			}
			r.Put(ink.ShortPath(clean(placeOf(row.from)), (p.width-from)*2/3), ink.Plain).Put("  "+string(row.from.Manner), manner)
			if row.from.Note != "" {
				r.Put("  "+row.from.Note, ink.Slate)
			}
		}
		lines = append(lines, r.String())
	}
	return lines
}

// open opens the editor at the origin of the chosen value, or goes to the task that
// a call leads to.
func (p *valuesPage) open() tea.Cmd {
	if p.chosen >= len(p.rows) {
		return nil
	}
	row := p.rows[p.chosen]
	if row.goes != "" {
		cmd := p.tell(wantTaskMsg{row.goes})
		p.chosen, p.top = 0, 0
		p.fill()
		return cmd
	}
	if row.from.File == "" {
		return nil
	}
	return p.openEditor(filepath.FromSlash(row.from.File), row.from.Line, row.from.Column)
}
