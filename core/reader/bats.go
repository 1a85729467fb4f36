package reader

import (
	"path"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Tests of shell scripts: files of bats (bats(7)).

func batsWants(name string) bool { return path.Ext(name) == ".bats" && name != ".bats" }

// readBats adds a file, and with the first file of a folder the folder.
func readBats(f *declare.File) (found declare.Found) {
	dir, base := path.Split(f.Path)
	dir = path.Clean(dir)
	add := func(name, about string, file string) *task.Task {
		t := &task.Task{
			Name: name, Source: "bats", File: f.Path, Line: 1, Manner: task.Inferred, Dir: dir, Kind: task.Test, About: about, Command: task.Command{Argv: []string{"bats", file}},
		}
		found.Tasks = append(found.Tasks, t)
		return t
	}
	files := f.Glob(dir, "*.bats")
	if len(files) > 1 {
		if base == files[0] {
			add("bats", "Run all tests of this folder", ".").Parts = len(files)
		}
		part := add("bats "+base, "Run this file of tests", base)
		part.Hidden, part.PartOf = true, (&task.Task{Name: "bats", File: path.Join(dir, files[0])}).ID()
		return found
	}
	add("bats "+strings.TrimSuffix(base, ".bats"), "Run these tests", base)
	return found
}
