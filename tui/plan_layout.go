package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/core/run"
	"tidytally/core/task"
	"tidytally/tui/ink"
)

const (
	planHead    = 2 // rows above the steps
	planDetails = 7 // rows for the chosen step
	// maxLanes bounds the lines that are drawn between steps.
	maxLanes = 24
)

// A lane is a line that leads from steps down to the one that waits for them.
type lane struct {
	from   []int // rows
	to     int   // the row of the step that waits
	beside bool  // it does not wait: they run beside it
	column int
}

// lanesOf lays out the lines between the steps of a plan: those that cross no rows of each
// other share a column.
func lanesOf(p *plan.Plan) (lanes []lane) {
	for i := range p.Steps {
		s := &p.Steps[i]
		after := s.After
		if s.Role == plan.After && len(after) == 0 {
			after = []int{s.Of}
		}
		for _, l := range []lane{{from: after, to: i}, {from: s.With, to: i, beside: true}} {
			if len(l.from) > 0 && len(lanes) < maxLanes {
				l.from = slices.Sorted(slices.Values(l.from))
				lanes = append(lanes, l)
			}
		}
	}
	// Short lines stand to the left.
	slices.SortStableFunc(lanes, func(a, b lane) int { return (a.to - a.from[0]) - (b.to - b.from[0]) })
	var ends [][]lane
	for i := range lanes {
		l := &lanes[i]
		column := slices.IndexFunc(ends, func(in []lane) bool {
			return !slices.ContainsFunc(in, func(o lane) bool { return o.from[0] <= l.to && l.first() <= o.to })
		})
		if column < 0 {
			column = len(ends)
			ends = append(ends, nil)
		}
		l.column = column
		ends[column] = append(ends[column], *l)
	}
	return lanes
}

// first is the uppermost row of the line.
func (l *lane) first() int { return min(l.from[0], l.to) }

// last is the lowest row.
func (l *lane) last() int { return max(l.from[len(l.from)-1], l.to) }

// laneWidth is the number of cells from one line to the next.
const laneWidth = 2

// drawLanes draws what crosses a row of the plan, as text of width cells.
func drawLanes(lanes []lane, row, columns int) string {
	cells := []rune(strings.Repeat(" ", columns*laneWidth+1))
	reach := -1 // how far a line goes to the right from the step
	dotted := true
	for _, l := range lanes {
		at := l.column*laneWidth + 1
		touches := l.to == row || slices.Contains(l.from, row)
		switch {
		case touches:
			corner := '┤'
			if row == l.first() {
				corner = '┐'
			} else if row == l.last() {
				corner = '┘'
			}
			cells[at] = corner
			reach = max(reach, at)
			dotted = dotted && l.beside
		case l.first() < row && row < l.last():
			cells[at] = '│'
			if l.beside {
				cells[at] = '┊'
			}
		}
	}
	for i := range max(0, reach) {
		switch cells[i] {
		case ' ':
			cells[i] = '─'
			if dotted {
				cells[i] = '·'
			}
		case '│', '┊':
			cells[i] = '┼'
		case '┐':
			cells[i] = '┬'
		case '┘':
			cells[i] = '┴'
		case '┤':
			cells[i] = '┼'
		}
	}
	return string(cells)
}

// listHeight is the number of rows for steps.
func (p *planPage) edges() (above, below int) { return p.top, 0 }

func (p *planPage) listHeight() int { return max(1, p.bodyHeight()-planHead-planDetails) }

func (p *planPage) heading(r *ink.Row) {
	r.Put("  "+planName, ink.Plain)
	if p.plan == nil {
		return
	}
	r.Put(" of ", ink.Plain).Put(shortID(p.plan.Task), ink.Bold)
	if p.job != nil {
		s := p.job.Main.Snapshot()
		r.Put("   ", ink.Plain).Put(p.since(&s), stateInk(&s))
	}
	words := plural(len(p.plan.Steps), "step")
	if p.plan.Concurrent() {
		words += fmt.Sprintf(", at most %d at once", p.session.Slots())
	}
	if left, whole := p.time(); left > 0 {
		words += ", about " + printable.Duration(left.Round(time.Second)) + " to go"
	} else if whole > 0 && p.job == nil {
		words += ", about " + printable.Duration(whole)
	}
	r.Right(words, p.width-1, ink.Slate)
}

