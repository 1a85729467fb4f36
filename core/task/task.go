// Package task holds what can be run, and the origin of each of its values.
package task

import (
	"maps"
	"net/url"
	"path"
	"strconv"
	"strings"

	"tidytally/core/secret"
	"tidytally/internal/lazyregexp"
)

// Kind is what a task is for.
type Kind string

// The kinds.
const (
	Build Kind = "build"
	Check Kind = "check"
	Test  Kind = "test"
	Run   Kind = "run"
	Serve Kind = "serve"
	Clean Kind = "clean"
	Other Kind = "other"
)

// Kinds lists all kinds in the order in which they are shown.
var Kinds = []Kind{Build, Check, Test, Run, Serve, Clean, Other}

// Manner is how a value came to be.
type Manner string

// The manners of an origin.
const (
	Declared Manner = "declared" // written down as a task, or as a value of one
	Inferred Manner = "inferred" // follows from a tool's own configuration
	Adjusted Manner = "adjusted" // overridden in a tally file
)

// Origin is the place that a value comes from. Line and Column count from 1;
// 0 is the file as a whole.
type Origin struct {
	File   string `json:"file"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
	Manner Manner `json:"manner"`
	// Note explains the origin if the place is not enough: "lock file decides".
	Note string `json:"note,omitempty"`
}

// OnFailure is the value of Restart of a task that is started again when it fails unasked.
const OnFailure = "on-failure"

// Arg is an argument that a task takes.
type Arg struct {
	Name    string   `json:"name"`
	About   string   `json:"about,omitempty"`
	Choices []string `json:"choices,omitempty"`
	Default string   `json:"default,omitempty"`
	Open    bool     `json:"open,omitempty"` // it may have other values than the choices
}

// WithoutSecrets returns arguments for the task as they may be kept, and the values that were taken out of them, which the
// caller hides elsewhere.
func (t *Task) WithoutSecrets(args []string) (kept, values []string) {
	names := make([]string, len(t.Args))
	for i, a := range t.Args {
		names[i] = a.Name
	}
	return secret.Arguments(args, names, t.Secrets)
}

// Stop is how a task is asked to end.
type Stop struct {
	Signal string `json:"signal,omitempty"` // without SIG, "INT" when empty
	Grace  string `json:"grace,omitempty"`  // a duration, "3s" when empty
}

// Command is what a task executes: a list of arguments, or, if Argv is empty, one
// string for the shell.
type Command struct {
	Argv  []string
	Shell string
}

// String returns the command as one line that a shell understands.
func (c Command) String() string {
	if len(c.Argv) == 0 {
		return c.Shell
	}
	return QuoteAll(c.Argv)
}

// Words returns the arguments that execute the command: those of a shell for a string.
func (c Command) Words() []string {
	if len(c.Argv) == 0 {
		return []string{"sh", "-c", c.Shell}
	}
	return c.Argv
}

// IsZero reports whether there is nothing to execute.
func (c Command) IsZero() bool { return len(c.Argv) == 0 && c.Shell == "" }

// With returns the command with further arguments behind it.
func (c Command) With(args []string) Command {
	if len(args) == 0 {
		return c
	}
	if len(c.Argv) > 0 {
		return Command{Argv: append(append([]string(nil), c.Argv...), args...)}
	}
	return Command{Shell: c.Shell + " " + QuoteArguments(args)}
}

// Question is how a build tool is asked whether it has something to do.
type Question struct {
	Command Command // zero if there is no way to ask
	// Idle is a part of what it prints when there is nothing to do; "" where its exit code says so: 0 for
	// nothing, 1 for something.
	Idle string
	// Files says that it prints the files that the task reads instead, a line for each.
	Files bool
}

// Task is something that can be run.
type Task struct {
	Name   string
	Source string // the kind of declaration: make, npm, tally …
	File   string // the declaring file, relative to the workspace, with slashes
	Line   int
	Column int // of the name in its line, in characters from 1; 0 where each line declares one task
	Manner Manner

	Command Command
	// Script is the text that Command only names: the line of a package script, the
	// recipe of a make target.
	Script string
	Dir    string // relative to the workspace, "." for its root
	About  string
	Kind   Kind

	// Knowledge of the reader about this kind of declaration.

	// ShowScript: the command only names the script, which is shown instead.
	// ScriptInFile: the script is at the declaration, so that an excerpt of the file
	// shows it.
	ShowScript   bool
	ScriptInFile bool
	// Setup is what must be done once before.
	Setup Setup
	// ArgLead goes between the command and further arguments: "--" if the package
	// manager needs it.
	ArgLead []string
	// Question asks the build tool whether the task would do anything; it is asked when somebody wants that.
	Question      Question
	Args          []Arg
	Prerequisites []string // names or ids of what the declaration says comes first

	LongRunning bool
	Hidden      bool // a file made on the way and the like: listed with all only
	Default     bool // what the tool runs when it is given no name
	// HookOf is the package script that the task runs before or after: its package manager
	// does that by itself.
	HookOf string
	// Fold is where the task is folded away in a list; "" if it stands by itself.
	Fold string
	// Parts is the number of files of a test suite; each of them is a task too, whose PartOf
	// is the suite's name.
	Parts  int
	PartOf string // by its name if both are declared in one file, else by its id

	Env     map[string]string
	EnvFile string
	For     []string
	Before  []string
	With    []string
	After   []string
	Ready   string
	RerunOn []string
	// RerunLearned says that it runs again when what the last run read changes, as watching showed it.
	RerunLearned bool
	Reads        []string
	Makes        []string
	Sieves       []string
	Show         string
	Key          string
	Via          string
	At           string // the place where it runs; "" for here
	Timeout      string
	Login        bool   // by the user's own shell, as when they log in
	Direct       bool   // a package script is started without its package manager
	Restart      string // OnFailure, or "" for never
	Stop         Stop
	Pin          bool
	// Secrets are names of variables, options and arguments whose values are never kept, besides those that look like it.
	Secrets []string
	// Presets are sets of arguments, as one would type them, by their names.
	Presets map[string]string
	// Debug is the program that a debugger is started on, with its arguments; or the
	// debugger's own command, with {file} and {line} in it.
	Debug Command
	// PackagesBefore is the name of the task that runs first in each package of the workspace
	// that the task's own package depends on, and Upstream are the ids of those tasks.
	PackagesBefore string
	Upstream       []string

	// Learn says that its runs are watched, to learn what they read and make.
	Learn bool
	// SkipFresh says that it does not run when nothing that it reads has changed: what its last good
	// run printed is shown again.
	SkipFresh bool

	// Of is the id of the task from which this one was made for a run: under a debugger, or one test
	// alone. No file declares it.
	Of string
	// OfTest is that test, and OfFile the file of the problem with which it failed.
	OfTest, OfFile string

	// Unread are the keys and values of the declaration that were not
	// understood: each by its place, with its text as the note.
	Unread []Origin

	// Origins are the origins of single values, by the names of the JSON fields. The
	// origin of other values is the declaration.
	Origins map[string]Origin
}

// IsPartOf reports whether the task runs one file or test of a suite.
func (t *Task) IsPartOf(suite *Task) bool {
	return t.PartOf != "" && (t.PartOf == suite.Name && t.File == suite.File || t.PartOf == suite.ID())
}

// PartWord is what the parts of a suite are called: tests, where the runner knows them by name, else files.
func (t *Task) PartWord() string {
	if t.Source == "cmake" {
		return "tests"
	}
	return "files"
}

// Reruns reports whether the task runs again when files change, until it is stopped.
func (t *Task) Reruns() bool { return len(t.RerunOn) > 0 || t.RerunLearned }

// ID is the task's identity: the declaring file's path, '#' and the name, as a
// URI reference (RFC 3986).
func (t *Task) ID() string { return MakeID(t.File, t.Name) }

// MakeID builds the id of a task.
func MakeID(file, name string) string {
	return escape(file, "/") + "#" + escape(name, "/?")
}

// escape percent-encodes the bytes that a URI path or fragment may not hold. Colons
// stay: the path is never taken for a scheme, because a "./" would go in front of
// it.
func escape(s, also string) string {
	const free = "-._~!$&'()*+,;=:@"
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z', c >= '0' && c <= '9',
			strings.IndexByte(free, c) >= 0, strings.IndexByte(also, c) >= 0:
			b.WriteByte(c)
		default:
			const hex = "0123456789ABCDEF"
			b.WriteByte('%')
			b.WriteByte(hex[c>>4])
			b.WriteByte(hex[c&15])
		}
	}
	return b.String()
}

// ShownID returns the id as people read and type it: nothing is encoded but what would be
// taken for something else.
func (t *Task) ShownID() string {
	if !strings.ContainsAny(t.File, "%#") && !strings.Contains(t.Name, "%") {
		return t.File + "#" + t.Name
	}
	file, name := encoded().ReplaceAllString(t.File, "%25$1"), encoded().ReplaceAllString(t.Name, "%25$1")
	return strings.ReplaceAll(file, "#", "%23") + "#" + name
}

// encoded matches what SplitID would decode.
var encoded = lazyregexp.New(`%([0-9A-Fa-f]{2})`)

// SplitID splits an id, or the short form of one.
func SplitID(id string) (file, name string) {
	i := strings.IndexByte(id, '#')
	if i < 0 {
		return "", unescape(id)
	}
	return unescape(id[:i]), unescape(id[i+1:])
}

func unescape(s string) string {
	if u, err := url.PathUnescape(s); err == nil {
		return u
	}
	return s
}

// Personal is the folder of the tasks that the user has for every workspace.
const Personal = "personal"

// Folder returns the folder that declares the task, "." for the root. A tool's own
// folder, with a dot, declares for the folder that it is in.
func (t *Task) Folder() string {
	if path.IsAbs(t.File) {
		return Personal
	}
	dir := path.Dir(t.File)
	for i := 0; i < len(dir); i++ {
		if dir[i] == '.' && len(dir) > 1 && (i == 0 || dir[i-1] == '/') {
			return path.Dir(dir[:i] + "x")
		}
	}
	return dir
}

// Origin returns the origin of a value.
func (t *Task) Origin(field string) Origin {
	if o, ok := t.Origins[field]; ok {
		return o
	}
	return Origin{File: t.File, Line: t.Line, Column: t.Column, Manner: t.Manner}
}

// SetOrigin sets the origin of a value. It does not change earlier copies of the
// task.
func (t *Task) SetOrigin(field string, o Origin) {
	origins := make(map[string]Origin, len(t.Origins)+1)
	maps.Copy(origins, t.Origins)
	origins[field] = o
	t.Origins = origins
}

// Aside reports whether a list for people shows the task only when it is asked for.
func (t *Task) Aside() bool { return t.Hidden || t.HookOf != "" }

// Full returns the command with the further arguments of one run.
func (t *Task) Full(args []string) Command {
	if len(args) == 0 {
		return t.Command
	}
	return t.Command.With(append(append([]string(nil), t.ArgLead...), args...))
}

// Runs returns what a person would say that the task runs: its script where the command only
// names that, with the wrapper that it runs through.
func (t *Task) Runs() string {
	if t.ShowScript {
		return t.Shown(t.Script)
	}
	return t.Shown(t.Command.String())
}

// Shown returns a command line of the task for a list, with the wrapper that it runs through.
func (t *Task) Shown(command string) string {
	if t.Via == "" {
		return command
	}
	return "via " + t.Via + ": " + command
}

// String returns the origin in words: "kiln/Makefile:12, declared".
func (o Origin) String() string {
	text := o.File
	if o.Line > 0 {
		text += ":" + strconv.Itoa(o.Line)
	}
	text += ", " + string(o.Manner)
	if o.Note != "" {
		text += ": " + o.Note
	}
	return text
}
