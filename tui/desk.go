package tui

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/hand"
	"tidytally/core/history"
	"tidytally/core/keep"
	"tidytally/core/plan"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/secret"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/core/toolchain"
	"tidytally/core/workspace"
	"tidytally/tui/ink"
)

// A desk is what all pages share. Only the goroutine of Bubble Tea's loop uses it,
// but for the fields of the last group.
type desk struct {
	shell
	root string // absolute
	ink  ink.Well

	// With the window.
	width, height int // of a page without its edges, in cells
	now           time.Time
	clock         func() time.Time                          // what tells now
	execute       func(*exec.Cmd, tea.ExecCallback) tea.Cmd // runs an editor on the whole terminal

	// With what the user pins, runs and picks; outside of the workspace.
	kept *keep.Kept
	file string // the current file by the user's choice, absolute, or ""
	// greets says that this is the first start: the keys that one needs are shown until the first of
	// them is pressed.
	greets bool
	// written is what was written into a tally file last, or nil.
	written *written
	// declined are the tasks, by their ids, that run as they are though what they execute is older than
	// its sources.
	declined map[string]bool
	// saved is the source file saved last, absolute, or "".
	saved string

	// With each survey.
	survey  *survey.Survey
	looks   map[string]plan.Outlook // what is known of tasks before they run, by their ids
	learned atomic.Bool             // something was, and looks do not know it yet
	busy    bool                    // a survey is being made
	again   bool                    // and another is due

	// With each run, and with those of earlier sittings.
	store    *history.Store // nil while it is not open
	past     *past
	replayed map[*run.Run]*comparedRun // runs of earlier, compared as they were then
	pastIDs  map[*run.Run]int64        // the numbers in the store of runs of earlier
	recorder *lateRecorder
	opening  time.Time // when the program was opened
	lives    struct {
		of int64
		by map[string]*history.Lived
	} // the lives of the problems of a run, as read last
	opened chan historyMsg
	faults chan error // what was not kept of a run

	// lacking is what tasks lack, until files change or a run ends.
	lacking map[string]*run.Missing

	// With each run.
	records map[string]*record // by task id
	ended   map[int]bool       // the runs, by id, that have ended, as far as that was noticed
	noted   map[*run.Job]bool  // the split suites that have ended and are kept
	typed   *run.Run           // that has the keyboard, or nil
	await   []*run.Run         // those whose problems come to the front by themselves
	ticking bool

	// What is chosen: the task by the page of tasks; the run, whose output and
	// problems are shown, by whoever starts or picks one; the problem by the page of
	// problems.
	task    *task.Task
	picked  bool // the task was chosen after the run
	run     *run.Run
	problem *problemRow

	// Safe for concurrent use.
	host     *hand.Host       // editors are connected to it; nil while there is none
	surveyor *survey.Surveyor // one survey at a time, which busy holds
	super    *run.Supervisor
	watcher  *workspace.Watcher
	touched  touchedFiles
	// learnedNames are the names of the files of watched runs.
	learnedNames atomic.Pointer[map[string]bool]
	changes      chan struct{} // something changed in a run
	files        chan struct{} // something changed in the workspace
	partial      chan *survey.Survey
}

// shell is what a page asks of the shell.
type shell interface {
	// say shows a line in the footing until the next key; bad ones are of what
	// went wrong.
	say(bad bool, format string, args ...any)
	// ask lays a question over the page until an answer is chosen.
	ask(question string, answers ...answer) tea.Cmd
	// askAmong lays a question with many answers over the page, of which one is found by typing.
	askAmong(question string, all []answer) tea.Cmd
	// goTo brings a page to the front, or, if it is there, the one before it.
	goTo(name string) tea.Cmd
	// front is the name of the page in front.
	front() string
	// tell hands a message to all pages.
	tell(msg tea.Msg) tea.Cmd
	// typing reports whether a line is being typed.
	typing() bool
}

// Messages of the desk, and those with which pages tell each other.
type (
	surveyedMsg       struct{}            // the survey has changed
	runsMsg           struct{}            // runs have changed
	currentFileMsg    struct{}            // there is another current file
	sourcesChangedMsg struct{}            // source files may have changed
	runChosenMsg      struct{}            // the output and problems of another run are shown
	wantTaskMsg       struct{ id string } // choose a task
	wantArgumentsMsg  struct {            // ask for those that were not kept
		id   string
		args []string
	}
	wantProblemMsg struct{ seq int }    // choose a problem of the run that is shown
	wantLineMsg    struct{ number int } // show a line of the output, counted from 0
)

// bodyHeight is the number of rows between the heading and the footing.
func (d *desk) bodyHeight() int { return max(1, d.height-2-3) }

// row begins a row as wide as the page.
func (d *desk) row() *ink.Row { return d.ink.Row(d.width) }

