// Package run executes tasks. It prepares the exact command, runs it on a terminal
// in a session of its own, keeps the output in a spool, sifts it for problems, and
// stops every process that the run started.
package run

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"tidytally/core/files"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// Prepared is a command ready to be executed.
type Prepared struct {
	Task *task.Task
	// Command is executed. Display is the line that does the same when typed into a
	// shell in Dir.
	Command task.Command
	Display string
	Dir     string   // absolute
	Env     []string // NAME=value, what the task adds
	Ready   *regexp.Regexp
	Timeout time.Duration
	Grace   time.Duration
	Signal  string
	// pooled is the command as it runs when its jobs come from the budget.
	pooled task.Command
	remote *remote // where it runs elsewhere; else nil
	jobs   jobsKind
	// directly says that a package script is started without its package manager, with args.
	directly bool
	args     []string
}

// Context is what commands are prepared from.
type Context struct {
	Root  string // absolute
	Tally *tallyfile.Merged
	File  string // the current file, absolute, or ""
	Line  int
	// Search returns the files of the workspace whose path ends in tail; may be nil.
	Search func(tail string) []string
}

// Slots returns how many tasks may run at once: what the workspace says, else one for each
// processor.
func (c *Context) Slots() int {
	if c.Tally != nil && c.Tally.Workspace.Slots > 0 {
		return c.Tally.Workspace.Slots
	}
	return runtime.NumCPU()
}

// Asks returns the values that a task must be given: NAME of each {ask.NAME}.
func Asks(t *task.Task) (names []string) {
	texts := append([]string{t.Command.Shell, t.Dir}, t.Command.Argv...)
	for _, v := range t.Env {
		texts = append(texts, v)
	}
	for _, text := range texts {
		for _, p := range task.Placeholders(text) {
			if name, ok := strings.CutPrefix(p, "ask."); ok && !slices.Contains(names, name) {
				names = append(names, name)
			}
		}
	}
	return names
}

// answers takes the values that a task asks for out of its arguments.
func answers(t *task.Task, args []string) (given map[string]string, rest []string) {
	asks := Asks(t)
	if len(asks) == 0 {
		return nil, args
	}
	given = map[string]string{}
	for _, a := range t.Args {
		if a.Default != "" && slices.Contains(asks, a.Name) {
			given[a.Name] = a.Default
		}
	}
	for _, a := range args {
		name, value, ok := strings.Cut(a, "=")
		if ok && slices.Contains(asks, name) {
			given[name] = value
			continue
		}
		rest = append(rest, a)
	}
	return given, rest
}

// declared checks the values of a task's arguments against their choices, and puts the
// defaults that a tally file declares before args, as NAME=value, for those that are not
// given. Defaults that a reader found are the tool's own: it has them already.
func declared(t *task.Task, given map[string]string, args []string) ([]string, error) {
	_, told := t.Origins["args"]
	var defaults []string
	for _, a := range t.Args {
		value, ok := given[a.Name]
		for _, word := range args {
			if v, has := strings.CutPrefix(word, a.Name+"="); has {
				value, ok = v, true
			}
		}
		switch {
		case ok && len(a.Choices) > 0 && !a.Open && !slices.Contains(a.Choices, value):
			return nil, fmt.Errorf("%s: %s is %q; it may be: %s", t.ID(), a.Name, value, strings.Join(a.Choices, ", "))
		case !ok && told && a.Default != "":
			defaults = append(defaults, a.Name+"="+a.Default)
		}
	}
	return append(defaults, args...), nil
}