// time returns how long the plan still takes, and takes in all: over the longest path of steps, by
// earlier good runs; 0 if that is not known.
func (p *planPage) time() (left, whole time.Duration) {
	if p.snap.Past == nil {
		return 0, 0
	}
	usual := func(t *task.Task) (time.Duration, bool) {
		d, ok := p.snap.Past.Expected[t.ID()]
		return d, ok || t.Command.IsZero()
	}
	whole = p.plan.Longest(usual)
	if p.job == nil || whole == 0 || p.job.Main.Snapshot().State.Ended() {
		return 0, whole
	}
	left = p.plan.Longest(func(t *task.Task) (time.Duration, bool) {
		d, ok := usual(t)
		for i := range p.plan.Steps {
			if p.plan.Steps[i].Task == t {
				if s := p.job.Steps[i].Snapshot(); s.State.Ended() {
					return 0, true
				} else if s.State == run.Running {
					d = max(0, d-s.Elapsed(p.now))
				}
			}
		}
		return d, ok
	})
	return left, whole
}

func (p *planPage) body() []string {
	switch {
	case p.fault != "":
		return p.paragraph(strings.Split(p.fault, "\n")...)
	case p.plan == nil:
		return p.paragraph("No task is chosen: choose one on the page tasks (t).")
	}
	columns := 0
	for _, l := range p.lanes {
		columns = max(columns, l.column+1)
	}
	names, states := 12, 12
	for i := range p.plan.Steps {
		names = max(names, ansi.StringWidth(clean(shortID(p.plan.Steps[i].Task)))+2)
		text, _ := p.stands(i)
		states = max(states, ansi.StringWidth(text)+1)
	}
	names, states = min(names, p.width/3), min(states, p.width/3)
	labels := make([]string, len(p.plan.Steps))
	for i := range p.plan.Steps {
		labels[i] = clean(shortID(p.plan.Steps[i].Task))
	}
	labels = ink.Distinct(labels, names-1)
	head := "each line ends at the step that waits"
	if slices.ContainsFunc(p.lanes, func(l lane) bool { return l.beside }) {
		head += "; dotted: beside it"
	}
	if len(p.plan.Steps) == 1 {
		head = "nothing comes before it or beside it"
	}
	lines := []string{p.row().To(planBar+2).Put(head, ink.Slate).String(), ""}
	for i := p.top; i < min(len(p.plan.Steps), p.top+p.listHeight()); i++ {
		lines = append(lines, p.stepLine(i, labels[i], names, states, columns))
	}
	for len(lines) < planHead+p.listHeight() {
		lines = append(lines, "")
	}
	return append(lines, p.stepDetails()...)
}

// planBar is the column of the margin's bar.
const planBar = 9

func (p *planPage) stepLine(i int, label string, names, states, columns int) string {
	r := p.row()
	if p.job != nil {
		if s := p.job.Steps[i]; !s.Snapshot().Started.IsZero() {
			worstStrokes(r, p.session.Verdict(s).Count, planBar-1)
		}
	}
	r.To(planBar).Put("¦ ", ink.Slate)
	style := ink.Plain
	if i == p.plan.Main {
		style = ink.Bold
	}
	if i == p.chosen {
		style = ink.Reverse
	}
	r.Fit(label, names, style)
	text, state := p.stands(i)
	r.Fit(" "+ansi.Truncate(text, states-1, "…"), states+1, state)
	if columns > 0 {
		r.Put(drawLanes(p.lanes, i, columns)+" ", ink.Slate)
	}
	if p.job != nil && p.width >= leastTimeline {
		p.timeline(r, p.job.Steps[i])
		return r.String()
	}
	r.Put(" "+p.shown[i], ink.Slate)
	return r.String()
}

// leastTimeline is the width in cells from which the steps of a plan that runs have a timeline
// where their commands stand before.
const leastTimeline = 110

// timeline draws when a step ran, on a scale that all steps of the plan share.
func (p *planPage) timeline(r *ink.Row, step *run.Run) {
	cells := p.width - 1 - r.At() - 2
	if cells < 10 {
		return
	}
	var from, to time.Time
	for _, s := range p.job.Steps {
		snap := s.Snapshot()
		if snap.Started.IsZero() {
			continue
		}
		if from.IsZero() || snap.Started.Before(from) {
			from = snap.Started
		}
		if end := snap.Started.Add(snap.Elapsed(p.now)); end.After(to) {
			to = end
		}
	}
	snap := step.Snapshot()
	if snap.Started.IsZero() || !to.After(from) {
		return
	}
	at := func(t time.Time) int {
		return min(cells-1, max(0, int(float64(cells)*float64(t.Sub(from))/float64(to.Sub(from)))))
	}
	start := r.At() + 1 + at(snap.Started)
	length := max(1, at(snap.Started.Add(snap.Elapsed(p.now)))-at(snap.Started))
	state := stateInk(&snap)
	if !snap.State.Ended() {
		state = ink.Slate
	}
	r.To(start).Put(strings.Repeat("━", length), state)
}

