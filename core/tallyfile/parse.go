// Package tallyfile reads our own task file, tidytally.toml. It parses, validates
// with the place of each mistake, and describes the format as a JSON Schema. A
// mistake costs the value it is in, never the rest of the file.
package tallyfile

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/theory/jsonpath"

	"tidytally/core/datatext"
	"tidytally/core/task"
)

// File is a tally file as it was read.
type File struct {
	Path      string // relative to the workspace
	Workspace Workspace
	Set       map[string]string
	Tasks     []*task.Task
	Vias      []Via
	Places    []Place
	Adjusts   []Adjust
	Sieves    []Sieve
	Teaches   []Teach
	Faults    []task.Fault

	// bad are the tables that were left out for a mistake in them, such as "sieve.kilnsim":
	// that they are named is no mistake.
	bad map[string]bool
}

// Workspace is the [workspace] table.
type Workspace struct {
	Name   string
	Usual  string
	Ignore []string
	// RulesOff names rules of the walk that do not apply: built-in ones, and
	// ignore files by their path.
	RulesOff []string
	Slots    int
	Learn    []string // kinds whose runs are watched, or AllKinds
	Skip     []string // kinds that do not run when they are fresh, or AllKinds
	Direct   bool
	Bell     time.Duration // how long a run must have taken for its end to ring; 0 for never
	// UsualAt and RulesOffAt are the places of these keys.
	UsualAt, RulesOffAt task.Origin
}

// AllKinds stands for every kind of task.
const AllKinds = "all"

// RerunLearned is the value of rerun_on for what the last run read.
const RerunLearned = "learned"

// SkipFresh is the value of skip for tasks that do not run when they are fresh; SkipNever that for those
// that always run.
const (
	SkipFresh = "fresh"
	SkipNever = "never"
)

// kinds reads a list of kinds, and tells of words that are none.
func (f *File) kinds(e datatext.Entry) []string {
	list := strs(e.Value)
	for _, kind := range list {
		if !slices.Contains(append(kinds(), AllKinds), kind) {
			f.fault(e.Value.Line, e.Value.Column, fmt.Sprintf("%s: there is no kind %s; it may be: %s, %s", e.Key, kind, strings.Join(kinds(), ", "), AllKinds))
		}
	}
	return list
}

// Via is a wrapper that commands run through.
type Via struct {
	Name    string
	Command task.Command
	// Paths lead folders as the command sees them to those of this machine:
	// absolute, or relative to the workspace.
	Paths map[string]string
	// Kinds and Folders, relative to the workspace, are those of the tasks that run through it
	// without saying so.
	Kinds, Folders []string
	Origin         task.Origin
}

// Place is another machine, or a container, where tasks run.
type Place struct {
	Name    string
	Command task.Command // how a command gets there
	Folder  string       // the workspace's there, absolute; "" for the same as here
	Words   bool         // it takes words, not a line for a shell
	Carry   bool         // files are carried there and back
	Env     []string     // names of variables that are handed on
	Slots   int          // tasks that may run there at once; 0 for any number
	Waits   bool         // a step waits for a place that is away or refuses; else it fails
	There   task.Command // tells by its exit code whether the place is there; may be zero
	Kinds   []string     // of the tasks that run there without saying so
	Origin  task.Origin
}

// The forms in which a place takes a command: TakesLine for a line of a shell, TakesWords for arguments.
const (
	TakesLine  = "line"
	TakesWords = "words"
)

// What a step does when its place is away or refuses: AwayFails or AwayWaits.
const (
	AwayFails = "fail"
	AwayWaits = "wait"
)

// takes reports whether a task runs through the wrapper without saying so.
func (v *Via) takes(t *task.Task) bool {
	if slices.Contains(v.Kinds, string(t.Kind)) {
		return true
	}
	return slices.ContainsFunc(v.Folders, func(folder string) bool {
		return folder == "." || t.Dir == folder || strings.HasPrefix(t.Dir, folder+"/")
	})
}

