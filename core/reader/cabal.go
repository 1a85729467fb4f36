package reader

import (
	"path"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Packages of Haskell (Cabal User Guide, "Package Description"): the components of a .cabal file.

func cabalWants(name string) bool { return path.Ext(name) == ".cabal" && name != ".cabal" }

func readCabal(f *declare.File) (found declare.Found) {
	dir := path.Dir(f.Path)
	add := func(name string, line int, manner task.Manner, kind task.Kind, about string, argv ...string) {
		found.Tasks = append(found.Tasks, &task.Task{
			Name: name, Source: "cabal", File: f.Path, Line: line, Manner: manner, Dir: dir, Kind: kind, About: about, Command: task.Command{Argv: append([]string{"cabal"}, argv...)},
		})
	}
	add("build", 1, task.Inferred, task.Build, "Build the package", "build", "all")
	tests := false
	number := 0
	for line := range strings.Lines(string(f.Data)) {
		number++
		word, name, ok := strings.Cut(strings.TrimRight(line, " \t\r\n"), " ")
		name = strings.TrimSpace(name)
		if !ok || line[0] == ' ' || line[0] == '\t' || name == "" || strings.ContainsAny(name, " \t:") {
			continue
		}
		switch strings.ToLower(word) {
		case "executable":
			add("run "+name, number, task.Declared, task.Run, "Run this program", "run", "exe:"+name)
		case "test-suite":
			tests = true
			add("test "+name, number, task.Declared, task.Test, "Run these tests", "test", "test:"+name)
		case "benchmark":
			add("bench "+name, number, task.Declared, task.Test, "Run these benchmarks", "bench", "bench:"+name)
		}
	}
	if tests {
		add("test", 1, task.Inferred, task.Test, "Run all tests", "test", "all")
	}
	return found
}
