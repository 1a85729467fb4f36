package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"tidytally/tui/ink"
)

// choice is a question with a few answers, laid over the page until one is chosen.
type choice struct {
	question string
	answers  []answer
	chosen   int
}

type answer struct {
	text  string
	about string
	act   func() tea.Cmd
}

// choiceHead is the number of rows above the answers, and choiceRest how many of
// the body are not theirs.
const (
	choiceHead = 3
	choiceRest = 5
)

// ask lays a question over the page.
func (m *Model) ask(question string, answers ...answer) tea.Cmd {
	m.choice = &choice{question: question, answers: answers}
	return nil
}

func (c *choice) keys() []key {
	return []key{
		{names: []string{"enter"}, label: "choose"},
		{names: []string{"1"}, label: fmt.Sprintf("to %d choose at once", min(9, len(c.answers)))},
		{names: []string{"esc"}, label: "cancel"},
	}
}

// answer takes a key for the question that is open.
func (m *Model) answer(name string) tea.Cmd {
	c := m.choice
	switch name {
	case "up":
		c.chosen = max(0, c.chosen-1)
	case "down":
		c.chosen = min(len(c.answers)-1, c.chosen+1)
	case "esc", "q", "ctrl+c":
		m.choice = nil
	case "enter":
		m.choice = nil
		return c.answers[c.chosen].act()
	default:
		if n := int(name[0] - '1'); len(name) == 1 && n >= 0 && n < len(c.answers) {
			m.choice = nil
			return c.answers[n].act()
		}
	}
	return nil
}

// top is the first answer shown.
func (c *choice) top(body int) int {
	return scrollTo(0, max(1, body-choiceRest), len(c.answers), c.chosen)
}

func (c *choice) body(d *desk) []string {
	lines := []string{"", d.row().To(4).Put(c.question, ink.Bold).String(), ""}
	top := c.top(d.bodyHeight())
	for i := top; i < min(len(c.answers), top+max(1, d.bodyHeight()-choiceRest)); i++ {
		style := ink.Plain
		if i == c.chosen {
			style = ink.Reverse
		}
		a := c.answers[i]
		r := d.row().To(4)
		if i < 9 {
			r.Put(string(rune('1'+i)), ink.Slate)
		}
		half := max(30, d.width*9/20)
		r.To(8).Fit(ink.ShortPath(clean(a.text), half-10), half-9, style).To(half).Put(a.about, ink.Slate)
		lines = append(lines, r.String())
	}
	return lines
}

// click chooses the answer on a row, and reports whether there is one.
func (c *choice) click(row, body int) bool {
	i := row - choiceHead + c.top(body)
	if row < choiceHead || i >= len(c.answers) {
		return false
	}
	c.chosen = i
	return true
}
