package tui

import (
	"bytes"
	"os"
	"path/filepath"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/files"
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
	if d.snap.Survey == nil {
		return nil
	}
	if d.kept.Usual != "" {
		if t, err := task.Find(d.snap.Survey.Tasks, d.kept.Usual); err == nil {
			return t
		}
	}
	return d.snap.Survey.Usual()
}

// written is the last change that was written into a tally file.
type written struct {
	file          string // absolute
	before, after []byte
	was           bool // the file was there
	what          string
}

// editTally changes the root's tally file in place, and surveys again.
func (d *desk) editTally(done string, change func([]byte) ([]byte, error)) tea.Cmd {
	return d.editFile(workspace.TallyFile, done, change)
}

// editFile changes a tally file in place, and surveys again.
func (d *desk) editFile(file, done string, change func([]byte) ([]byte, error)) tea.Cmd {
	cmd, _ := d.writeTally(file, done, change)
	return cmd
}

// writeTally changes a tally file in place, and surveys again. It says why and returns false if that
// failed.
func (d *desk) writeTally(file, done string, change func([]byte) ([]byte, error)) (cmd tea.Cmd, ok bool) {
	name := d.absolute(file)
	before, err := files.Read(name, files.Limit)
	was := err == nil
	if err = os.MkdirAll(filepath.Dir(name), 0o755); err == nil {
		err = tallyfile.EditFile(name, change)
	}
	var after []byte
	if err == nil {
		after, err = files.Read(name, files.Limit)
	}
	if err != nil {
		d.say(true, "%v", err)
		return nil, false
	}
	d.written = &written{name, before, after, was, done}
	d.say(false, "written into %s: %s; ctrl+z takes it back", file, done)
	d.session.Touch(file)
	return nil, true
}

// undo takes back what was written last, if the file is still as it was then.
func (d *desk) undo() tea.Cmd {
	w := d.written
	if w == nil {
		d.say(false, "nothing was written")
		return nil
	}
	now, err := files.Read(w.file, files.Limit)
	switch {
	case err == nil && !bytes.Equal(now, w.after):
		d.say(true, "%s was changed meanwhile: nothing is taken back", filepath.Base(w.file))
		return nil
	case err == nil && !w.was:
		err = os.Remove(w.file)
	case err == nil:
		err = tallyfile.EditFile(w.file, func([]byte) ([]byte, error) { return w.before, nil })
	}
	if err != nil {
		d.say(true, "%v", err)
		return nil
	}
	d.written = nil
	d.say(false, "taken back: %s", w.what)
	if rel, err := filepath.Rel(d.root, w.file); err == nil {
		d.session.Touch(filepath.ToSlash(rel))
	}
	return nil
}
