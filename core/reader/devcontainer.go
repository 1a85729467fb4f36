package reader

import (
	"path"

	"tidytally/core/jsontext"
	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Life-cycle commands of a development container (Development Containers
// Specification, "Lifecycle scripts").

func devcontainerWants(name string) bool {
	return name == "devcontainer.json" || name == ".devcontainer.json"
}

func readDevcontainer(f *declare.File) (found declare.Found) {
	root, err := jsontext.Parse(f.Data, true)
	if err != nil {
		e := err.(*jsontext.Error)
		found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: e.Line, Column: e.Column, Message: e.Message + "; what stands before was read"})
	}
	places := jsontext.NewPlaces(f.Data)
	dir := path.Dir(f.Path)
	for path.Base(dir) == ".devcontainer" || path.Base(path.Dir(dir)) == ".devcontainer" {
		dir = path.Dir(dir)
	}
	for _, name := range []string{"initializeCommand", "onCreateCommand", "updateContentCommand", "postCreateCommand", "postStartCommand", "postAttachCommand"} {
		for _, m := range membersOf(root, name) {
			line, column := places.At(m.Offset)
			add := func(name string, v *jsontext.Value) {
				t := &task.Task{Name: name, Source: "devcontainer", File: f.Path, Line: line, Column: column, Manner: task.Declared, Dir: dir, Kind: task.Other}
				switch v.Kind {
				case jsontext.String:
					t.Command = task.Command{Shell: v.Text}
				case jsontext.Array:
					for _, item := range v.Items {
						t.Command.Argv = append(t.Command.Argv, item.Str())
					}
				}
				if !t.Command.IsZero() {
					found.Tasks = append(found.Tasks, t)
				}
			}
			if m.Value.Kind == jsontext.Object {
				for _, inner := range m.Value.Members {
					line, column = places.At(inner.Offset)
					add(name+" "+inner.Key, inner.Value)
				}
				continue
			}
			add(name, m.Value)
		}
	}
	return found
}

// membersOf returns the last member of a key, if there is one.
func membersOf(v *jsontext.Value, key string) []jsontext.Member {
	if v == nil {
		return nil
	}
	for i := len(v.Members) - 1; i >= 0; i-- {
		if v.Members[i].Key == key {
			return v.Members[i : i+1]
		}
	}
	return nil
}
