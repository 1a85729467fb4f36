// Package toolchain knows the compilers and interpreters for source files, finds
// those on the path, and asks each for its version. This is the only thing it
// executes, and only on demand.
package toolchain

import (
	"context"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tidytally/core/task"
)

// Source is the source of the tasks that this package makes: no file declares them.
const Source = "toolchain"

// tool is a compiler or an interpreter of one language.
type tool struct {
	verb    string   // "compile", "check" or "run"
	command []string // with the placeholders of task; the program first
	version []string // arguments that make it tell its version
}

// language is the language of files with some endings.
type language struct {
	ends  string
	tools []tool
}

func compile(version string, command ...string) tool {
	return tool{"compile", command, strings.Fields(version)}
}

func check(version string, command ...string) tool {
	return tool{"check", command, strings.Fields(version)}
}

func run(version string, command ...string) tool {
	return tool{"run", command, strings.Fields(version)}
}

// languages has a row for each language, with its tools in the order in which they
// are offered.
var languages = []language{
	{".c", []tool{
		compile("--version", "gcc", "-Wall", "-g", "-o", "{file.stem}", "{file.base}"),
		compile("--version", "clang", "-Wall", "-g", "-o", "{file.stem}", "{file.base}"),
		compile("-v", "tcc", "-Wall", "-g", "-o", "{file.stem}", "{file.base}"),
	}},
	{".cc .cpp .cxx .c++", []tool{
		compile("--version", "g++", "-Wall", "-g", "-o", "{file.stem}", "{file.base}"),
		compile("--version", "clang++", "-Wall", "-g", "-o", "{file.stem}", "{file.base}"),
	}},
	{".f .for .f90 .f95 .f03 .f08", []tool{compile("--version", "gfortran", "-Wall", "-g", "-o", "{file.stem}", "{file.base}")}},
	{".go", []tool{run("version", "go", "run", "{file.base}"), check("version", "go", "vet", ".")}},
	{".rs", []tool{compile("--version", "rustc", "-g", "-o", "{file.stem}", "{file.base}")}},
	{".java", []tool{compile("-version", "javac", "-Xlint", "{file.base}"), run("-version", "java", "{file.base}")}},
	{".kt", []tool{compile("-version", "kotlinc", "{file.base}")}},
	{".ts .mts .cts", []tool{check("--version", "tsc", "--noEmit", "{file.base}"), run("--version", "deno", "run", "{file.base}"), run("--version", "bun", "{file.base}")}},
	{".js .mjs .cjs", []tool{run("--version", "node", "{file.base}"), check("--version", "node", "--check", "{file.base}")}},
	{".py", []tool{run("--version", "python3", "{file.base}"), run("--version", "python", "{file.base}"), run("--version", "pypy3", "{file.base}"), check("--version", "python3", "-m", "py_compile", "{file.base}")}},
	{".rb", []tool{run("--version", "ruby", "{file.base}"), check("--version", "ruby", "-wc", "{file.base}")}},
	{".pl .pm", []tool{run("--version", "perl", "-w", "{file.base}"), check("--version", "perl", "-wc", "{file.base}")}},
	{".php", []tool{run("--version", "php", "{file.base}"), check("--version", "php", "-l", "{file.base}")}},
	{".lua", []tool{run("-v", "lua", "{file.base}"), run("-v", "luajit", "{file.base}"), check("-v", "luac", "-p", "{file.base}")}},
	{".sh", []tool{run("", "sh", "{file.base}"), check("", "sh", "-n", "{file.base}"), check("--version", "shellcheck", "{file.base}")}},
	{".bash", []tool{run("--version", "bash", "{file.base}"), check("--version", "bash", "-n", "{file.base}")}},
	{".hs", []tool{compile("--version", "ghc", "{file.base}"), run("--version", "runghc", "{file.base}")}},
	{".ml", []tool{compile("-version", "ocamlopt", "-o", "{file.stem}", "{file.base}"), run("-version", "ocaml", "{file.base}")}},
	{".swift", []tool{compile("--version", "swiftc", "{file.base}")}},
	{".zig", []tool{compile("version", "zig", "build-exe", "{file.base}")}},
	{".nim", []tool{compile("--version", "nim", "compile", "{file.base}")}},
	{".jl", []tool{run("--version", "julia", "{file.base}")}},
	{".r", []tool{run("--version", "Rscript", "{file.base}")}},
	{".tex", []tool{compile("--version", "pdflatex", "-file-line-error", "-interaction=nonstopmode", "{file.base}")}},
}