// Prepare makes the command of a task with further arguments. An argument NAME=value
// is the value of {ask.NAME} if the task has that placeholder.
func (c *Context) Prepare(t *task.Task, args []string) (*Prepared, error) {
	dir := t.Dir
	given, args := answers(t, args)
	values := task.Values{
		File: c.File, Line: c.Line, Root: c.Root, Env: os.LookupEnv, Set: c.Tally.Set, Ask: given,
	}
	dir, err := values.Expand(dir, false)
	if err != nil {
		return nil, fmt.Errorf("%s: in: %w", t.ID(), err)
	}
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(c.Root, filepath.FromSlash(dir))
	}
	values.Dir = dir
	command, err := values.ExpandCommand(t.Command)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", t.ID(), err)
	}
	if args, err = declared(t, given, args); err != nil {
		return nil, err
	}
	// Placeholders belong to declarations: what a user gives arrives as it is.
	expanded := *t
	expanded.Command = command
	command = expanded.Full(args)
	shared, jobs := pooled(command)
	if t.Login || t.Via != "" || t.At != "" {
		jobs = noJobs // it runs elsewhere
	}
	if t.Login {
		command = loginShell(command)
	}
	if t.Via != "" {
		via, ok := c.Tally.Vias[t.Via]
		if !ok {
			return nil, fmt.Errorf("%s: there is no [via.%s]", t.ID(), t.Via)
		}
		if command, err = through(via.Command, command, values); err != nil {
			return nil, fmt.Errorf("via %s: %w", t.Via, err)
		}
	}
	p := &Prepared{Task: t, Command: command, Display: command.String(), Dir: dir, Grace: 3 * time.Second, Signal: "INT", pooled: shared, jobs: jobs}
	if c.goesDirectly(t) {
		p.directly, p.args, p.jobs = true, args, noJobs
		words := t.Script
		if len(args) > 0 {
			words += " " + task.QuoteArguments(args)
		}
		p.Display = words + "  # directly, without " + t.Command.Argv[0]
	}
	if p.Env, err = c.environment(t, values); err != nil {
		return nil, fmt.Errorf("%s: %w", t.ID(), err)
	}
	if t.At != "" {
		place, ok := c.Tally.Places[t.At]
		if !ok {
			return nil, fmt.Errorf("%s: there is no [place.%s]", t.ID(), t.At)
		}
		if err := p.goTo(&place, c.Root); err != nil {
			return nil, fmt.Errorf("%s: at %s: %w", t.ID(), t.At, err)
		}
	}
	if t.Ready != "" {
		if p.Ready, err = regexp.Compile(t.Ready); err != nil {
			return nil, fmt.Errorf("%s: ready: %w", t.ID(), err)
		}
	}
	if t.Timeout != "" {
		p.Timeout, _ = time.ParseDuration(t.Timeout) // checked when it was read
	}
	if t.Stop.Grace != "" {
		p.Grace, _ = time.ParseDuration(t.Stop.Grace)
	}
	if t.Stop.Signal != "" {
		p.Signal = t.Stop.Signal
	}
	return p, nil
}

// loginShell returns a command that the user's own shell executes, with what its start-up files
// set: aliases and functions are known to interactive shells alone.
func loginShell(command task.Command) task.Command {
	shell := os.Getenv("SHELL")
	if shell == "" {
		shell = "/bin/sh"
	}
	return task.Command{Argv: []string{shell, "-l", "-i", "-c", command.String()}}
}

// through replaces {command} in a wrapper by a command.
func through(via, command task.Command, values task.Values) (task.Command, error) {
	const place = "{command}"
	if len(via.Argv) == 0 {
		before, after, _ := strings.Cut(via.Shell, place)
		inner := command.String()
		if len(command.Argv) == 0 {
			inner = task.QuoteAll(command.Words())
		}
		b, err := values.Expand(before, true)
		if err != nil {
			return task.Command{}, err
		}
		a, err := values.Expand(after, true)
		return task.Command{Shell: b + inner + a}, err
	}
	words := command.Words()
	var argv []string
	for _, a := range via.Argv {
		if a == place {
			argv = append(argv, words...)
			continue
		}
		text, err := values.Expand(strings.ReplaceAll(a, place, strings.ReplaceAll(strings.ReplaceAll(command.String(), "{", "{{"), "}", "}}")), false)
		if err != nil {
			return task.Command{}, err
		}
		argv = append(argv, text)
	}
	return task.Command{Argv: argv}, nil
}

// variablesIn reads an environment file: NAME=value on each line, "export" before it or not, the value in quotes or
// not; empty lines and those that begin with # say nothing. An error names the line.
func variablesIn(file, text string) (env []string, err error) {
	for n, l := range strings.Split(text, "\n") {
		l = strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(l), "export "))
		if l == "" || l[0] == '#' {
			continue
		}
		name, value, ok := strings.Cut(l, "=")
		if name = strings.TrimSpace(name); !ok || name == "" {
			return nil, fmt.Errorf("%s:%d: NAME=value should stand here", file, n+1)
		}
		if strings.ContainsRune(l, 0) {
			return nil, fmt.Errorf("%s:%d: a variable has no byte 0", file, n+1)
		}
		if v := strings.TrimSpace(value); len(v) > 1 && (v[0] == '"' || v[0] == '\'') && v[len(v)-1] == v[0] {
			value = v[1 : len(v)-1]
		}
		env = append(env, name+"="+value)
	}
	return env, nil
}

