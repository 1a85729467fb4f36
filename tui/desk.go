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

	"tidytally/core/crash"
	"tidytally/core/hand"
	"tidytally/core/history"
	"tidytally/core/keep"
	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/secret"
	"tidytally/core/session"
	"tidytally/core/task"
	"tidytally/core/toolchain"
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
	readFile      func(file string, most int64) ([]byte, error)
	readsFor      time.Duration // how long a page waits for a disk; what takes longer is shown later
	waited        bool          // it has done so since the last message

	// With what the user pins and runs; outside of the workspace.
	kept *keep.Kept
	// greets says that this is the first start: the keys that one needs are shown until the first of
	// them is pressed.
	greets bool
	// written is what was written into a tally file last, or nil.
	written *written
	// declined are the tasks, by their ids, that run as they are though they lack something, or what they execute is older
	// than its sources.
	declined map[string]bool
	// brought are what tasks lack, by its folder and the command that brings it, which runs before them.
	brought map[string]bool

	// With each news of the session.
	snap     *session.Snapshot     // what is known of the workspace
	runs     map[string][]*run.Run // of this session, and those that go on elsewhere, by the ids of their tasks; the newest last
	gathered []*run.Run            // what runs was made of

	// lacking is what tasks lack, until files change or a run ends.
	lacking map[string]*lateMissing

	// With each run.
	given   map[string]*given // by task id
	ended   map[int]bool      // the runs, by id, that have ended, as far as that was noticed
	noted   map[*run.Job]bool // the split suites that have ended and are kept
	typed   *run.Run          // that has the keyboard, or nil
	await   []*run.Run        // those whose problems come to the front by themselves
	ticking bool

	// What is chosen: the task by the page of tasks; the run, whose output and
	// problems are shown, by whoever starts or picks one; the problem by the page of
	// problems.
	task    *task.Task
	picked  bool // the task was chosen after the run
	run     *run.Run
	problem *problemRow

	// Safe for concurrent use.
	session *session.Session
	host    *hand.Host    // editors are connected to it; nil while it does not listen
	news    chan struct{} // something changed in the session
	faults  chan error    // what a person should know
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

// given are the arguments that a task was run with.
type given struct {
	last []string
	all  [][]string // the newest last
}

// givenTo returns the arguments that a task was run with, in this session and before it.
func (d *desk) givenTo(t *task.Task) *given {
	id := t.ID()
	if d.given[id] == nil {
		d.given[id] = &given{}
		if before := d.lastOf(t); before != nil && len(before.Args) > 0 {
			d.given[id].all = [][]string{before.Args}
		}
	}
	return d.given[id]
}

// last returns the newest run of a task in this session, or one that goes on elsewhere; nil if it has not run.
func (d *desk) last(t *task.Task) *run.Run {
	if runs := d.runs[t.ID()]; len(runs) > 0 {
		return runs[len(runs)-1]
	}
	return nil
}

// gatherRuns looks for new runs.
func (d *desk) gatherRuns() {
	runs := append(d.session.Runs(), d.session.Others()...)
	if slices.Equal(runs, d.gathered) {
		return // most news is of what a run prints
	}
	d.gathered, d.runs = runs, map[string][]*run.Run{}
	for _, r := range runs {
		id := r.Prepared.Task.ID()
		d.runs[id] = append(d.runs[id], r)
	}
}

