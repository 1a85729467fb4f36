package tallyfile

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"tidytally/core/datatext"
	"tidytally/core/task"
)

// A taskKey is a key of a task. All that is known of a key stands in its row: the parser, the pages, what show prints, the form in
// which a task is written or changed, the JSON Schema and the reference are made from it.
type taskKey struct {
	field
	value
	// shownAs names the value where it is shown, and its origin in task.Task.Origins; "" for the name of the key.
	shownAs string
}

// value is how a key's value comes into a task and out of it.
type value struct {
	// assign gives a task the value that a tally file has.
	assign func(f *File, t *task.Task, v *datatext.Node)
	// typed returns the value as one would type it into a tally file in a folder, relative to the workspace; "" where it would be the
	// same without the key.
	typed func(t *task.Task, folder string) string
	// shown returns the value as a person reads it, in one or more texts; none where there is nothing to say. If it is nil, that is
	// what one would type into the root's tally file.
	shown func(t *task.Task) []string
}

// taskKeys are the keys of a task, in the order in which they are shown.
var taskKeys = []taskKey{
	{field{name: "run", typ: command, about: "the command: a string goes to the shell, a list is run as it is", example: `"make -j2 controller"`}, runKey, "command"},
	{field{name: "about", typ: text, about: "what it does, in one line"}, textOf(func(t *task.Task) *string { return &t.About }), ""},
	{field{name: "in", typ: text, about: "the folder to run it in, relative to the tally file", def: "the tally file's folder"}, dirKey, "dir"},
	{field{name: "env", typ: textTable, about: "variables added to the environment", example: `{ TZ = "UTC" }`}, envKey, ""},
	{field{name: "env_file", typ: text, about: "a file of NAME=value lines, relative to the tally file, added to the environment"}, envFileKey, ""},
	{field{name: "kind", typ: text, about: "what it is for", def: "guessed from its name", choices: kinds()}, kindKey, ""},
	{field{name: "for", typ: globs, about: "it is offered when the current file is such a one: its name is compared, or, by a pattern with a slash, its path from the workspace's root", example: `["*.c", "*.h"]`}, wordsOf(func(t *task.Task) *[]string { return &t.For }), ""},
	{field{name: "before", typ: ids, about: "tasks that run first; `#name` is this file's, a full id is anybody's", example: `["#fetch-tables"]`}, beforeKey, "needs"},
	{field{name: "with", typ: ids, about: "tasks that run alongside; one that stays up and is up already is used, not started again"}, idsOf(func(t *task.Task) *[]string { return &t.With }), ""},
	{field{name: "after", typ: ids, about: "tasks that run at the end, whatever happened; TIDYTALLY_STATUS is the exit code"}, idsOf(func(t *task.Task) *[]string { return &t.After }), ""},
	{field{name: "long_running", typ: boolean, about: "it stays up: a server, a watcher", def: "guessed from its name"}, longRunningKey, "longRunning"},
	{field{name: "ready", typ: pattern, about: "the line that says it is up; a group named url is its address", example: `'serving on (?P<url>\S+)'`}, textOf(func(t *task.Task) *string { return &t.Ready }), ""},
	{field{name: "rerun_on", typ: globs, word: RerunLearned, about: "files, relative to the folder it runs in, that start it anew when they change, until it is stopped. What it makes is left out. `\"learned\"` stands for what its last run read, found out by watching it", example: `["src/**/*.c"]`}, rerunKey, ""},
	{field{name: "reads", typ: globs, about: "files that it reads, relative to the folder it runs in: it is stale when one has another content than in its last good run"}, wordsOf(func(t *task.Task) *[]string { return &t.Reads }), ""},
	{field{name: "makes", typ: globs, about: "files that it makes, relative to the folder it runs in"}, wordsOf(func(t *task.Task) *[]string { return &t.Makes }), ""},
	{field{name: "skip", typ: text, choices: []string{SkipNever, SkipFresh}, about: "`fresh`: it does not run when nothing that it reads has changed since its last good run; what that printed is shown again", def: "as the workspace says for its kind"}, skipKey, ""},
	{field{name: "learn", typ: boolean, about: "its runs are watched (by strace), to learn what they read and make: whether it is fresh is then known without `reads`", def: "as the workspace says for its kind"}, learnKey, ""},
	{field{name: "sieves", typ: texts, about: "the sieves its output goes through", def: "all of them"}, wordsOf(func(t *task.Task) *[]string { return &t.Sieves }), ""},
	{field{name: "show", typ: text, about: "when the view goes to it by itself: to its output as it starts, to its tally when it ends with problems, or not", def: "never", choices: []string{"always", "on-problem", "never"}}, textOf(func(t *task.Task) *string { return &t.Show }), ""},
	{field{name: "key", typ: keyName, about: "a key that runs it: f1 to f24, alt with a letter or a digit; no page has such keys", example: `"f7"`}, textOf(func(t *task.Task) *string { return &t.Key }), ""},
	{field{name: "via", typ: text, about: "the name of a [via] table: the command runs through it"}, textOf(func(t *task.Task) *string { return &t.Via }), ""},
	{field{name: "at", typ: text, about: "the name of a [place] table: it runs there"}, textOf(func(t *task.Task) *string { return &t.At }), ""},
	{field{name: "timeout", typ: duration, about: "it is stopped after this time", example: `"5m"`}, textOf(func(t *task.Task) *string { return &t.Timeout }), ""},
	{field{name: "login", typ: boolean, about: "run by your own shell ($SHELL), interactive and as when you log in: its aliases and functions are there", def: "false"}, flagOf(func(t *task.Task) *bool { return &t.Login }), ""},
	{field{name: "direct", typ: boolean, about: "a package script is started without its package manager: the same environment and hooks, in a fraction of the time", def: "as the workspace says"}, flagOf(func(t *task.Task) *bool { return &t.Direct }), ""},
	{field{name: "debug", typ: command, about: "the program that a debugger runs, with its arguments; with {file} and {line} in it, the debugger's whole command", example: `["build/controller", "--port", "7"]`}, debugKey, ""},
	{field{name: "packages_before", typ: text, about: "of a package script: the script of this name runs first in each package of the workspace that the package depends on, and in theirs", example: `"build"`}, textOf(func(t *task.Task) *string { return &t.PackagesBefore }), ""},
	{field{name: "restart", typ: text, about: "a long-running task is started again when it fails unasked: up to five times, each after twice the time", def: "it is not", choices: []string{task.OnFailure}}, textOf(func(t *task.Task) *string { return &t.Restart }), ""},
	{field{name: "stop", typ: stopTable, about: "how it is asked to end", example: `{ signal = "INT", grace = "3s" }`}, stopKey, ""},
	{field{name: "args", typ: argTables, about: "the arguments it takes", example: `[{ name = "BOARD", choices = ["mk1", "mk2"] }]`}, argsKey, ""},
	{field{name: "presets", typ: presets, about: "sets of arguments under a name, as one would type them", example: `{ "first board" = "BOARD=mk1" }`}, presetsKey, ""},
	{field{name: "secrets", typ: texts, about: "names of variables, options and arguments whose values are never kept, besides those that look like secrets", example: `["KILN_PIN", "--pin"]`}, wordsOf(func(t *task.Task) *[]string { return &t.Secrets }), ""},
	{field{name: "pin", typ: boolean, about: "it stays on top of the list", def: "false"}, flagOf(func(t *task.Task) *bool { return &t.Pin }), ""},
}

