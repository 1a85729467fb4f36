package tallyfile

import (
	"path"
	"strings"

	"tidytally/core/datatext"
	"tidytally/core/task"
)

// Where a tally file names tasks, wrappers and sieves, and where it declares them.

// What is the kind of thing that a name belongs to.
type What int

// The kinds of things that have names.
const (
	OfTask What = iota
	OfVia
	OfSieve
)

// Name is a place in a tally file where something is named or declared.
type Name struct {
	What What
	// ID is, of a task, its whole id or what stands there if that is short; else the name.
	ID string
	// Text is what stands between the quotes, or the bare key.
	Text string
	// Declares says that it stands in the header of a table that declares it.
	Declares     bool
	Line, Column int // of the first character, the quote where there is one; from 1
	Bytes        int // that it takes in the file, with quotes
}

// Names returns all places of a tally file where something is named. file is its path relative to the
// workspace.
func Names(file string, data []byte) (names []Name) {
	root := datatext.ReadTOML(data, func(int, int, string) {})
	id := func(text string) string {
		if strings.HasPrefix(text, "#") {
			return task.MakeID(file, text[1:])
		}
		return text
	}
	list := func(what What, n *datatext.Node) {
		if n == nil {
			return
		}
		for _, item := range append(n.Items, n) {
			if item.Kind != datatext.Text {
				continue
			}
			name := Name{What: what, ID: item.Text, Text: item.Text, Line: item.Line, Column: item.Column}
			if what == OfTask {
				name.ID = id(item.Text)
			}
			names = append(names, name)
		}
	}
	values := func(n *datatext.Node) {
		for _, key := range []string{"before", "with", "after"} {
			list(OfTask, n.Get(key))
		}
		list(OfVia, n.Get("via"))
		list(OfSieve, n.Get("sieves"))
	}
	for _, table := range root.Entries {
		switch table.Key {
		case "workspace":
			list(OfTask, table.Value.Get("usual"))
			continue
		case "task", "via", "sieve", "adjust":
		default:
			continue
		}
		for _, e := range table.Value.Entries {
			name := Name{Text: e.Key, ID: e.Key, Declares: true, Line: e.Line, Column: e.Column}
			switch table.Key {
			case "task":
				name.ID = task.MakeID(file, e.Key)
			case "via":
				name.What = OfVia
			case "sieve":
				name.What = OfSieve
			case "adjust":
				name.Declares, name.ID = false, id(e.Key)
			}
			names = append(names, name)
			if table.Key == "task" || table.Key == "adjust" {
				values(e.Value)
			}
		}
	}
	for i := range names {
		n := &names[i]
		n.Bytes = nameLength(data[min(len(data), offsetOf(data, n.Line, n.Column)):])
	}
	return names
}

// nameLength returns the length of the string or bare key that a text begins with.
func nameLength(b []byte) (n int) {
	if len(b) > 0 && (b[0] == '"' || b[0] == '\'') {
		return stringLength(b)
	}
	for n < len(b) && (b[n] == '-' || b[n] == '_' || b[n] >= '0' && b[n] <= '9' || b[n] >= 'A' && b[n] <= 'Z' || b[n] >= 'a' && b[n] <= 'z') {
		n++
	}
	return n
}

// KeyText returns a name as a key of a table header.
func KeyText(name string) string { return bareOrQuoted(name) }

// StringText returns a text as a TOML string.
func StringText(text string) string { return quoteTOML(text) }

// IsTallyFile reports whether a path is that of a tally file.
func IsTallyFile(name string) bool { return path.Base(name) == "tidytally.toml" }