// paragraph returns texts as the rows of a page that has nothing else to show.
func (d *desk) paragraph(texts ...string) []string {
	lines := []string{"", ""}
	for _, t := range texts {
		lead := t[:len(t)-len(strings.TrimLeft(t, " "))]
		for _, part := range wrap(clean(t[len(lead):]), d.width-4-len(lead)-1) {
			lines = append(lines, d.row().To(4).Put(lead+part, ink.Plain).String())
		}
	}
	return lines
}

// rule returns the hairline between two parts of a page, with the number of rows beyond it if there are
// any.
func (d *desk) rule(beyond int) string { return d.ruleOf("┄", beyond, "below") }

// ruleOf returns a rule of one sign across the page, with the number of rows beyond it.
func (d *desk) ruleOf(sign string, beyond int, where string) string {
	if beyond == 0 {
		return d.ink.Write(strings.Repeat(sign, d.width), ink.Slate)
	}
	text := fmt.Sprintf(" %d more %s ", beyond, where)
	return d.ink.Write(strings.Repeat(sign, max(0, d.width-len(text)-2))+text+strings.Repeat(sign, 2), ink.Slate)
}

// record is what is known of a task's runs since the program began.
type record struct {
	runs     []*run.Run // the newest last
	lastArgs []string
	earlier  [][]string // arguments of earlier runs, the newest last
	compared comparedRun
	kept     map[*run.Run][]problem.Problem // the problems known after runs that ended
	passes   map[*run.Run]passKnown
}

// passKnown holds the known problems of a run with rerun_on, before its newest pass and after it.
type passKnown struct {
	pass          int
	before, after []problem.Problem
	settled       *problem.Comparison // of the newest pass, once it has ended
}

// comparedRun is what a run found, against the task's run or cycle before. It is
// worked out once for each change of the run.
type comparedRun struct {
	of      *run.Run
	version int
	count   problem.Count
	problem.Comparison
}

// record returns the record of a task. A new one begins with the task's last run of earlier
// sittings, against which the first run of this one is compared.
func (d *desk) record(t *task.Task) *record {
	id := t.ID()
	if d.records[id] == nil {
		d.records[id] = &record{}
		if before := d.lastOf(t); before != nil {
			d.recall(d.records[id], t, before)
		}
	}
	return d.records[id]
}

// last returns the newest run of a task, or nil.
func (d *desk) last(t *task.Task) *run.Run {
	if rec := d.records[t.ID()]; rec != nil && len(rec.runs) > 0 {
		return rec.runs[len(rec.runs)-1]
	}
	return nil
}

// active returns the runs that have not ended.
func (d *desk) active() []run.Snapshot {
	var out []run.Snapshot
	for _, r := range d.super.Runs() {
		if s := r.Snapshot(); !s.State.Ended() {
			out = append(out, s)
		}
	}
	return out
}

// declared returns a task as it is declared now, by its id; a task that no file declares is
// itself. If the declaration is gone, it says so and returns nil: what was asked for one task
// is never done with another.
func (d *desk) declared(t *task.Task) *task.Task {
	if t.Of != "" || t.Source == toolchain.Source {
		return t
	}
	if d.survey != nil {
		for _, now := range d.survey.Tasks {
			if now.ID() == t.ID() {
				return now
			}
		}
	}
	d.say(true, "%s is declared no longer", t.ShownID())
	return nil
}

// start runs a task, unless it stays up and is running.
func (d *desk) start(t *task.Task, args []string) tea.Cmd {
	if d.declared(t) == nil {
		return nil
	}
	if secret.Missing(args) {
		return d.tell(wantArgumentsMsg{t.ID(), args})
	}
	if r := d.last(t); r != nil && t.LongRunning {
		if s := r.Snapshot(); !s.State.Ended() {
			d.say(false, "%s is %s already; x stops it", t.Name, s.Words())
			return nil
		}
	}
	if d.buildsFirst(t, args) {
		return nil
	}
	p, err := plan.Of(d.survey.Tasks, t)
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	return d.startPlan(p, args)
}

// startMade runs a task that no file declares.
func (d *desk) startMade(t *task.Task) tea.Cmd {
	p, err := plan.Of(append(slices.Clip(d.survey.Tasks), t), t)
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	return d.startPlan(p, nil)
}

// startPlan runs the steps of a plan.
func (d *desk) startPlan(p *plan.Plan, args []string) tea.Cmd {
	t := p.Task
	job, err := d.super.StartPlan(p, args)
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	d.know(job)
	rec := d.records[t.ID()]
	if rec.lastArgs = args; len(args) > 0 {
		rec.earlier = append(rec.earlier, args)
	}
	d.kept.Ran(t.ID())
	d.save()
	d.choose(job.Main)
	switch t.Show {
	case "always":
		if d.front() != outputName {
			return d.goTo(outputName)
		}
	case "on-problem":
		d.await = append(d.await, job.Main)
	}
	return nil
}