func fieldsOf(keys []taskKey) []field {
	fields := make([]field, len(keys))
	for i := range keys {
		fields[i] = keys[i].field
	}
	return fields
}

// textOf is a value that is a string of a task.
func textOf(of func(*task.Task) *string) value {
	return value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) { *of(t) = v.Text },
		typed:  func(t *task.Task, _ string) string { return *of(t) },
	}
}

// flagOf is a value that is true or false, and false without the key.
func flagOf(of func(*task.Task) *bool) value {
	return value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) { *of(t) = v.Text == "true" },
		typed: func(t *task.Task, _ string) string {
			if *of(t) {
				return "true"
			}
			return ""
		},
	}
}

// wordsOf is a value that is a list of strings.
func wordsOf(of func(*task.Task) *[]string) value {
	return value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) { *of(t) = strs(v) },
		typed:  func(t *task.Task, _ string) string { return task.QuoteAll(*of(t)) },
		shown:  func(t *task.Task) []string { return someText(strings.Join(*of(t), " ")) },
	}
}

// idsOf is a value that is a list of tasks.
func idsOf(of func(*task.Task) *[]string) value {
	v := wordsOf(of)
	v.assign = func(f *File, t *task.Task, v *datatext.Node) { *of(t) = f.ids(v) }
	return v
}

// someText returns a text, or nothing for "".
func someText(s string) []string {
	if s == "" {
		return nil
	}
	return []string{s}
}

