package cmakelists

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Targets and tests, and the tasks for them.

// declares takes a command that declares a target or a test.
func (c *cmakeReader) declares(cmd *cmakeCommand, w []string, s *scope) {
	if len(w) == 0 {
		return
	}
	first := w[0]
	switch cmd.name {
	case "add_executable", "add_library":
		switch {
		case slices.Contains(w, "ALIAS"):
			c.aliases[first] = true
		case slices.Contains(w, "IMPORTED"), len(w) > 1 && w[1] == "INTERFACE" && len(w) == 2:
			c.aliases[first] = true
		case len(w) > 1 && w[1] == "INTERFACE" && slices.Equal(w[2:], []string{"EXCLUDE_FROM_ALL"}):
			c.aliases[first] = true
		default:
			kind := "EXECUTABLE"
			if cmd.name == "add_library" {
				if kind = "STATIC_LIBRARY"; cmakeTruth(s.value("BUILD_SHARED_LIBS")) {
					kind = "SHARED_LIBRARY"
				}
				if len(w) > 1 && (w[1] == "SHARED" || w[1] == "MODULE" || w[1] == "OBJECT" || w[1] == "INTERFACE" || w[1] == "STATIC") {
					kind = w[1] + "_LIBRARY"
				}
			}
			c.target(first, kind, cmd, s)
		}
	case "add_custom_target":
		if t := c.target(first, "UTILITY", cmd, s); t != nil {
			t.Kind = task.KindOf(first)
			if i := slices.Index(w, "COMMENT"); i >= 0 && i+1 < len(w) && !unknown(w[i+1]) {
				t.About = declare.Shorten(w[i+1])
			}
		}
	case "externalproject_add":
		c.target(first, "UTILITY", cmd, s)
		c.opaque = true
	case "add_test":
		call := w[1:]
		if first == "NAME" && len(w) > 1 {
			first, call = w[1], w[min(len(w), slices.Index(w, "COMMAND")+1):]
			for i, x := range call {
				if x == "WORKING_DIRECTORY" || x == "CONFIGURATIONS" || x == "COMMAND_EXPAND_LISTS" {
					call = call[:i]
					break
				}
			}
		}
		c.test(first, call, cmd, s)
	case "qt_add_executable", "qt5_add_executable", "qt6_add_executable", "cuda_add_executable":
		c.target(first, "EXECUTABLE", cmd, s)
	case "qt_add_library", "qt6_add_library", "cuda_add_library", "swig_add_library", "pybind11_add_module", "python_add_library", "python3_add_library", "nanobind_add_module":
		c.target(first, "MODULE_LIBRARY", cmd, s)
	case "gtest_discover_tests", "gtest_add_tests", "catch_discover_tests", "doctest_discover_tests", "ecm_add_test", "ecm_add_tests": // they list themselves once they are built
		c.unnamed(cmd, s)
	}
}

// unnamed notes that there are targets or tests of which the names are not known here.
func (c *cmakeReader) unnamed(cmd *cmakeCommand, s *scope) {
	if at := (place{s.file, cmd.line}); !slices.Contains(c.nameless, at) {
		c.nameless = append(c.nameless, at)
	}
}

type place struct {
	file string
	line int
}

func (c *cmakeReader) target(name, kind string, cmd *cmakeCommand, s *scope) *task.Task {
	if unknown(name) || strings.Contains(name, "$<") {
		c.unnamed(cmd, s)
		return nil
	}
	if name == "" || c.names[name] || strings.ContainsAny(name, "$<>\n ") {
		return nil
	}
	c.targetsOf[s.dir] = append(c.targetsOf[s.dir], name)
	c.folderOf[name], c.typeOf[name] = s.dir, kind
	t := c.targetTask(name, s.file, cmd.line)
	c.conditional(t, cmd, s)
	if kind == "EXECUTABLE" {
		c.outputs[name] = s.output(name)
	}
	return t
}

func (c *cmakeReader) test(name string, call []string, cmd *cmakeCommand, s *scope) {
	if unknown(name) || strings.Contains(name, "$<") {
		c.unnamed(cmd, s)
		return
	}
	if name == "" || strings.ContainsAny(name, "$\n") || c.names["test "+name] {
		return
	}
	c.testsOf[s.dir] = append(c.testsOf[s.dir], name)
	t := c.testTask(name, s.file, cmd.line)
	c.conditional(t, cmd, s)
	c.declared = append(c.declared, t)
	if len(call) > 0 {
		c.programs[t] = call
	}
}

