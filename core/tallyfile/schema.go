package tallyfile

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"tidytally/core/task"
)

// valueType is the type of a key's value.
type valueType int

const (
	text valueType = iota
	boolean
	integer
	texts     // a list of strings
	globs     // a list of file patterns, with ** for any folders
	command   // a string for the shell, or a list
	textTable // keys with strings
	duration  // "90s", "5m"
	pattern   // a regular expression, RE2 syntax
	ids       // a list of task ids
	keyName   // a key of the keyboard, see task.FitKey
	presets   // arguments as one would type them, by name
	stopTable
	argTables
	lineTables
)

func (t valueType) String() string {
	return [...]string{
		text: "a string", boolean: "true or false", integer: "a whole number", texts: "a list of strings", globs: "a list of file patterns", keyName: "a key", presets: "a table of strings",
		command: "a string or a list of strings", textTable: "a table of strings", duration: `a duration such as "90s"`,
		pattern: "a regular expression", ids: "a list of task ids", stopTable: "a table", argTables: "a list of tables", lineTables: "tables",
	}[t]
}

// field is a key of a table.
type field struct {
	name    string
	typ     valueType
	about   string
	def     string
	choices []string
	example string
	// word is a string that may stand there instead of a list; "" for none.
	word string
}

// table is a kind of table of a tally file. There may be several of a named one:
// [task.NAME].
type table struct {
	name   string
	named  bool
	about  string
	fields []field
	// free tables take any key with a string.
	free bool
}

func kinds() (names []string) {
	for _, k := range task.Kinds {
		names = append(names, string(k))
	}
	return names
}

var (
	stopFields = []field{
		{name: "signal", typ: text, about: "the signal that asks it to end", def: "INT", choices: []string{"INT", "TERM", "HUP", "QUIT", "KILL", "USR1", "USR2"}},
		{name: "grace", typ: duration, about: "how long it may take before a harder signal follows", def: "3s"},
	}
	argFields = []field{
		{name: "name", typ: text, about: "the name of the argument; NAME=value is passed"},
		{name: "about", typ: text, about: "what it is for"},
		{name: "choices", typ: texts, about: "the values it may have; others are refused"},
		{name: "default", typ: text, about: "the value when none is given; a command without {ask.NAME} gets NAME=value"},
	}
	lineFields = []field{
		{name: "match", typ: pattern, about: "what the line looks like; the groups file, line, column, endLine, endColumn, severity, code and message are taken"},
		{name: "repeat", typ: boolean, about: "the line may stand any number of times", def: "false"},
	}
)

