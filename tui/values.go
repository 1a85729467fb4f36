package tui

import (
	"path/filepath"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/survey"
	"tidytally/core/task"
)

// valuesView is the state of the page of one task's values, each with its
// origin; a value is chosen to open the place that it comes from.
type valuesView struct {
	rows   []valueRow
	chosen int
	top    int
}

type valueRow struct {
	field string
	text  string
	from  task.Origin
	goes  string // the id of a task that the row leads to
}

// fillValues makes the rows anew: when the page opens, and after a survey.
func (m *Model) fillValues() {
	v := &m.values
	t := m.tasks.current()
	if t == nil {
		v.rows = nil
		return
	}
	v.rows = v.rows[:0]
	for _, value := range survey.Values(t) {
		for i, text := range strings.Split(value.Text, "\n") {
			row := valueRow{text: text, from: value.Origin}
			if i == 0 {
				row.field = value.Field
			} else if row.from.Line > 0 {
				row.from = task.Origin{}
			}
			v.rows = append(v.rows, row)
		}
	}
	for i, c := range m.survey.Calls(t) {
		row := valueRow{text: c.Text, goes: c.ID}
		if i == 0 {
			row.field = "calls"
		}
		if c.Hook != "" {
			row.text += "  (" + c.Hook + " it)"
		}
		v.rows = append(v.rows, row)
	}
}

func (v *valuesView) clamp(m *Model) {
	v.chosen = max(0, min(v.chosen, len(v.rows)-1))
	v.top = scrollTo(v.top, m.bodyHeight()-1, len(v.rows), v.chosen)
}

func (m *Model) valuesBody() []string {
	v := &m.values
	if m.tasks.current() == nil {
		return []string{"", m.ink.row(m.width).to(4).put("No task is chosen.", Plain).String()}
	}
	lines := []string{""}
	text := 14
	from := max(40, m.width*9/20)
	for i := v.top; i < min(len(v.rows), v.top+m.bodyHeight()-1); i++ {
		row := v.rows[i]
		r := m.ink.row(m.width).to(2).put(row.field, Slate).to(text)
		ink := Plain
		if i == v.chosen {
			ink = Reverse
		}
		r.fit(clean(row.text), from-text-2, ink).to(from)
		switch {
		case row.goes != "":
			r.put("task ", Slate).put(clean(row.goes), Plain)
		case row.from.File != "":
			manner := Slate
			if row.from.Manner == task.Adjusted {
				manner = Ochre
			}
			r.put(shortPath(clean(place(row.from)), (m.width-from)*2/3), Plain).put("  "+string(row.from.Manner), manner)
			if row.from.Note != "" {
				r.put("  "+clean(row.from.Note), Slate)
			}
		}
		lines = append(lines, r.String())
	}
	return lines
}

// openValue opens the editor at the origin of the chosen value, or goes to the
// task that a call leads to.
func (m *Model) openValue() tea.Cmd {
	v := &m.values
	if v.chosen >= len(v.rows) {
		return nil
	}
	row := v.rows[v.chosen]
	if row.goes != "" {
		m.tasks.find = input{}
		m.arrange()
		for i, r := range m.tasks.tasks {
			if t := m.tasks.rows[r].task; t != nil && t.ID() == row.goes {
				m.tasks.chosen = i
			}
		}
		v.chosen, v.top = 0, 0
		m.fillValues()
		m.clamp()
		return nil
	}
	if row.from.File == "" {
		return nil
	}
	return m.openEditor(filepath.FromSlash(row.from.File), row.from.Line, row.from.Column)
}

func (v *valuesView) click(row int) bool {
	if at := v.top + row - 1; row >= 1 && at < len(v.rows) {
		v.chosen = at
		return true
	}
	return false
}
