package reader

import (
	"fmt"
	"path"
	"strings"

	"tidytally/core/jsontext"
	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Presets of CMake projects (cmake-presets(7)).

func presetsWants(name string) bool {
	return name == "CMakePresets.json" || name == "CMakeUserPresets.json"
}

var presetKinds = []struct {
	field, lead string
	kind        task.Kind
	argv        []string
}{
	{"configurePresets", "preset ", task.Build, []string{"cmake", "--preset"}},
	{"buildPresets", "build preset ", task.Build, []string{"cmake", "--build", "--preset"}},
	{"testPresets", "test preset ", task.Test, []string{"ctest", "--preset"}},
	{"packagePresets", "package preset ", task.Build, []string{"cpack", "--preset"}},
	{"workflowPresets", "workflow preset ", task.Build, []string{"cmake", "--workflow", "--preset"}},
}

func readPresets(f *declare.File) (found declare.Found) {
	r := presetReader{main: f, found: &found, seen: map[string]bool{}, names: map[string]bool{}}
	r.read(f.Path, f.Data)
	return found
}

type presetReader struct {
	main  *declare.File
	found *declare.Found
	seen  map[string]bool
	names map[string]bool
}

func (r *presetReader) read(name string, data []byte) {
	if r.seen[name] || len(r.seen) > 100 {
		return
	}
	r.seen[name] = true
	root, err := jsontext.Parse(data, false)
	if err != nil {
		e := err.(*jsontext.Error)
		r.found.Faults = append(r.found.Faults, task.Fault{File: name, Line: e.Line, Column: e.Column, Message: e.Message + "; what stands before was read"})
	}
	places := jsontext.NewPlaces(data)
	for _, k := range presetKinds {
		list := root.Get(k.field)
		if list == nil || list.Kind != jsontext.Array {
			continue
		}
		for _, p := range list.Items {
			n := p.Get("name")
			if n.Str() == "" || r.names[k.lead+n.Text] {
				continue
			}
			r.names[k.lead+n.Text] = true
			line, column := 0, 0
			for _, m := range p.Members {
				if m.Key == "name" {
					line, column = places.At(m.Offset)
				}
			}
			about := p.Get("displayName").Str()
			if d := p.Get("description").Str(); d != "" {
				about = d
			}
			hidden := p.Get("hidden")
			t := &task.Task{
				Name: k.lead + n.Text, Source: "cmake", File: name, Line: line, Column: column, Manner: task.Declared, Dir: path.Dir(r.main.Path),
				Kind: k.kind, About: declare.Shorten(about), Hidden: hidden != nil && hidden.Text == "true",
				Command: task.Command{Argv: append(append([]string(nil), k.argv...), n.Text)},
			}
			r.found.Tasks = append(r.found.Tasks, t)
		}
	}
	if inc := root.Get("include"); inc != nil {
		for _, item := range inc.Items {
			rel := path.Join(path.Dir(name), item.Str())
			line, _ := places.At(item.Offset)
			inner, err := r.main.Open(rel)
			if err != nil || strings.Contains(item.Str(), "$") {
				r.found.Faults = append(r.found.Faults, task.Fault{File: name, Line: line, Message: fmt.Sprintf("include %s: %v; the rest of the file was read", item.Str(), err)})
				continue
			}
			r.read(rel, inner)
		}
	}
}
