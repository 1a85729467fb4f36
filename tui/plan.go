package tui

import (
	"context"
	"io"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/draw"
	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/task"
)

const planName = "plan"

// planPage shows the steps of a task: what runs beside what, what waits for what, and, while
// it runs, how each stands.
type planPage struct {
	*desk
	plainPage
	plan   *plan.Plan
	job    *run.Job // that runs the plan, or nil
	fault  string   // why there is no plan
	lanes  []lane
	looks  []plan.Outlook              // before it runs
	shown  []string                    // the full command of each step
	offers []plan.Offer                // what should come before its steps
	asked  map[*task.Task]plan.Outlook // what build tools said, of the tasks of this survey
	chosen int
	top    int
}

func newPlanPage(d *desk) *planPage { return &planPage{desk: d} }

func (p *planPage) name() string { return planName }

func (p *planPage) goes() key {
	return key{names: []string{"l"}, label: planName, help: "the plan: the steps of the task and how they stand, and back", ofRow: true}
}

func (p *planPage) keys() []key {
	return append([]key{
		{names: []string{"r"}, goal: toRun, label: "run", help: "run the plan", act: p.runPlan},
		{names: []string{"enter"}, label: "output of the step", help: "show the output of the step, or go to its task", ofRow: true, act: p.openStep},
		{names: []string{"d"}, goal: toWrite, label: "draw", help: "draw the plan into a file", act: p.drawPlan},
		{names: []string{"!"}, goal: toRun, help: "start a step that waits for a slot at once", ofRow: true, when: p.waitsForASlot, act: p.hurry, on: []string{tasksName}},
		{names: []string{"e"}, help: "open the editor where the step's task is declared", ofRow: true, act: p.openDeclaration},
		{names: []string{"Q"}, help: "ask the build tools of the steps whether they have something to do, which executes them", act: p.askTools},
		{names: []string{"B"}, goal: toWrite, label: "take the offer", help: "let what makes the step's files run first: before of its task, in the tally file", ofRow: true, act: p.takeOffer, when: func() bool { return len(p.offers) > 0 }},
	}, p.suiteKeys()...)
}

func (p *planPage) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case pageMsg:
		if msg.name == planName {
			p.chosen, p.top = 0, 0
			p.fill()
			if p.plan != nil {
				p.chosen = p.plan.Main
			}
		}
	case askedMsg:
		p.asked = msg
		p.fill()
		if len(msg) == 0 {
			p.say(false, "no step has a build tool that can be asked")
		} else {
			p.say(false, "the build tools of %s have answered", plural(len(msg), "step"))
		}
	case surveyedMsg, outlooksMsg, runChosenMsg:
		p.asked = nil
		if p.front() == planName {
			p.fill()
		}
	}
	return nil
}

// fill makes the plan of the run that is shown, or else of the chosen task.
func (p *planPage) fill() {
	p.plan, p.job, p.fault, p.looks, p.offers = nil, nil, "", nil, nil
	if p.snap.Survey == nil {
		return
	}
	t := p.task
	if r := p.of(); r != nil && r.Job() != nil && (!p.picked || !r.Snapshot().State.Ended()) {
		p.job = r.Job()
		p.plan = p.job.Plan
	} else if t != nil {
		var err error
		if p.plan, err = plan.Of(p.snap.Survey.Tasks, t); err != nil {
			p.fault = err.Error()
			return
		}
		for i := range p.plan.Steps {
			step := p.plan.Steps[i].Task
			p.looks = append(p.looks, p.outlook(step))
			p.offers = append(p.offers, p.desk.offers(step)...)
		}
		p.plan.Follow(p.looks, p.session.Learned)
	}
	if p.plan != nil {
		p.lanes, p.shown = lanesOf(p.plan), p.commands()
	}
}

// outlook says what is known of a task before it runs.
func (p *planPage) outlook(t *task.Task) plan.Outlook {
	if r := p.last(t); r != nil {
		if s := r.Snapshot(); s.State == run.Up {
			return plan.Outlook{State: plan.Up, Since: s.UpSince}
		}
	}
	if look, ok := p.asked[t]; ok {
		return look
	}
	if look, ok := p.snap.Outlooks()[t.ID()]; ok {
		return look
	}
	return plan.OutlookOf(t, nil, p.root, nil) // nothing is on record
}

func (p *planPage) move(rows int)   { p.chosen += rows }
func (p *planPage) scroll(rows int) { p.chosen += rows }

func (p *planPage) clamp() {
	n := 0
	if p.plan != nil {
		n = len(p.plan.Steps)
	}
	p.chosen = max(0, min(p.chosen, n-1))
	p.top = scrollTo(p.top, p.listHeight(), n, p.chosen)
}

