package tui

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/draw"
	"tidytally/core/filter"
	"tidytally/core/history"
	"tidytally/core/run"
)

const historyName = "history"

// historyPage shows earlier runs, those of other programs on the workspace included.
type historyPage struct {
	*desk
	plainPage
	runs    []history.Run // all that are kept, the newest first
	read    bool
	rows    []historyRow
	places  []int // indexes into rows that are runs
	find    field
	finding bool
	chosen  int // index into places
	top     int
	compare *history.Run // is compared with the chosen one; nil for none
	byTask  bool
}

// historyRow is a heading or a run.
type historyRow struct {
	head string
	run  *history.Run
}

// historyFields are those of the filter.
var historyFields = []string{"task", "is", "since", "code", "commit", "args"}

// filteredRun is a run as a filter sees it.
type filteredRun struct{ *history.Run }

func (p filteredRun) Title() string  { return p.Task }
func (p filteredRun) Rest() []string { return []string{p.Command, p.Commit} }

// Field returns the texts for a filter's field.
func (p filteredRun) Field(name string) ([]string, bool) {
	switch name {
	case "task":
		return []string{p.Task}, true
	case "is":
		is := []string{p.State}
		if p.Balance.New > 0 {
			is = append(is, "new")
		}
		if p.Balance.Gone > 0 {
			is = append(is, "gone")
		}
		return is, true
	case "code":
		return []string{fmt.Sprint(p.Exit)}, true
	case "commit":
		return []string{p.Commit}, true
	case "args":
		return p.Args, true
	}
	return nil, false
}

func newHistoryPage(d *desk) *historyPage { return &historyPage{desk: d} }

func (p *historyPage) name() string { return historyName }

func (p *historyPage) goes() key {
	return key{names: []string{"H"}, help: "the history: earlier runs, and back"}
}

func (p *historyPage) keys() []key {
	return []key{
		{names: []string{"enter"}, label: "output and problems", help: "show the output and the problems of the run, as they were", ofRow: true, act: p.openRun},
		{names: []string{"/"}, goal: toFind, label: "find", help: "filter the runs: words, task: is:failed since:2d code: commit: args:, - for not", act: p.beginFind},
		{names: []string{"r"}, goal: toRun, label: "run again", help: "run the task again, with the same arguments", ofRow: true, act: p.runChosenAgain},
		{names: []string{"g"}, goal: toFind, help: "order the runs by day or by task", act: p.nextOrder},
		{names: []string{"d"}, goal: toWrite, label: "draw", help: "draw the trend of the task, or the timeline of the run, into a file", ofRow: true, act: p.drawRun},
		{names: []string{"="}, goal: toFind, label: "compare", help: "compare with another run: mark this one, then the other", ofRow: true, act: p.mark},
	}
}

// runsReadMsg brings the runs of the store.
type runsReadMsg struct {
	runs  []history.Run
	err   error
	whole bool
}

// firstRuns is how many runs are read before the page is shown; the others follow.
const firstRuns = 500

func (p *historyPage) readRuns(limit int) tea.Cmd {
	store := p.session.Store()
	if store == nil {
		return nil
	}
	return func() tea.Msg {
		runs, err := store.Runs(history.Wanted{Limit: limit, Steps: true})
		return runsReadMsg{runs, err, limit == 0}
	}
}

func (p *historyPage) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case pageMsg:
		if msg.name == historyName {
			p.chosen, p.top = 0, 0
			return p.readRuns(firstRuns)
		}
	case pastMsg:
		if p.front() == historyName {
			return p.readRuns(firstRuns)
		}
	case runsReadMsg:
		if msg.err != nil {
			p.say(true, "earlier runs: %v", msg.err)
			return nil
		}
		if more := len(p.runs) > len(msg.runs); more && !msg.whole && len(msg.runs) > 0 { // those that are new, before those that are known
			i := slices.IndexFunc(p.runs, func(r history.Run) bool { return r.ID < msg.runs[len(msg.runs)-1].ID })
			msg.runs = append(msg.runs, p.runs[max(i, 0):]...)
			msg.whole = true
		}
		p.runs, p.read = msg.runs, true
		p.arrange()
		if !msg.whole && len(msg.runs) == firstRuns {
			return p.readRuns(0)
		}
	}
	return nil
}

