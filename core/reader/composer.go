package reader

import (
	"fmt"
	"path"
	"strings"

	"tidytally/core/jsontext"
	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Composer scripts (Composer documentation: "Scripts").

func composerWants(name string) bool { return name == "composer.json" }

func readComposer(f *declare.File) (found declare.Found) {
	root, err := jsontext.Parse(f.Data, false)
	if err != nil {
		e := err.(*jsontext.Error)
		found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: e.Line, Column: e.Column, Message: e.Message + "; the scripts before this place are listed"})
	}
	scripts := root.Get("scripts")
	if scripts == nil || scripts.Kind != jsontext.Object {
		return found
	}
	places := jsontext.NewPlaces(f.Data)
	about := root.Get("scripts-descriptions")
	var setup task.Setup
	if require := root.Get("require-dev"); require != nil && len(require.Members) > 0 {
		setup = task.Setup{Path: "vendor", State: "the packages are not installed", Command: "composer install"}
	}
	for _, m := range scripts.Members {
		line, column := places.At(m.Offset)
		t := &task.Task{
			Name: m.Key, Source: "composer", File: f.Path, Line: line, Column: column, Manner: task.Declared, Dir: path.Dir(f.Path), About: declare.Shorten(about.Get(m.Key).Str()),
			Kind: task.KindOf(m.Key), Command: task.Command{Argv: []string{"composer", "run", m.Key}}, ArgLead: []string{"--"}, Setup: setup,
		}
		switch m.Value.Kind {
		case jsontext.String:
			t.Script = m.Value.Text
		case jsontext.Array:
			var steps []string
			for _, item := range m.Value.Items {
				steps = append(steps, item.Str())
				if need, ok := strings.CutPrefix(item.Str(), "@"); ok && !strings.ContainsAny(need, " ") {
					t.Prerequisites = append(t.Prerequisites, need)
				}
			}
			t.Script = strings.Join(steps, "\n")
		default:
			found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: line, Column: column, Message: fmt.Sprintf("the script %q is %s where a string or an array should stand", m.Key, m.Value.Kind)})
			continue
		}
		found.Tasks = append(found.Tasks, t)
	}
	return found
}
