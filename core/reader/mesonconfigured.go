package reader

import (
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"tidytally/core/jsontext"
	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// A build folder that meson has configured describes itself in meson-info (meson manual,
// "IDE integration"). The files are read; meson is not run.

// mesonBuildFolders returns the configured build folders of a project, relative to it.
func mesonBuildFolders(f *declare.File, dir string) []string {
	source := filepath.ToSlash(filepath.Join(f.Root(), dir))
	return slices.DeleteFunc(declare.BuildFolders(f, dir, "meson-info/meson-info.json"), func(build string) bool {
		info := mesonInfo(f, path.Join(dir, build), "meson-info.json")
		return info.Get("directories").Get("source").Str() != source
	})
}

func mesonInfo(f *declare.File, build, name string) *jsontext.Value {
	data, err := f.Open(path.Join(build, "meson-info", name))
	if err != nil {
		return nil
	}
	v, _ := jsontext.Parse(data, false)
	return v
}

// reconcile compares what the sources tell with what the build folder tells, as it was
// configured. What only it knows is added; what it does not have is hidden, unless a source
// is newer.
func (r *mesonReader) reconcile() {
	at := path.Join(path.Dir(r.main.Path), r.build)
	file := "intro-targets.json"
	r.main.Note(declare.Look{What: declare.Watch, Path: path.Join(at, "meson-info")})
	known := map[string]bool{}
	for _, t := range r.targets {
		known[t.literal] = true
	}
	there := map[string]bool{}
	targets := mesonInfo(r.main, at, file)
	if targets == nil {
		return
	}
	for _, v := range targets.Elements() {
		name := v.Get("name").Str()
		there[name] = true
		sub := v.Get("subproject")
		if name == "" || known[name] || sub != nil && sub.Kind == jsontext.String {
			continue // one of a subproject is made for this project's own
		}
		function := strings.ReplaceAll(v.Get("type").Str(), " ", "_")
		for called, kind := range mesonTypes {
			if kind == function && (function == "custom" || function == "run" || function == "alias") {
				function = called
			}
		}
		defined, inside := strings.CutPrefix(v.Get("defined_in").Str(), r.main.Root()+"/")
		if !inside || mesonTargets[function] == "" {
			continue
		}
		r.targets = append(r.targets, mesonTarget{call{name: function, literal: name}, defined})
	}
	for _, kind := range []struct{ file, word string }{{"intro-tests.json", "test"}, {"intro-benchmarks.json", "benchmark"}} {
		for _, v := range mesonInfo(r.main, at, kind.file).Elements() {
			name := v.Get("name").Str()
			there[kind.word+" "+name] = true
			if name != "" && !r.names[kind.word+" "+name] {
				r.addTest(r.main.Path, call{name: kind.word, literal: name})
			}
		}
	}
	r.there, r.stale = there, declare.AnyNewer(r.main, path.Join(at, "meson-info", file), slices.Collect(maps.Keys(r.seen)))
}

// markConfigured says of each target and test whether the build folder has it.
func (r *mesonReader) markConfigured() {
	if r.there == nil {
		return
	}
	for _, t := range r.found.Tasks {
		o := t.Origin("name")
		name, _, _ := strings.Cut(path.Base(t.Name), ":")
		switch {
		case t.Line == 0:
			t.Line, t.Manner = 1, task.Inferred
			o = task.Origin{File: t.File, Line: 1, Manner: task.Inferred, Note: "as configured in " + r.build}
		case r.there[t.Name] || r.there[name] || r.stale:
			continue
		default:
			t.Hidden, o.Note = true, "not as configured in "+r.build
		}
		t.SetOrigin("name", o)
	}
}