// The values that are more than a field of a task.
var (
	runKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) {
			t.Command, t.Script, t.ArgLead, t.Question = commandOf(v), "", nil, task.Question{}
		},
		typed: func(t *task.Task, _ string) string {
			if t.ScriptInFile || t.Script == "" || !t.Command.IsZero() {
				return t.Command.String()
			}
			return ""
		},
		shown: func(t *task.Task) []string { return someText(t.Command.String()) },
	}
	dirKey = value{
		assign: func(f *File, t *task.Task, v *datatext.Node) {
			if t.Dir = path.Join(f.Base(), v.Text); path.IsAbs(v.Text) || strings.HasPrefix(v.Text, "{") {
				t.Dir = v.Text
			}
		},
		typed: func(t *task.Task, folder string) string {
			if dir := relativeTo(folder, t.Dir); dir != "." {
				return dir
			}
			return ""
		},
		shown: func(t *task.Task) []string { return someText(t.Dir) },
	}
	envKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) { t.Env = stringsOf(v) },
		typed:  func(t *task.Task, _ string) string { return typedTable(t.Env) },
		shown: func(t *task.Task) []string {
			var words []string
			for _, name := range slices.Sorted(maps.Keys(t.Env)) {
				words = append(words, name+"="+task.Quote(t.Env[name]))
			}
			return someText(strings.Join(words, " "))
		},
	}
	envFileKey = value{
		assign: func(f *File, t *task.Task, v *datatext.Node) { t.EnvFile = path.Join(f.Base(), v.Text) },
		typed: func(t *task.Task, folder string) string {
			if t.EnvFile == "" {
				return ""
			}
			return relativeTo(folder, t.EnvFile)
		},
	}
	kindKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) { t.Kind = task.Kind(v.Text) },
		typed: func(t *task.Task, _ string) string {
			if t.Kind == task.KindOf(t.Name) {
				return ""
			}
			return string(t.Kind)
		},
		shown: func(t *task.Task) []string { return someText(string(t.Kind)) },
	}
	beforeKey = value{
		assign: func(f *File, t *task.Task, v *datatext.Node) {
			t.Before = f.ids(v)
			t.Prerequisites = append(append([]string(nil), t.Before...), t.Prerequisites...)
		},
		typed: func(t *task.Task, _ string) string { return task.QuoteAll(t.Before) },
		shown: func(t *task.Task) []string { return someText(strings.Join(t.Prerequisites, " ")) },
	}
	longRunningKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) { t.LongRunning = v.Text == "true" },
		typed: func(t *task.Task, _ string) string {
			if guess := t.Ready != "" || task.LongRunningOf(t.Name, t.Command.String()); guess == t.LongRunning {
				return ""
			}
			return fmt.Sprint(t.LongRunning)
		},
		shown: func(t *task.Task) []string {
			if t.LongRunning {
				return []string{"stays up"}
			}
			return nil
		},
	}
	rerunKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) {
			if t.RerunLearned = v.Kind == datatext.Text; !t.RerunLearned {
				t.RerunOn = strs(v)
			}
		},
		typed: func(t *task.Task, _ string) string {
			if t.RerunLearned {
				return RerunLearned
			}
			return task.QuoteAll(t.RerunOn)
		},
	}
	// skip and learn are typed only where the task itself says so: the workspace may say it for a kind of tasks.
	skipKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) { t.SkipFresh = v.Text == SkipFresh },
		typed: func(t *task.Task, _ string) string {
			switch _, own := t.Origins["skip"]; {
			case own && t.SkipFresh:
				return SkipFresh
			case own:
				return SkipNever
			}
			return ""
		},
		shown: func(t *task.Task) []string {
			if t.SkipFresh {
				return []string{"when it is fresh"}
			}
			return nil
		},
	}
	learnKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) { t.Learn = v.Text == "true" },
		typed: func(t *task.Task, _ string) string {
			if _, own := t.Origins["learn"]; own {
				return fmt.Sprint(t.Learn)
			}
			return ""
		},
		shown: func(t *task.Task) []string {
			if t.Learn {
				return []string{"what its runs read and make"}
			}
			return nil
		},
	}
	debugKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) { t.Debug = commandOf(v) },
		typed:  func(t *task.Task, _ string) string { return t.Debug.String() },
	}
	stopKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) {
			for _, x := range v.Entries {
				switch x.Key {
				case "signal":
					t.Stop.Signal = x.Value.Text
				case "grace":
					t.Stop.Grace = x.Value.Text
				}
			}
		},
		typed: func(t *task.Task, _ string) string {
			var words []string
			if t.Stop.Signal != "" {
				words = append(words, "signal="+t.Stop.Signal)
			}
			if t.Stop.Grace != "" {
				words = append(words, "grace="+t.Stop.Grace)
			}
			return task.QuoteArguments(words)
		},
		shown: func(t *task.Task) []string { return someText(strings.TrimSpace(t.Stop.Signal + " " + t.Stop.Grace)) },
	}
	argsKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) {
			t.Args = nil
			for _, item := range v.Items {
				var a task.Arg
				for _, x := range item.Entries {
					switch x.Key {
					case "name":
						a.Name = x.Value.Text
					case "about":
						a.About = x.Value.Text
					case "default":
						a.Default = x.Value.Text
					case "choices":
						a.Choices = strs(x.Value)
					}
				}
				t.Args = append(t.Args, a)
			}
		},
		typed: func(t *task.Task, _ string) string {
			if _, own := t.Origins["args"]; !own {
				return "" // a reader found them
			}
			var args []string
			for _, a := range t.Args {
				entries := []string{"name = " + quoteTOML(a.Name)}
				if a.About != "" {
					entries = append(entries, "about = "+quoteTOML(a.About))
				}
				if len(a.Choices) > 0 {
					var quoted []string
					for _, c := range a.Choices {
						quoted = append(quoted, quoteTOML(c))
					}
					entries = append(entries, "choices = ["+strings.Join(quoted, ", ")+"]")
				}
				if a.Default != "" {
					entries = append(entries, "default = "+quoteTOML(a.Default))
				}
				args = append(args, "{ "+strings.Join(entries, ", ")+" }")
			}
			return "[" + strings.Join(args, ", ") + "]"
		},
		shown: func(t *task.Task) []string {
			var args []string
			for _, a := range t.Args {
				s := a.Name
				if a.Default != "" {
					s += "=" + a.Default
				}
				if len(a.Choices) > 0 {
					s += " (" + strings.Join(a.Choices, ", ") + ")"
				}
				args = append(args, s)
			}
			return someText(strings.Join(args, "  "))
		},
	}
	presetsKey = value{
		assign: func(_ *File, t *task.Task, v *datatext.Node) { t.Presets = stringsOf(v) },
		typed:  func(t *task.Task, _ string) string { return typedTable(t.Presets) },
		shown: func(t *task.Task) (texts []string) {
			for _, name := range slices.Sorted(maps.Keys(t.Presets)) {
				texts = append(texts, name+": "+t.Presets[name])
			}
			return texts
		},
	}
)

