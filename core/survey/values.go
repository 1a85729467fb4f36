package survey

import (
	"fmt"
	"path/filepath"

	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// Value is one value of a task as text, with its origin.
type Value struct {
	Field  string
	Text   string
	Origin task.Origin
}

// addScript adds what a command only names, and what is to be done before it can run.
func (s *Survey) addScript(t *task.Task, to *[]Value) {
	if t.Script != "" {
		*to = append(*to, Value{"script", t.Script, t.Origin("name")})
	}
	if missing := t.Setup.Missing(filepath.Join(s.Root, filepath.FromSlash(t.Dir))); missing != "" {
		*to = append(*to, Value{"first", missing, task.Origin{File: t.File, Line: t.Line, Manner: task.Inferred}})
	}
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
	tallyfile.EachShown(t, func(key, name, text string) {
		switch key {
		case "at":
			if place, ok := s.Tally.Places[t.At]; ok {
				text += ": " + place.Command.String()
			}
		case "via":
			if via, ok := s.Tally.Vias[t.Via]; ok {
				text += ": " + via.Command.String()
			}
		case "direct":
			return // it is said below, where the workspace may say it too
		case "login":
			text = "by your own shell, with its aliases and functions"
		case "pin":
			text = "on top"
		}
		add(name, text)
		if key == "run" {
			s.addScript(t, &out)
		}
	})
	if t.Default {
		add("default", "what is run when no name is given")
	}
	if _, told := t.Origins["makes"]; told && len(t.Makes) == 0 {
		add("makes", "unknown")
	}
	if t.Parts > 0 {
		each := "each a hidden task: " + t.Name + " FILE"
		if t.PartWord() != "files" {
			each = "each a task"
		}
		add("parts", fmt.Sprintf("%d %s, %s", t.Parts, t.PartWord(), each))
	}
	if (t.Direct || s.Tally.Workspace.Direct && t.Source == "npm") && len(t.Command.Argv) > 0 {
		add("direct", "without "+t.Command.Argv[0])
	}
	for _, o := range t.Unread {
		text := o.Note
		o.Note = ""
		out = append(out, Value{"not understood", text, o})
	}
	return out
}