// know files the runs of a job.
func (d *desk) know(job *run.Job) {
	for _, r := range job.Steps {
		rec := d.record(r.Prepared.Task)
		if !slices.Contains(rec.runs, r) { // it may be up from before
			rec.runs = append(rec.runs, r)
		}
	}
}

// takeUp goes on with what batch systems have run since a program before this one ended.
func (d *desk) takeUp() {
	jobs, err := d.super.TakeUp()
	if err != nil {
		d.say(true, "%v", err)
	}
	for _, job := range jobs {
		d.know(job)
		d.choose(job.Main)
	}
	if len(jobs) > 0 {
		d.say(false, "taken up: %s, which went on at a batch system", jobs[len(jobs)-1].Plan.Task.Name)
	}
}

// runAgain runs the task of the run that is shown once more, with the same arguments.
func (d *desk) runAgain() tea.Cmd {
	if d.run == nil {
		return nil
	}
	s := d.run.Snapshot()
	of := s.Prepared.Task
	for _, t := range d.survey.Tasks {
		switch id := t.ID(); {
		case of.Of == "" && id == of.ID():
			return d.start(t, s.Args)
		case of.Of == id:
			return d.startMade(of)
		}
	}
	d.say(true, "%s is declared no longer", s.Prepared.Task.ShownID())
	return nil
}

// otherRun shows the run of the same task before the one shown, or the one after it: by is -1
// or 1. Runs of earlier sittings are among them.
func (d *desk) otherRun(by int) tea.Cmd {
	if d.run == nil {
		return nil
	}
	t := d.run.Prepared.Task
	rec := d.record(t)
	i := slices.Index(rec.runs, d.run)
	if next := i + by; i >= 0 && next >= 0 && next < len(rec.runs) {
		d.choose(rec.runs[next])
		return nil
	}
	of, err := d.storedBeside(d.run, by)
	switch {
	case err != nil:
		d.say(true, "earlier runs: %v", err)
	case of == nil:
		d.say(false, "there is no other run of it that way")
	default:
		for _, r := range rec.runs {
			if d.idOf(r) == of.ID {
				d.choose(r)
				return nil
			}
		}
		d.choose(d.replay(t, of))
	}
	return nil
}

// runKeys are the keys of the pages that show a run.
func (d *desk) runKeys() []key {
	return []key{
		d.bringKey(),
		{names: []string{"r"}, goal: toRun, label: "run again", when: func() bool { return d.run != nil }, help: "run the task again, with the same arguments", act: d.runAgain},
		{names: []string{"b"}, goal: toRun, help: "open the task's address in the browser", act: d.openAddress},
		{names: []string{"["}, goal: toFind, help: "the run before", act: func() tea.Cmd { return d.otherRun(-1) }},
		{names: []string{"]"}, goal: toFind, help: "the run after", act: func() tea.Cmd { return d.otherRun(1) }},
	}
}

// choose makes a run the one whose output and problems are shown.
func (d *desk) choose(r *run.Run) {
	d.run, d.picked = r, false
	d.tell(runChosenMsg{})
	d.tell(runsMsg{})
}

// newlyEnded returns the runs that have ended since it was asked last.
func (d *desk) newlyEnded() (ended []run.Snapshot) {
	for _, r := range d.super.Runs() {
		if d.ended[r.ID] {
			continue
		}
		if s := r.Snapshot(); s.State.Ended() {
			if d.ended == nil {
				d.ended = map[int]bool{}
			}
			d.ended[r.ID] = true
			d.lacking = nil
			ended = append(ended, s)
		}
	}
	return ended
}

// rings reports whether one of the runs that have ended took long enough to ring for.
func (d *desk) rings(ended []run.Snapshot) bool {
	if d.survey == nil || d.survey.Tally.Workspace.Bell == 0 {
		return false
	}
	return slices.ContainsFunc(ended, func(s run.Snapshot) bool { return s.Elapsed(d.now) >= d.survey.Tally.Workspace.Bell })
}

// bringForward shows the problems of a run that has ended with some, if its task
// says so.
func (d *desk) bringForward() {
	d.await = slices.DeleteFunc(d.await, func(r *run.Run) bool {
		s := r.Snapshot()
		if !s.State.Ended() {
			return false
		}
		if len(s.Problems) > 0 && !d.typing() {
			d.choose(r)
			if d.front() != tallyName {
				d.goTo(tallyName)
			}
		}
		return true
	})
}

