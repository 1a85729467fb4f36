package tui

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/filter"
	"tidytally/tui/ink"
)

// choice is a question with a few answers, laid over the page until one is chosen.
type choice struct {
	question string
	answers  []answer
	chosen   int
	keyed    bool // about is the key that does the same without a question

	// Of many answers one is found by typing.
	find *field
	all  []answer
}

// maxFound is the number of answers that are offered of those that were found.
const maxFound = 200

// Field, Title and Rest make an answer a subject of a filter.
func (a answer) Field(string) ([]string, bool) { return nil, false }
func (a answer) Title() string                 { return a.text }
func (a answer) Rest() []string                { return []string{a.about} }

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
	choiceKey  = 11 // the cells of an answer's own key
)

// ask lays a question over the page.
func (m *Model) ask(question string, answers ...answer) tea.Cmd {
	m.choice = &choice{question: question, answers: answers}
	return nil
}

// askAmong lays a question with many answers over the page, of which one is found by typing.
func (m *Model) askAmong(question string, all []answer) tea.Cmd {
	c := &choice{question: question, all: all}
	act := func(name string) func() tea.Cmd { return func() tea.Cmd { return m.answer(name) } }
	find := newField("",
		key{names: []string{"enter"}, label: "choose", act: act("enter")},
		key{names: []string{"esc", "ctrl+c"}, label: "cancel", act: act("esc")},
		key{names: []string{"up"}, act: act("up")},
		key{names: []string{"down"}, act: act("down")})
	find.changed = c.look
	c.find = &find
	c.look()
	m.choice = c
	return nil
}

// look finds the answers that have what was typed.
func (c *choice) look() {
	q := filter.Parse(c.find.String())
	type found struct {
		answer
		score int
	}
	var hits []found
	for _, a := range c.all {
		if score, _, ok := q.Match(a); ok {
			hits = append(hits, found{a, score})
		}
	}
	slices.SortStableFunc(hits, func(a, b found) int { return b.score - a.score })
	c.answers, c.chosen = nil, 0
	for _, h := range hits[:min(len(hits), maxFound)] {
		c.answers = append(c.answers, h.answer)
	}
}

func (c *choice) keys() []key {
	keys := []key{{names: []string{"enter"}, label: "choose"}}
	if n := min(9, len(c.answers)); n > 1 {
		keys = append(keys, key{names: []string{"1"}, label: fmt.Sprintf("to %d choose at once", n)})
	}
	return append(keys, key{names: []string{"esc"}, label: "cancel"})
}

// answer takes a key for the question that is open.
func (m *Model) answer(name string) tea.Cmd {
	c := m.choice
	switch name {
	case "up":
		c.chosen = max(0, c.chosen-1)
	case "down":
		c.chosen = max(0, min(len(c.answers)-1, c.chosen+1))
	case "esc", "q", "ctrl+c":
		m.choice = nil
	case "enter":
		if c.chosen >= len(c.answers) {
			return nil // nothing was found
		}
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
	head := d.row().To(4).Put(c.question, ink.Bold)
	if c.find != nil {
		c.find.show(head.Put("   find ", ink.Slate), d.width/3)
	}
	lines := []string{"", head.String(), ""}
	if len(c.answers) == 0 {
		return append(lines, d.row().To(8).Put("nothing has these letters", ink.Slate).String())
	}
	top := c.top(d.bodyHeight())
	for i := top; i < min(len(c.answers), top+max(1, d.bodyHeight()-choiceRest)); i++ {
		style := ink.Plain
		if i == c.chosen {
			style = ink.Reverse
		}
		a := c.answers[i]
		r := d.row().To(4)
		if i < 9 && c.find == nil {
			r.Put(string(rune('1'+i)), ink.Slate)
		}
		if c.keyed {
			lines = append(lines, r.Put(a.about, ink.Slate).To(4+choiceKey).Fit(a.text, d.width-5-choiceKey, style).String())
			continue
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
