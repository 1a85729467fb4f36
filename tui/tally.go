package tui

import (
	"cmp"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/filter"
	"tidytally/core/history"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/workspace"
)

const tallyName = "tally"

// tallyPage shows the problems of the run that is chosen, with their source.
type tallyPage struct {
	*desk

	// With the run, the filter and the order.
	rows     []problemRow
	places   []int         // indexes into rows that are problems
	hidden   int           // problems that the filter hides
	shown    problem.Count // of those that are there, without the faults of the survey
	files    int           // that they are in
	nowhere  int           // of those, how many name no file
	most     int           // problems under one heading
	problems []problem.Problem
	made     madeFrom
	// notChecked are those that are known from before, and balance is that of all runs.
	notChecked []problem.Problem
	balance    problem.Balance
	others     map[string]bool // whether a file is foreign, as far as it was asked

	// With the keys.
	order   tallyOrder
	find    field
	finding bool
	chosen  int  // index into places
	moved   bool // the user has chosen: until then it is the first error
	top     int  // first screen line shown, counted over rows and what is opened

	// With the files on disk.
	sources *sourceFiles
	opened  openedRows // of the chosen problem, as last drawn
}

func newTallyPage(d *desk) *tallyPage {
	return &tallyPage{desk: d, sources: &sourceFiles{desk: d}}
}

func (p *tallyPage) name() string { return tallyName }

func (p *tallyPage) goes() key {
	return key{names: []string{"y"}, label: tallyName, help: "the tally of problems of the last run of the chosen task, and back", ofRun: true, ofRow: true, when: p.ranSome}
}

// madeFrom is what the rows of the tally were made from.
type madeFrom struct {
	of      *run.Run
	version int
	drawn   string // what else: order, filter, survey, other runs
}

// tallyOrder is what the problems are grouped by.
type tallyOrder int

const (
	tallyByFile tallyOrder = iota
	tallyBySeverity
	tallyByTask
	tallyAsPrinted
	tallyOrders // how many there are
)

func (o tallyOrder) String() string {
	return [...]string{tallyByFile: "by file", tallyBySeverity: "by severity", tallyByTask: "by task", tallyAsPrinted: "as they came"}[o]
}

// problemRow is a heading or a problem.
type problemRow struct {
	head    string
	count   problem.Count // of a heading
	p       *problem.Problem
	state   problem.State
	run     *run.Run         // that reported it; nil for a fault of the survey
	printed *problem.Problem // p, unless it is gone: then it is not in the output
	life    *history.Lived   // the runs that reported it; nil if that is not known
}

// statedProblem is a problem as a filter sees it: with what became of it.
type statedProblem struct {
	*problem.Problem
	state problem.State
}

// Field returns the texts for a filter's field.
func (s statedProblem) Field(name string) ([]string, bool) {
	if name == "is" {
		return []string{stateWord(s.state)}, true
	}
	return s.Problem.Field(name)
}

// stateWord is the word for a state in a filter, where words have no blanks.
func stateWord(s problem.State) string { return strings.ReplaceAll(s.String(), " ", "-") }

func (p *tallyPage) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case runChosenMsg:
		p.chosen, p.moved = p.first(), false
	case surveyedMsg:
		p.others = nil
		p.refresh()
	case runsMsg:
		p.refresh()
	case blameMsg:
		p.say(false, "%s", string(msg))
	case sourcesChangedMsg:
		p.sources.forget()
		p.opened = openedRows{}
	case wantProblemMsg:
		for i, r := range p.places {
			if row := &p.rows[r]; row.printed != nil && row.run == p.run && row.p.Seq == msg.seq {
				p.chosen, p.moved = i, true
			}
		}
	}
	return nil
}