// linkTests gives each test its program: the target that makes it is built before, and a debugger is started on it. What makes a
// program that is no test's can be run.
func (c *cmakeReader) linkTests() {
	for name, output := range c.outputs { // properties are set after the target
		if v := c.properties[property{"TARGET", name, "OUTPUT_NAME"}]; v != "" && output != "" {
			output = path.Join(path.Dir(output), v)
		}
		if v := c.properties[property{"TARGET", name, "RUNTIME_OUTPUT_DIRECTORY"}]; v != "" {
			rel, inside := c.rel(v)
			rel, below := strings.CutPrefix(rel, strings.TrimPrefix(c.root+"/", "./"))
			if output = path.Join(rel, path.Base(output)); !inside || !below {
				output = ""
			}
		}
		if unknown(output) || strings.Contains(output, "$<") {
			output = ""
		}
		c.outputs[name] = output
	}
	tested := map[string]bool{}
	byName := map[string]*task.Task{}
	for _, t := range c.found.Tasks {
		byName[t.Name] = t
	}
	for _, t := range c.declared {
		call := slices.Clone(c.programs[t])
		if len(call) == 0 || unknown(call...) {
			continue
		}
		name := strings.TrimSuffix(strings.TrimPrefix(call[0], "$<TARGET_FILE:"), ">")
		if strings.Contains(name, "/") { // by its path
			name = path.Base(name)
			if rel, ok := c.rel(call[0]); path.IsAbs(call[0]) && (!ok || rel != path.Join(c.root, c.outputs[name])) {
				continue
			}
		}
		tested[name] = true
		output, target := c.outputs[name], byName[name]
		if target == nil || output == "" || target.Hidden && !t.Hidden {
			continue
		}
		t.Before = []string{target.ID()}
		call[0] = output
		if !slices.ContainsFunc(call, func(w string) bool { return strings.Contains(w, "$<") }) {
			t.Debug = task.Command{Argv: call}
		}
	}
	for _, t := range slices.Clone(c.found.Tasks) {
		output := c.outputs[t.Name]
		if output == "" || t.Kind == task.Test {
			continue
		}
		t.Makes = []string{output}
		t.SetOrigin("makes", task.Origin{File: t.File, Line: t.Line, Manner: task.Inferred})
		if tested[t.Name] || c.names["run "+t.Name] {
			continue
		}
		run := &task.Task{
			Name: "run " + t.Name, Source: "cmake", File: t.File, Line: t.Line, Manner: task.Inferred, Dir: c.root, Kind: task.Run, Setup: c.setup, Hidden: true, // beside what builds it
			About: "Run what " + t.Name + " builds", Before: []string{t.ID()}, Command: task.Command{Argv: []string{output}}, Debug: task.Command{Argv: []string{output}},
		}
		c.found.Tasks = append(c.found.Tasks, run)
	}
}

// output returns the program that a target makes, relative to the top folder; "" if that is not known.
func (s *scope) output(name string) string {
	dir, _ := s.get("CMAKE_RUNTIME_OUTPUT_DIRECTORY")
	if dir == "" {
		dir = s.value("CMAKE_CURRENT_BINARY_DIR")
	}
	rel, ok := s.reader.rel(under(s.value("CMAKE_CURRENT_BINARY_DIR"), path.Join(dir, name)))
	if !ok || unknown(dir) || strings.Contains(dir, "$<") {
		return ""
	}
	if s.reader.root == "." {
		return rel
	}
	rel, ok = strings.CutPrefix(rel, s.reader.root+"/")
	if !ok {
		return ""
	}
	return rel
}

// conditional hides a task that stands under conditions which are not decided, and says which: it may not be there.
func (c *cmakeReader) conditional(t *task.Task, cmd *cmakeCommand, s *scope) {
	if t != nil && len(c.conditions) > 0 {
		t.Hidden = true
		c.unnamed(cmd, s)
		t.SetOrigin("name", task.Origin{File: t.File, Line: t.Line, Manner: task.Declared, Note: "depends on " + declare.Shorten(strings.Join(c.conditions, ", "))})
	}
}

// targetTask adds the task that builds a target, unless there is one.
func (c *cmakeReader) targetTask(name, file string, line int) *task.Task {
	if c.names[name] {
		return nil
	}
	c.names[name] = true
	t := &task.Task{
		Name: name, Source: "cmake", File: file, Line: line, Manner: task.Declared, Dir: c.root, Kind: task.Build, Setup: c.setup,
		Command: task.Command{Argv: []string{"cmake", "--build", c.build, "--target", name}},
	}
	c.found.Tasks = append(c.found.Tasks, t)
	return t
}

// testTask adds the task that runs a test, unless there is one.
func (c *cmakeReader) testTask(name, file string, line int) *task.Task {
	if c.names["test "+name] {
		return nil
	}
	c.names["test "+name] = true
	t := &task.Task{
		Name: "test " + name, Source: "cmake", File: file, Line: line, Manner: task.Declared, Dir: c.root, Kind: task.Test, Setup: c.setup, PartOf: (&task.Task{File: c.file.Path, Name: "test"}).ID(),
		Command: task.Command{Argv: []string{"ctest", "--test-dir", c.build, "--output-on-failure", "-R", "^" + regexp.QuoteMeta(name) + "$"}},
	}
	c.found.Tasks = append(c.found.Tasks, t)
	return t
}
