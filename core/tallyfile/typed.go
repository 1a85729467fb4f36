package tallyfile

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"tidytally/core/datatext"
	"tidytally/core/task"
)

// Values of a task's keys as a person types them on one line, and as TOML.

// Key describes a key of a table.
type Key struct {
	Name, About, Default string
	Example              string // TOML
	Type                 string // in words
	Choices              []string
	List                 bool // its value is a list of strings
}

// TaskKeys returns the keys of a task, in the order of the reference.
func TaskKeys() []Key { return keysOf(tableNamed("task").fields) }

// TableKeys returns what a table of tally files is for and its keys, in the order of the reference. ok is false
// if there is no such table.
func TableKeys(name string) (about string, keys []Key, ok bool) {
	for i := range schema {
		if schema[i].name == name {
			return schema[i].about, keysOf(schema[i].fields), true
		}
	}
	return "", nil, false
}

// Tables returns the names of the tables; of those of which there may be several, a name follows.
func Tables() (names []string, named map[string]bool) {
	named = map[string]bool{}
	for i := range schema {
		names = append(names, schema[i].name)
		named[schema[i].name] = schema[i].named
	}
	return names, named
}

func keysOf(fields []field) []Key {
	keys := make([]Key, len(fields))
	for i, f := range fields {
		keys[i] = Key{f.name, f.about, f.def, f.example, f.typ.String(), f.choices, f.typ == texts || f.typ == globs || f.typ == ids}
		if f.typ == boolean {
			keys[i].Choices = []string{"true", "false"}
		}
	}
	return keys
}

// shellSyntax are the characters with which a command line is more than words.
const shellSyntax = "|&;<>()$`*?!#~\n[]"

// Literal returns as TOML what was typed for a key of a task: a list is typed as words, with quotes
// as in a shell, a table as NAME=value words. A command line that is only words becomes a list.
func Literal(key, typed string) (string, error) {
	i := slices.IndexFunc(tableNamed("task").fields, func(f field) bool { return f.name == key })
	if i < 0 {
		return "", fmt.Errorf("a task has no key %s", key)
	}
	f := &tableNamed("task").fields[i]
	words, err := task.SplitWords(typed)
	list := func() string {
		quoted := make([]string, len(words))
		for i, w := range words {
			quoted[i] = quoteTOML(w)
		}
		return "[" + strings.Join(quoted, ", ") + "]"
	}
	switch f.typ {
	case boolean:
		return typed, nil
	case command:
		if err == nil && !strings.ContainsAny(typed, shellSyntax) && len(words) > 0 && !strings.Contains(words[0], "=") {
			return list(), nil
		}
		return quoteTOML(typed), nil
	case texts, globs, ids:
		if f.word != "" && typed == f.word {
			return quoteTOML(typed), nil
		}
		if err != nil {
			return "", fmt.Errorf("%s: %w", key, err)
		}
		return list(), nil
	case textTable, presets, stopTable:
		if err != nil {
			return "", fmt.Errorf("%s: %w", key, err)
		}
		var entries []string
		for _, w := range words {
			name, value, ok := strings.Cut(w, "=")
			if !ok {
				return "", fmt.Errorf("%s: NAME=value should stand where %s does", key, w)
			}
			entries = append(entries, bareOrQuoted(name)+" = "+quoteTOML(value))
		}
		return "{ " + strings.Join(entries, ", ") + " }", nil
	case argTables, lineTables:
		return typed, nil
	}
	return quoteTOML(typed), nil
}

// Typed returns a value of a key as a person would type it.
func Typed(v *datatext.Node) string {
	switch v.Kind {
	case datatext.List:
		if allTexts(v.Items) {
			return task.QuoteAll(v.Strs())
		}
		var items []string
		for _, item := range v.Items {
			items = append(items, inline(item))
		}
		return "[" + strings.Join(items, ", ") + "]"
	case datatext.Table:
		var words []string
		for _, e := range v.Entries {
			words = append(words, e.Key+"="+e.Value.Text)
		}
		return task.QuoteArguments(words)
	}
	return v.Text
}

// inline writes a value as TOML on one line.
func inline(v *datatext.Node) string {
	var parts []string
	switch v.Kind {
	case datatext.Text:
		return quoteTOML(v.Text)
	case datatext.List:
		for _, item := range v.Items {
			parts = append(parts, inline(item))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case datatext.Table:
		for _, e := range v.Entries {
			parts = append(parts, bareOrQuoted(e.Key)+" = "+inline(e.Value))
		}
		return "{ " + strings.Join(parts, ", ") + " }"
	}
	return v.Text
}

// relativeTo returns a path of the workspace as it is written in a tally file of a folder. Paths in the
// personal tally file, whose folder is absolute, are relative to the workspace.
func relativeTo(folder, p string) string {
	if path.IsAbs(p) || strings.HasPrefix(p, "{") || folder == "." || path.IsAbs(folder) {
		return p
	}
	up := ""
	for at := folder; at != "."; at = path.Dir(at) {
		if p == at {
			return path.Clean(up + ".")
		}
		if rest, ok := strings.CutPrefix(p, at+"/"); ok {
			return up + rest
		}
		up += "../"
	}
	return path.Clean(up + p)
}

// SieveText returns a sieve with one expression as TOML.
func SieveText(name, expression string) string {
	table := Table{"sieve", name}
	return "[" + table.String() + "]\n\n[[" + append(table, "lines").String() + "]]\nmatch = " + quoteTOML(expression) + "\n"
}