// languageOf finds the row of a file, or nil.
func languageOf(file string) *language {
	ext := strings.ToLower(path.Ext(file))
	if ext == "" {
		return nil
	}
	for i := range languages {
		for _, e := range strings.Fields(languages[i].ends) {
			if e == ext {
				return &languages[i]
			}
		}
	}
	return nil
}

// IsSource reports by its name whether a file is in one of the languages.
func IsSource(file string) bool { return languageOf(file) != nil }

// Tasks returns a task for each way to compile, check or run a source file, with
// each tool that is found on a path, a list of folders. File is relative to the
// workspace, with slashes. Nothing is executed.
func Tasks(file, searchPath string) (tasks []*task.Task) {
	l := languageOf(file)
	if l == nil {
		return nil
	}
	for _, t := range l.tools {
		program := Find(t.command[0], searchPath)
		if program == "" {
			continue
		}
		v := task.Values{File: "/" + file}
		x := &task.Task{
			Name: t.verb + " " + path.Base(file) + " with " + t.command[0], Source: Source, File: file, Line: 1, Manner: task.Inferred,
			Dir: path.Dir(file), Kind: map[string]task.Kind{"compile": task.Build, "check": task.Check, "run": task.Run}[t.verb],
		}
		for _, word := range t.command {
			text, err := v.Expand(word, false)
			if err != nil {
				text = word
			}
			x.Command.Argv = append(x.Command.Argv, strings.NewReplacer("{", "{{", "}", "}}").Replace(text))
		}
		x.SetOrigin("command", task.Origin{File: program, Manner: task.Inferred, Note: "found on the path"})
		x.SetOrigin("name", task.Origin{File: file, Line: 1, Manner: task.Inferred, Note: "with " + program})
		tasks = append(tasks, x)
	}
	return tasks
}

// Find returns the path of a program on a list of folders; "" if it is not there.
func Find(name, searchPath string) string {
	for _, dir := range filepath.SplitList(searchPath) {
		full := filepath.Join(dir, name)
		if info, err := os.Stat(full); filepath.IsAbs(full) && err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			return full
		}
	}
	return ""
}

// versions caches the versions of programs, by path and time stamp.
var versions struct {
	sync.Mutex
	said map[string]string
}

// askLimit is how long a program may take to tell its version.
const askLimit = 5 * time.Second

// Version returns the first line of the version of the program of a task that Tasks
// made, or "". The program is asked once, until it changes.
func Version(t *task.Task) string {
	program := t.Origin("command").File
	info, err := os.Stat(program)
	if err != nil {
		return ""
	}
	var args []string
	for _, l := range languages {
		for _, tool := range l.tools {
			if tool.command[0] == filepath.Base(program) {
				args = tool.version
			}
		}
	}
	if len(args) == 0 {
		return ""
	}
	key := program + "\x00" + info.ModTime().String()
	versions.Lock()
	said, known := versions.said[key]
	versions.Unlock()
	if known {
		return said
	}
	ctx, cancel := context.WithTimeout(context.Background(), askLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir = os.TempDir() // a tool must not be led by a workspace's configuration
	cmd.WaitDelay = time.Second
	out, _ := cmd.CombinedOutput() // what it said counts, however it ended
	for _, line := range strings.Split(string(out), "\n") {
		if said = strings.TrimSpace(line); said != "" {
			break
		}
	}
	versions.Lock()
	defer versions.Unlock()
	if versions.said == nil {
		versions.said = map[string]string{}
	}
	versions.said[key] = said
	return said
}