// compared returns the problems of a run against those of the task's run before,
// or of the cycle before.
func (d *desk) compared(r *run.Run) *comparedRun {
	if c := d.replayed[r]; c != nil {
		return c
	}
	s := r.Snapshot()
	rec := d.records[s.Prepared.Task.ID()]
	if rec == nil {
		rec = &record{}
	}
	if c := &rec.compared; c.of == r && c.version == s.Version {
		return c
	}
	c := d.compare(rec, r, &s)
	if s.State.Ended() {
		rec.stands(r, append(slices.Clip(c.Found), c.NotChecked...))
	}
	rec.compared = comparedRun{of: r, version: s.Version, count: problem.CountOf(c.Found, c.NotChecked), Comparison: c}
	return &rec.compared
}

func (d *desk) compare(rec *record, r *run.Run, s *run.Snapshot) problem.Comparison {
	if r.Prepared.Task.Reruns() {
		return d.comparePass(rec, r, s)
	}
	return d.compareRun(rec, r, s)
}

// comparePass compares the newest pass of a run that is run again on change with all that was
// known before it: a build says nothing of what it does not build again.
func (d *desk) comparePass(rec *record, r *run.Run, s *run.Snapshot) (c problem.Comparison) {
	known, n := rec.passes[r], s.Pass()
	if n > known.pass {
		known = passKnown{pass: n, before: known.after, after: known.after}
	}
	if known.settled != nil && s.State.Ended() {
		return *known.settled // it was stopped while it waited for a change
	}
	switch {
	case n == 1:
		c = d.compareRun(rec, r, s)
	case len(known.before) == 0:
		c = problem.Compare(nil, s.Problems, nil)
	default:
		c = problem.Compare(known.before, s.Problems, r.Reach(time.Time{}).Checked)
	}
	if s.State == run.Watching || s.State.Ended() {
		known.after = append(slices.Clip(c.Found), c.NotChecked...)
		settled := c
		known.settled = &settled
	}
	if rec.passes == nil {
		rec.passes = map[*run.Run]passKnown{}
	}
	rec.passes[r] = known
	return c
}

func (d *desk) compareRun(rec *record, r *run.Run, s *run.Snapshot) problem.Comparison {
	before, since := s.Before, time.Time{}
	if i := slices.Index(rec.runs, r); s.Cycle == 0 && i > 0 {
		earlier := rec.runs[i-1]
		before, since = rec.standing(d, earlier), earlier.Snapshot().Started
	}
	if len(before) == 0 {
		return problem.Compare(nil, s.Problems, nil)
	}
	return problem.Compare(before, s.Problems, r.Reach(since).Checked)
}

// standing returns the problems that are known after a run: those that it reported, and
// those from before that it did not check.
func (rec *record) standing(d *desk, r *run.Run) []problem.Problem {
	if kept, ok := rec.kept[r]; ok {
		return kept
	}
	s := r.Snapshot()
	c := d.compare(rec, r, &s)
	all := append(slices.Clip(c.Found), c.NotChecked...)
	rec.stands(r, all)
	return all
}

func (rec *record) stands(r *run.Run, all []problem.Problem) {
	if rec.kept == nil {
		rec.kept = map[*run.Run][]problem.Problem{}
	}
	rec.kept[r] = all
}

// since says how a run stands, and since when or for how long.
func (d *desk) since(s *run.Snapshot) string {
	switch {
	case s.Asks:
		return s.Words()
	case s.State == run.Up:
		return "up since " + s.UpSince.Format("15:04")
	case s.State == run.Skipped && s.Blamed != "":
		return s.Words() + ": " + s.Blamed
	case s.State == run.Waiting, s.State == run.Watching, s.State == run.Skipped:
		return s.Words()
	case !s.State.Ended():
		return s.Words() + " " + durationOf(s, d.now)
	}
	return s.Words() + " after " + durationOf(s, d.now)
}

// openEditor opens the user's editor at a place and comes back to the page.
func (d *desk) openEditor(file string, line, column int) tea.Cmd {
	file = d.absolute(file)
	if _, err := os.Stat(file); err != nil {
		d.say(true, "%s: it is gone; it was there when it was read", file)
		return nil
	}
	if d.host != nil && d.host.Show(file, line, column) > 0 {
		d.say(false, "shown in the editor that is connected")
		return nil
	}
	cmd, err := editorCommand(file, line, column)
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	return d.execute(cmd, func(err error) tea.Msg { return editedMsg{err} })
}

// folderWords names a folder of the workspace.
func folderWords(dir string) string {
	if dir == "." {
		return "the workspace's root"
	}
	return dir
}

// absolute returns the absolute path of a file of the workspace.
func (d *desk) absolute(file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(d.root, filepath.FromSlash(file))
}

// shortID is the id of a task without the name of the declaring file.
func shortID(t *task.Task) string {
	if i := strings.LastIndexByte(t.File, '/'); i >= 0 {
		return t.File[:i] + "#" + t.Name
	}
	return t.Name
}
