package reader

import (
	"fmt"
	"path"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Ant build files (Apache Ant manual: "Using Apache Ant", tasks import and
// include).

func antWants(name string) bool { return name == "build.xml" }

func readAnt(f *declare.File) (found declare.Found) {
	root := readXML(f, &found).child("project")
	if root == nil {
		return found
	}
	a := antReader{main: f, found: &found, seen: map[string]bool{}, names: map[string]bool{}}
	a.project(f, root, "", f.Path, 0)
	return found
}

type antReader struct {
	main  *declare.File
	found *declare.Found
	seen  map[string]bool
	names map[string]bool
	deflt string
}

// project adds the targets of a build file; via is the line of the main file
// that brought it in.
func (a *antReader) project(f *declare.File, root *element, prefix, where string, via int) {
	if a.seen[where] {
		return
	}
	a.seen[where] = true
	if via == 0 {
		a.deflt = root.attrs["default"]
	}
	var imports []*element
	for _, e := range root.inner {
		switch e.name {
		case "import", "include":
			imports = append(imports, e)
		case "target", "extension-point":
			name := e.attrs["name"]
			if name == "" {
				continue
			}
			if name = prefix + name; a.names[name] {
				// One that the importing file overrides keeps a name with that of
				// its own project in front (Ant manual, "Import", "Target overriding").
				if name = root.attrs["name"] + "." + e.attrs["name"]; via == 0 || root.attrs["name"] == "" || a.names[name] {
					continue
				}
			}
			a.names[name] = true
			t := &task.Task{
				Name: name, Source: "ant", File: a.main.Path, Line: e.line, Manner: task.Declared, Dir: path.Dir(a.main.Path),
				Command: task.Command{Argv: []string{"ant", name}}, About: declare.Shorten(e.attrs["description"]), Kind: task.KindOf(name),
				Default: name == a.deflt, Hidden: strings.HasPrefix(name, "-"),
			}
			for _, d := range strings.Split(e.attrs["depends"], ",") {
				if d = strings.TrimSpace(d); d != "" {
					t.Prerequisites = append(t.Prerequisites, d)
				}
			}
			if via > 0 {
				t.Line = via
				t.SetOrigin("name", task.Origin{File: where, Line: e.line, Manner: task.Declared, Note: "brought in by " + path.Base(a.main.Path)})
			}
			a.found.Tasks = append(a.found.Tasks, t)
		}
	}
	for _, e := range imports {
		file := e.attrs["file"]
		for _, p := range []string{"${basedir}/", "${ant.file.dir}/"} {
			file = strings.TrimPrefix(file, p)
		}
		if file == "" || strings.Contains(file, "$") {
			continue // known only when ant runs
		}
		rel := path.Join(path.Dir(where), file)
		line := via
		if line == 0 {
			line = e.line
		}
		data, err := f.Open(rel)
		if err != nil {
			if e.attrs["optional"] != "true" {
				a.found.Faults = append(a.found.Faults, task.Fault{File: where, Line: e.line, Message: fmt.Sprintf("%s %s: %v; the rest of the file was read", e.name, file, err)})
			}
			continue
		}
		inner := readXML(&declare.File{Path: rel, Data: data, Files: f.Files}, a.found).child("project")
		if inner == nil {
			continue
		}
		p := prefix
		if e.name == "include" {
			as := e.attrs["as"]
			if as == "" {
				as = inner.attrs["name"]
			}
			if as != "" {
				p = prefix + as + "."
			}
		}
		a.project(f, inner, p, rel, line)
	}
}
