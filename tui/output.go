package tui

import (
	tea "charm.land/bubbletea/v2"

	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/run"
)

const outputName = "output"

// outputPage shows what the chosen run printed, in its own colours.
type outputPage struct {
	*desk
	plainPage

	top     int // the first line in view
	follow  bool
	lines   int // of the output
	find    field
	finding bool
	file    field // the name of a file to write to
	writing bool
	found   int // the line of the last hit, -1 for none
}

func newOutputPage(d *desk) *outputPage { return &outputPage{desk: d, follow: true} }

func (p *outputPage) name() string { return outputName }

func (p *outputPage) goes() key {
	return key{names: []string{"o"}, label: outputName, help: "the output of the last run of the chosen task, and back", ofRun: true, ofRow: true, when: p.ranSome}
}

func (p *outputPage) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case runChosenMsg:
		p.follow, p.top = true, 0
	case tea.WindowSizeMsg:
		p.session.Resize(p.textColumns(), p.bodyHeight())
	case wantLineMsg:
		p.showLine(msg.number)
	}
	return nil
}

func (p *outputPage) move(rows int) {
	p.top += rows
	p.follow = false
}

func (p *outputPage) scroll(rows int) { p.move(rows) }

func (p *outputPage) clamp() {
	if p.run == nil {
		return
	}
	p.lines = 0 // of a run that has not begun
	p.run.Output(func(x *output.Index) { p.lines = x.Printed() })
	last := max(0, p.lines-p.textHeight())
	if p.follow || p.top >= last && p.top > 0 {
		p.top, p.follow = last, true
	}
	p.top = max(0, min(p.top, last))
}

// showLine brings a line of the output into view, with some around it.
func (p *outputPage) showLine(line int) {
	if line < p.top || line >= p.top+p.textHeight() {
		p.top = max(0, line-p.textHeight()/3)
	}
	p.follow = false
	p.clamp()
	p.follow = false
}

// click chooses the problem that came from the line clicked.
func (p *outputPage) click(row int) bool {
	line := p.top + row - outputHead
	if p.run == nil || row < outputHead || line >= p.lines {
		return false
	}
	seq := 0
	problems := p.run.Snapshot().Problems
	p.run.Output(func(x *output.Index) {
		for i := range problems {
			if o := &problems[i].Output; x.LineAt(o.StartByte) <= line && line <= x.LineAt(o.EndByte) {
				seq = problems[i].Seq
				return
			}
		}
	})
	if seq == 0 {
		return false
	}
	p.tell(wantProblemMsg{seq})
	return true
}

func (p *outputPage) field() *field {
	switch {
	case p.finding:
		return &p.find
	case p.writing:
		return &p.file
	}
	return nil
}

func (p *outputPage) subject() *run.Run { return p.run }

func (p *outputPage) count() (b problem.Balance, c problem.Count, own bool) {
	if p.run == nil {
		return b, c, true
	}
	v := p.session.Verdict(p.run)
	return v.Balance, v.Count, true
}
