package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/task"
)

// Test suites that are run file by file.

// suite returns the test suite that a page is about, or nil: the chosen task, or the one whose
// run is shown.
func (d *desk) suite() *task.Task {
	id := ""
	if r := d.of(); r != nil {
		id = r.Job().Plan.Task.ID()
	}
	if d.front() == tasksName || id == "" {
		if d.task == nil {
			return nil
		}
		id = d.task.ID()
	}
	if d.snap.Survey == nil {
		return nil
	}
	for _, t := range d.snap.Survey.Tasks {
		if t.ID() == id && len(plan.Parts(d.snap.Survey.Tasks, t)) > 0 {
			return t
		}
	}
	return nil
}

// split asks how many files of the chosen test suite run at once, and runs it.
func (d *desk) split() tea.Cmd {
	t := d.suite()
	if t == nil {
		d.say(false, "this is no test suite whose files are known")
		return nil
	}
	d.noteEnded()
	n := len(plan.Parts(d.snap.Survey.Tasks, t))
	answers := []answer{
		{fmt.Sprintf("%d at a time", d.session.Slots()), "as many as there are slots", func() tea.Cmd { return d.startSplit(t, plan.Split{}) }},
	}
	for _, at := range []int{2, 1} {
		if at != d.session.Slots() {
			answers = append(answers, answer{fmt.Sprintf("%d at a time", at), "", func() tea.Cmd { return d.startSplit(t, plan.Split{AtOnce: at}) }})
		}
	}
	if failed := d.kept.Suites[t.ID()].Failed; len(failed) > 0 {
		answers = append(answers, answer{"what failed last", plural(len(failed), "file"), d.runFailed})
	}
	return d.ask(fmt.Sprintf("%s has %s. How many run at once?", t.ShownID(), plural(n, "file")), answers...)
}

func (d *desk) startSplit(t *task.Task, how plan.Split) tea.Cmd {
	how.Took = func(id string) float64 { return d.kept.Suites[t.ID()].Seconds[id] }
	p, err := plan.OfSuite(d.snap.Survey.Tasks, t, how)
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	return d.startPlan(p, nil)
}

// runFailed runs those files of a test suite again that failed last.
func (d *desk) runFailed() tea.Cmd {
	t := d.suite()
	if t == nil {
		d.say(false, "this is no test suite whose files are known")
		return nil
	}
	d.noteEnded()
	failed := d.kept.Suites[t.ID()].Failed
	if len(failed) == 0 {
		d.say(false, "no file of %s failed when it was split and run last", t.ShownID())
		return nil
	}
	return d.startSplit(t, plan.Split{Only: failed})
}

// noteEnded saves the results of suites that have just ended.
func (d *desk) noteEnded() {
	if d.noteFiles() {
		d.save()
	}
}

// noteFiles keeps how the files of a suite went. It reports whether there was news.
func (d *desk) noteFiles() (news bool) {
	for _, r := range d.session.Runs() {
		j := r.Job()
		if j.Main != r || !j.Plan.KeepGoing || d.noted[j] {
			continue
		}
		select {
		case <-j.Done():
		default:
			continue
		}
		if d.noted == nil {
			d.noted = map[*run.Job]bool{}
		}
		d.noted[j] = true
		j.Files(func(file *task.Task, seconds float64, good bool) {
			d.kept.RanFile(j.Plan.Task.ID(), file.ID(), seconds, good)
			news = true
		})
	}
	return news
}

// suiteKeys are the keys of the pages on which a suite can be chosen.
func (d *desk) suiteKeys() []key {
	return []key{
		{names: []string{"S"}, goal: toRun, help: "run the files of a test suite one by one or several at once", ofRow: true, when: func() bool { return d.suite() != nil }, act: d.split},
		{names: []string{"F"}, goal: toRun, help: "run those files of a test suite again that failed", ofRow: true, when: d.someFailed, act: d.runFailed},
	}
}
