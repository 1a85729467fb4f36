package reader

import (
	"path"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
	"tidytally/internal/lazyregexp"
)

// Meson projects (Meson reference manual, "Functions"). Calls with a name
// that can be told are read; the parts of the project that subdir() names are read from
// its top.

func mesonWants(name string) bool { return name == "meson.build" }

var mesonTargets = map[string]task.Kind{
	"executable": task.Build, "library": task.Build, "shared_library": task.Build, "static_library": task.Build, "both_libraries": task.Build,
	"shared_module": task.Build, "build_target": task.Build, "jar": task.Build, "custom_target": task.Build, "run_target": task.Other, "alias_target": task.Build,
}

func readMeson(f *declare.File) (found declare.Found) {
	r := mesonReader{main: f, found: &found, names: map[string]bool{}, seen: map[string]bool{}}
	if !r.isTop(f.Data) {
		return found
	}
	dir := path.Dir(f.Path)
	r.build = "build"
	configured := mesonBuildFolders(f, dir)
	if len(configured) > 0 {
		r.build = configured[0]
	} else {
		r.setup = task.Setup{Path: r.build + "/meson-info", State: "the build is not configured", Command: "meson setup " + r.build}
	}
	r.read(f.Path, f.Data)
	if len(configured) > 0 {
		r.reconcile()
	}
	r.addTargets()
	r.markConfigured()
	var steps []*task.Task
	add := func(setup task.Setup, name string, kind task.Kind, about string, argv ...string) {
		steps = append(steps, &task.Task{
			Name: name, Source: "meson", File: f.Path, Line: 1, Manner: task.Inferred, Dir: dir, Kind: kind, About: about, Command: task.Command{Argv: argv}, Setup: setup,
		})
	}
	add(task.Setup{}, "setup", task.Build, "Configure the build in "+r.build, "meson", "setup", r.build)
	add(r.setup, "compile", task.Build, "Build everything", "meson", "compile", "-C", r.build)
	if r.tests {
		add(r.setup, "test", task.Test, "Run the tests", "meson", "test", "-C", r.build)
	}
	if r.installs {
		add(r.setup, "install", task.Other, "Install what was built", "meson", "install", "-C", r.build)
	}
	for _, other := range configured[min(1, len(configured)):] {
		add(r.setup, "compile "+other, task.Build, "Build everything in "+other, "meson", "compile", "-C", other)
	}
	found.Tasks = append(steps, found.Tasks...)
	return found
}

var mesonInstalls = lazyregexp.New(`(?m)^[^#\n]*\binstall(?:\s*:\s*true|_\w+\s*\()`)

type mesonReader struct {
	main  *declare.File
	found *declare.Found
	names map[string]bool
	seen  map[string]bool
	tests bool
	// installs: the project says what is installed.
	installs bool
	build    string // the folder that is built in, relative to the project
	// setup is what must be done before anything can be built; the zero value if it is done.
	setup task.Setup
	// there are the names that the configured build folder has, nil without one. stale says
	// that a source is newer.
	there map[string]bool
	stale bool
	// targets are those of all files, in the order in which they are read.
	targets []mesonTarget
}

type mesonTarget struct {
	call
	file string
}

// mesonTypes are the types that meson has for what some functions make (meson manual,
// "Running Meson", section "Compile the project": [PATH/]NAME[:TYPE]).
var mesonTypes = map[string]string{"library": "shared_library", "build_target": "executable", "custom_target": "custom", "run_target": "run", "alias_target": "alias"}

// addTargets adds the targets, under the shortest name by which meson takes each: alone,
// with its type, or with its folder too.
func (r *mesonReader) addTargets() {
	alone, typed := map[string]int{}, map[string]int{}
	kindOf := func(t mesonTarget) string {
		if kind, ok := mesonTypes[t.name]; ok {
			return kind
		}
		return t.name
	}
	for _, t := range r.targets {
		alone[t.literal]++
		typed[t.literal+":"+kindOf(t)]++
	}
	for _, t := range r.targets {
		name := t.literal
		if alone[name] > 1 {
			if name += ":" + kindOf(t); typed[name] > 1 {
				if dir := path.Dir(strings.TrimPrefix(t.file, path.Dir(r.main.Path)+"/")); dir != "." {
					name = dir + "/" + name
				}
			}
		}
		if !r.names[name] {
			r.names[name] = true
			r.add(t.file, t.call, name, mesonTargets[t.name], "meson", "compile", "-C", r.build, name)
		}
	}
}