func (p *planPage) click(row int) bool {
	at := p.top + row - planHead
	if p.plan == nil || row < planHead || row >= planHead+p.listHeight() || at >= len(p.plan.Steps) {
		return false
	}
	p.chosen = at
	return true
}

func (p *planPage) subject() *run.Run {
	if p.job != nil {
		return p.job.Main
	}
	return nil
}

// step returns the chosen step and its run, or nil.
func (p *planPage) step() (*plan.Step, *run.Run) {
	if p.plan == nil || p.chosen >= len(p.plan.Steps) {
		return nil, nil
	}
	var r *run.Run
	if p.job != nil {
		r = p.job.Steps[p.chosen]
	}
	return &p.plan.Steps[p.chosen], r
}

func (p *planPage) runPlan() tea.Cmd {
	if p.plan == nil {
		return nil
	}
	for _, t := range p.snap.Survey.Tasks {
		if t.ID() == p.plan.Task.ID() {
			var args []string
			if p.job != nil {
				args = p.job.Main.Args
			}
			cmd := p.start(t, args)
			p.fill()
			return cmd
		}
	}
	p.say(true, "%s is declared no longer", p.plan.Task.ShownID())
	return nil
}

func (p *planPage) openStep() tea.Cmd {
	step, r := p.step()
	switch {
	case step == nil:
		return nil
	case r != nil && !r.Snapshot().Started.IsZero():
		p.choose(r)
		return p.goTo(outputName)
	}
	return tea.Batch(p.tell(wantTaskMsg{step.Task.ID()}), p.goTo(tasksName))
}

// drawPlan draws the plan into a file.
func (p *planPage) drawPlan() tea.Cmd {
	if p.plan == nil {
		return nil
	}
	steps := make([]draw.PlanStep, len(p.plan.Steps))
	for i := range p.plan.Steps {
		text, _ := p.stands(i)
		steps[i] = draw.PlanStep{Name: shortID(p.plan.Steps[i].Task), About: strings.TrimSpace(text + "  " + p.shown[i])}
		if p.job != nil {
			steps[i].State = string(p.job.Steps[i].Snapshot().State)
		}
	}
	title, of, name := "plan of "+shortID(p.plan.Task), p.plan, "plan-"+fileWord(shortID(p.plan.Task))
	plan := func(to io.Writer, on draw.Paper) error { return draw.Plan(to, on, title, of, steps) }
	return p.ask("Into which file is the plan to be drawn?", p.drawing(name+".svg", "", plan), p.drawing(name+".pdf", "", plan))
}

func (p *planPage) openDeclaration() tea.Cmd {
	step, _ := p.step()
	if step == nil {
		return nil
	}
	o := step.Task.Origin("name")
	return p.openEditor(o.File, o.Line, o.Column)
}

// hurry starts the chosen step, or else any step of the chosen run, that waits for a slot.
func (p *planPage) hurry() tea.Cmd {
	var waiting []*run.Run
	if _, r := p.step(); p.front() == planName && r != nil {
		waiting = append(waiting, r)
	}
	if r := p.of(); r != nil {
		waiting = append(waiting, r)
		if r.Job() != nil {
			waiting = append(waiting, r.Job().Steps...)
		}
	}
	if i := slices.IndexFunc(waiting, (*run.Run).Hurry); i >= 0 {
		p.say(false, "%s is started beyond the slots", waiting[i].Prepared.Task.Name)
	} else {
		p.say(false, "nothing of it waits for a slot")
	}
	return nil
}

// takeOffer writes the first offer for the chosen step, or else for any, into the tally file.
func (p *planPage) takeOffer() tea.Cmd {
	if len(p.offers) == 0 {
		p.say(false, "nothing is known that should come before")
		return nil
	}
	at := 0
	if step, _ := p.step(); step != nil {
		at = max(0, slices.IndexFunc(p.offers, func(o plan.Offer) bool { return o.Task == step.Task }))
	}
	return p.putBefore(&p.offers[at])
}

// askedMsg brings what build tools said of the steps.
type askedMsg map[*task.Task]plan.Outlook

// askTools asks the build tools of all steps, beside the loop.
func (p *planPage) askTools() tea.Cmd {
	if p.plan == nil || p.job != nil {
		p.say(false, "a plan that was not started is asked about")
		return nil
	}
	of, ctx, store := p.plan, p.session.Context(), p.session.Store()
	p.say(false, "the build tools are asked …")
	return func() tea.Msg {
		said := askedMsg{}
		var good map[string]time.Time
		if store != nil {
			good, _ = store.Good() // without it nothing counts as run
		}
		for i := range of.Steps {
			t := of.Steps[i].Task
			if o, asks := ctx.Question(context.Background(), t, good[t.ID()]); asks {
				said[t] = o
			}
		}
		return said
	}
}

func (p *planPage) rowName() string {
	if step, _ := p.step(); step != nil {
		return shortID(step.Task)
	}
	return ""
}
