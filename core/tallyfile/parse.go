// Package tallyfile reads our own task file, tidytally.toml: it parses,
// validates with the place of each mistake, and says what may stand in it as a
// JSON Schema. A mistake costs the value it is in, never the rest of the file.
package tallyfile

import (
	"fmt"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"tidytally/core/task"
)

// File is a tally file as it was read.
type File struct {
	Path      string // relative to the workspace
	Workspace Workspace
	Set       map[string]string
	Tasks     []*task.Task
	Vias      []Via
	Adjusts   []Adjust
	Sieves    []Sieve
	Faults    []task.Fault
}

// Workspace is the [workspace] table.
type Workspace struct {
	Name   string
	Usual  string
	Ignore []string
	Slots  int
	// UsualAt is where the usual task is named.
	UsualAt task.Origin
}

// Via is a wrapper that commands run through.
type Via struct {
	Name    string
	Command task.Command
	Origin  task.Origin
}

// Adjust overrides values of the task with an id.
type Adjust struct {
	ID     string
	Origin task.Origin
	fields []entry
}

// Sieve is a user's own sieve.
type Sieve struct {
	Name  string
	Lines []SieveLine
}

// SieveLine is one line of a problem in a user's own sieve.
type SieveLine struct {
	Match  *regexp.Regexp
	Repeat bool
}

// Parse reads a tally file. name is its path relative to the workspace.
func Parse(name string, data []byte) *File {
	f := &File{Path: name, Set: map[string]string{}}
	root := readTOML(data, f.fault)
	for _, e := range root.entries {
		t := tableNamed(e.key)
		if t == nil {
			var names []string
			for _, s := range schema {
				names = append(names, s.name)
			}
			f.unknown(e, "table", names)
			continue
		}
		if e.value.kind != tableNode {
			f.fault(e.line, e.column, fmt.Sprintf("%s is %s where a table should stand", e.key, e.value.kind))
			continue
		}
		if !t.named {
			f.table(t, "", e)
			continue
		}
		for _, inner := range e.value.entries {
			if inner.value.kind != tableNode {
				f.fault(inner.line, inner.column, fmt.Sprintf("%s.%s is %s where a table should stand: [%s.%s]", e.key, inner.key, inner.value.kind, e.key, inner.key))
				continue
			}
			f.table(t, inner.key, inner)
		}
	}
	return f
}

func (f *File) fault(line, column int, message string) {
	f.Faults = append(f.Faults, task.Fault{File: f.Path, Line: line, Column: column, Message: message})
}

// unknown reports a key that nobody knows, with the nearest that is known.
func (f *File) unknown(e entry, what string, known []string) {
	message := fmt.Sprintf("unknown %s %s", what, e.key)
	if near, ok := task.Nearest(e.key, known); ok {
		message += fmt.Sprintf("; did you mean %s?", near)
	} else {
		message += "; known are: " + strings.Join(known, ", ")
	}
	f.fault(e.line, e.column, message)
}

func (f *File) origin(line, column int) task.Origin {
	return task.Origin{File: f.Path, Line: line, Column: column, Manner: task.Declared}
}

// table reads a table of the root.
func (f *File) table(t *table, name string, at entry) {
	if t.free {
		for _, e := range at.value.entries {
			if e.value.kind == textNode {
				f.Set[e.key] = e.value.text
			} else {
				f.wrong(e, e.key, text)
			}
		}
		return
	}
	good := f.check(t.fields, at.value.entries, "key of ["+t.name+"]:")
	switch t.name {
	case "workspace":
		for _, e := range good {
			switch e.key {
			case "name":
				f.Workspace.Name = e.value.text
			case "usual":
				f.Workspace.Usual, f.Workspace.UsualAt = e.value.text, f.origin(e.line, e.column)
			case "ignore":
				f.Workspace.Ignore = strs(e.value)
			case "slots":
				f.Workspace.Slots, _ = strconv.Atoi(e.value.text)
			}
		}
	case "task":
		f.task(name, at, good)
	case "via":
		v := Via{Name: name, Origin: f.origin(at.line, at.column)}
		for _, e := range good {
			if e.key == "run" {
				v.Command = commandOf(e.value)
			}
		}
		if !strings.Contains(v.Command.String(), "{command}") {
			f.fault(at.line, at.column, fmt.Sprintf("[via.%s] needs run with {command} in it: the place of the command that runs through it", name))
			return
		}
		f.Vias = append(f.Vias, v)
	case "adjust":
		f.Adjusts = append(f.Adjusts, Adjust{ID: name, Origin: f.origin(at.line, at.column), fields: good})
	case "sieve":
		s := Sieve{Name: name}
		for _, e := range good {
			if e.key == "lines" {
				for _, item := range e.value.items {
					l := SieveLine{}
					for _, k := range item.entries {
						switch k.key {
						case "match":
							l.Match, _ = regexp.Compile(k.value.text)
						case "repeat":
							l.Repeat = k.value.text == "true"
						}
					}
					if l.Match != nil {
						s.Lines = append(s.Lines, l)
					}
				}
			}
		}
		if len(s.Lines) == 0 {
			f.fault(at.line, at.column, fmt.Sprintf("[sieve.%s] has no lines: add [[sieve.%s.lines]] with match", name, name))
			return
		}
		f.Sieves = append(f.Sieves, s)
	}
}