// faultsOfSurvey are the mistakes in the task files as problems. Where reading them stopped or had to guess stands on the
// page survey alone.
func (p *tallyPage) faultsOfSurvey() (out []problem.Problem) {
	if p.snap.Survey == nil {
		return nil
	}
	for _, f := range p.snap.Survey.Faults {
		if f.Limit {
			continue
		}
		out = append(out, problem.Problem{Place: problem.Place{File: f.File, Line: f.Line, Column: f.Column}, Message: f.Message, Family: "survey", Times: 1})
	}
	return out
}

// source says what the rows would be made from at present.
func (p *tallyPage) source() madeFrom {
	m := madeFrom{of: p.run, drawn: fmt.Sprint(p.order, p.find.String())}
	if p.snap.Survey != nil {
		m.drawn += fmt.Sprintf(" %p", p.snap.Survey)
	}
	if p.order == tallyByTask {
		for _, runs := range p.runs {
			last := runs[len(runs)-1]
			m.drawn += fmt.Sprintf(" %p %d", last, p.session.Verdict(last).Number)
		}
	}
	for _, r := range p.shownRuns() {
		m.version += r.Snapshot().Version + int(p.session.Verdict(r).Number)
	}
	return m
}

// shownRuns returns the runs whose problems are shown: the run that is chosen, or all steps
// of its plan if it leads them.
func (p *tallyPage) shownRuns() []*run.Run {
	if p.run == nil {
		return nil
	}
	j := p.run.Job()
	if j == nil || j.Main != p.run || len(j.Steps) == 1 {
		return []*run.Run{p.run}
	}
	return slices.DeleteFunc(slices.Clone(j.Steps), func(r *run.Run) bool { return r.Snapshot().Started.IsZero() })
}

// refresh makes the rows again if the problems, or the way in which they are shown,
// have changed.
func (p *tallyPage) refresh() {
	now := p.source()
	if now == p.made {
		return
	}
	r := now.of
	var keep problemRow
	if row := p.current(); row != nil && p.made.of == r && p.moved {
		keep = *row
	}
	if (p.made.of != r || p.made.version != now.version) && (r == nil || r.Snapshot().State.Ended()) {
		p.sources.forget()
	}
	p.made, p.opened = now, openedRows{}
	p.gather(p.all())
	p.chosen = p.first()
	for i, at := range p.places {
		row := &p.rows[at]
		if keep.p != nil && row.run == keep.run && row.state != problem.Gone && row.p.Seq == keep.p.Seq && (row.run != nil || row.p.Place == keep.p.Place) {
			p.chosen = i
		}
	}
	p.clamp()
}

// first is the place in the list of the problem to begin with: the first error that is there in a
// file of the user's own, else the first error, else the first problem.
func (p *tallyPage) first() int {
	best, rank := 0, 0
	for i, at := range p.places {
		row := &p.rows[at]
		n := 0
		switch {
		case row.state == problem.Gone:
		case row.run == nil: // a fault of the survey
			n = 1
		case row.p.Severity != problem.Error:
			n = 2
		case p.foreign(row.p.File):
			n = 3
		default:
			return i
		}
		if n > rank {
			best, rank = i, n
		}
	}
	return best
}

// foreign reports whether a file is none of the workspace's own: it is outside of it, or in a
// folder that a rule keeps out, such as that of the installed packages.
func (p *tallyPage) foreign(file string) bool {
	if file == "" {
		return false
	}
	if is, known := p.others[file]; known {
		return is
	}
	is := filepath.IsAbs(file) || strings.HasPrefix(file, "../")
	if !is && p.snap.Survey != nil {
		is = slices.ContainsFunc(p.snap.Survey.Skipped, func(k workspace.Skip) bool {
			return strings.HasPrefix(k.Rule, "built-in: ") && strings.HasPrefix(file, k.Path+"/")
		})
	}
	if p.others == nil {
		p.others = map[string]bool{}
	}
	p.others[file] = is
	return is
}