// active returns the runs that have not ended.
func (d *desk) active() []run.Snapshot {
	var out []run.Snapshot
	for _, r := range d.session.Runs() {
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
	if now := d.snap.Find(t.ID()); now != nil {
		return now
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
	if cmd, asked := d.bringsFirst(t, args); asked {
		return cmd
	}
	if d.buildsFirst(t, args) {
		return nil
	}
	p, err := plan.Of(d.snap.Survey.Tasks, t)
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	return d.startPlan(p, args)
}

// startMade runs a task that no file declares.
func (d *desk) startMade(t *task.Task) tea.Cmd {
	p, err := plan.Of(append(slices.Clip(d.snap.Survey.Tasks), t), t)
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	return d.startPlan(p, nil)
}

// startPlan runs the steps of a plan.
func (d *desk) startPlan(p *plan.Plan, args []string) tea.Cmd {
	t := p.Task
	job, err := d.session.StartPlan(p, args)
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	d.gatherRuns()
	given := d.givenTo(t)
	if given.last = args; len(args) > 0 {
		given.all = append(given.all, args)
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

// tookUpMsg brings the jobs that went on at batch systems since a program before this one ended.
type tookUpMsg struct {
	jobs []*run.Job
	err  error
}

// takeUp goes on with those jobs.
func (d *desk) takeUp() tea.Msg {
	jobs, err := d.session.TakeUp()
	return tookUpMsg{jobs, err}
}

// tookUp shows them.
func (d *desk) tookUp(msg tookUpMsg) {
	if msg.err != nil {
		d.say(true, "%v", msg.err)
	}
	d.gatherRuns()
	if n := len(msg.jobs); n > 0 {
		d.choose(msg.jobs[n-1].Main)
		d.say(false, "taken up: %s, which went on at a batch system", msg.jobs[n-1].Plan.Task.Name)
	}
}

// runAgain runs the task of the run that is shown once more, with the same arguments.
func (d *desk) runAgain() tea.Cmd {
	if d.run == nil {
		return nil
	}
	s := d.run.Snapshot()
	of := s.Prepared.Task
	for _, t := range d.snap.Survey.Tasks {
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

// otherRun moves through the task's history by runs: by is -1 or 1.
func (d *desk) otherRun(by int) tea.Cmd {
	if d.run == nil {
		return nil
	}
	t := d.run.Prepared.Task
	own := d.runs[t.ID()]
	if i := slices.Index(own, d.run); i >= 0 && i+by >= 0 && i+by < len(own) {
		d.choose(own[i+by])
		return nil
	}
	store, id := d.session.Store(), d.session.RunID(d.run)
	var of *history.Run
	var err error
	if store != nil && id != 0 {
		of, err = store.Beside(t.ID(), id, by)
	}
	switch {
	case err != nil:
		d.say(true, "earlier runs: %v", err)
	case of == nil:
		d.say(false, "there is no other run of it that way")
	default:
		d.recall(t, of.ID)
	}
	return nil
}

// runKeys are the keys of the pages that show a run.
func (d *desk) runKeys() []key {
	return []key{
		d.bringKey(),
		{names: []string{"r"}, goal: toRun, label: "run again", when: func() bool { return d.run != nil }, help: "run the task again, with the same arguments", ofRow: true, act: d.runAgain},
		{names: []string{"b"}, goal: toRun, help: "open the task's address in the browser", ofRow: true, when: d.hasAddress, act: d.openAddress},
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
	for _, r := range d.session.Runs() {
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
	if d.snap.Survey == nil || d.snap.Survey.Tally.Workspace.Bell == 0 {
		return false
	}
	return slices.ContainsFunc(ended, func(s run.Snapshot) bool { return s.Elapsed(d.now) >= d.snap.Survey.Tally.Workspace.Bell })
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

// beside does something that may wait for a disk beside the loop, and waits for it for readsFor at most, and not again until the next
// message. The channel is closed when it is done; if that is later, the pages are told.
func (d *desk) beside(what string, do func()) <-chan struct{} {
	done := make(chan struct{})
	var late atomic.Bool
	crash.Go(what, func() {
		defer func() {
			close(done)
			if late.Load() {
				nudge(d.news)
			}
		}()
		do()
	}, nil)
	if !d.waited {
		select {
		case <-done:
			return done
		case <-time.After(d.readsFor):
			d.waited = true
		}
	}
	if late.Store(true); isDone(done) {
		nudge(d.news) // it may not have seen that it is late
	}
	return done
}

// isDone reports whether a channel is closed.
func isDone(c <-chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}

// folderWords names a folder of the workspace.
func folderWords(dir string) string {
	if dir == "." {
		return "the workspace's root"
	}
	return dir
}

// shownFolder names an absolute folder: from the workspace, or from the home folder, where it lies in one of these.
func (d *desk) shownFolder(dir string) string {
	if rel, err := filepath.Rel(d.root, dir); err == nil && filepath.IsLocal(rel) {
		return folderWords(filepath.ToSlash(rel))
	}
	if home, err := os.UserHomeDir(); err == nil {
		if rel, err := filepath.Rel(home, dir); err == nil && filepath.IsLocal(rel) {
			return "~/" + filepath.ToSlash(rel)
		}
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