// Adjust overrides values of the task with an id.
type Adjust struct {
	ID     string
	Origin task.Origin
	fields []datatext.Entry
}

// AllSieves, as the name of a sieve, stands for all built-in ones and those of tally
// files.
const AllSieves = "all"

// Sieve is a user's own sieve.
type Sieve struct {
	Name  string
	Lines []SieveLine
	// Private sieves are only for the tasks that name them.
	Private bool
	// Begin and End match the lines at which a watching tool starts and ends a pass;
	// may be nil.
	Begin, End *regexp.Regexp
	// Severities are words for severities beyond the usual ones.
	Severities map[string]string
	Origin     task.Origin
}

// Teach explains another tool's task file.
type Teach struct {
	Name   string
	Files  []string // patterns, relative to the tally file's folder
	Format string   // one of datatext's, or TeachLines
	// Each, TaskName, Run, About, In and Before are JSONPaths (RFC 9535) of the
	// tasks and their values. With TeachLines, Each is a regular expression, and the
	// others are names of its groups.
	Each, TaskName, Run, About, In, Before string
	Origin                                 task.Origin
}

// TeachLines is the format of files whose lines are looked at one by one.
const TeachLines = "lines"

// SieveLine is one line of a problem in a user's own sieve.
type SieveLine struct {
	Match  *regexp.Regexp
	Repeat bool
	Origin task.Origin
}

// Parse reads a tally file. name is its path relative to the workspace.
func Parse(name string, data []byte) *File {
	f := &File{Path: name, Set: map[string]string{}, bad: map[string]bool{}}
	root := datatext.ReadTOML(data, f.fault)
	for _, e := range root.Entries {
		t := tableNamed(e.Key)
		if t == nil {
			var names []string
			for _, s := range schema {
				names = append(names, s.name)
			}
			f.unknown(e, "table", names)
			continue
		}
		if e.Value.Kind != datatext.Table {
			f.fault(e.Line, e.Column, fmt.Sprintf("%s is %s where a table should stand", e.Key, e.Value.Kind))
			continue
		}
		if !t.named {
			f.table(t, "", e)
			continue
		}
		for _, inner := range e.Value.Entries {
			if inner.Value.Kind != datatext.Table {
				f.fault(inner.Line, inner.Column, fmt.Sprintf("%s.%s is %s where a table should stand: [%s.%s]", e.Key, inner.Key, inner.Value.Kind, e.Key, inner.Key))
				continue
			}
			before := len(f.Tasks) + len(f.Vias) + len(f.Places) + len(f.Adjusts) + len(f.Sieves) + len(f.Teaches)
			f.table(t, inner.Key, inner)
			if len(f.Tasks)+len(f.Vias)+len(f.Places)+len(f.Adjusts)+len(f.Sieves)+len(f.Teaches) == before {
				f.bad[t.name+"."+inner.Key] = true
			}
		}
	}
	return f
}

func (f *File) fault(line, column int, message string) {
	f.Faults = append(f.Faults, task.Fault{File: f.Path, Line: line, Column: column, Message: message})
}

// unknown reports an unknown key, with the nearest known one.
func (f *File) unknown(e datatext.Entry, what string, known []string) {
	message := fmt.Sprintf("unknown %s %s", what, e.Key)
	if near, ok := task.Nearest(e.Key, known); ok {
		message += fmt.Sprintf("; did you mean %s?", near)
	} else {
		message += "; known are: " + strings.Join(known, ", ")
	}
	f.fault(e.Line, e.Column, message)
}

func (f *File) origin(line, column int) task.Origin {
	return task.Origin{File: f.Path, Line: line, Column: column, Manner: task.Declared}
}

// Base is the folder that paths in the file start from: its own, and the root
// of the workspace for a user's personal one, whose path is absolute.
func (f *File) Base() string {
	if path.IsAbs(f.Path) {
		return "."
	}
	return path.Dir(f.Path)
}

