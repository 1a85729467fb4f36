package reader

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"tidytally/core/jsontext"
	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Package scripts are read as npm reads them (npm documentation, "scripts" and
// "package.json"). The field packageManager of the nearest package upward decides
// which package manager runs them, then a lock file there; the default is npm.

func npmWants(name string) bool { return name == "package.json" }

type packageManagerOf struct {
	name  string
	locks []string
}

// packageManagers are in the order in which their lock files are looked for.
var packageManagers = []packageManagerOf{
	{"pnpm", []string{"pnpm-lock.yaml", "pnpm-workspace.yaml"}},
	{"yarn", []string{"yarn.lock", ".yarnrc.yml"}},
	{"npm", []string{"package-lock.json", "npm-shrinkwrap.json"}},
}

// dependsOnPackages reports whether a package.json names packages to install.
func dependsOnPackages(root *jsontext.Value) bool {
	for _, key := range []string{"dependencies", "devDependencies"} {
		if list := root.Get(key); list != nil && len(list.Members) > 0 {
			return true
		}
	}
	return false
}

func readNpm(f *declare.File) (found declare.Found) {
	places := jsontext.NewPlaces(f.Data)
	fault := func(offset int, format string, args ...any) {
		line, column := places.At(offset)
		found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: line, Column: column, Message: fmt.Sprintf(format, args...)})
	}
	root, err := jsontext.Parse(f.Data, false)
	if err != nil {
		e := err.(*jsontext.Error)
		message := e.Message
		if root.Get("scripts") != nil {
			message += "; the scripts before this place are listed"
		}
		found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: e.Line, Column: e.Column, Message: message})
	}
	if root == nil || err != nil && root.Kind != jsontext.Object {
		return found
	}
	if root.Kind != jsontext.Object {
		fault(root.Offset, "is %s where an object should stand", root.Kind)
		return found
	}
	found.Package = root.Get("name").Str()
	for _, key := range []string{"dependencies", "devDependencies", "peerDependencies", "optionalDependencies"} {
		if list := root.Get(key); list != nil {
			for _, m := range list.Members {
				found.Depends = append(found.Depends, m.Key)
			}
		}
	}
	manager, origin := packageManager(f, root)
	found.Tasks = append(found.Tasks, binTasks(f, root, places, found.Package)...)
	scripts := root.Get("scripts")
	if scripts == nil {
		return found
	}
	if scripts.Kind != jsontext.Object {
		fault(scripts.Offset, "scripts is %s where an object should stand", scripts.Kind)
		return found
	}
	last := map[string]int{}
	for i, m := range scripts.Members {
		if _, twice := last[m.Key]; twice {
			fault(m.Offset, "the script %q stands twice; this one, the last, counts", m.Key)
		}
		last[m.Key] = i
	}
	for i, m := range scripts.Members {
		if last[m.Key] != i || m.Key == "" || strings.HasPrefix(m.Key, "//") {
			continue
		}
		if m.Value.Kind != jsontext.String {
			fault(m.Value.Offset, "the script %q is %s where a string should stand", m.Key, m.Value.Kind)
			continue
		}
		line, column := places.At(m.Offset)
		t := &task.Task{
			Name: m.Key, Source: "npm", File: f.Path, Line: line, Column: column, Manner: task.Declared,
			Command: task.Command{Argv: []string{manager, "run", m.Key}},
			Script:  m.Value.Text, Dir: path.Dir(f.Path), Kind: task.KindOf(m.Key),
			LongRunning: task.LongRunningOf(m.Key, m.Value.Text),
			ShowScript:  true,
		}
		if dependsOnPackages(root) {
			t.Setup = task.Setup{Path: "node_modules", Above: true, State: "the packages are not installed", Command: manager + " install"}
		}
		if manager == "npm" {
			t.ArgLead = []string{"--"}
		}
		t.SetOrigin("command", origin)
		byName := task.Origin{File: f.Path, Line: line, Manner: task.Inferred, Note: "from the name"}
		t.SetOrigin("kind", byName)
		if t.LongRunning {
			byName.Note = "from the name and what it runs"
			t.SetOrigin("longRunning", byName)
		}
		for _, hook := range []string{"pre", "post"} { // it runs as a part of another script
			if of, ok := strings.CutPrefix(m.Key, hook); ok {
				if _, there := last[of]; there && of != "" {
					t.HookOf = of
				}
			}
		}
		if _, hooked := last["pre"+m.Key]; hooked {
			t.Prerequisites = append(t.Prerequisites, "pre"+m.Key) // runs as a part of this script
		}
		found.Tasks = append(found.Tasks, t)
		splitScript(f, t, &found)
	}
	return found
}

// suiteRunners are the runners of which a script that calls one is a test suite: the patterns of their files, where nothing
// else is configured. A name of a file behind the command narrows it.
var suiteRunners = map[string]string{
	"vitest": "*.test.* *.spec.*", "jest": "*.test.* *.spec.* __tests__/*.*", "playwright": "*.spec.* *.test.*",
}

