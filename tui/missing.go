package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/plan"
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

// bringsFirst asks whether to run what brings what a task lacks before it, and remembers the answer for all tasks that lack
// the same. It reports whether it asked, or started both.
func (d *desk) bringsFirst(t *task.Task, args []string) (tea.Cmd, bool) {
	m := d.lacks(t)
	if m == nil || m.Command == "" || d.declined[t.ID()] {
		return nil, false
	}
	by := run.SetupTask(d.snap.Survey.Tasks, t, m, d.root)
	if by.ID() == t.ID() {
		return nil, false
	}
	both := func() tea.Cmd {
		tasks := slices.Clone(d.snap.Survey.Tasks) // what comes before it may lack the same
		if by.Of != "" {
			tasks = append(tasks, by)
		}
		first := t
		for i, k := range tasks {
			if k.Dir == t.Dir && k.Setup == t.Setup && k != by {
				behind := *k
				behind.Before = append([]string{by.ID()}, k.Before...)
				tasks[i] = &behind
				if k == t {
					first = &behind
				}
			}
		}
		if first == t { // no file declares it
			behind := *t
			behind.Before = append([]string{by.ID()}, t.Before...)
			first = &behind
			tasks = append(tasks, first)
		}
		p, err := plan.Of(tasks, first)
		if err != nil {
			d.say(true, "%v", err)
			return nil
		}
		return d.startPlan(p, args)
	}
	if d.brought[m.Dir+"\x00"+m.Command] {
		return both(), true
	}
	return d.ask(t.Name+": "+m.What+".",
		answer{"bring it first, then run", m.Command + "   and so for all that lack it, in this sitting", func() tea.Cmd {
			if d.brought == nil {
				d.brought = map[string]bool{}
			}
			d.brought[m.Dir+"\x00"+m.Command] = true
			return both()
		}},
		answer{"run it as it is", "and do not ask again in this sitting", func() tea.Cmd {
			d.decline(t)
			return d.start(t, args)
		}}), true
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
	return key{names: []string{"I"}, goal: toRun, label: "bring it", ofRow: true, when: d.lacksSomething, help: "run what brings what the task lacks: packages, a configured build", act: d.bring}
}
