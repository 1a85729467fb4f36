package cmakelists

import (
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"tidytally/core/jsontext"
	"tidytally/core/reader/declare"
	"tidytally/core/task"
	"tidytally/internal/lazyregexp"
)

// A build folder that CMake has configured tells of its targets and tests itself: in the
// reply of the file API (cmake-file-api(7)) if somebody asked for one, else in
// CMakeFiles/TargetDirectories.txt, and in CTestTestfile.cmake (ctest(1)). These files are
// read and never run.

// buildFolders returns the configured build folders of a project, relative to its folder.
func buildFolders(f *declare.File, dir string) []string {
	found := declare.BuildFolders(f, dir, "CMakeCache.txt")
	home := filepath.ToSlash(filepath.Join(f.Root(), dir))
	return slices.DeleteFunc(found, func(b string) bool {
		cache, err := f.Open(path.Join(dir, b, "CMakeCache.txt"))
		if err != nil {
			return true
		}
		for l := range strings.Lines(string(cache)) {
			if of, ok := strings.CutPrefix(l, "CMAKE_HOME_DIRECTORY:INTERNAL="); ok {
				return strings.TrimSpace(of) != home
			}
		}
		return true
	})
}

// answer is what a build folder tells.
type answer struct {
	targets, tests map[string]task.Origin // by name; the place in the source, if it tells
	order          []string               // of targets
	testOrder      []string
}

// ownTargets are those that CMake adds to each build.
var ownTargets = map[string]bool{"edit_cache": true, "rebuild_cache": true, "list_install_components": true, "test": true, "RUN_TESTS": true, "ZERO_CHECK": true, "ALL_BUILD": true, "package": true, "package_source": true, "install": true, "install/local": true, "install/strip": true}

// readAnswer reads what the build folder tells; nil if it was configured and never
// generated.
func (c *cmakeReader) readAnswer() *answer {
	a := &answer{targets: map[string]task.Origin{}, tests: map[string]task.Origin{}}
	at := path.Join(c.root, c.build)
	c.file.Note(declare.Look{What: declare.Watch, Path: path.Join(at, "CMakeFiles")})
	if !c.fromFileAPI(a, at) {
		data, err := c.file.Open(path.Join(at, "CMakeFiles/TargetDirectories.txt"))
		if err != nil {
			return nil
		}
		for l := range strings.Lines(string(data)) {
			_, name, _ := strings.Cut(strings.TrimSpace(l), "/CMakeFiles/")
			name, ok := strings.CutSuffix(name, ".dir")
			if ok && !ownTargets[name] {
				a.add(name, task.Origin{})
			}
		}
	}
	c.testFile(a, at, map[string]bool{})
	return a
}

func (a *answer) add(name string, o task.Origin) {
	if _, known := a.targets[name]; !known {
		a.order = append(a.order, name)
	}
	a.targets[name] = o
}

// fromFileAPI reads the newest reply of the file API. It reports whether there is one.
func (c *cmakeReader) fromFileAPI(a *answer, at string) bool {
	reply := path.Join(at, ".cmake/api/v1/reply")
	open := func(name string) *jsontext.Value {
		if name == "" || strings.Contains(name, "/") {
			return nil
		}
		data, err := c.file.Open(path.Join(reply, name))
		if err != nil {
			return nil
		}
		v, _ := jsontext.Parse(data, false)
		return v
	}
	index := ""
	for _, e := range c.file.List(reply) { // "the index file with the largest name is the current one"
		if strings.HasPrefix(e.Name, "index-") {
			index = e.Name
		}
	}
	var model *jsontext.Value
	for _, o := range open(index).Get("objects").Elements() {
		if o.Get("kind").Str() == "codemodel" {
			model = open(o.Get("jsonFile").Str())
		}
	}
	configurations := model.Get("configurations").Elements()
	if len(configurations) == 0 {
		return false
	}
	for _, k := range configurations[0].Get("targets").Elements() {
		t := open(k.Get("jsonFile").Str())
		name := t.Get("name").Str()
		if name == "" || ownTargets[name] {
			continue
		}
		var o task.Origin
		graph := t.Get("backtraceGraph")
		if node := number(graph.Get("nodes"), t.Get("backtrace")); node != nil {
			if file := number(graph.Get("files"), node.Get("file")); file.Str() != "" && node.Get("line") != nil {
				o = task.Origin{File: c.inside(file.Str()), Line: declare.PlainNumber(node.Get("line").Text), Manner: task.Declared}
			}
		}
		a.add(name, o)
	}
	return true
}

// number returns the element of a list that an index names; nil if there is none.
func number(list, index *jsontext.Value) *jsontext.Value {
	if index == nil {
		return nil
	}
	if i := declare.PlainNumber(index.Text); i < len(list.Elements()) {
		return list.Elements()[i]
	}
	return nil
}

