package reader

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"tidytally/core/datatext"
	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Cargo's targets follow from the manifest and the places of the files (Cargo
// book: "Cargo Targets", "Workspaces", "Configuration": alias).

func cargoWants(name string) bool { return name == "Cargo.toml" }

func cargoConfigWantsAt(dir, name string) bool {
	return (name == "config.toml" || name == "config") && path.Base(dir) == ".cargo"
}

func readTOML(f *declare.File, found *declare.Found) *datatext.Node {
	return datatext.ReadTOML(f.Data, func(line, column int, message string) {
		found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: line, Column: column, Message: message})
	})
}

func readCargo(f *declare.File) (found declare.Found) {
	root := readTOML(f, &found)
	pkg := root.Get("package")
	dir := path.Dir(f.Path)
	if pkg == nil {
		if ws := root.Get("workspace"); ws != nil {
			for _, name := range []string{"build", "test", "clippy"} {
				found.Tasks = append(found.Tasks, cargoTask(f, ws.Line, name, dir, name, "--workspace"))
			}
		}
		return found
	}
	name := pkg.Get("name").Str()
	if name == "" {
		return found
	}
	hidden := !cargoMember(f, dir)
	add := func(t *task.Task) {
		t.Hidden = hidden
		found.Tasks = append(found.Tasks, t)
	}
	for _, verb := range []string{"build", "test", "clippy"} {
		add(cargoTask(f, pkg.Line, verb, dir, verb))
	}
	edition := pkg.Get("edition").Str()
	for _, k := range []struct {
		table, auto, dir, word, flag string
		kind                         task.Kind
	}{
		{"bin", "autobins", "src/bin", "run", "--bin", task.Run},
		{"example", "autoexamples", "examples", "example", "--example", task.Run},
		{"test", "autotests", "tests", "test", "--test", task.Test},
		{"bench", "autobenches", "benches", "bench", "--bench", task.Test},
	} {
		type target struct {
			name string
			at   task.Origin
		}
		var targets []target
		has := func(name string) bool {
			return slices.ContainsFunc(targets, func(t target) bool { return t.name == name })
		}
		declared := root.Get(k.table)
		var paths []string
		if declared != nil && declared.Kind == datatext.List {
			for _, item := range declared.Items {
				if n := item.Get("name").Str(); n != "" {
					targets = append(targets, target{n, task.Origin{File: f.Path, Line: item.Line, Manner: task.Declared}})
					paths = append(paths, path.Clean(item.Get("path").Str()))
				}
			}
		}
		auto := pkg.Get(k.auto)
		// In the 2015 edition a declared target turns the search off.
		search := (auto == nil || auto.Text != "false") && !(auto == nil && (edition == "" || edition == "2015") && len(targets) > 0)
		if search {
			if k.table == "bin" && f.Exists(path.Join(dir, "src/main.rs")) && !slices.Contains(paths, "src/main.rs") && !has(name) {
				targets = append(targets, target{name, task.Origin{File: path.Join(dir, "src/main.rs"), Manner: task.Inferred}})
			}
			for _, e := range f.List(path.Join(dir, k.dir)) {
				n, ok := strings.CutSuffix(e.Name, ".rs")
				file := path.Join(k.dir, e.Name)
				if e.Type.IsDir() {
					n, file = e.Name, path.Join(k.dir, e.Name, "main.rs")
					ok = f.Exists(path.Join(dir, file))
				}
				if ok && !has(n) && !slices.Contains(paths, file) {
					targets = append(targets, target{n, task.Origin{File: path.Join(dir, file), Manner: task.Inferred}})
				}
			}
		}
		sort.SliceStable(targets, func(i, j int) bool { return targets[i].name < targets[j].name })
		for _, t := range targets {
			verb := k.word
			if k.word == "example" {
				verb = "run"
			}
			c := cargoTask(f, pkg.Line, k.word+" "+t.name, dir, verb, k.flag, t.name)
			c.Kind = k.kind
			if t.at.Line > 0 && t.at.File == f.Path {
				c.Line = t.at.Line
			}
			c.SetOrigin("name", t.at)
			add(c)
		}
	}
	return found
}

func cargoTask(f *declare.File, line int, name, dir string, args ...string) *task.Task {
	return &task.Task{
		Name: name, Source: "cargo", File: f.Path, Line: line, Manner: task.Inferred, Dir: dir,
		Kind:    map[string]task.Kind{"build": task.Build, "test": task.Test, "clippy": task.Check}[name],
		Command: task.Command{Argv: append([]string{"cargo"}, args...)}, ArgLead: []string{"--"},
	}
}

// cargoMember reports whether a package belongs to the workspace around it, or to
// none.
func cargoMember(f *declare.File, dir string) bool {
	for at := path.Dir(dir); dir != "."; at = path.Dir(at) {
		manifest := path.Join(at, "Cargo.toml")
		if f.Exists(manifest) {
			data, err := f.Open(manifest)
			if err != nil {
				return true
			}
			ws := datatext.ReadTOML(data, func(int, int, string) {}).Get("workspace")
			if ws != nil {
				rel := strings.TrimPrefix(dir, at+"/")
				for _, x := range ws.Get("exclude").Strs() {
					if rel == path.Clean(x) || strings.HasPrefix(rel, path.Clean(x)+"/") {
						return true // on its own
					}
				}
				for _, p := range ws.Get("members").Strs() {
					if ok, _ := doublestar.Match(path.Clean(p), rel); ok {
						return true
					}
				}
				return false
			}
		}
		if at == "." {
			return true
		}
	}
	return true
}

// readCargoConfig reads the aliases of .cargo/config.toml.
func readCargoConfig(f *declare.File) (found declare.Found) {
	if path.Base(path.Dir(f.Path)) != ".cargo" {
		return found
	}
	root := readTOML(f, &found)
	alias := root.Get("alias")
	if alias == nil {
		return found
	}
	dir := path.Dir(path.Dir(f.Path))
	for _, e := range alias.Entries {
		says := e.Value.Str()
		if e.Value.Kind == datatext.List {
			says = task.QuoteAll(e.Value.Strs())
		}
		t := cargoTask(f, e.Line, "alias "+e.Key, dir, e.Key)
		t.Manner, t.Kind, t.About = task.Declared, task.KindOf(e.Key), fmt.Sprintf("cargo %s", says)
		found.Tasks = append(found.Tasks, t)
	}
	return found
}
