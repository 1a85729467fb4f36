package survey

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// Value is one value of a task as text, with its origin.
type Value struct {
	Field  string
	Text   string
	Origin task.Origin
}

// Values returns the values of a task that are set, in the order in which they are
// shown.
func (s *Survey) Values(t *task.Task) []Value {
	var out []Value
	add := func(field, text string) {
		if text != "" {
			out = append(out, Value{field, text, t.Origin(field)})
		}
	}
	add("name", t.Name)
	add("command", t.Command.String())
	if t.Script != "" {
		out = append(out, Value{"script", t.Script, t.Origin("name")})
	}
	if missing := t.Setup.Missing(filepath.Join(s.Root, filepath.FromSlash(t.Dir))); missing != "" {
		out = append(out, Value{"first", missing, task.Origin{File: t.File, Line: t.Line, Manner: task.Inferred}})
	}
	add("dir", t.Dir)
	add("about", t.About)
	add("kind", string(t.Kind))
	if t.LongRunning {
		add("longRunning", "stays up")
	}
	if t.Default {
		add("default", "what is run when no name is given")
	}
	add("ready", t.Ready)
	var args []string
	for _, a := range t.Args {
		s := a.Name
		if a.Default != "" {
			s += "=" + a.Default
		}
		if len(a.Choices) > 0 {
			s += " (" + strings.Join(a.Choices, ", ") + ")"
		}
		args = append(args, s)
	}
	add("args", strings.Join(args, "  "))
	add("needs", strings.Join(t.Prerequisites, " "))
	add("with", strings.Join(t.With, " "))
	add("after", strings.Join(t.After, " "))
	var env []string
	for k, v := range t.Env {
		env = append(env, k+"="+task.Quote(v))
	}
	sort.Strings(env)
	add("env", strings.Join(env, " "))
	add("env_file", t.EnvFile)
	add("for", strings.Join(t.For, " "))
	add("reads", strings.Join(t.Reads, " "))
	add("makes", strings.Join(t.Makes, " "))
	if _, told := t.Origins["makes"]; told && len(t.Makes) == 0 {
		add("makes", "unknown")
	}
	if t.Parts > 0 {
		add("parts", fmt.Sprintf("%d files, each a hidden task: %s FILE", t.Parts, t.Name))
	}
	if add("rerun_on", strings.Join(t.RerunOn, " ")); t.RerunLearned {
		add("rerun_on", tallyfile.RerunLearned)
	}
	add("sieves", strings.Join(t.Sieves, " "))
	add("show", t.Show)
	add("key", t.Key)
	if place, ok := s.Tally.Places[t.At]; ok {
		add("at", t.At+": "+place.Command.String())
	} else {
		add("at", t.At)
	}
	if via, ok := s.Tally.Vias[t.Via]; ok {
		add("via", t.Via+": "+via.Command.String())
	} else {
		add("via", t.Via)
	}
	add("timeout", t.Timeout)
	for _, name := range slices.Sorted(maps.Keys(t.Presets)) {
		add("presets", name+": "+t.Presets[name])
	}
	for _, name := range t.Secrets {
		add("secrets", name)
	}
	add("debug", t.Debug.String())
	add("packages_before", t.PackagesBefore)
	if t.Direct || s.Tally.Workspace.Direct && t.Source == "npm" {
		add("direct", "without "+t.Command.Argv[0])
	}
	add("restart", t.Restart)
	if t.Login {
		add("login", "by your own shell, with its aliases and functions")
	}
	if t.Stop != (task.Stop{}) {
		add("stop", strings.TrimSpace(fmt.Sprintf("%s %s", t.Stop.Signal, t.Stop.Grace)))
	}
	if t.Pin {
		add("pin", "on top")
	}
	for _, o := range t.Unread {
		text := o.Note
		o.Note = ""
		out = append(out, Value{"not understood", text, o})
	}
	return out
}
