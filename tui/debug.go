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
	if at.File != "" { // for a debugger's own command, which has {file} and {line} in it
		ctx := d.super.Context()
		before := ctx
		ctx.File, ctx.Line = at.File, at.Line
		d.super.SetContext(ctx)
		defer d.super.SetContext(before)
	}
	p, err := plan.Of(append(slices.Clip(d.survey.Tasks), t), debug) // the task may be one for the current file
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	started := len(d.super.Runs())
	cmd := d.startPlan(p, nil)
	if len(d.super.Runs()) == started {
		return cmd // it was not; the reason is told
	}
	d.typed = d.run
	if d.front() != outputName {
		cmd = tea.Batch(cmd, d.goTo(outputName))
	}
	return cmd
}
