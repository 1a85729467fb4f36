package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/task"
)

// startDebugger runs the program of a task under a debugger that stops at a place, and gives
// it the keyboard.
func (d *desk) startDebugger(t *task.Task, at run.Place) tea.Cmd {
	debug, err := run.DebugTask(t, at)
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	p, err := plan.Of(append(slices.Clip(d.snap.Survey.Tasks), t), debug) // the task may be one for the current file
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	p.File, p.Line = at.File, at.Line // for a debugger's own command, which has {file} and {line} in it
	started := len(d.session.Runs())
	cmd := d.startPlan(p, nil)
	if len(d.session.Runs()) == started {
		return cmd // it was not; the reason is told
	}
	d.typed = d.run
	if d.front() != outputName {
		cmd = tea.Batch(cmd, d.goTo(outputName))
	}
	return cmd
}