// all returns the problems of the runs that the order shows, and the faults of the
// survey.
func (p *tallyPage) all() (all []problemRow) {
	p.problems, p.notChecked, p.balance = nil, nil, problem.Balance{}
	mine := p.shownRuns()
	take := func(r *run.Run) {
		c := p.session.Verdict(r)
		if slices.Contains(mine, r) {
			p.problems = append(p.problems, c.Found...)
			p.notChecked = append(p.notChecked, c.Verdict.NotChecked...)
			p.balance.Add(c.Balance)
		}
		for i := range c.Lives {
			l := &c.Lives[i]
			row := problemRow{p: &l.Problem, state: l.State, run: r}
			if l.State != problem.NotChecked {
				row.printed = row.p
			}
			if c.Run != 0 {
				row.life = l
			}
			all = append(all, row)
		}
		for i := range c.Left {
			all = append(all, problemRow{p: &c.Left[i].Problem, state: problem.Gone, run: r})
		}
	}
	if p.order == tallyByTask {
		for _, r := range p.session.Runs() {
			if r == p.last(r.Prepared.Task) {
				take(r)
			}
		}
	} else {
		for _, r := range mine {
			take(r)
		}
	}
	if len(all) == 0 && p.run != nil && p.run.Snapshot().State == run.Failed {
		return nil // how its output ends says more
	}
	faults := p.faultsOfSurvey()
	for i := range faults {
		all = append(all, problemRow{p: &faults[i]})
	}
	return all
}

// problemGroup is a heading and the problems under it.
type problemGroup struct {
	head string
	rows []int // indexes into all problems
}

// gather puts the problems that pass the filter under headings.
func (p *tallyPage) gather(all []problemRow) {
	q := filter.Parse(p.find.String(), problem.FilterFields...)
	p.rows, p.places, p.hidden = make([]problemRow, 0, len(all)+16), make([]int, 0, len(all)), 0
	p.shown, p.nowhere, p.most = problem.Count{}, 0, 0
	files := map[string]bool{}
	file := "" // the last one seen: most problems are in the file of the one before
	var groups []*problemGroup
	byHead := map[string]*problemGroup{}
	var last *problemGroup // problems of one group stand together, mostly
	subject := &statedProblem{}
	heads := headings{order: p.order}
	for i := range all {
		row := &all[i]
		if subject.Problem, subject.state = row.p, row.state; !q.Empty() && !q.Passes(subject) {
			p.hidden++
			continue
		}
		if head := heads.of(row); last == nil || last.head != head {
			if last = byHead[head]; last == nil {
				last = &problemGroup{head: head}
				byHead[head] = last
				groups = append(groups, last)
			}
		}
		last.rows = append(last.rows, i)
		if row.state != problem.Gone && row.run != nil {
			p.shown.Add(row.p.Severity)
			if row.p.File == "" {
				p.nowhere++
			} else if row.p.File != file {
				file = row.p.File
				files[file] = true
			}
		}
	}
	p.files = len(files)
	p.sort(groups, all)
	for _, g := range groups {
		at := len(p.rows)
		p.rows = append(p.rows, problemRow{head: g.head})
		for _, i := range g.rows {
			if all[i].state != problem.Gone {
				p.rows[at].count.Add(all[i].p.Severity)
			}
			p.places = append(p.places, len(p.rows))
			p.rows = append(p.rows, all[i])
		}
		p.most = max(p.most, p.rows[at].count.Total())
	}
}

// headings names the group of a problem.
type headings struct {
	order tallyOrder
	run   *run.Run // of the last problem
	task  string   // of that run
}

func (h *headings) of(row *problemRow) string {
	switch {
	case row.run == nil:
		return surveyHead
	case h.order == tallyBySeverity:
		return severityHeads[row.p.Severity]
	case h.order == tallyByTask:
		if row.run != h.run {
			h.run, h.task = row.run, shortID(row.run.Prepared.Task)
		}
		return h.task
	case h.order == tallyAsPrinted:
		return tallyAsPrinted.String()
	}
	return row.p.File
}

