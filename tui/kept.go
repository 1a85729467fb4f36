package tui

import (
	"path/filepath"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// What the user picks and writes from the pages: outside of the workspace, or into
// its tally file.

// save writes what the user pinned, ran and picked.
func (d *desk) save() {
	if err := d.kept.Save(); err != nil {
		d.say(true, "not kept: %v", err)
	}
}

// pinned reports whether a task stays on top, by a tally file or by the user.
func (d *desk) pinned(t *task.Task) bool {
	return t.Pin || len(d.kept.Pins) > 0 && d.kept.Pinned(t.ID()) // an id of each task is not made for nothing
}

// usual is the usual task, or nil: the user's own choice before the workspace's.
func (d *desk) usual() *task.Task {
	if d.survey == nil {
		return nil
	}
	if d.kept.Usual != "" {
		if t, err := task.Find(d.survey.Tasks, d.kept.Usual); err == nil {
			return t
		}
	}
	return d.survey.Usual()
}

// editTally changes the root's tally file in place, and surveys again.
func (d *desk) editTally(done string, change func([]byte) ([]byte, error)) tea.Cmd {
	if err := tallyfile.EditFile(filepath.Join(d.root, workspace.TallyFile), change); err != nil {
		d.say(true, "%v", err)
		return nil
	}
	d.say(false, "written into %s: %s", workspace.TallyFile, done)
	d.touched.add([]string{workspace.TallyFile})
	return d.surveyCmd()
}