// splitScript adds the files of the test suite that a package script is, each as a hidden task: where the script calls one runner
// and nothing else.
func splitScript(f *declare.File, t *task.Task, found *declare.Found) {
	words, err := task.SplitWords(t.Script)
	if err != nil || t.HookOf != "" || strings.ContainsAny(t.Script, "&|;<>$") || t.LongRunning {
		return
	}
	for len(words) > 0 && (strings.Contains(words[0], "=") || words[0] == "cross-env" || words[0] == "npx") {
		words = words[1:]
	}
	if len(words) == 0 {
		return
	}
	origin := task.Origin{File: f.Path, Line: t.Line, Manner: task.Inferred, Note: "by what " + words[0] + " takes for a file of tests"}
	part := func(file string) task.Command { return t.Full([]string{file}) }
	patterns := suiteRunners[words[0]]
	switch {
	case words[0] == "vitest" && (len(words) < 2 || words[1] != "run") && !slices.Contains(words, "--run"):
		return // it watches
	case words[0] == "playwright" && (len(words) < 2 || words[1] != "test"):
		return
	case patterns != "":
		if slices.ContainsFunc(words[1:], func(w string) bool { return strings.HasPrefix(w, "--watch") && w != "--watch=false" }) {
			return
		}
	case words[0] == "node" && slices.Contains(words, "--test"):
		var options, globs []string
		for _, w := range words {
			if strings.HasPrefix(w, "-") || len(options) == 0 {
				options = append(options, w)
			} else {
				globs = append(globs, w)
			}
		}
		if patterns = strings.Join(globs, " "); patterns == "" { // Node.js, "Running tests from the command line"
			patterns = "*.test.* test/*.js test/*.mjs test/*.cjs"
		}
		part = func(file string) task.Command { return task.Command{Argv: append(slices.Clone(options), file)} }
	}
	if patterns == "" {
		return
	}
	suite := *t
	var of declare.Found
	splitSuite(f, &suite, strings.Fields(patterns), origin, &of)
	if t.Parts = suite.Parts; t.Parts == 0 {
		return
	}
	t.SetOrigin("parts", origin)
	for _, k := range of.Tasks[1:] {
		file := k.Command.Words()[len(k.Command.Words())-1]
		k.Command, k.Script, k.Prerequisites, k.ShowScript = part(file), "", nil, false
		found.Tasks = append(found.Tasks, k)
	}
}

// managerOf is the package manager that the files of one folder name.
type managerOf struct {
	name   string // "" where they say nothing
	origin task.Origin
}

// packageManager returns what runs the scripts of a package, with its origin. root
// is the content of the package.json at f; nil if f is another file.
func packageManager(f *declare.File, root *jsontext.Value) (name string, origin task.Origin) {
	for dir, at := path.Dir(f.Path), root; ; dir, at = path.Dir(dir), nil {
		if m := managerIn(f, dir, at); m.name != "" {
			return m.name, m.origin
		}
		if dir == "." {
			return "npm", task.Origin{File: f.Path, Manner: task.Inferred, Note: "neither packageManager nor a lock file says otherwise"}
		}
	}
}

// managerIn is asked once for each folder of a survey.
func managerIn(f *declare.File, dir string, root *jsontext.Value) managerOf {
	file := path.Join(dir, "package.json")
	if f.Exists(file) {
		f.Note(declare.Look{What: declare.Content, Path: file, Answer: 1})
	}
	f.Note(declare.Look{What: declare.Entries, Path: dir, Answer: 1}) // which lock file there is
	return f.Once("package manager of "+dir, func() any { return lookForManager(f, dir, file, root) }).(managerOf)
}

func lookForManager(f *declare.File, dir, file string, root *jsontext.Value) managerOf {
	data := f.Data
	if root == nil && f.Exists(file) {
		if d, err := f.Open(file); err == nil {
			data = d
			root, _ = jsontext.Parse(d, false)
		}
	}
	if field := root.Get("packageManager"); field.Str() != "" {
		name, _, _ := strings.Cut(field.Text, "@")
		for _, p := range packageManagers {
			if p.name == name {
				line, column := jsontext.NewPlaces(data).At(field.Offset)
				return managerOf{name, task.Origin{File: file, Line: line, Column: column, Manner: task.Declared, Note: "field packageManager"}}
			}
		}
	}
	for _, p := range packageManagers {
		for _, lock := range p.locks {
			if lock := path.Join(dir, lock); f.Exists(lock) {
				return managerOf{p.name, task.Origin{File: lock, Manner: task.Inferred, Note: "lock file"}}
			}
		}
	}
	return managerOf{}
}

// binTasks returns a task for each program of the package that is a script of its
// own (npm documentation, "package.json", "bin").
func binTasks(f *declare.File, root *jsontext.Value, places *jsontext.Places, pkg string) (out []*task.Task) {
	add := func(name string, offset int, file string) {
		dir := path.Dir(f.Path)
		at := path.Join(dir, file)
		if name == "" || file == "" || !f.Exists(at) {
			return // a program that is built first is not there yet
		}
		line, column := places.At(offset)
		t := &task.Task{
			Name: "run " + name, Source: "npm", File: f.Path, Line: line, Column: column, Manner: task.Inferred, Dir: dir, Kind: task.Run,
			Command: task.Command{Argv: []string{"node", path.Clean(file)}}, About: "The package's own program",
			Hidden: true, // scripts are what a package offers to its developers
		}
		out = append(out, t)
	}
	for _, m := range membersOf(root, "bin") {
		if m.Value.Kind == jsontext.String {
			_, base, scoped := strings.Cut(pkg, "/")
			if !scoped {
				base = pkg
			}
			add(base, m.Offset, m.Value.Text)
		}
		for _, b := range m.Value.Members {
			add(b.Key, b.Offset, b.Value.Str())
		}
	}
	return out
}