// check keeps the entries that are known and well-formed, and reports the rest.
func (f *File) check(fields []field, entries []entry, what string) (good []entry) {
	for _, e := range entries {
		var known *field
		for i := range fields {
			if fields[i].name == e.key {
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

func (f *File) wrong(e entry, name string, want valueType) {
	f.fault(e.value.line, e.value.column, fmt.Sprintf("%s is %s where %s should stand", name, e.value.kind, want))
}

// fits tells whether a value is what a field takes; if not, it says why.
func (f *File) fits(k *field, e entry) bool {
	v := e.value
	ok := false
	switch k.typ {
	case text, duration, pattern:
		ok = v.kind == textNode
	case boolean:
		ok = v.kind == booleanNode
	case integer:
		ok = v.kind == integerNode
	case texts, ids:
		ok = v.kind == listNode && allTexts(v.items)
	case command:
		ok = v.kind == textNode || v.kind == listNode && len(v.items) > 0 && allTexts(v.items)
	case textTable:
		ok = v.kind == tableNode
		for _, x := range v.entries {
			ok = ok && x.value.kind == textNode
		}
	case stopTable:
		ok = v.kind == tableNode
	case argTables, lineTables:
		ok = v.kind == listNode
		for _, x := range v.items {
			ok = ok && x.kind == tableNode
		}
	}
	if !ok {
		f.wrong(e, k.name, k.typ)
		return false
	}
	return f.sound(k, v)
}

// sound looks at the content of a value of the right type.
func (f *File) sound(k *field, v *node) bool {
	bad := func(format string, args ...any) bool {
		f.fault(v.line, v.column, fmt.Sprintf(format, args...))
		return false
	}
	if len(k.choices) > 0 {
		for _, c := range k.choices {
			if c == v.text {
				return true
			}
		}
		return bad("%s is %q; it may be: %s", k.name, v.text, strings.Join(k.choices, ", "))
	}
	switch k.typ {
	case duration:
		if d, err := time.ParseDuration(v.text); err != nil || d < 0 {
			return bad("%s is %q, no duration: write a number with ms, s, m or h, such as \"90s\"", k.name, v.text)
		}
	case pattern:
		if _, err := regexp.Compile(v.text); err != nil {
			return bad("%s: %s", k.name, strings.TrimPrefix(err.Error(), "error parsing regexp: "))
		}
	case integer:
		if n, err := strconv.Atoi(v.text); err != nil || n < 1 || n > 1<<16 {
			return bad("%s is %s; it must be a whole number from 1 to 65536", k.name, v.text)
		}
	case stopTable:
		v.entries = f.check(stopFields, v.entries, "key of stop:")
	case argTables, lineTables:
		fields := argFields
		if k.typ == lineTables {
			fields = lineFields
		}
		for _, item := range v.items {
			item.entries = f.check(fields, item.entries, "key of "+k.name+":")
		}
	case command:
		return f.placeholders(v)
	}
	return true
}

// placeholders reports those that do not exist.
func (f *File) placeholders(v *node) bool {
	parts := v.items
	if v.kind == textNode {
		parts = []*node{v}
	}
	for _, p := range parts {
		for _, name := range task.Placeholders(p.text) {
			if !task.KnownPlaceholder(name) {
				line, column := p.line, p.column
				if line == 0 {
					line, column = v.line, v.column
				}
				message := fmt.Sprintf("unknown placeholder {%s}", name)
				if near, ok := task.Nearest(name, task.PlaceholderNames); ok {
					message += fmt.Sprintf("; did you mean {%s}?", near)
				}
				f.fault(line, column, message+" Write {{ and }} for braces of your own")
				return false
			}
		}
	}
	return true
}

// task makes a task of a [task.NAME] table.
func (f *File) task(name string, at entry, good []entry) {
	if name == "" {
		f.fault(at.line, at.column, "a task needs a name: [task.NAME]")
		return
	}
	t := &task.Task{
		Name: name, Source: "tally", File: f.Path, Line: at.line, Manner: task.Declared,
		Dir: path.Dir(f.Path), Kind: task.KindOf(name),
	}
	standing := false
	for _, e := range good {
		f.assign(t, e, task.Declared)
		standing = standing || e.key == "standing"
	}
	if t.Command.IsZero() && len(t.Before)+len(t.With) == 0 {
		if at.value.get("run") != nil {
			return // what is wrong with it has been said
		}
		f.fault(at.line, at.column, fmt.Sprintf("[task.%s] has no run: write run = \"the command\"", name))
		return
	}
	if !standing {
		t.Standing = t.Ready != "" || task.StandingOf(name, t.Command.String())
	}
	f.Tasks = append(f.Tasks, t)
}

// assign puts the value of a key into a task.
func (f *File) assign(t *task.Task, e entry, manner task.Manner) {
	v := e.value
	o := f.origin(e.line, e.column)
	o.Manner = manner
	field := e.key
	switch e.key {
	case "run":
		t.Command, t.Script, t.ArgLead = commandOf(v), "", nil
		field = "command"
	case "about":
		t.About = v.text
	case "in":
		t.Dir = path.Join(path.Dir(f.Path), v.text)
		if path.IsAbs(v.text) || strings.HasPrefix(v.text, "{") {
			t.Dir = v.text
		}
		field = "dir"
	case "env":
		t.Env = map[string]string{}
		for _, x := range v.entries {
			t.Env[x.key] = x.value.text
		}
	case "env_file":
		t.EnvFile = path.Join(path.Dir(f.Path), v.text)
	case "kind":
		t.Kind = task.Kind(v.text)
	case "for":
		t.For = strs(v)
	case "before":
		t.Before = f.ids(v)
		t.Needs = append(append([]string(nil), t.Before...), t.Needs...)
		field = "needs"
	case "with":
		t.With = f.ids(v)
	case "after":
		t.After = f.ids(v)
	case "standing":
		t.Standing = v.text == "true"
	case "ready":
		t.Ready = v.text
	case "rerun_on":
		t.RerunOn = strs(v)
	case "reads":
		t.Reads = strs(v)
	case "makes":
		t.Makes = strs(v)
	case "sieves":
		t.Sieves = strs(v)
	case "show":
		t.Show = v.text
	case "key":
		t.Key = v.text
	case "via":
		t.Via = v.text
	case "timeout":
		t.Timeout = v.text
	case "stop":
		for _, x := range v.entries {
			switch x.key {
			case "signal":
				t.Stop.Signal = x.value.text
			case "grace":
				t.Stop.Grace = x.value.text
			}
		}
	case "args":
		t.Args = nil
		for _, item := range v.items {
			var a task.Arg
			for _, x := range item.entries {
				switch x.key {
				case "name":
					a.Name = x.value.text
				case "about":
					a.About = x.value.text
				case "default":
					a.Default = x.value.text
				case "choices":
					a.Choices = strs(x.value)
				}
			}
			t.Args = append(t.Args, a)
		}
	case "pin":
		t.Pin = v.text == "true"
	}
	t.SetOrigin(field, o)
}

// ids resolves "#name" to this file's task.
func (f *File) ids(v *node) (out []string) {
	for _, s := range strs(v) {
		if name, ok := strings.CutPrefix(s, "#"); ok {
			s = task.MakeID(f.Path, name)
		}
		out = append(out, s)
	}
	return out
}

func allTexts(items []*node) bool {
	for _, n := range items {
		if n.kind != textNode {
			return false
		}
	}
	return true
}

func strs(v *node) (out []string) {
	for _, n := range v.items {
		out = append(out, n.text)
	}
	return out
}

func commandOf(v *node) task.Command {
	if v.kind == textNode {
		return task.Command{Shell: v.text}
	}
	return task.Command{Argv: strs(v)}
}
