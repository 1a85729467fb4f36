package tui

import (
	tea "charm.land/bubbletea/v2"

	"tidytally/core/run"
	"tidytally/core/task"
)

// Missing requirements of a task: packages, a configured build, a tool.

// lateMissing is what a task lacks, which is found out beside the loop.
type lateMissing struct {
	known <-chan struct{} // closed when the field below is set
	what  *run.Missing
}

// lacks returns what a task is known to lack, or nil. It is looked up once until files change or a run
// ends.
func (d *desk) lacks(t *task.Task) *run.Missing {
	key := t.Dir + "\x00" + t.Setup.Path + "\x00" + t.Via + "\x00" + t.Command.String()
	m := d.lacking[key]
	if m == nil {
		m = &lateMissing{}
		ctx := d.session.Context()
		m.known = d.beside("what a task lacks", func() { m.what = ctx.Missing(t) })
		if d.lacking == nil {
			d.lacking = map[string]*lateMissing{}
		}
		d.lacking[key] = m
	}
	if !isDone(m.known) {
		return nil
	}
	return m.what
}

// bring asks whether to run what brings what the chosen task lacks.
func (d *desk) bring() tea.Cmd {
	t := d.task
	if r := d.of(); d.front() != tasksName && r != nil {
		t = r.Prepared.Task
	}
	if t == nil || d.snap.Survey == nil {
		return nil
	}
	m := d.lacks(t)
	switch {
	case m == nil:
		d.say(false, "%s lacks nothing that we know of", t.Name)
		return nil
	case m.Command == "":
		d.say(false, "%s, and it is not known what brings it", m.What)
		return nil
	}
	by := run.SetupTask(d.snap.Survey.Tasks, t, m, d.root)
	about := by.Command.String() + "   in " + folderWords(by.Dir)
	if by.Of == "" {
		about = by.ShownID() + "   " + about
	}
	return d.ask(t.Name+": "+m.What+".",
		answer{"run what brings it", about, func() tea.Cmd {
			if by.Of == "" {
				return d.start(by, nil)
			}
			return d.startMade(by)
		}},
		answer{"not now", "", func() tea.Cmd { return nil }})
}

// lacksSomething reports whether the chosen task is known to lack something that can be brought.
func (d *desk) lacksSomething() bool {
	t := d.task
	if r := d.of(); d.front() != tasksName && r != nil {
		t = r.Prepared.Task
	}
	if t == nil {
		return false
	}
	m := d.lacks(t)
	return m != nil && m.Command != ""
}

// bringKey is the key of the pages on which a task can lack something.
func (d *desk) bringKey() key {
	return key{names: []string{"I"}, goal: toRun, label: "bring it", when: d.lacksSomething, help: "run what brings what the task lacks: packages, a configured build", act: d.bring}
}
