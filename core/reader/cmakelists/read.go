// Package cmakelists reads CMake projects (cmake-language(7), cmake-commands(7)): the language is interpreted, and what only
// a configure run knows is unknown. A target or test whose name has an unknown part is not listed, and one under a condition
// that cannot be decided is hidden: the row that configures says that there are more.
package cmakelists

import (
	"fmt"
	"path"
	"runtime"
	"slices"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

func Wants(name string) bool { return name == "CMakeLists.txt" }

const defaultBuild = "build" // the folder to build in if none is configured

type cmakeReader struct {
	file  *declare.File
	root  string // folder of the top CMakeLists.txt
	build string // the folder that is built in, relative to root
	// conditions are those around what is read that could not be decided.
	conditions []string
	// setup is what must be done before anything can be built; the zero value if it is done.
	setup     task.Setup
	found     *declare.Found
	functions map[string]cmakeFunction
	steps     int
	seen      map[string]bool
	included  map[string]bool
	guarded   map[string]bool // by include_guard()
	names     map[string]bool // of targets, and with "test " before them of tests
	aliases   map[string]bool // names of targets that nothing builds
	testing   int             // whether tests are run
	installs  bool
	limit     bool
	nameless  []place                 // of targets and tests whose names are not known
	declared  []*task.Task            // tests
	programs  map[*task.Task][]string // what they call, with its arguments
	options   []task.Arg              // what a configure run may be given
	outputs   map[string]string       // the programs that targets make, relative to the top folder

	cache      map[string]string
	properties map[property]string
	packages   map[string]bool // that were looked for on the machine
	opaque     bool            // something was read or fetched from outside, which may declare anything
	// What properties tell, by folder or target.
	targetsOf, testsOf, foldersOf map[string][]string
	folderOf, typeOf              map[string]string
}

// Whether the tests that are declared are run.
const (
	testingOff = iota
	testingPossible
	testingOn
)

// enableTesting notes that tests are run: those that ctest finds from the top folder.
func (c *cmakeReader) enableTesting(s *scope, sure bool) {
	switch {
	case s.dir != c.root:
	case sure && len(c.conditions) == 0:
		c.testing = testingOn
	default:
		c.testing = max(c.testing, testingPossible)
	}
}

func newReader(f *declare.File, dir string, found *declare.Found) *cmakeReader {
	return &cmakeReader{
		file: f, root: dir, build: defaultBuild, found: found, functions: map[string]cmakeFunction{}, seen: map[string]bool{}, names: map[string]bool{}, aliases: map[string]bool{}, included: map[string]bool{}, guarded: map[string]bool{},
		cache: map[string]string{}, properties: map[property]string{}, packages: map[string]bool{}, targetsOf: map[string][]string{}, testsOf: map[string][]string{}, foldersOf: map[string][]string{}, programs: map[*task.Task][]string{}, outputs: map[string]string{}, folderOf: map[string]string{}, typeOf: map[string]string{},
	}
}

// top returns the scope of the top folder: what CMake sets on this system before it reads anything.
func (c *cmakeReader) top() *scope {
	processor := map[string]string{"amd64": "x86_64", "arm64": "aarch64", "386": "i686"}[runtime.GOARCH]
	if processor == "" {
		processor = declare.Unknown
	}
	s := &scope{reader: c, dir: c.root, vars: map[string]string{
		"CMAKE_SYSTEM_NAME": "Linux", "CMAKE_HOST_SYSTEM_NAME": "Linux", "CMAKE_SYSTEM_PROCESSOR": processor, "CMAKE_HOST_SYSTEM_PROCESSOR": processor, "UNIX": "1", "LINUX": "1", "CMAKE_HOST_UNIX": "1",
		"CMAKE_C_COMPILER": "/usr/bin/cc", "CMAKE_CXX_COMPILER": "/usr/bin/c++", "CMAKE_C_COMPILER_ID": "GNU", "CMAKE_CXX_COMPILER_ID": "GNU", "CMAKE_COMPILER_IS_GNUCC": "1", "CMAKE_COMPILER_IS_GNUCXX": "1", "CMAKE_C_COMPILER_LOADED": "1", "CMAKE_CXX_COMPILER_LOADED": "1",
		"CMAKE_VERSION": "3.25.1", "CMAKE_MAJOR_VERSION": "3", "CMAKE_MINOR_VERSION": "25", "CMAKE_PATCH_VERSION": "1", "CMAKE_GENERATOR": "Unix Makefiles", "CMAKE_SIZEOF_VOID_P": "8",
		"CMAKE_BINARY_DIR": c.abs(path.Join(c.root, c.build)), "CMAKE_CURRENT_BINARY_DIR": c.abs(path.Join(c.root, c.build)), "CMAKE_SOURCE_DIR": c.abs(c.root), "CMAKE_HOME_DIRECTORY": c.abs(c.root), "CMAKE_CURRENT_SOURCE_DIR": c.abs(c.root), "CMAKE_EXECUTABLE_SUFFIX": "", "CMAKE_STATIC_LIBRARY_PREFIX": "lib", "CMAKE_STATIC_LIBRARY_SUFFIX": ".a", "CMAKE_SHARED_LIBRARY_PREFIX": "lib", "CMAKE_SHARED_LIBRARY_SUFFIX": ".so",
	}}
	s.enter(path.Join(c.root, "CMakeLists.txt"))
	return s
}

func Read(f *declare.File) (found declare.Found) {
	dir := path.Dir(f.Path)
	for at := dir; at != "."; {
		at = path.Dir(at)
		if f.Exists(path.Join(at, "CMakeLists.txt")) {
			return found // read from there
		}
	}
	c := newReader(f, dir, &found)
	configured := buildFolders(f, dir)
	state := "the build is not configured"
	if len(configured) > 0 {
		c.build, state = configured[0], "configuring the build in "+configured[0]+" failed"
	}
	if generated := c.build + "/CMakeFiles/TargetDirectories.txt"; len(configured) == 0 || !f.Exists(path.Join(dir, generated)) {
		c.setup = task.Setup{Path: generated, State: state, Command: "cmake -S . -B " + c.build}
	}
	c.run(c.parse(f.Path, f.Data), c.top(), 0)
	if c.testing == testingOff { // nothing runs them
		for _, t := range c.declared {
			delete(c.names, t.Name)
		}
		found.Tasks = slices.DeleteFunc(found.Tasks, func(t *task.Task) bool { return slices.Contains(c.declared, t) })
	}
	c.linkTests()
	if len(configured) > 0 {
		c.reconcile()
	}
	if len(found.Tasks) > 0 || c.names["project"] {
		var steps []*task.Task
		add := func(setup task.Setup, name string, kind task.Kind, about string, argv ...string) {
			steps = append(steps, &task.Task{
				Name: name, Source: "cmake", File: f.Path, Line: 1, Manner: task.Inferred, Dir: dir, Kind: kind, About: about,
				Command: task.Command{Argv: argv}, Setup: setup,
			})
		}
		configure := "Configure the build in " + c.build
		if len(configured) == 0 && len(c.nameless) > 0 {
			at := c.nameless[0]
			configure += fmt.Sprintf("; it names more targets or tests (%s:%d)", at.file, at.line)
		}
		add(task.Setup{}, "configure", task.Build, configure, "cmake", "-S", ".", "-B", c.build)
		steps[0].Args = c.arguments()
		add(c.setup, "build", task.Build, "Build everything", "cmake", "--build", c.build)
		if c.testing > testingOff {
			add(c.setup, "test", task.Test, "Run the tests", "ctest", "--test-dir", c.build, "--output-on-failure")
			suite := steps[len(steps)-1]
			suite.Before = []string{(&task.Task{File: f.Path, Name: "build"}).ID()}
			for _, t := range found.Tasks {
				if t.PartOf != "" && !t.Hidden {
					suite.Parts++
				}
			}
		}
		if c.installs {
			add(c.setup, "install", task.Other, "Install what was built", "cmake", "--install", c.build)
		}
		for _, other := range configured[min(1, len(configured)):] {
			add(c.setup, "build "+other, task.Build, "Build everything in "+other, "cmake", "--build", other)
		}
		found.Tasks = append(steps, found.Tasks...)
	}
	return found
}

// maxOptions bounds the options that configure offers.
const maxOptions = 200

// option notes a cache variable that a project offers, of a type of set(… CACHE …).
func (c *cmakeReader) option(name, kind, help, value string) {
	if unknown(name, help) || name == "" || kind == "INTERNAL" || kind == "STATIC" || len(c.options) >= maxOptions || slices.ContainsFunc(c.options, func(a task.Arg) bool { return a.Name == "-D"+name }) {
		return
	}
	a := task.Arg{Name: "-D" + name, About: declare.Shorten(help), Open: true}
	if !unknown(value) {
		a.Default = value
	}
	if kind == "BOOL" {
		if a.Choices = []string{"ON", "OFF"}; a.Default != "" && !unknown(value) {
			a.Default = map[bool]string{true: "ON", false: "OFF"}[cmakeTruth(value)]
		}
	}
	c.options = append(c.options, a)
}

// arguments returns what a configure run may be given: how it builds, and the project's own options.
func (c *cmakeReader) arguments() []task.Arg {
	for i := range c.options {
		a := &c.options[i]
		if list := items(c.properties[property{"CACHE", a.Name[2:], "STRINGS"}]); len(list) > 0 && !unknown(list...) {
			a.Choices = list
		}
	}
	c.option("CMAKE_BUILD_TYPE", "STRING", "How it is compiled", c.cache["CMAKE_BUILD_TYPE"])
	c.option("BUILD_SHARED_LIBS", "BOOL", "Libraries are shared ones where nothing else is said", "")
	for i := range c.options {
		if a := &c.options[i]; a.Name == "-DCMAKE_BUILD_TYPE" && len(a.Choices) == 0 {
			a.Choices = []string{"Debug", "Release", "RelWithDebInfo", "MinSizeRel"}
		}
	}
	return c.options
}

func (c *cmakeReader) fault(file string, line int, format string, args ...any) {
	if len(c.found.Faults) < 100 {
		c.found.Faults = append(c.found.Faults, task.Fault{File: file, Line: line, Message: fmt.Sprintf(format, args...)})
	}
}

// faultOfLimit records a limit of this reader, or a guess about a command that may not be executed.
func (c *cmakeReader) faultOfLimit(file string, line int, format string, args ...any) {
	n := len(c.found.Faults)
	if c.fault(file, line, format, args...); len(c.found.Faults) > n {
		c.found.Faults[n].Limit = true
	}
}
