package reader

import (
	"bytes"
	"fmt"
	"go/build"
	"go/doc"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"path"
	"strings"

	"golang.org/x/mod/modfile"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// A Go module's tasks follow from its packages (go command documentation:
// "Package lists and patterns", "Generate Go files", "Build constraints";
// reference "Go Modules": tool directive).

func goWants(name string) bool { return name == "go.mod" }

// goMaxFiles bounds how many files of a module are looked into.
const goMaxFiles = 20_000

// goMaxMod is the number of bytes of a go.mod that are read: a thousand times the
// size of a large module's.
const goMaxMod = 1 << 20

// goFilesOf makes go list print the files of packages that are not of the standard library ("go help list").
const goFilesOf = `{{if not .Standard}}{{$d := .Dir}}{{range .GoFiles}}{{$d}}/{{.}}
{{end}}{{range .CgoFiles}}{{$d}}/{{.}}
{{end}}{{range .CFiles}}{{$d}}/{{.}}
{{end}}{{range .HFiles}}{{$d}}/{{.}}
{{end}}{{range .SFiles}}{{$d}}/{{.}}
{{end}}{{range .EmbedFiles}}{{$d}}/{{.}}
{{end}}{{range .TestGoFiles}}{{$d}}/{{.}}
{{end}}{{range .XTestGoFiles}}{{$d}}/{{.}}
{{end}}{{with .Module}}{{with .GoMod}}{{.}}
{{end}}{{end}}{{end}}`

func readGo(f *declare.File) (found declare.Found) {
	data := f.Data
	if len(data) > goMaxMod {
		data = data[:bytes.LastIndexByte(data[:goMaxMod], '\n')+1]
		found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: bytes.Count(data, []byte("\n")) + 1, Message: fmt.Sprintf("more than %d bytes: what follows was not read", goMaxMod)})
	}
	mod, err := modfile.Parse(f.Path, data, nil)
	if err != nil { // of a newer go command, perhaps
		mod, err = modfile.ParseLax(f.Path, data, nil)
	}
	if err != nil {
		line, message := 0, err.Error()
		if list, ok := err.(modfile.ErrorList); ok && len(list) > 0 {
			line, message = list[0].Pos.Line, list[0].Err.Error()
		}
		found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: line, Message: message})
		if mod == nil {
			return found
		}
	}
	line := 1
	module := path.Base(path.Dir(f.Path))
	if mod.Module != nil {
		module = mod.Module.Mod.Path
		if mod.Module.Syntax != nil {
			line = mod.Module.Syntax.Start.Line
		}
	}
	m := goModule{file: f, dir: path.Dir(f.Path)}
	m.look(m.dir, 0)
	add := func(name string, kind task.Kind, o *task.Origin, hidden bool, args ...string) *task.Task {
		t := &task.Task{
			Name: name, Source: "go", File: f.Path, Line: line, Manner: task.Inferred, Dir: m.dir, Kind: kind, Hidden: hidden,
			Command: task.Command{Argv: append([]string{"go"}, args...)},
		}
		if o != nil {
			t.SetOrigin("name", *o)
		}
		found.Tasks = append(found.Tasks, t)
		return t
	}
	for _, t := range []*task.Task{add("build", task.Build, nil, false, "build", "./..."), add("vet", task.Check, nil, false, "vet", "./...")} {
		t.About = map[string]string{"build": "Build every package", "vet": "Look for suspicious code"}[t.Name]
		t.Question = task.Question{Command: task.Command{Argv: []string{"go", "list", "-deps", "-test", "-f", strings.NewReplacer("{", "{{", "}", "}}").Replace(goFilesOf), "./..."}}, Files: true}
	}
	if len(m.tested) > 0 {
		all := add("test", task.Test, nil, false, "test", "./...")
		all.About = "Run the tests of every package"
		if len(m.tested) > 1 {
			all.Parts = len(m.tested)
		}
	}
	for _, p := range m.tested {
		if p != "." || len(m.tested) > 1 {
			add("test "+dotted(p), task.Test, &task.Origin{File: path.Join(m.dir, p), Manner: task.Inferred, Note: "has tests"}, true, "test", dotted(p)).PartOf = "test"
		}
	}
	for _, p := range m.mains {
		name := path.Base(p.dir)
		if p.dir == "." {
			name = path.Base(strings.TrimSuffix(module, "/v2"))
		}
		add("run "+name, task.Run, &p.origin, false, "run", dotted(p.dir)).About = declare.Shorten(p.about)
	}
	if m.generates > 0 {
		add("generate", task.Build, &m.generate, false, "generate", "./...").About = fmt.Sprintf("Run %d //go:generate lines", m.generates)
	}
	for _, t := range mod.Tool {
		at := line
		if t.Syntax != nil {
			at = t.Syntax.Start.Line
		}
		add("tool "+path.Base(t.Path), task.Other, &task.Origin{File: f.Path, Line: at, Manner: task.Declared}, false, "tool", path.Base(t.Path))
	}
	return found
}

