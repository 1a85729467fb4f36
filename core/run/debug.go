package run

import (
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"tidytally/core/task"
)

// Place is where a debugger stops first. File is absolute; "" stops at the program's beginning.
type Place struct {
	File string
	Line int
}

// debugger is one that is known, with the words of its command.
type debugger struct {
	name string
	// command returns the arguments for a program with its own arguments.
	command func(program []string, at Place) []string
}

// debuggers are asked for in this order. The forms are from their manuals: gdb(1), lldb(1),
// "dlv exec --help".
var debuggers = []debugger{
	{"gdb", func(program []string, at Place) []string {
		stop := "break main"
		if at.File != "" {
			stop = fmt.Sprintf("break %q:%d", at.File, at.Line)
		}
		return slices.Concat([]string{"gdb", "-q", "-iex", "set debuginfod enabled off", "-ex", "set confirm off", "-ex", stop, "-ex", "run", "--args"}, program)
	}},
	{"lldb", func(program []string, at Place) []string {
		stop := "breakpoint set --name main"
		if at.File != "" {
			stop = fmt.Sprintf("breakpoint set --file %q --line %d", at.File, at.Line)
		}
		return slices.Concat([]string{"lldb", "-o", stop, "-o", "run", "--"}, program)
	}},
}

// delve returns the command of the debugger for Go. It takes its first commands from a file. The
// verb is exec for a program, and debug or test for a package.
func delve(verb string, program []string, at Place) []string {
	stop := "break main.main"
	if at.File != "" {
		stop = fmt.Sprintf("break %s:%d", at.File, at.Line)
	}
	const script = `first=$(mktemp) && printf '%s\n' "$1" continue > "$first" || exit
verb=$2 program=$3
shift 3
dlv "$verb" "$program" --init "$first" -- "$@"
code=$?
rm -f "$first"
exit $code`
	return slices.Concat([]string{"sh", "-c", script, "dlv", stop, verb}, program)
}

// ErrNoProgram is returned for a task of which it is not known what a debugger would run.
var ErrNoProgram = errors.New("it is not known which program it makes or runs; say so with debug = [\"PROGRAM\", \"ARGUMENTS\"] in a tally file")

// DebugTask returns a task that runs the program of a task under a debugger that stops at a
// place. A task that builds the program, or tests it, runs first; of one that runs it, what
// comes before it does.
func DebugTask(t *task.Task, at Place) (*task.Task, error) {
	if strings.ContainsAny(at.File, "\"'\\\n\r$`") {
		return nil, fmt.Errorf("%s: a debugger would not take this name of a file for one", at.File)
	}
	d := &task.Task{
		Name: "debug " + t.Name, Source: t.Source, File: t.File, Line: t.Line, Manner: t.Manner, Dir: t.Dir, Kind: task.Run,
		About: "The program of " + t.Name + " under a debugger", Env: t.Env, EnvFile: t.EnvFile, Via: t.Via, With: t.With, After: t.After,
		Before: t.Before, Origins: t.Origins, Of: t.ID(),
	}
	if t.Kind == task.Build || t.Kind == task.Other || t.Kind == task.Check {
		d.Before = []string{t.ID()}
		d.With, d.After = nil, nil
	}
	words := t.Debug.Argv
	if t.Debug.Shell != "" {
		var err error
		if words, err = task.SplitWords(t.Debug.Shell); err != nil {
			return nil, fmt.Errorf("%s: debug: %w", t.ShownID(), err)
		}
	}
	if slices.ContainsFunc(words, func(w string) bool { return strings.Contains(w, "{file") || strings.Contains(w, "{line") }) {
		d.Command = task.Command{Argv: words} // the current file and line are the place
		return d, nil
	}
	goes := len(words) == 0 && t.Source == "go" && len(t.Command.Argv) > 2 && (t.Command.Argv[1] == "run" || t.Command.Argv[1] == "test")
	if goes {
		verb := map[string]string{"run": "debug", "test": "test"}[t.Command.Argv[1]]
		if _, err := exec.LookPath("dlv"); err != nil {
			return nil, errors.New("dlv: not found on the path; it debugs Go programs (go install github.com/go-delve/delve/cmd/dlv@latest)")
		}
		d.Before = t.Before
		d.Command = literally(delve(verb, t.Command.Argv[2:], at))
		return d, nil
	}
	if len(words) == 0 {
		if program := made(t); program != "" {
			words = []string{program}
		} else {
			return nil, fmt.Errorf("%s: %w", t.ShownID(), ErrNoProgram)
		}
	}
	if !strings.Contains(words[0], "/") && !strings.Contains(words[0], "{") {
		words = slices.Concat([]string{"./" + words[0]}, words[1:])
	}
	if filepath.Ext(at.File) == ".go" {
		if _, err := exec.LookPath("dlv"); err == nil {
			d.Command = task.Command{Argv: delve("exec", words, literalPlace(at))}
			return d, nil
		}
	}
	for _, known := range debuggers {
		if _, err := exec.LookPath(known.name); err == nil {
			d.Command = task.Command{Argv: known.command(words, literalPlace(at))}
			return d, nil
		}
	}
	return nil, errors.New("no debugger is on the path: " + remedy("gdb") + ", lldb or dlv")
}

// made returns the program that a task makes, if that is one file that looks like one.
func made(t *task.Task) string {
	var programs []string
	for _, m := range t.Makes {
		switch ext := filepath.Ext(m); {
		case strings.ContainsAny(m, "*?[") || strings.HasSuffix(m, "/"):
		case ext == "" || ext == ".elf" || ext == ".out" || ext == ".exe" || ext == ".bin":
			programs = append(programs, m)
		default:
			if _, err := strconv.Atoi(ext[1:]); err == nil {
				programs = append(programs, m)
			}
		}
	}
	if len(programs) == 1 {
		return programs[0]
	}
	if i := slices.Index(t.Command.Argv, "-o"); i > 0 && i+1 < len(t.Command.Argv) && !slices.Contains(t.Command.Argv, "-c") {
		return t.Command.Argv[i+1] // of a compiler
	}
	return ""
}

// literally returns a command without placeholders: braces stand for themselves.
func literally(argv []string) task.Command {
	braces := strings.NewReplacer("{", "{{", "}", "}}")
	out := make([]string, len(argv))
	for i, w := range argv {
		out[i] = braces.Replace(w)
	}
	return task.Command{Argv: out}
}

// literalPlace is a place whose file may stand in a command with placeholders.
func literalPlace(at Place) Place {
	at.File = strings.NewReplacer("{", "{{", "}", "}}").Replace(at.File)
	return at
}
