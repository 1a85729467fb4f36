// Package datatext reads texts of plain data (TOML, JSON with comments, YAML,
// XML) into values that know their place in the text, all in the same form.
package datatext

import (
	"path"
	"strings"
)

// Node is a value. Line and Column (in characters) count from 1.
type Node struct {
	Kind    Kind
	Text    string // of a scalar
	Items   []*Node
	Entries []Entry // of a table, in order
	Line    int
	Column  int
	opened  bool // a table that a header of its own named
}

// Kind is the type of a value.
type Kind int

// The kinds of values.
const (
	Text Kind = iota
	Integer
	Float
	Boolean
	Date
	Null
	List
	Table
)

func (k Kind) String() string {
	return [...]string{"a string", "an integer", "a float", "a boolean", "a date", "nothing", "a list", "a table"}[k]
}

// Entry is a key of a table.
type Entry struct {
	Key    string
	Line   int
	Column int
	Value  *Node
}

// Get returns the value of a key; nil if there is none, or n is nil.
func (n *Node) Get(key string) *Node {
	if n == nil {
		return nil
	}
	for i := range n.Entries {
		if n.Entries[i].Key == key {
			return n.Entries[i].Value
		}
	}
	return nil
}

// Str returns the text of a string, and "" of anything else.
func (n *Node) Str() string {
	if n == nil || n.Kind != Text {
		return ""
	}
	return n.Text
}

// Strs returns the texts of a list's strings.
func (n *Node) Strs() (out []string) {
	if n == nil {
		return nil
	}
	for _, item := range n.Items {
		if item.Kind == Text {
			out = append(out, item.Text)
		}
	}
	return out
}

// Scalar reports whether the value has neither items nor entries.
func (n *Node) Scalar() bool { return n.Kind != List && n.Kind != Table }

// Format is a way to write plain data.
type Format string

// The formats.
const (
	JSON Format = "jsonc" // with comments and trailing commas
	YAML Format = "yaml"
	TOML Format = "toml"
	XML  Format = "xml"
)

// FormatOf returns the format of a file by the ending of its name, or "".
func FormatOf(name string) Format {
	switch strings.ToLower(path.Ext(name)) {
	case ".json", ".jsonc", ".json5":
		return JSON
	case ".yaml", ".yml":
		return YAML
	case ".toml":
		return TOML
	case ".xml":
		return XML
	}
	return ""
}

// Fault receives a mistake; lines and columns (in characters) count from 1.
type Fault func(line, column int, message string)

// Read parses a text. After mistakes it returns what could be read; nil if that is
// nothing.
func Read(format Format, data []byte, fault Fault) *Node {
	switch format {
	case JSON:
		return readJSON(data, fault)
	case YAML:
		return readYAML(data, fault)
	case TOML:
		return ReadTOML(data, fault)
	case XML:
		return readXML(data, fault)
	}
	panic("datatext: no such format: " + string(format))
}
