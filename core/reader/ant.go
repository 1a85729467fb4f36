package reader

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
	"tidytally/internal/lazyregexp"
)

// Ant build files (Apache Ant manual: "Using Apache Ant", tasks import and
// include).

func antWants(name string) bool { return name == "build.xml" }

// antHead is how many bytes of a file tell whether it may be a build file of another name:
// licences stand before the first element.
const antHead = 4096

func antMayWant(name string) bool { return path.Ext(name) == ".xml" && !antWants(name) }

// antProject matches the beginning of a build file, behind the prolog and comments.
var antProject = lazyregexp.New(`^\x{FEFF}?\s*(?:<\?[^>]*>\s*|<!--(?s:.*?)-->\s*|<!DOCTYPE[^\[>]*(?:\[[^\]]*\])?\s*>\s*)*<project[\s>]([^>]*)`)

// readOtherAnt reads a build file with a name of its own, which is given to ant by -f,
// unless the build.xml beside it or above it brings it in.
func readOtherAnt(f *declare.File) (found declare.Found) {
	m := antProject().FindSubmatch(f.Data)
	if m == nil || bytes.Contains(m[1], []byte("maven.apache.org")) {
		return found
	}
	data, err := f.Open(f.Path)
	if err != nil || !bytes.Contains(data, []byte("<target")) {
		return found
	}
	for dir := path.Dir(f.Path); ; dir = path.Dir(dir) {
		if above, err := f.Open(path.Join(dir, "build.xml")); err == nil && bytes.Contains(above, []byte(path.Base(f.Path))) {
			return found
		}
		if dir == "." {
			break
		}
	}
	return readAnt(&declare.File{Path: f.Path, Data: data, Files: f.Files})
}

func readAnt(f *declare.File) (found declare.Found) {
	root := readXML(f, &found).child("project")
	if root == nil {
		return found
	}
	a := antReader{main: f, found: &found, seen: map[string]bool{}, names: map[string]bool{}, command: []string{"ant"}}
	if base := path.Base(f.Path); !antWants(base) {
		a.command = append(a.command, "-f", base)
	}
	a.project(f, root, "", f.Path, 0)
	return found
}

type antReader struct {
	main  *declare.File
	found *declare.Found
	seen  map[string]bool
	names map[string]bool
	deflt string
	// command is what is called with the name of a target.
	command []string
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
				Command: task.Command{Argv: append(slices.Clip(a.command), name)}, About: declare.Shorten(e.attrs["description"]), Kind: task.KindOf(name),
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