// arrange makes the rows.
func (p *historyPage) arrange() {
	var keep int64
	if r := p.current(); r != nil && p.chosen > 0 {
		keep = r.ID
	}
	words, since := p.find.String(), time.Time{}
	var rest []string
	for _, w := range strings.Fields(words) {
		if text, ok := strings.CutPrefix(w, "since:"); ok {
			since, _ = history.Since(text, p.now) // the zero time while it is being typed
			continue
		}
		rest = append(rest, w)
	}
	q := filter.Parse(strings.Join(rest, " "), historyFields...)
	p.rows, p.places = p.rows[:0], p.places[:0]
	head := ""
	p.chosen = max(0, p.chosen)
	order := make([]*history.Run, len(p.runs))
	for i := range p.runs {
		order[i] = &p.runs[i]
	}
	if p.byTask {
		slices.SortStableFunc(order, func(a, b *history.Run) int { return strings.Compare(a.Task, b.Task) })
	}
	for _, r := range order {
		if r.Start.Before(since) || !q.Empty() && !q.Passes(filteredRun{r}) {
			continue
		}
		of := dayOf(r.Start, p.now)
		if p.byTask {
			of = shownTask(r)
		}
		if of != head {
			head = of
			p.rows = append(p.rows, historyRow{head: head})
		}
		if r.ID == keep {
			p.chosen = len(p.places)
		}
		p.places = append(p.places, len(p.rows))
		p.rows = append(p.rows, historyRow{run: r})
	}
}

// dayOf names the day of a time.
func dayOf(t, now time.Time) string {
	switch {
	case sameDay(t, now):
		return "today"
	case sameDay(t, now.AddDate(0, 0, -1)):
		return "yesterday"
	}
	return t.Format("Monday 2 January 2006")
}

func (p *historyPage) current() *history.Run {
	if p.chosen >= 0 && p.chosen < len(p.places) {
		return p.rows[p.places[p.chosen]].run
	}
	return nil
}

func (p *historyPage) move(rows int)   { p.chosen += rows }
func (p *historyPage) scroll(rows int) { p.chosen += rows }

func (p *historyPage) clamp() {
	p.chosen = max(0, min(p.chosen, len(p.places)-1))
	if len(p.places) == 0 {
		p.top = 0
		return
	}
	at := p.places[p.chosen]
	if at > 0 && p.rows[at-1].run == nil && at-1 < p.top {
		at--
	}
	p.top = scrollTo(p.top, p.listHeight(), len(p.rows), at)
}

func (p *historyPage) click(row int) bool {
	i := slices.Index(p.places, p.top+row-historyHead)
	if row < historyHead || row >= historyHead+p.listHeight() || i < 0 {
		return false
	}
	p.chosen = i
	return true
}

func (p *historyPage) field() *field {
	if p.finding {
		return &p.find
	}
	return nil
}

func (p *historyPage) subject() *run.Run { return nil }

func (p *historyPage) clear() bool {
	if p.find.String() == "" && p.compare == nil {
		return false
	}
	p.find.set("")
	p.compare = nil
	p.arrange()
	return true
}

// beginFind opens the filter.
func (p *historyPage) beginFind() tea.Cmd {
	p.find = filterField(p.find.String(), func() { p.finding = false }, func() {
		p.find.set("")
		p.arrange()
	}, p.move)
	p.find.changed = p.arrange
	p.find.suggest = func(word string) (words []string) {
		if strings.HasPrefix(word, "is:") {
			for _, s := range []string{"ok", "failed", "stopped", "timedOut", "interrupted", "running", "new", "gone"} {
				words = append(words, "is:"+s)
			}
			return words
		}
		for _, f := range historyFields {
			words = append(words, f+":")
		}
		return words
	}
	p.finding = true
	p.arrange()
	return nil
}