// schema describes the tally file. The parser, the JSON Schema and the reference in
// docs are made from it.
var schema = []table{
	{name: "workspace", about: "What holds for the whole workspace; it counts in the root's tally file.", fields: []field{
		{name: "name", typ: text, about: "the name in the heading", def: "the folder's name", example: `"emberclay"`},
		{name: "usual", typ: text, about: "the id of the usual task", example: `"kiln/Makefile#controller"`},
		{name: "ignore", typ: globs, about: "paths, relative to the workspace, that are not looked into, besides version-control ignore files and the built-in rules; `**` stands for any folders", example: `["**/fixtures/**"]`},
		{name: "rules_off", typ: texts, about: "rules that are switched off here: built-in ones by name, ignore files by path", example: `["virtual environments", "shopfront/.gitignore"]`},
		{name: "bell", typ: duration, about: "the terminal's bell rings when a run ends that took at least this long", def: "it never rings", example: `"30s"`},
		{name: "direct", typ: boolean, about: "package scripts are started without their package manager, which is asked once what it would start", def: "false"},
		{name: "skip", typ: texts, about: "tasks of these kinds do not run when nothing that they read has changed since their last good run: what that printed is shown again; `all` stands for every kind", def: "none", example: `["build", "test"]`},
		{name: "learn", typ: texts, about: "runs of tasks of these kinds are watched, to learn what they read and make; `all` stands for every kind", def: "none", example: `["build", "test"]`},
		{name: "slots", typ: integer, about: "how many tasks may run at once", def: "one for each processor"},
	}},
	{name: "set", about: "Values for `{set.NAME}` in commands.", free: true},
	{name: "task", named: true, about: "A task. The table's name is the task's name.", fields: fieldsOf(taskKeys)},
	{name: "via", named: true, about: "A wrapper that commands run through.", fields: []field{
		{name: "run", typ: command, about: "the wrapper's command; `{command}` is what runs in it", example: `["{root}/tools/launch", "{command}"]`},
		{name: "kinds", typ: texts, about: "tasks of these kinds run through it without saying so", example: `["test"]`},
		{name: "folders", typ: texts, about: "tasks that run in these folders, relative to the tally file, and below run through it without saying so", example: `["shopfront"]`},
		{name: "paths", typ: textTable, about: "folders as the command sees them in there, and what they are here: absolute, or relative to the tally file", example: `{ "/work" = "." }`},
		{name: "about", typ: text, about: "what it is"},
	}},
	{name: "place", named: true, about: "Another machine, or a container, where tasks run.", fields: []field{
		{name: "run", typ: command, about: "how a command gets there: what runs follows it; with `sbatch` tasks are handed over as jobs, which go on without Tidy Tally", example: `["ssh", "kiln-lab"]`},
		{name: "folder", typ: text, about: "the workspace's folder there, absolute", def: "the same as here: it is shared", example: `"/srv/emberclay"`},
		{name: "takes", typ: text, choices: []string{TakesLine, TakesWords}, about: "what follows: one line for a shell there, or words", def: "`line` for ssh, else `words`"},
		{name: "carry", typ: boolean, about: "with ssh: before a task runs, the files that it `reads` are carried there by rsync, or all that git tracks; what it `makes` is carried back", def: "false"},
		{name: "env", typ: texts, about: "names of variables of the environment that are handed on", example: `["LANG"]`},
		{name: "slots", typ: integer, about: "how many tasks may run there at once", def: "any number"},
		{name: "away", typ: text, choices: []string{AwayFails, AwayWaits}, about: "when the place is away or refuses, the step fails with its words, or waits and tries again", def: "`fail`"},
		{name: "there", typ: command, about: "run here, it tells by its exit code whether the place is there; asked where steps wait for it", def: "`true`, run there", example: `["ping", "-c1", "kiln-lab"]`},
		{name: "kinds", typ: texts, about: "tasks of these kinds run there without saying so", example: `["test"]`},
		{name: "about", typ: text, about: "what it is"},
	}},
	{name: "adjust", named: true, about: "Overrides single values of a task that is declared elsewhere. The table's name is the task's id.", fields: fieldsOf(taskKeys)},
	{name: "sieve", named: true, about: "Rules for a tool that no built-in sieve knows.", fields: []field{
		{name: "about", typ: text, about: "whose output it reads"},
		{name: "lines", typ: lineTables, about: "the lines of a problem, in order"},
		{name: "begin", typ: pattern, about: "the line at which a watching tool begins a pass: the problems before are those of the pass before"},
		{name: "end", typ: pattern, about: "the line at which such a pass ends"},
		{name: "severities", typ: textTable, about: "the tool's own words for error, warning and note", example: `{ odd = "warning" }`},
	}},
	{name: "teach", named: true, about: "Tells how to read another tool's task file.", fields: []field{
		{name: "files", typ: texts, about: "the files, as patterns", example: `[".inkpot/*.json"]`},
		{name: "format", typ: text, about: "how they are written", choices: []string{"jsonc", "yaml", "toml", "xml", "lines"}},
		{name: "each", typ: text, about: "where the tasks are: a JSONPath (RFC 9535); for lines a regular expression with named groups", example: `"$.jobs[*]"`},
		{name: "name", typ: text, about: "where in a task its name is", example: `"$.title"`},
		{name: "run", typ: text, about: "where its command is: a string, or a list"},
		{name: "about", typ: text, about: "where its description is"},
		{name: "in", typ: text, about: "where its folder is"},
		{name: "before", typ: text, about: "where the names of what runs first are"},
	}},
}

func tableNamed(name string) *table {
	for i := range schema {
		if schema[i].name == name {
			return &schema[i]
		}
	}
	return nil
}

func fieldNames(fields []field) (names []string) {
	for _, f := range fields {
		names = append(names, f.name)
	}
	return names
}

// WriteSchema writes the JSON Schema (draft 2020-12) of the tally file, which
// editors use to complete and check it.
func WriteSchema(w io.Writer) error {
	properties := map[string]any{}
	for i := range schema {
		t := &schema[i]
		s := t.jsonSchema()
		if t.named {
			s = map[string]any{"type": "object", "description": t.about, "additionalProperties": s}
		}
		properties[t.name] = s
	}
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(map[string]any{
		"$schema":              "https://json-schema.org/draft/2020-12/schema",
		"title":                "tidytally.toml",
		"description":          "The tally file: tasks of a workspace and what belongs to them.",
		"type":                 "object",
		"properties":           properties,
		"additionalProperties": false,
	})
}