// table reads a table of the root.
func (f *File) table(t *table, name string, at datatext.Entry) {
	if t.free {
		for _, e := range at.Value.Entries {
			if e.Value.Kind == datatext.Text {
				f.Set[e.Key] = e.Value.Text
			} else {
				f.wrong(e, e.Key, text)
			}
		}
		return
	}
	good := f.check(t.fields, at.Value.Entries, "key of ["+t.name+"]:")
	switch t.name {
	case "workspace":
		for _, e := range good {
			switch e.Key {
			case "name":
				f.Workspace.Name = e.Value.Text
			case "usual":
				f.Workspace.Usual, f.Workspace.UsualAt = e.Value.Text, f.origin(e.Line, e.Column)
			case "ignore":
				f.Workspace.Ignore = strs(e.Value)
			case "rules_off":
				f.Workspace.RulesOff, f.Workspace.RulesOffAt = strs(e.Value), f.origin(e.Line, e.Column)
			case "bell":
				f.Workspace.Bell, _ = time.ParseDuration(e.Value.Text) // it was checked
			case "direct":
				f.Workspace.Direct = e.Value.Text == "true"
			case "learn":
				f.Workspace.Learn = f.kinds(e)
			case "skip":
				f.Workspace.Skip = f.kinds(e)
			case "slots":
				f.Workspace.Slots, _ = strconv.Atoi(e.Value.Text)
			}
		}
	case "task":
		f.task(name, at, good)
	case "via":
		v := Via{Name: name, Origin: f.origin(at.Line, at.Column)}
		for _, e := range good {
			switch e.Key {
			case "run":
				v.Command = commandOf(e.Value)
			case "paths":
				v.Paths = map[string]string{}
				for _, x := range e.Value.Entries {
					to := x.Value.Text
					if !path.IsAbs(to) {
						to = path.Join(f.Base(), to)
					}
					v.Paths[x.Key] = to
				}
			case "kinds":
				v.Kinds = strs(e.Value)
			case "folders":
				for _, folder := range strs(e.Value) {
					v.Folders = append(v.Folders, path.Join(f.Base(), folder))
				}
			}
		}
		if !strings.Contains(v.Command.String(), "{command}") {
			f.fault(at.Line, at.Column, fmt.Sprintf("[via.%s] needs run with {command} in it: the place of the command that runs through it", name))
			return
		}
		f.Vias = append(f.Vias, v)
	case "place":
		f.place(name, at, good)
	case "adjust":
		f.Adjusts = append(f.Adjusts, Adjust{ID: name, Origin: f.origin(at.Line, at.Column), fields: good})
	case "sieve":
		f.sieve(name, at, good)
	case "teach":
		f.teach(name, at, good)
	}
}

func (f *File) place(name string, at datatext.Entry, good []datatext.Entry) {
	p := Place{Name: name, Origin: f.origin(at.Line, at.Column)}
	takes := ""
	for _, e := range good {
		switch e.Key {
		case "run":
			p.Command = commandOf(e.Value)
			if line := p.Command.Shell; line != "" { // what runs there follows: no shell stands between
				words, err := task.SplitWords(line)
				if err != nil || len(words) == 0 {
					f.fault(e.Value.Line, e.Value.Column, fmt.Sprintf("run is %q: %v; write it as a list of words", line, err))
					return
				}
				p.Command = task.Command{Argv: words}
			}
		case "folder":
			if p.Folder = e.Value.Text; !path.IsAbs(p.Folder) {
				f.fault(e.Value.Line, e.Value.Column, fmt.Sprintf("folder is %q; it is the workspace's folder there, from the root: /…", p.Folder))
				return
			}
		case "takes":
			takes = e.Value.Text
		case "carry":
			p.Carry = e.Value.Text == "true"
		case "env":
			p.Env = strs(e.Value)
		case "slots":
			p.Slots, _ = strconv.Atoi(e.Value.Text)
		case "away":
			p.Waits = e.Value.Text == AwayWaits
		case "there":
			p.There = commandOf(e.Value)
		case "kinds":
			p.Kinds = f.kinds(e)
		}
	}
	if p.Command.IsZero() {
		f.fault(at.Line, at.Column, fmt.Sprintf("[place.%s] needs run: how a command gets there, such as [\"ssh\", \"kiln-lab\"]", name))
		return
	}
	p.Words = takes == TakesWords || takes == "" && path.Base(p.Command.Words()[0]) != "ssh"
	f.Places = append(f.Places, p)
}

