package tui

import (
	tea "charm.land/bubbletea/v2"

	"tidytally/core/output"
)

func (p *outputPage) keys() []key {
	return append([]key{
		{names: []string{"enter"}, help: "go to the tally, to the problem chosen", act: func() tea.Cmd { return p.goTo(tallyName) }},
		{names: []string{"i"}, help: "give the task the keyboard; ctrl+o takes it back", act: p.giveKeyboard},
		{names: []string{"/"}, label: "find", help: "find a text in the output", act: p.beginFind},
		{names: []string{"."}, help: "next place of the text", act: func() tea.Cmd { return p.findText(true) }},
		{names: []string{","}, help: "place of the text before", act: func() tea.Cmd { return p.findText(false) }},
	}, p.runKeys()...)
}

// beginFind opens the line for the text that is looked for.
func (p *outputPage) beginFind() tea.Cmd {
	p.find = newField(p.find.String(),
		key{names: []string{"enter"}, label: "find", act: func() tea.Cmd {
			p.finding = false
			return p.findText(true)
		}},
		key{names: []string{"esc", "ctrl+c"}, label: "cancel", act: func() tea.Cmd {
			p.finding = false
			p.find.set("")
			return nil
		}})
	p.finding = true
	return nil
}

// findText goes to the next place of the text that is looked for, or the one before.
func (p *outputPage) findText(forward bool) tea.Cmd {
	want := p.find.String()
	if p.run == nil || want == "" {
		return nil
	}
	from := p.top
	if p.found >= p.top && p.found < p.top+p.textHeight() {
		from = p.found - 1
		if forward {
			from = p.found + 1
		}
	}
	p.run.Output(func(x *output.Index) { p.found = x.Find(want, from, forward) })
	if p.found < 0 {
		p.say(true, "%q is nowhere in the output", want)
		return nil
	}
	p.showLine(p.found)
	p.say(false, "line %d", p.found+1)
	return nil
}
