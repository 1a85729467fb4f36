package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/draft"
	"tidytally/core/plan"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// Offers are tasks that should come before a task, because it reads or executes their results.

// offers returns what should come before a task and does not.
func (d *desk) offers(t *task.Task) []plan.Offer {
	ctx := d.session.Context()
	prepared, err := ctx.Prepare(t, nil)
	if err != nil || t.Command.IsZero() {
		return nil
	}
	return plan.Offers(d.snap.Survey.Tasks, t, d.session.Learned, d.root, prepared.Launches())
}

// offerWords say why a task should come before another one.
func offerWords(o *plan.Offer) string {
	files := o.Files[0]
	if n := len(o.Files) - 1; n > 0 {
		files += fmt.Sprintf(" and %d more", n)
	}
	if o.Launches {
		return fmt.Sprintf("it runs %s, which %s makes", files, o.Before.ShownID())
	}
	return fmt.Sprintf("it reads %s, which %s makes", files, o.Before.ShownID())
}

// putBefore writes into the tally file that the task of an offer runs behind the one that makes its files.
func (d *desk) putBefore(o *plan.Offer) tea.Cmd {
	change, id := draft.Change(o.Task), o.Before.ID()
	if change.There && o.Before.File == o.Task.File {
		_, name := task.SplitID(id)
		id = "#" + name
	}
	if err := change.Set("before", task.QuoteAll(append(slices.Clone(o.Task.Before), id))); err != nil {
		d.say(true, "%v", err)
		return nil
	}
	file := workspace.TallyFile
	if change.There {
		file = o.Task.File
	}
	return d.editFile(file, o.Before.ShownID()+" runs before "+o.Task.Name, change.Write)
}

// decline notes that a task runs as it is, without a question.
func (d *desk) decline(t *task.Task) {
	if d.declined == nil {
		d.declined = map[string]bool{}
	}
	d.declined[t.ID()] = true
}

// buildsFirst asks whether to build first what a task is about to execute, if that is older than its
// sources. It reports whether it asked.
func (d *desk) buildsFirst(t *task.Task, args []string) bool {
	if d.declined[t.ID()] {
		return false
	}
	for _, o := range d.offers(t) {
		look := d.snap.Outlooks()[o.Before.ID()]
		if !o.Launches || !look.Stale() {
			continue
		}
		first := *t
		first.Before = append(slices.Clone(t.Before), o.Before.ID())
		run := func(t *task.Task) tea.Cmd {
			p, err := plan.Of(append(slices.Clip(d.snap.Survey.Tasks), t), t)
			if err != nil {
				d.say(true, "%v", err)
				return nil
			}
			return d.startPlan(p, args)
		}
		_ = d.ask(fmt.Sprintf("%s is older than its sources: %s. Build it first?", o.Files[0], strings.Join(look.Why, ", ")),
			answer{"build first, always", "before = [" + o.Before.ShownID() + "] is written into the tally file", func() tea.Cmd { return tea.Batch(d.putBefore(&o), run(&first)) }},
			answer{"build first, this time", o.Before.ShownID(), func() tea.Cmd { return run(&first) }},
			answer{"run it as it is", "and do not ask again in this sitting", func() tea.Cmd {
				d.decline(t)
				return run(t)
			}})
		return true
	}
	return false
}