// stringsOf returns the entries of a table of strings.
func stringsOf(v *datatext.Node) map[string]string {
	out := make(map[string]string, len(v.Entries))
	for _, x := range v.Entries {
		out[x.Key] = x.Value.Text
	}
	return out
}

// typedTable returns a table of strings as one would type it.
func typedTable(of map[string]string) string {
	var words []string
	for _, name := range slices.Sorted(maps.Keys(of)) {
		words = append(words, name+"="+of[name])
	}
	return task.QuoteArguments(words)
}

// assign puts the value of a key into a task.
func (f *File) assign(t *task.Task, e datatext.Entry, manner task.Manner) {
	for i := range taskKeys {
		if k := &taskKeys[i]; k.name == e.Key {
			k.assign(f, t, e.Value)
			o := f.origin(e.Line, e.Column)
			o.Manner = manner
			t.SetOrigin(k.origin(), o)
			return
		}
	}
}

// origin is the name of the value's origin.
func (k *taskKey) origin() string {
	if k.shownAs != "" {
		return k.shownAs
	}
	return k.name
}

// TypedFields returns the values of a task by their keys, as one would type them into a tally file
// in a folder, relative to the workspace. What would be the same without the key is left out.
func TypedFields(t *task.Task, folder string) map[string]string {
	out := map[string]string{}
	for i := range taskKeys {
		if text := taskKeys[i].typed(t, folder); text != "" {
			out[taskKeys[i].name] = text
		}
	}
	return out
}

// EachShown calls f for each value of a task that is set, in the order of the reference: with its key, the name under which it is shown and
// its origin kept, and its text. A key may have several texts.
func EachShown(t *task.Task, f func(key, name, text string)) {
	for i := range taskKeys {
		k := &taskKeys[i]
		texts := k.shown
		if texts == nil {
			texts = func(t *task.Task) []string { return someText(k.typed(t, ".")) }
		}
		for _, text := range texts(t) {
			f(k.name, k.origin(), text)
		}
	}
}