func (f *File) sieve(name string, at datatext.Entry, good []datatext.Entry) {
	s := Sieve{Name: name, Origin: f.origin(at.Line, at.Column)}
	for _, e := range good {
		switch e.Key {
		case "lines":
			for _, item := range e.Value.Items {
				l := SieveLine{}
				for _, k := range item.Entries {
					switch k.Key {
					case "match":
						l.Match, _ = regexp.Compile(k.Value.Text)
						l.Origin = f.origin(k.Value.Line, k.Value.Column)
					case "repeat":
						l.Repeat = k.Value.Text == "true"
					}
				}
				if l.Match != nil {
					s.Lines = append(s.Lines, l)
				}
			}
		case "begin":
			s.Begin, _ = regexp.Compile(e.Value.Text)
		case "end":
			s.End, _ = regexp.Compile(e.Value.Text)
		case "severities":
			s.Severities = map[string]string{}
			for _, x := range e.Value.Entries {
				word := strings.ToLower(x.Value.Text)
				if word != "error" && word != "warning" && word != "note" {
					f.fault(x.Value.Line, x.Value.Column, fmt.Sprintf("severities.%s is %q; it may be: error, warning, note", x.Key, x.Value.Text))
					continue
				}
				s.Severities[strings.ToLower(x.Key)] = word
			}
		}
	}
	if len(s.Lines) == 0 {
		f.fault(at.Line, at.Column, fmt.Sprintf("[sieve.%s] has no lines: add [[sieve.%s.lines]] with match", name, name))
		return
	}
	groups := map[string]bool{}
	for _, l := range s.Lines {
		for _, g := range l.Match.SubexpNames() {
			groups[g] = true
		}
	}
	if !groups["message"] && !groups["file"] {
		f.fault(s.Lines[0].Origin.Line, s.Lines[0].Origin.Column, fmt.Sprintf("[sieve.%s] captures neither file nor message: name a group, (?P<message>.+)", name))
		return
	}
	f.Sieves = append(f.Sieves, s)
}

func (f *File) teach(name string, at datatext.Entry, good []datatext.Entry) {
	t := Teach{Name: name, Origin: f.origin(at.Line, at.Column)}
	given := map[string]datatext.Entry{}
	for _, e := range good {
		given[e.Key] = e
		switch e.Key {
		case "files":
			t.Files = strs(e.Value)
		case "format":
			t.Format = e.Value.Text
		case "each":
			t.Each = e.Value.Text
		case "name":
			t.TaskName = e.Value.Text
		case "run":
			t.Run = e.Value.Text
		case "about":
			t.About = e.Value.Text
		case "in":
			t.In = e.Value.Text
		case "before":
			t.Before = e.Value.Text
		}
	}
	for _, key := range []string{"files", "format", "each", "name", "run"} {
		if _, ok := given[key]; !ok && (t.Format != TeachLines || key != "name" && key != "run") {
			if at.Value.Get(key) == nil { // else what is wrong with it has been said
				f.fault(at.Line, at.Column, fmt.Sprintf("[teach.%s] needs %s", name, key))
			}
			return
		}
	}
	for _, key := range []string{"each", "name", "run", "about", "in", "before"} {
		e, ok := given[key]
		if !ok {
			continue
		}
		var err error
		switch {
		case t.Format != TeachLines:
			_, err = jsonpath.Parse(e.Value.Text)
		case key == "each":
			_, err = regexp.Compile(e.Value.Text)
		}
		if err != nil {
			f.fault(e.Value.Line, e.Value.Column, fmt.Sprintf("teach.%s: %s: %s", name, key, strings.TrimPrefix(oneLine(err), "error parsing regexp: ")))
			return
		}
	}
	f.Teaches = append(f.Teaches, t)
}

