package reader

import (
	"path"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// The source of a configure script (autoconf manual, "Making configure Scripts"). Its only
// task makes the script; what can be built is told by Makefile.am and Makefile.in.

func autotoolsWants(name string) bool { return name == "configure.ac" || name == "configure.in" }

func readAutotools(f *declare.File) (found declare.Found) {
	dir := path.Dir(f.Path)
	if path.Base(f.Path) == "configure.in" && f.Exists(path.Join(dir, "configure.ac")) {
		return found // an older form, which gives way
	}
	found.Tasks = append(found.Tasks, &task.Task{
		Name: "autoreconf", Source: "autotools", File: f.Path, Line: 1, Manner: task.Inferred, Dir: dir, Kind: task.Build, About: "Make the configure script",
		Command: task.Command{Argv: []string{"autoreconf", "-fi"}}, Hidden: f.Exists(path.Join(dir, "configure")),
	})
	return found
}