// inside returns a path of CMake's as one of the workspace; "" if it lies outside. Relative
// ones start at the project.
func (c *cmakeReader) inside(file string) string {
	if !path.IsAbs(file) {
		return path.Join(c.root, file)
	}
	rel, ok := strings.CutPrefix(path.Clean(file), c.file.Root()+"/")
	if !ok {
		return ""
	}
	return rel
}

// maxTestFiles bounds the test files that are read of one build folder.
const maxTestFiles = 5000

// triples matches where a test was made: file;line;command, the place itself first.
var triples = lazyregexp.New(`^([^;]+);(\d+);`)

// testFile reads the tests of one folder of the build, and of those below it.
func (c *cmakeReader) testFile(a *answer, dir string, read map[string]bool) {
	c.testsIn(a, path.Join(dir, "CTestTestfile.cmake"), dir, read)
}

func (c *cmakeReader) testsIn(a *answer, file, dir string, read map[string]bool) {
	if read[file] || len(read) >= maxTestFiles {
		return
	}
	read[file] = true
	data, err := c.file.Open(file)
	if err != nil {
		return
	}
	faults := len(c.found.Faults)
	for _, cmd := range c.parse(file, data) {
		if len(cmd.args) == 0 {
			continue
		}
		name := cmd.args[0].text
		switch cmd.name {
		case "add_test":
			// Older versions write a name with blanks without quotes: the command is
			// quoted.
			for _, more := range cmd.args[1:] {
				if more.quoted || cmd.args[0].quoted {
					break
				}
				name += " " + more.text
			}
			if _, known := a.tests[name]; !known {
				a.testOrder = append(a.testOrder, name)
				a.tests[name] = task.Origin{}
			}
		case "set_tests_properties":
			for i, arg := range cmd.args {
				if arg.text != "_BACKTRACE_TRIPLES" || i+1 >= len(cmd.args) {
					continue
				}
				if m := triples().FindStringSubmatch(cmd.args[i+1].text); m != nil && len(a.testOrder) > 0 {
					if rel := c.inside(m[1]); rel != "" {
						a.tests[a.testOrder[len(a.testOrder)-1]] = task.Origin{File: rel, Line: declare.PlainNumber(m[2]), Manner: task.Declared}
					}
				}
			}
		case "subdirs":
			for _, arg := range cmd.args {
				inner := path.Join(dir, arg.text)
				if path.IsAbs(arg.text) {
					inner = c.inside(arg.text)
				}
				if inner != "" {
					c.testFile(a, inner, read)
				}
			}
		case "include": // what tests list of themselves once they are built
			if rel := c.inside(name); rel != "" {
				c.testsIn(a, rel, dir, read)
			}
		}
	}
	c.found.Faults = c.found.Faults[:faults] // CMake's own files are nobody's mistake
}

// reconcile compares what the sources tell with what the build folder tells. Targets and
// tests that only it knows are added. Those that it does not have, because conditions left
// them out, are hidden, unless a source is newer.
func (c *cmakeReader) reconcile() {
	a := c.readAnswer()
	if a == nil {
		return
	}
	note := "as configured in " + c.build
	sources := slices.Concat([]string{c.file.Path}, slices.Collect(maps.Keys(c.seen)), slices.Collect(maps.Keys(c.included)))
	stale := declare.AnyNewer(c.file, path.Join(c.root, c.build, "CMakeFiles/TargetDirectories.txt"), sources)
	for _, t := range c.found.Tasks {
		if t.Kind == task.Run { // of a target
			continue
		}
		name, isTest := strings.CutPrefix(t.Name, "test ")
		there := a.targets
		if isTest {
			there = a.tests
		}
		if _, ok := there[name]; ok {
			t.Hidden = false
		} else if !stale {
			t.Hidden = true
			o := t.Origin("name")
			o.Note = strings.TrimPrefix(o.Note+"; not "+note, "; ")
			t.SetOrigin("name", o)
		}
	}
	place := func(o task.Origin) (string, int) {
		if o.File == "" {
			return c.file.Path, 1
		}
		return o.File, o.Line
	}
	from := len(c.found.Tasks)
	for _, name := range a.order {
		file, line := place(a.targets[name])
		c.targetTask(name, file, line)
	}
	for _, name := range a.testOrder {
		file, line := place(a.tests[name])
		c.testTask(name, file, line)
		c.testing = testingOn
	}
	for _, t := range c.found.Tasks[from:] {
		t.Manner = task.Inferred
		t.SetOrigin("name", task.Origin{File: t.File, Line: t.Line, Manner: task.Inferred, Note: note})
	}
	// Dashboard targets come with include(CTest), and nobody of the project made them.
	for _, t := range c.found.Tasks[from:] {
		for _, lead := range []string{"Continuous", "Experimental", "Nightly"} {
			t.Hidden = t.Hidden || strings.HasPrefix(t.Name, lead)
		}
	}
}