// check returns the known and well-formed entries, and reports the others.
func (f *File) check(fields []field, entries []datatext.Entry, what string) (good []datatext.Entry) {
	for _, e := range entries {
		var known *field
		for i := range fields {
			if fields[i].name == e.Key {
				known = &fields[i]
			}
		}
		if known == nil {
			f.unknown(e, what, fieldNames(fields))
			continue
		}
		if f.fits(known, e) {
			good = append(good, e)
		}
	}
	return good
}

func (f *File) wrong(e datatext.Entry, name string, want valueType) {
	f.fault(e.Value.Line, e.Value.Column, fmt.Sprintf("%s is %s where %s should stand", name, e.Value.Kind, want))
}

// fits reports whether a field takes a value. If not, it reports the fault.
func (f *File) fits(k *field, e datatext.Entry) bool {
	v := e.Value
	ok := false
	switch k.typ {
	case text, duration, pattern, keyName:
		ok = v.Kind == datatext.Text
	case boolean:
		ok = v.Kind == datatext.Boolean
	case integer:
		ok = v.Kind == datatext.Integer
	case texts, globs, ids:
		ok = v.Kind == datatext.List && allTexts(v.Items) || k.word != "" && v.Kind == datatext.Text && v.Text == k.word
	case command:
		ok = v.Kind == datatext.Text || v.Kind == datatext.List && allTexts(v.Items)
	case textTable, presets:
		ok = v.Kind == datatext.Table
		for _, x := range v.Entries {
			ok = ok && x.Value.Kind == datatext.Text
		}
	case stopTable:
		ok = v.Kind == datatext.Table
	case argTables, lineTables:
		ok = v.Kind == datatext.List
		for _, x := range v.Items {
			ok = ok && x.Kind == datatext.Table
		}
	}
	if !ok {
		f.wrong(e, k.name, k.typ)
		return false
	}
	return f.sound(k, v)
}