// stands says how a step stands, or what is known of it before it runs.
func (p *planPage) stands(i int) (string, ink.Ink) {
	if p.job != nil {
		s := p.job.Steps[i].Snapshot()
		text := p.since(&s)
		if s.State.Ended() && s.State != run.Skipped {
			text = s.Words() + "  " + durationOf(&s, p.now)
		}
		return text, stateInk(&s)
	}
	switch o := p.looks[i]; o.State {
	case plan.Fresh:
		if o.From == plan.FromTool {
			return "nothing to do", ink.Verdigris
		}
		return "fresh since " + printable.Moment(o.Since, p.now), ink.Verdigris
	case plan.Up:
		return "up since " + o.Since.Format("15:04"), ink.Verdigris
	case plan.Needed:
		if len(o.Why) > 0 {
			return o.Why[0], ink.Ochre
		}
	case plan.Unknown:
		if len(o.Why) > 0 {
			return o.Why[0], ink.Slate
		}
	}
	return "", ink.Plain
}

// commands returns the full command of each step, or how it is declared if it cannot be made yet.
func (p *planPage) commands() []string {
	ctx := p.session.Context()
	out := make([]string, len(p.plan.Steps))
	for i := range p.plan.Steps {
		t := p.plan.Steps[i].Task
		out[i] = t.Shown(t.Command.String())
		if p.job != nil {
			out[i] = p.job.Steps[i].Prepared.Display
		} else if prepared, err := ctx.Prepare(t, nil); err == nil && !t.Command.IsZero() {
			out[i] = prepared.Display
		}
	}
	return out
}

// stepDetails describes the chosen step.
func (p *planPage) stepDetails() []string {
	step, r := p.step()
	if step == nil {
		return nil
	}
	t := step.Task
	_, below := edgesOf(p.top, p.listHeight(), len(p.plan.Steps))
	lines := []string{p.rule(below)}
	add := func(name, text string, style ink.Ink) {
		if text != "" && len(lines) < planDetails {
			lines = append(lines, p.label(p.width, name, ink.Slate).Put(text, style).String())
		}
	}
	names := func(steps []int) string {
		var out []string
		for _, k := range steps {
			out = append(out, shortID(p.plan.Steps[k].Task))
		}
		return strings.Join(out, ", ")
	}
	lines = append(lines, p.row().Put(shortID(t), ink.Bold).Put("   "+t.About, ink.Slate).String())
	if command := p.shown[p.chosen]; command == "" {
		add("runs", "nothing: it names other tasks", ink.Plain)
	} else {
		add("runs", command+"   in "+folderWords(t.Dir), ink.Plain)
	}
	switch step.Role {
	case plan.After:
		add("why", "after "+shortID(p.plan.Steps[step.Of].Task)+", however that ends", ink.Plain)
	case plan.With:
		add("why", "beside another step; it ends with that", ink.Plain)
	}
	add("waits for", names(step.After), ink.Plain)
	if r != nil {
		s := r.Snapshot()
		switch {
		case s.Blamed != "":
			add("not run", s.Blamed, ink.Ochre)
		case s.Fault != "":
			add("says", s.Fault, ink.Madder)
		case s.State == run.Up:
			add("up", s.UpBy+"  "+s.Address, ink.Verdigris)
		case !s.Ended.IsZero():
			add("took", printable.Duration(s.Ended.Sub(s.Started)), ink.Plain)
		}
		if n := len(s.Passes); n > 0 {
			add("pass", fmt.Sprintf("%d, for %s", s.Pass(), strings.Join(s.Passes[n-1].Changed, ", ")), ink.Plain)
		}
	} else if o := p.looks[p.chosen]; len(o.Why) > 0 {
		label := "would run"
		if o.State == plan.Unknown {
			label = "may run"
		}
		add(label, "as "+strings.Join(o.Why, ", "), ink.Ochre)
	}
	for _, o := range p.offers {
		if o.Task == t {
			add("offer", offerWords(&o)+"; B runs that first, always", ink.Ochre)
		}
	}
	add("beside it", names(step.With), ink.Plain)
	if jobs := run.JobsOf(t); jobs == run.SharedJobs {
		add("jobs", "from the slots that are free", ink.Plain)
	} else {
		add("jobs", jobs, ink.Plain)
	}
	if parts := p.snap.Survey.Parts(t); len(parts) > 0 {
		add("orders", strings.Join(parts, ", "), ink.Plain)
	}
	return lines
}