func (t *table) jsonSchema() map[string]any {
	if t.free {
		return map[string]any{"type": "object", "description": t.about, "additionalProperties": map[string]any{"type": "string"}}
	}
	return map[string]any{"type": "object", "description": t.about, "properties": fieldSchemas(t.fields), "additionalProperties": false}
}

func fieldSchemas(fields []field) map[string]any {
	out := map[string]any{}
	for _, f := range fields {
		out[f.name] = f.jsonSchema()
	}
	return out
}

func (f field) jsonSchema() map[string]any {
	str := map[string]any{"type": "string"}
	object := func(fields []field) map[string]any {
		return map[string]any{"type": "object", "properties": fieldSchemas(fields), "additionalProperties": false}
	}
	s := map[string]any{}
	switch f.typ {
	case text:
		s["type"] = "string"
	case keyName:
		s["type"], s["pattern"] = "string", task.KeyPattern
	case duration:
		s["type"], s["pattern"] = "string", `^([0-9]+(\.[0-9]+)?(ms|s|m|h))+$`
	case pattern:
		s["type"], s["format"] = "string", "regex"
	case boolean:
		s["type"] = "boolean"
	case integer:
		s["type"], s["minimum"] = "integer", 1
	case texts, globs, ids:
		list := map[string]any{"type": "array", "items": str}
		if f.word != "" {
			s["oneOf"] = []any{list, map[string]any{"const": f.word}}
		} else {
			s = list
		}
	case command:
		s["oneOf"] = []any{str, map[string]any{"type": "array", "items": str, "minItems": 1}}
	case textTable, presets:
		s["type"], s["additionalProperties"] = "object", str
	case stopTable:
		s = object(stopFields)
	case argTables:
		s["type"], s["items"] = "array", object(argFields)
	case lineTables:
		s["type"], s["items"] = "array", object(lineFields)
	}
	s["description"] = f.about
	if len(f.choices) > 0 {
		s["enum"] = f.choices
	}
	return s
}

// WriteReference writes the tables of the tally file's reference as Markdown.
func WriteReference(w io.Writer) error {
	var b strings.Builder
	for i := range schema {
		t := &schema[i]
		name := "[" + t.name + "]"
		switch {
		case t.name == "adjust":
			name = `[adjust."ID"]`
		case t.named:
			name = "[" + t.name + ".NAME]"
		}
		fmt.Fprintf(&b, "## `%s`\n\n%s\n", name, t.about)
		if t.name == "adjust" {
			b.WriteString("It takes the keys of a task.\n\n")
			continue
		}
		if len(t.fields) > 0 {
			b.WriteString("\n")
			referenceRows(&b, t.fields, "")
		}
		b.WriteString("\n")
	}
	_, err := io.WriteString(w, b.String())
	return err
}

func referenceRows(b *strings.Builder, fields []field, lead string) {
	if lead == "" {
		b.WriteString("| key | takes | what it is |\n|---|---|---|\n")
	}
	for _, f := range fields {
		takes := f.typ.String()
		if len(f.choices) > 0 {
			takes = "`" + strings.Join(f.choices, "` `") + "`"
		}
		about := f.about
		if f.def != "" {
			about += "; default: " + f.def
		}
		if f.example != "" {
			about += "; such as `" + f.example + "`"
		}
		fmt.Fprintf(b, "| `%s%s` | %s | %s |\n", lead, f.name, takes, strings.ReplaceAll(about, "|", `\|`))
		switch f.typ {
		case stopTable:
			referenceRows(b, stopFields, lead+f.name+".")
		case argTables:
			referenceRows(b, argFields, lead+f.name+"[].")
		case lineTables:
			referenceRows(b, lineFields, lead+f.name+"[].")
		}
	}
}

// Setting is a key of the tally file, for those who look for one.
type Setting struct {
	Name  string // with its table: [task.NAME] timeout
	About string
}

// Settings lists all keys of the tally file, in the order of its reference.
func Settings() (all []Setting) {
	for _, t := range schema {
		table := "[" + t.name + "]"
		if t.named {
			table = "[" + t.name + ".NAME]"
		}
		if t.name == "adjust" || t.free {
			all = append(all, Setting{table, t.about})
			continue
		}
		for _, f := range t.fields {
			about := f.about
			if f.def != "" {
				about += "; default: " + f.def
			}
			all = append(all, Setting{table + " " + f.name, about})
		}
	}
	return all
}