// sound looks at the content of a value of the right type.
func (f *File) sound(k *field, v *datatext.Node) bool {
	bad := func(format string, args ...any) bool {
		f.fault(v.Line, v.Column, fmt.Sprintf(format, args...))
		return false
	}
	if len(k.choices) > 0 {
		for _, c := range k.choices {
			if c == v.Text {
				return true
			}
		}
		return bad("%s is %q; it may be: %s", k.name, v.Text, strings.Join(k.choices, ", "))
	}
	switch k.typ {
	case duration:
		if d, err := time.ParseDuration(v.Text); err != nil || d < 0 {
			return bad("%s is %q, no duration: write a number with ms, s, m or h, such as \"90s\"", k.name, v.Text)
		}
	case pattern:
		if _, err := regexp.Compile(v.Text); err != nil {
			return bad("%s: %s", k.name, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		}
	case integer:
		if n, err := strconv.Atoi(v.Text); err != nil || n < 1 || n > 1<<16 {
			return bad("%s is %s; it must be a whole number from 1 to 65536", k.name, v.Text)
		}
	case stopTable:
		v.Entries = f.check(stopFields, v.Entries, "key of stop:")
	case argTables, lineTables:
		fields := argFields
		if k.typ == lineTables {
			fields = lineFields
		}
		for _, item := range v.Items {
			item.Entries = f.check(fields, item.Entries, "key of "+k.name+":")
		}
		if k.typ == argTables {
			return f.soundArgs(v)
		}
	case command:
		if strings.TrimSpace(v.Text) == "" && (len(v.Items) == 0 || strings.TrimSpace(v.Items[0].Text) == "") {
			return bad("%s is empty: write the command that is to run, or leave the key out", k.name)
		}
		return f.placeholders(v)
	case globs:
		for _, item := range v.Items {
			if !doublestar.ValidatePattern(item.Text) {
				return bad("%s: %q is no pattern: a [ or { is not closed; a backslash before it takes it as it is", k.name, item.Text)
			}
		}
	case keyName:
		if !task.FitKey(v.Text) {
			return bad("%s is %q; it may be f1 to f24, alone or with shift+, ctrl+ or alt+, or alt+ with a letter or a digit: other keys are those of the pages", k.name, v.Text)
		}
	case presets:
		for _, x := range v.Entries {
			if _, err := task.SplitWords(x.Value.Text); err != nil {
				f.fault(x.Value.Line, x.Value.Column, fmt.Sprintf("%s.%s: %v", k.name, x.Key, err))
				return false
			}
		}
	}
	return true
}

// soundArgs reports arguments without a name or with one that was given before, and defaults that
// the argument would refuse.
func (f *File) soundArgs(v *datatext.Node) bool {
	seen := map[string]bool{}
	for _, item := range v.Items {
		name := item.Get("name").Str()
		message := ""
		switch choices, def := item.Get("choices"), item.Get("default"); {
		case name == "":
			message = "an argument needs a name"
		case seen[name]:
			message = fmt.Sprintf("argument %s stands here twice", name)
		case choices != nil && def != nil && !slices.Contains(strs(choices), def.Text):
			message = fmt.Sprintf("the default of argument %s is %q, which is none of its choices: %s", name, def.Text, strings.Join(strs(choices), ", "))
		}
		if message != "" {
			line, column := item.Line, item.Column
			if line == 0 {
				line, column = v.Line, v.Column
			}
			f.fault(line, column, message)
			return false
		}
		seen[name] = true
	}
	return true
}

// placeholders reports those that do not exist.
func (f *File) placeholders(v *datatext.Node) bool {
	parts := v.Items
	if v.Kind == datatext.Text {
		parts = []*datatext.Node{v}
	}
	for _, p := range parts {
		for _, name := range task.Placeholders(p.Text) {
			if !task.KnownPlaceholder(name) {
				line, column := p.Line, p.Column
				if line == 0 {
					line, column = v.Line, v.Column
				}
				remedy := "write {{ and }} for braces of your own"
				if near, ok := task.Nearest(name, task.PlaceholderNames); ok {
					remedy = fmt.Sprintf("did you mean {%s}? Otherwise %s", near, remedy)
				}
				f.fault(line, column, fmt.Sprintf("unknown placeholder {%s}; %s", name, remedy))
				return false
			}
		}
	}
	return true
}

// task makes a task of a [task.NAME] table.
func (f *File) task(name string, at datatext.Entry, good []datatext.Entry) {
	if name == "" {
		f.fault(at.Line, at.Column, "a task needs a name: [task.NAME]")
		return
	}
	t := &task.Task{
		Name: name, Source: "tally", File: f.Path, Line: at.Line, Manner: task.Declared,
		Dir: f.Base(), Kind: task.KindOf(name),
	}
	said := false
	for _, e := range good {
		f.assign(t, e, task.Declared)
		said = said || e.Key == "long_running"
	}
	if t.Command.IsZero() && len(t.Before)+len(t.With) == 0 {
		if at.Value.Get("run") != nil {
			return // what is wrong with it has been said
		}
		f.fault(at.Line, at.Column, fmt.Sprintf("[task.%s] has no run: write run = \"the command\"", name))
		return
	}
	if !said {
		t.LongRunning = t.Ready != "" || task.LongRunningOf(name, t.Command.String())
	}
	f.Tasks = append(f.Tasks, t)
}

// ids resolves "#name" to this file's task.
func (f *File) ids(v *datatext.Node) (out []string) {
	for _, s := range strs(v) {
		if name, ok := strings.CutPrefix(s, "#"); ok {
			s = task.MakeID(f.Path, name)
		}
		out = append(out, s)
	}
	return out
}

func allTexts(items []*datatext.Node) bool {
	for _, n := range items {
		if n.Kind != datatext.Text {
			return false
		}
	}
	return true
}

func strs(v *datatext.Node) (out []string) {
	for _, n := range v.Items {
		out = append(out, n.Text)
	}
	return out
}

func commandOf(v *datatext.Node) task.Command {
	if v.Kind == datatext.Text {
		return task.Command{Shell: v.Text}
	}
	return task.Command{Argv: strs(v)}
}
