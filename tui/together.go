package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/output"
	"tidytally/core/run"
)

const togetherName = "together"

// togetherPage shows the outputs of several runs: each in a column of its own, or woven into
// one with the name of each line's origin.
type togetherPage struct {
	*desk
	plainPage
	runs   []*run.Run
	job    *run.Job // whose steps they are, or nil
	woven  bool
	chosen int // the column
	first  int // the first column in view
	// back is how many lines each column stands before its end, and backWoven the woven
	// output; 0 follows it.
	back      map[*run.Run]int
	backWoven int
}

func newTogetherPage(d *desk) *togetherPage {
	return &togetherPage{desk: d, back: map[*run.Run]int{}}
}

func (p *togetherPage) name() string { return togetherName }

func (p *togetherPage) goes() key {
	return key{names: []string{"T"}, help: "the outputs of several runs side by side or woven, and back", ofRow: true, when: p.severalRun}
}

func (p *togetherPage) keys() []key {
	return []key{
		{names: []string{"g"}, label: "columns or woven", help: "show the outputs in columns, or woven into one", act: p.toggle},
		{names: []string{"left"}, goal: toMove, help: "the column to the left", act: p.beside(-1)},
		{names: []string{"right"}, goal: toMove, label: "next column", help: "the column to the right", act: p.beside(1)},
		{names: []string{"enter"}, label: "output", help: "show the output of the column alone", ofRow: true, act: p.openRun},
		{names: []string{"i"}, goal: toRun, help: "give the task of the column the keyboard; ctrl+o takes it back", ofRow: true, when: p.columnRuns, act: p.typeToColumn},
	}
}

func (p *togetherPage) update(msg tea.Msg) tea.Cmd {
	if msg, ok := msg.(pageMsg); ok && msg.name == togetherName {
		p.fill()
		p.chosen, p.first = 0, 0
	}
	return nil
}

// fill finds the runs: the steps of the plan in view, or else all that run.
func (p *togetherPage) fill() {
	p.runs, p.job = nil, nil
	defer func() { p.woven = p.woven && p.canWeave() }()
	if r := p.of(); r != nil && r.Job() != nil && len(r.Job().Steps) > 1 {
		p.job = r.Job()
		p.runs = slices.DeleteFunc(slices.Clone(p.job.Steps), func(r *run.Run) bool { return r.Prepared.Command.IsZero() })
		return
	}
	for _, r := range p.session.Runs() {
		s := r.Snapshot()
		if !s.State.Ended() && !r.Prepared.Command.IsZero() {
			p.runs = append(p.runs, r)
		}
	}
	if r := p.of(); len(p.runs) == 0 && r != nil {
		p.runs = []*run.Run{r}
	}
}

// canWeave reports whether the outputs are kept woven.
func (p *togetherPage) canWeave() bool {
	return p.job != nil && p.job.Woven(func(*output.Index) {})
}

func (p *togetherPage) toggle() tea.Cmd {
	if p.woven = !p.woven; p.woven && !p.canWeave() {
		p.woven = false
		p.say(false, "only the steps of one plan are woven; these were started one by one")
	}
	return nil
}

func (p *togetherPage) beside(by int) func() tea.Cmd {
	return func() tea.Cmd {
		p.chosen += by
		return nil
	}
}

// column returns the run of the chosen column, or nil.
func (p *togetherPage) column() *run.Run {
	if p.chosen < len(p.runs) {
		return p.runs[p.chosen]
	}
	return nil
}

func (p *togetherPage) openRun() tea.Cmd {
	r := p.column()
	if r == nil {
		return nil
	}
	p.choose(r)
	return p.goTo(outputName)
}

// columnRuns reports whether the run of the chosen column goes on.
func (p *togetherPage) columnRuns() bool {
	r := p.column()
	return r != nil && !r.Snapshot().State.Ended()
}

func (p *togetherPage) typeToColumn() tea.Cmd {
	r := p.column()
	if r == nil {
		return nil
	}
	p.choose(r)
	return p.giveKeyboard()
}

func (p *togetherPage) move(rows int) { p.scroll(rows) }

func (p *togetherPage) scroll(rows int) {
	if p.woven {
		p.backWoven -= rows
	} else if r := p.column(); r != nil {
		p.back[r] -= rows
	}
}

func (p *togetherPage) clamp() {
	if p.front() != togetherName {
		return
	}
	p.chosen = max(0, min(p.chosen, len(p.runs)-1))
	p.first = scrollTo(p.first, p.columnCount(), len(p.runs), p.chosen)
	height := p.textHeight()
	limit := func(back int, x *output.Index) int { return max(0, min(back, x.Printed()-height)) }
	if p.woven {
		p.job.Woven(func(x *output.Index) { p.backWoven = limit(p.backWoven, x) })
		return
	}
	for _, r := range p.runs {
		if p.back[r] == 0 {
			continue
		}
		r.Output(func(x *output.Index) { p.back[r] = limit(p.back[r], x) })
	}
}

func (p *togetherPage) click(row int) bool { return false }

func (p *togetherPage) subject() *run.Run {
	if p.woven && p.job != nil {
		return p.job.Main
	}
	return p.column()
}