// maxEnvFile is the size in bytes of the largest environment file: the system takes no more as an environment.
const maxEnvFile = 2 << 20

// environment returns the variables that a task adds to the environment.
func (c *Context) environment(t *task.Task, values task.Values) ([]string, error) {
	var env []string
	if t.EnvFile != "" {
		name := filepath.Join(c.Root, filepath.FromSlash(t.EnvFile))
		data, err := files.Read(name, maxEnvFile)
		var refused *files.Refused
		if errors.As(err, &refused) {
			return nil, fmt.Errorf("env_file: %s %w", t.EnvFile, err)
		}
		if err != nil {
			return nil, fmt.Errorf("env_file: %w", err)
		}
		if env, err = variablesIn(t.EnvFile, string(data)); err != nil {
			return nil, err
		}
	}
	names := make([]string, 0, len(t.Env))
	for name := range t.Env {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		value, err := values.Expand(t.Env[name], false)
		if err != nil {
			return nil, fmt.Errorf("env.%s: %w", name, err)
		}
		env = append(env, name+"="+value)
	}
	return env, nil
}

// Exit codes for commands that never ran, as in the shell.
const (
	CodeOwn       = 125
	CodeCannotRun = 126
	CodeNotFound  = 127
)

// StartError is why a command could not be executed. Code is its exit code.
type StartError struct {
	Code    int
	Message string
}

func (e *StartError) Error() string { return e.Message }

// resolve returns the absolute path of a command's program, or a StartError that
// says where it was looked for and how to install it.
func (p *Prepared) resolve(env []string) (argv []string, program string, err error) {
	argv = p.Command.Words()
	if info, err := os.Stat(p.Dir); err != nil || !info.IsDir() {
		return nil, "", &StartError{CodeCannotRun, fmt.Sprintf("%s: the folder to run in is not there; correct it in %s", p.Dir, p.Task.Origin("dir").File)}
	}
	name := argv[0]
	if name == "" {
		return nil, "", &StartError{CodeNotFound, "the command is empty"}
	}
	if strings.Contains(name, "/") {
		full := name
		if !filepath.IsAbs(full) {
			full = filepath.Join(p.Dir, full)
		}
		if bad := executable(full, name); bad != nil {
			return nil, "", bad
		}
		return argv, full, nil
	}
	path := lookup(env, "PATH")
	var blocked *StartError
	for _, dir := range filepath.SplitList(path) {
		if dir == "" || !filepath.IsAbs(dir) {
			dir = filepath.Join(p.Dir, dir)
		}
		full := filepath.Join(dir, name)
		switch bad := executable(full, name); {
		case bad == nil:
			return argv, full, nil
		case bad.Code == CodeCannotRun && blocked == nil:
			blocked = bad
		}
	}
	if blocked != nil {
		return nil, "", blocked
	}
	message := fmt.Sprintf("%s: not found on the path (%s)", name, path)
	if how := remedy(name); how != "" {
		message += "; " + how
	}
	return nil, "", &StartError{CodeNotFound, message}
}

func executable(full, name string) *StartError {
	info, err := os.Stat(full)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return &StartError{CodeNotFound, fmt.Sprintf("%s: not found", name)}
	case err != nil:
		return &StartError{CodeCannotRun, fmt.Sprintf("%s: %v", name, err)}
	case info.IsDir():
		return &StartError{CodeCannotRun, fmt.Sprintf("%s: is a folder", full)}
	case info.Mode()&0o111 == 0:
		return &StartError{CodeCannotRun, fmt.Sprintf("%s: is not executable; chmod +x makes it so", full)}
	}
	return nil
}

func lookup(env []string, name string) string {
	for i := len(env) - 1; i >= 0; i-- {
		if v, ok := strings.CutPrefix(env[i], name+"="); ok {
			return v
		}
	}
	return ""
}