func (p *historyPage) openRun() tea.Cmd {
	r := p.current()
	if r == nil {
		return nil
	}
	t, _ := p.snap.TaskOf(r)
	if !p.recall(t, r.ID) {
		return nil
	}
	return p.goTo(outputName)
}

func (p *historyPage) runChosenAgain() tea.Cmd {
	r := p.current()
	if r == nil {
		return nil
	}
	t, declared := p.snap.TaskOf(r)
	if !declared {
		p.say(true, "%s is declared no longer", t.ShownID())
		return nil
	}
	return p.start(t, r.Args)
}

// nextOrder orders the runs by day or by task.
func (p *historyPage) nextOrder() tea.Cmd {
	p.byTask = !p.byTask
	p.arrange()
	p.clamp()
	return nil
}

// drawRun asks what to draw of the chosen run, and into which file.
func (p *historyPage) drawRun() tea.Cmd {
	r := p.current()
	if r == nil {
		return nil
	}
	name := fileWord(shownTask(r))
	var points []draw.Point
	for i := range slices.Backward(p.runs) {
		if q := &p.runs[i]; q.Task == r.Task && q.State != "running" {
			points = append(points, draw.Point{Start: q.Start, Seconds: q.Elapsed(p.now).Seconds(), Problems: q.Count.Total(), Good: q.State == "ok"})
		}
	}
	points = points[max(0, len(points)-maxTrend):]
	var bars []draw.Bar
	for _, q := range slices.Backward(p.stepsOf(r)) {
		bars = append(bars, draw.Bar{Name: shownTask(q), Start: q.Start, End: q.Start.Add(q.Elapsed(p.now)), State: q.State})
	}
	trend := func(to io.Writer, on draw.Paper) error {
		return draw.Trend(to, on, fmt.Sprintf("%s, %s", shownTask(r), plural(len(points), "run")), points)
	}
	timeline := func(to io.Writer, on draw.Paper) error {
		return draw.Timeline(to, on, fmt.Sprintf("run %d, %s", r.Job, r.Start.Format("Monday 2 January 2006 15:04")), bars)
	}
	return p.ask("What is to be drawn, and into which file?",
		p.drawing("trend-"+name+".svg", "how long its runs took, and their problems", trend),
		p.drawing("trend-"+name+".pdf", "", trend),
		p.drawing(fmt.Sprintf("timeline-%d.svg", r.Job), "when its steps began and ended", timeline),
		p.drawing(fmt.Sprintf("timeline-%d.pdf", r.Job), "", timeline))
}

// maxTrend is how many runs a drawing of a trend has.
const maxTrend = 200

// stepsOf returns the runs that belong to the same plan as one, the newest first.
func (p *historyPage) stepsOf(r *history.Run) (steps []*history.Run) {
	for i := range p.runs {
		if p.runs[i].Job == r.Job {
			steps = append(steps, &p.runs[i])
		}
	}
	return steps
}

// mark marks a run, or compares the chosen one with the one that is marked.
func (p *historyPage) mark() tea.Cmd {
	r := p.current()
	if r == nil {
		return nil
	}
	if p.compare == nil || p.compare.ID == r.ID {
		copied := *r
		p.compare = &copied
		p.say(false, "run %d is marked: choose another one; esc unmarks it", r.ID)
	}
	return nil
}

func (p *historyPage) rowName() string {
	if r := p.current(); r != nil {
		t, _ := p.snap.TaskOf(r)
		return "the run of " + shortID(t) + " at " + r.Start.Local().Format("15:04")
	}
	return ""
}
