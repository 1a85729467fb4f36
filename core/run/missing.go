package run

import (
	"os"
	"path/filepath"
	"strings"

	"tidytally/core/task"
)

// Missing is what a task lacks before it can run.
type Missing struct {
	// What is missing, in words: "the packages are not installed", "tsc is not on the path".
	What string
	// Command brings it, as a person would type it, in the folder Dir, absolute; "" if it is not known
	// what does.
	Command, Dir string
}

// Missing returns what a task lacks as far as that can be seen without running anything; nil if
// nothing is known to be missing.
func (c *Context) Missing(t *task.Task) *Missing {
	prepared, err := c.Prepare(t, nil)
	if err != nil || t.Command.IsZero() {
		return nil
	}
	env := append(os.Environ(), prepared.Env...)
	if t.Setup.Missing(prepared.Dir) != "" && !(t.Setup.Above && onPath(prepared, t.Script, env)) {
		return &Missing{t.Setup.State, t.Setup.Command, prepared.Dir}
	}
	words := prepared.Command.Words()
	if t.Via != "" || t.At != "" || t.Login || len(prepared.Command.Argv) == 0 || strings.Contains(words[0], "/") {
		return nil // what there is behind a launcher or a shell, it knows
	}
	if _, _, err := prepared.resolve(env); err != nil {
		if start, ok := err.(*StartError); ok && start.Code == CodeNotFound {
			return &Missing{What: words[0] + " is not on the path"}
		}
	}
	return nil
}

// onPath reports whether the program that a package script begins with is on the path without the
// packages: it may do without them.
func onPath(p *Prepared, script string, env []string) bool {
	words, err := task.SplitWords(script)
	if err != nil || len(words) == 0 {
		return false
	}
	of := *p
	of.Command = task.Command{Argv: words[:1]}
	_, _, err = of.resolve(env)
	return err == nil
}

// SetupTask returns a task that brings what another one lacks: one of those that are declared, if it
// does so, else one that runs the command.
func SetupTask(tasks []*task.Task, of *task.Task, m *Missing, root string) *task.Task {
	dir, err := filepath.Rel(root, m.Dir)
	if err != nil {
		dir = m.Dir
	}
	dir = filepath.ToSlash(dir)
	for _, t := range tasks {
		if t.Dir == dir && t.Command.String() == m.Command {
			return t
		}
	}
	return &task.Task{
		Name: m.Command, Source: of.Source, File: of.File, Line: of.Line, Manner: of.Manner, Dir: dir, Kind: task.Build,
		About: "What " + of.Name + " needs first", Env: of.Env, EnvFile: of.EnvFile, Via: of.Via, Of: of.ID(), Command: task.Command{Shell: m.Command},
	}
}
