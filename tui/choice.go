package tui

import (
	tea "charm.land/bubbletea/v2"
)

// choice is a question with a few answers, laid over the page until one is
// chosen.
type choice struct {
	question string
	answers  []answer
	chosen   int
}

type answer struct {
	text  string
	about string
	act   func(*Model) tea.Cmd
}

// ask lays a question over the page.
func (m *Model) ask(question string, answers ...answer) tea.Cmd {
	m.choice = &choice{question: question, answers: answers}
	return nil
}

// answer takes a key for the question that is open.
func (m *Model) answer(key string) tea.Cmd {
	c := m.choice
	switch key {
	case "up":
		c.chosen = max(0, c.chosen-1)
	case "down":
		c.chosen = min(len(c.answers)-1, c.chosen+1)
	case "esc", "q", "ctrl+c":
		m.choice = nil
	case "enter":
		m.choice = nil
		return c.answers[c.chosen].act(m)
	default:
		if n := int(key[0] - '1'); len(key) == 1 && n >= 0 && n < len(c.answers) {
			m.choice = nil
			return c.answers[n].act(m)
		}
	}
	return nil
}

func (m *Model) choiceBody() []string {
	c := m.choice
	lines := []string{"", m.ink.row(m.width).to(4).put(c.question, Bold).String(), ""}
	height := max(1, m.bodyHeight()-5)
	top := scrollTo(0, height, len(c.answers), c.chosen)
	for i := top; i < min(len(c.answers), top+height); i++ {
		ink := Plain
		if i == c.chosen {
			ink = Reverse
		}
		a := c.answers[i]
		r := m.ink.row(m.width).to(4)
		if i < 9 {
			r.put(string(rune('1'+i)), Slate)
		}
		half := max(30, m.width*9/20)
		r.to(8).fit(shortPath(clean(a.text), half-10), half-9, ink).to(half).put(clean(a.about), Slate)
		lines = append(lines, r.String())
	}
	return lines
}

// clickChoice chooses the answer on a row.
func (m *Model) clickChoice(row int, double bool) tea.Cmd {
	c := m.choice
	i := row - 3 + scrollTo(0, max(1, m.bodyHeight()-5), len(c.answers), c.chosen)
	if row < 3 || i >= len(c.answers) {
		return nil
	}
	c.chosen = i
	if double {
		return m.answer("enter")
	}
	return nil
}