func dotted(p string) string {
	if p == "." {
		return "."
	}
	return "./" + p
}

type goModule struct {
	file      *declare.File
	dir       string
	files     int
	mains     []goMain
	tested    []string
	generates int
	generate  task.Origin
}

type goMain struct {
	dir    string // relative to the module
	origin task.Origin
	about  string
}

// packageSynopsis returns the first sentence of the comment above the package clause of a file
// (go/doc, "Synopsis").
func packageSynopsis(data []byte) string {
	file, _ := parser.ParseFile(token.NewFileSet(), "", data, parser.PackageClauseOnly|parser.ParseComments)
	if file == nil || file.Doc == nil {
		return ""
	}
	return new(doc.Package).Synopsis(file.Doc.Text())
}

// look walks the folders of a module, except those that the go command ignores and
// those of modules inside.
func (m *goModule) look(dir string, depth int) {
	if depth > 64 || m.files > goMaxFiles {
		return
	}
	entries := m.file.List(dir)
	rel := strings.TrimPrefix(strings.TrimPrefix(dir, m.dir), "/")
	if m.dir == "." {
		rel = dir
	}
	if rel == "" {
		rel = "."
	}
	if dir != m.dir {
		for _, e := range entries {
			if e.Name == "go.mod" {
				return
			}
		}
	}
	tested, main := false, -1 // the place in m.mains of this folder
	for _, e := range entries {
		name := e.Name
		if e.Type.IsDir() {
			if name[0] != '.' && name[0] != '_' && name != "testdata" && name != "node_modules" && !(name == "vendor" && rel == ".") {
				m.look(path.Join(dir, name), depth+1)
			}
			continue
		}
		if !strings.HasSuffix(name, ".go") || name[0] == '_' || name[0] == '.' || e.Type&fs.ModeType != 0 {
			continue
		}
		if m.files++; m.files > goMaxFiles {
			return
		}
		data, err := m.file.Open(path.Join(dir, name))
		if err != nil {
			continue // the walk tells what cannot be read
		}
		ignored := !goBuilds(dir, name, data)
		if n := generateLines(data); len(n) > 0 && !ignored {
			if m.generates == 0 {
				m.generate = task.Origin{File: path.Join(dir, name), Line: n[0], Manner: task.Declared, Note: "//go:generate"}
			}
			m.generates += len(n)
		}
		if ignored {
			continue
		}
		pkg, line := packageClause(data)
		switch {
		case strings.HasSuffix(name, "_test.go"):
			tested = true
		case pkg == "main":
			if main < 0 {
				main = len(m.mains)
				m.mains = append(m.mains, goMain{dir: rel, origin: task.Origin{File: path.Join(dir, name), Line: line, Manner: task.Inferred, Note: "package main"}})
			}
			if here := &m.mains[main]; here.about == "" {
				here.about = packageSynopsis(data)
			}
		}
	}
	if tested {
		m.tested = append(m.tested, rel)
	}
}

// packageClause finds the name of a file's package and its line.
func packageClause(data []byte) (name string, line int) {
	block := false
	for n, l := range bytes.Split(data[:min(len(data), 64<<10)], []byte("\n")) {
		l = bytes.TrimSpace(l)
		if block {
			i := bytes.Index(l, []byte("*/"))
			if i < 0 {
				continue
			}
			block, l = false, bytes.TrimSpace(l[i+2:])
		}
		for bytes.HasPrefix(l, []byte("/*")) {
			i := bytes.Index(l, []byte("*/"))
			if i < 0 {
				block = true
				break
			}
			l = bytes.TrimSpace(l[i+2:])
		}
		if rest, ok := bytes.CutPrefix(l, []byte("package ")); ok && !block {
			f := bytes.FieldsFunc(rest, func(r rune) bool { return r == ' ' || r == '\t' || r == ';' || r == '/' })
			if len(f) > 0 {
				return string(f[0]), n + 1
			}
		}
	}
	return "", 0
}

// goBuilds reports whether the go command builds a file on this machine: its name and
// its build constraints allow it (go help buildconstraint).
func goBuilds(dir, name string, data []byte) bool {
	ctx := build.Default
	ctx.CgoEnabled = true
	ctx.OpenFile = func(string) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }
	match, err := ctx.MatchFile(dir, name)
	return match && err == nil
}

func generateLines(data []byte) (lines []int) {
	if !bytes.Contains(data, []byte("//go:generate")) {
		return nil
	}
	for n, l := range bytes.Split(data, []byte("\n")) {
		if bytes.HasPrefix(l, []byte("//go:generate ")) || bytes.HasPrefix(l, []byte("//go:generate\t")) {
			lines = append(lines, n+1)
		}
	}
	return lines
}