// isTop reports whether a file is that of the project rather than of a folder in it.
func (r *mesonReader) isTop(data []byte) bool {
	for _, c := range calls(string(data), '#') {
		return c.name == "project"
	}
	return false
}

func (r *mesonReader) read(name string, data []byte) {
	if r.seen[name] || len(r.seen) > 2000 {
		return
	}
	r.seen[name] = true
	r.installs = r.installs || mesonInstalls().Match(data)
	top := path.Dir(r.main.Path)
	for _, c := range mesonCalls(data) {
		if c.literal == "" {
			continue
		}
		if _, ok := mesonTargets[c.name]; ok {
			r.targets = append(r.targets, mesonTarget{c, name})
			continue
		}
		switch c.name {
		case "test", "benchmark":
			r.addTest(name, c)
		case "subdir":
			rel := path.Join(path.Dir(name), c.literal, "meson.build")
			if inner, err := r.main.Open(rel); err == nil && (top == "." || strings.HasPrefix(rel, top+"/")) {
				r.read(rel, inner)
			}
		}
	}
}

// addTest adds a test or benchmark, unless there is one of its name.
func (r *mesonReader) addTest(file string, c call) {
	r.tests = true
	name := c.name + " " + c.literal
	if r.names[name] {
		return
	}
	r.names[name] = true
	argv := []string{"meson", "test", "-C", r.build}
	if c.name == "benchmark" {
		argv = append(argv, "--benchmark")
	}
	r.add(file, c, name, task.Test, append(argv, c.literal)...)
}

func (r *mesonReader) add(file string, c call, name string, kind task.Kind, argv ...string) {
	r.found.Tasks = append(r.found.Tasks, &task.Task{
		Name: name, Source: "meson", File: file, Line: c.line, Manner: task.Declared, Dir: path.Dir(r.main.Path), Kind: kind,
		Command: task.Command{Argv: argv}, Setup: r.setup,
	})
}

// call is a call in a script, with its first argument if that is a plain string.
type call struct {
	name    string
	literal string
	line    int
	method  bool // stands behind a dot
}

// calls finds the calls in a text, outside of comments and strings.
func calls(s string, comment byte) (out []call) {
	line := 1
	for i := 0; i < len(s); {
		switch c := s[i]; {
		case c == '\n':
			line++
			i++
		case c == comment:
			for i < len(s) && s[i] != '\n' {
				i++
			}
		case c == '\'' || c == '"':
			end, n := stringEnd(s, i)
			line += n
			i = end
		case c == '_' || c|0x20 >= 'a' && c|0x20 <= 'z':
			start := i
			for i < len(s) && (s[i] == '_' || s[i] >= '0' && s[i] <= '9' || s[i]|0x20 >= 'a' && s[i]|0x20 <= 'z') {
				i++
			}
			j := i
			for j < len(s) && (s[j] == ' ' || s[j] == '\t') {
				j++
			}
			if j < len(s) && s[j] == '(' {
				k := call{name: s[start:i], line: line, method: start > 0 && s[start-1] == '.'}
				j++
				for j < len(s) && (s[j] == ' ' || s[j] == '\t' || s[j] == '\n' || s[j] == '\r') {
					j++
				}
				if j < len(s) && (s[j] == '\'' || s[j] == '"') {
					if end, _ := stringEnd(s, j); end > j+1 && end <= len(s) && s[end-1] == s[j] {
						text := s[j+1 : end-1]
						rest := strings.TrimLeft(s[end:], " \t\r\n")
						if !strings.ContainsAny(text, "\n@\\") && rest != "" && (rest[0] == ',' || rest[0] == ')') {
							k.literal = text
						}
					}
				}
				if !k.method && len(out) < 100_000 {
					out = append(out, k)
				}
			}
		default:
			i++
		}
	}
	return out
}

// stringEnd returns the end of the string that begins at i, and the number of line
// breaks in it.
func stringEnd(s string, i int) (end, lines int) {
	q := s[i]
	if strings.HasPrefix(s[i:], strings.Repeat(string(q), 3)) {
		j := strings.Index(s[i+3:], strings.Repeat(string(q), 3))
		if j < 0 {
			return len(s), strings.Count(s[i:], "\n")
		}
		return i + j + 6, strings.Count(s[i:i+j+6], "\n")
	}
	for j := i + 1; j < len(s); j++ {
		switch s[j] {
		case '\\':
			j++
		case '\n':
			return j, 0
		case q:
			return j + 1, 0
		}
	}
	return len(s), 0
}
