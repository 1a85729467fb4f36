package reader

import (
	"bytes"
	"path"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Scripts are files that begin with "#!" and an interpreter (execve(2)).

// scriptHead is how many bytes of a file are read to tell whether it is one.
const scriptHead = 512

func scriptWants(name string) bool {
	switch path.Ext(name) {
	case ".sh", ".bash", ".zsh", ".py", ".pl", ".rb", ".mjs", ".js", ".php", ".lua", ".tcl", ".awk":
		return true
	case "":
		switch name {
		case "Makefile", "makefile", "GNUmakefile", "LICENSE", "README", "COPYING", "Dockerfile", "Rakefile", "Gemfile", "gradlew", "mvnw", "install-sh", "missing", "depcomp", "compile", "config.guess", "config.sub", "ltmain.sh", "test-driver":
			return false
		}
		return name[0] != '.'
	}
	return false
}

func readScript(f *declare.File) (found declare.Found) {
	rest, ok := bytes.CutPrefix(f.Data, []byte("#!"))
	if !ok {
		return found
	}
	head, body, _ := bytes.Cut(rest, []byte("\n"))
	words := strings.Fields(strings.TrimSuffix(string(head), "\r"))
	if len(words) == 0 || !strings.HasPrefix(words[0], "/") {
		return found
	}
	interpreter := path.Base(words[0])
	argv := []string{words[0]}
	if interpreter == "env" {
		words = words[1:]
		for len(words) > 0 && (strings.HasPrefix(words[0], "-") || strings.Contains(words[0], "=")) {
			words = words[1:]
		}
		if len(words) == 0 {
			return found
		}
		interpreter, argv = path.Base(words[0]), []string{words[0]}
	}
	if interpreter == "make" {
		return found // a makefile
	}
	dir, name := path.Dir(f.Path), path.Base(f.Path)
	t := &task.Task{
		Name: name, Source: "script", File: f.Path, Line: 1, Manner: task.Inferred, Dir: ".", About: declare.Shorten(scriptAbout(body)),
		Kind: task.KindOf(strings.TrimSuffix(name, path.Ext(name))), Command: task.Command{Argv: append(argv, f.Path)},
		// What lies with other people's code is theirs.
		Hidden: foreign(dir),
	}
	if f.Executable(f.Path) {
		t.Command = task.Command{Argv: []string{"./" + f.Path}}
	}
	if name == "configure" { // it configures the folder that it is run in
		t.Dir, t.Kind, t.Command.Argv[len(t.Command.Argv)-1] = dir, task.Build, "./configure"
		if len(t.Command.Argv) > 1 {
			t.Command.Argv[len(t.Command.Argv)-1] = "configure"
		}
	}
	if t.Kind == task.Other {
		t.Kind = task.Run
	}
	t.SetOrigin("command", task.Origin{File: f.Path, Line: 1, Manner: task.Inferred, Note: "its interpreter is " + interpreter})
	found.Tasks = append(found.Tasks, t)
	return found
}

// foreign reports whether a folder holds other people's code, or data.
func foreign(dir string) bool {
	for _, part := range strings.Split(dir, "/") {
		switch part {
		case "third_party", "vendor", "vendored", "testdata", "fixtures":
			return true
		}
	}
	return false
}

// scriptAbout is the first comment of a script, or the first line of its
// docstring.
func scriptAbout(body []byte) string {
	for _, l := range strings.Split(string(body), "\n") {
		l = strings.TrimSpace(l)
		switch {
		case l == "" || l == "#":
			continue
		case strings.HasPrefix(l, "#"), strings.HasPrefix(l, "//"):
			text := strings.TrimSpace(strings.TrimLeft(l, "#/!"))
			if strings.HasPrefix(text, "-*-") || strings.HasPrefix(text, "shellcheck") || strings.Trim(text, "-=*# ") == "" || strings.Contains(text, "coding:") || strings.HasPrefix(text, "SPDX") || strings.HasPrefix(text, "Copyright") {
				continue
			}
			return text
		case strings.HasPrefix(l, `"""`):
			return strings.TrimSpace(strings.Trim(l, `"`))
		}
		return ""
	}
	return ""
}