// sort orders the groups, and the problems in them.
func (p *tallyPage) sort(groups []*problemGroup, all []problemRow) {
	before := func(i, j int) int { return 0 }
	switch p.order {
	case tallyBySeverity:
		worst := func(g *problemGroup) int {
			if g.head == surveyHead {
				return len(severityHeads)
			}
			return int(all[g.rows[0]].p.Severity)
		}
		slices.SortStableFunc(groups, func(a, b *problemGroup) int { return worst(a) - worst(b) })
	case tallyByFile:
		slices.SortStableFunc(groups, func(a, b *problemGroup) int {
			return rankOf(p.foreign(a.head)) - rankOf(p.foreign(b.head))
		})
		before = func(i, j int) int {
			a, b := all[i].p, all[j].p
			return cmp.Or(a.Line-b.Line, a.Column-b.Column)
		}
	case tallyAsPrinted:
		// What is gone stands where it was, as far as that can be said.
		before = func(i, j int) int { return all[i].p.Output.FirstLine - all[j].p.Output.FirstLine }
	}
	for _, g := range groups {
		if !slices.IsSortedFunc(g.rows, before) {
			slices.SortStableFunc(g.rows, before)
		}
	}
}

// rankOf puts what is foreign last.
func rankOf(foreign bool) int {
	if foreign {
		return 1
	}
	return 0
}

// severityHeads are the headings of the problems of each severity.
var severityHeads = [...]string{problem.Error: "errors", problem.Warning: "warnings", problem.Note: "notes"}

// surveyHead is the heading of what is wrong with the task files themselves.
const surveyHead = "in the task files"

// current is the chosen problem, or nil.
func (p *tallyPage) current() *problemRow {
	if p.chosen >= 0 && p.chosen < len(p.places) {
		return &p.rows[p.places[p.chosen]]
	}
	return nil
}

// position is the number of the chosen problem among those that are there.
func (p *tallyPage) position() int {
	n := 0
	for i, r := range p.places {
		if p.rows[r].state != problem.Gone && p.rows[r].run != nil {
			n++
		}
		if i == p.chosen {
			break
		}
	}
	return max(1, n)
}

// total is the number of problems that are there and shown.
func (p *tallyPage) total() int { return p.shown.Total() }

func (p *tallyPage) move(rows int)   { p.chosen, p.moved = p.chosen+rows, true }
func (p *tallyPage) scroll(rows int) { p.move(rows) }

func (p *tallyPage) clamp() {
	p.chosen = max(0, min(p.chosen, len(p.places)-1))
	p.problem = p.current()
	if p.problem == nil {
		p.top = 0
		return
	}
	height := p.listHeight()
	at := p.places[p.chosen]
	open := len(p.openedLines(p.problem))
	// The lines opened under the chosen row are in view too, as far as they fit.
	bottom := at + min(open, height-1)
	p.top = min(p.top, at)
	if at > 0 && p.rows[at-1].p == nil {
		p.top = min(p.top, at-1)
	}
	p.top = max(p.top, bottom-height+1)
	p.top = max(0, min(p.top, len(p.rows)+open-height))
}

func (p *tallyPage) click(row int) bool {
	line := p.top + row - tallyHead
	if row < tallyHead || p.current() == nil {
		return false
	}
	at := p.places[p.chosen]
	if open := len(p.opened.lines); line > at {
		if line <= at+open {
			return true
		}
		line -= open
	}
	i := slices.Index(p.places, line)
	if i < 0 {
		return false
	}
	p.chosen, p.moved = i, true
	return true
}

func (p *tallyPage) field() *field {
	if p.finding {
		return &p.find
	}
	return nil
}

func (p *tallyPage) subject() *run.Run { return p.run }

func (p *tallyPage) count() (problem.Balance, problem.Count, bool) {
	return p.balance, problem.CountOf(p.problems, p.notChecked), true
}

func (p *tallyPage) clear() bool {
	if p.find.String() == "" {
		return false
	}
	p.find.set("")
	p.refresh()
	return true
}
