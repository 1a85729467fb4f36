package reader

import (
	"path"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Projects of OCaml that dune builds (dune's manual, "dune-project" and "dune"): what they make and test.

func duneWants(name string) bool { return name == "dune-project" || name == "dune" }

func readDune(f *declare.File) (found declare.Found) {
	dir := path.Dir(f.Path)
	root := dir
	for at := dir; ; at = path.Dir(at) { // the outermost one counts
		if f.Exists(path.Join(at, "dune-project")) {
			root = at
		}
		if at == "." {
			break
		}
	}
	if path.Base(f.Path) == "dune-project" {
		if root == dir {
			add := func(name string, kind task.Kind, about string, argv ...string) {
				found.Tasks = append(found.Tasks, &task.Task{
					Name: name, Source: "dune", File: f.Path, Line: 1, Manner: task.Inferred, Dir: dir, Kind: kind, About: about, Command: task.Command{Argv: append([]string{"dune"}, argv...)},
				})
			}
			add("build", task.Build, "Build everything", "build")
			add("test", task.Test, "Run all tests", "test")
			add("clean", task.Clean, "Remove what was built", "clean")
			if f.Exists(path.Join(dir, ".ocamlformat")) {
				add("fmt", task.Other, "Format", "fmt")
			}
		}
		return found
	}
	if !f.Exists(path.Join(root, "dune-project")) {
		return found
	}
	below := strings.TrimPrefix(strings.TrimPrefix(dir, strings.TrimSuffix(root, ".")), "/")
	if dir == root {
		below = "."
	}
	tests := 0
	for _, stanza := range expressions(string(f.Data)) {
		names := stanza.field("names")
		if one := stanza.field("name"); len(one) > 0 {
			names = one[:1]
		}
		switch stanza.word(0) {
		case "executable", "executables":
			for _, name := range names {
				program := "./" + path.Join(below, name+".exe")
				found.Tasks = append(found.Tasks, &task.Task{
					Name: "exec " + name, Source: "dune", File: f.Path, Line: stanza.line, Manner: task.Declared, Dir: root, Kind: task.Run, About: "Build and run this program", Command: task.Command{Argv: []string{"dune", "exec", program}},
				})
			}
		case "test", "tests", "cram":
			if tests++; tests == 1 && below != "." {
				found.Tasks = append(found.Tasks, &task.Task{
					Name: "test " + below, Source: "dune", File: f.Path, Line: stanza.line, Manner: task.Declared, Dir: root, Kind: task.Test, About: "Run the tests of this folder", Command: task.Command{Argv: []string{"dune", "test", below}},
				})
			}
		}
	}
	return found
}

// An expression is an atom, or a list of expressions (dune's manual, "Lexical Conventions").
type expression struct {
	atom string
	list []expression
	line int
}

// word returns an atom of a list; "" if there is none.
func (e expression) word(i int) string {
	if i < len(e.list) {
		return e.list[i].atom
	}
	return ""
}

// field returns the atoms of the field of a stanza: (names a b).
func (e expression) field(name string) (atoms []string) {
	for _, x := range e.list {
		if x.word(0) == name {
			for _, a := range x.list[1:] {
				if a.atom != "" {
					atoms = append(atoms, a.atom)
				}
			}
		}
	}
	return atoms
}

// maxNested bounds how deep expressions stand in each other.
const maxNested = 100

// expressions reads the expressions of a file; one that is not closed ends with it.
func expressions(text string) []expression {
	line := 1
	i := 0
	var read func(depth int) []expression
	read = func(depth int) (out []expression) {
		for i < len(text) {
			switch c := text[i]; {
			case c == '\n':
				line++
				i++
			case c == ' ' || c == '\t' || c == '\r':
				i++
			case c == ';':
				for i < len(text) && text[i] != '\n' {
					i++
				}
			case c == '(' && depth < maxNested:
				i++
				at := line
				out = append(out, expression{list: read(depth + 1), line: at})
			case c == ')':
				i++
				if depth > 0 {
					return out
				}
			case c == '"':
				start := i + 1
				for i++; i < len(text) && text[i] != '"'; i++ {
					if text[i] == '\n' {
						line++
					}
					if text[i] == '\\' {
						i++
					}
				}
				out = append(out, expression{atom: text[start:min(i, len(text))], line: line})
				i = min(i+1, len(text))
			default:
				start := i
				for i++; i < len(text) && strings.IndexByte(" \t\r\n();\"", text[i]) < 0; i++ {
				}
				out = append(out, expression{atom: text[start:i], line: line})
			}
		}
		return out
	}
	return read(0)
}
