package reader

import (
	"path"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Python projects (packaging specification "Declaring project metadata":
// [project.scripts]; documentation of pytest and tox: configuration).

func pythonWants(name string) bool {
	switch name {
	case "pyproject.toml", "tox.ini", "pytest.ini", "setup.cfg", "manage.py":
		return true
	}
	return false
}

func readPython(f *declare.File) (found declare.Found) {
	dir := path.Dir(f.Path)
	add := func(name string, line int, manner task.Manner, kind task.Kind, about string, argv ...string) {
		found.Tasks = append(found.Tasks, &task.Task{
			Name: name, Source: "python", File: f.Path, Line: line, Manner: manner, Dir: dir, Kind: kind, About: about, Command: task.Command{Argv: argv},
		})
	}
	pytest := func(line int) {
		suite := &task.Task{
			Name: "test", Source: "python", File: f.Path, Line: line, Manner: task.Inferred, Dir: dir, Kind: task.Test, About: "Run the tests with pytest",
			Command: task.Command{Argv: []string{"python3", "-m", "pytest"}},
		}
		splitSuite(f, suite, strings.Fields(pytestSuite), suite.Origin("name"), &found)
	}
	switch path.Base(f.Path) {
	case "manage.py":
		add("manage.py", 1, task.Inferred, task.KindOf("run"), "The project's own commands", "python3", "manage.py")
	case "pyproject.toml":
		root := readTOML(f, &found)
		for _, table := range []string{"scripts", "gui-scripts"} {
			if scripts := root.Get("project").Get(table); scripts != nil {
				for _, e := range scripts.Entries {
					add("run "+e.Key, e.Line, task.Declared, task.Run, e.Value.Str(), e.Key)
				}
			}
		}
		tool := root.Get("tool")
		if poetry := tool.Get("poetry").Get("scripts"); poetry != nil {
			for _, e := range poetry.Entries {
				add("run "+e.Key, e.Line, task.Declared, task.Run, e.Value.Str(), "poetry", "run", e.Key)
			}
		}
		if p := tool.Get("pytest"); p != nil {
			pytest(p.Line)
		}
	case "pytest.ini":
		pytest(1)
	default:
		for n, l := range strings.Split(string(f.Data), "\n") {
			l = strings.TrimSpace(l)
			if !strings.HasPrefix(l, "[") {
				if list, ok := strings.CutPrefix(strings.ReplaceAll(l, " ", ""), "envlist="); ok && path.Base(f.Path) == "tox.ini" {
					for _, env := range strings.Split(list, ",") {
						if env != "" && !strings.ContainsAny(env, "{}$") {
							add("env "+env, n+1, task.Declared, task.Test, "Run tox in this environment", "tox", "-e", env)
						}
					}
				}
				continue
			}
			section := strings.Trim(l, "[]")
			if section == "pytest" || section == "tool:pytest" {
				pytest(n + 1)
			}
			if env, ok := strings.CutPrefix(section, "testenv:"); ok && !strings.ContainsAny(env, "{}") {
				dup := false
				for _, t := range found.Tasks {
					dup = dup || t.Name == "env "+env
				}
				if !dup {
					add("env "+env, n+1, task.Declared, task.KindOf(env), "Run tox in this environment", "tox", "-e", env)
				}
			}
		}
	}
	return found
}
