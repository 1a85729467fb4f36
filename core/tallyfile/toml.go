package tallyfile

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"
)

// node is a TOML value that knows its place.
type node struct {
	kind    nodeKind
	text    string // of a scalar
	items   []*node
	entries []entry // of a table, in order
	line    int
	column  int
	opened  bool // a table that a header of its own named
}

type nodeKind int

const (
	textNode nodeKind = iota
	integerNode
	floatNode
	booleanNode
	dateNode
	listNode
	tableNode
)

func (k nodeKind) String() string {
	return [...]string{"a string", "an integer", "a float", "a boolean", "a date", "a list", "a table"}[k]
}

// entry is a key of a table.
type entry struct {
	key    string
	line   int
	column int
	value  *node
}

func (n *node) get(key string) *node {
	for i := range n.entries {
		if n.entries[i].key == key {
			return n.entries[i].value
		}
	}
	return nil
}

// tomlReader reads a text into nodes; after a mistake it goes on at the next
// table header.
type tomlReader struct {
	data   []byte
	base   int // where the part under the parser begins
	parser unstable.Parser
	root   *node
	fault  func(line, column int, message string)
}

func (r *tomlReader) place(offset int) (line, column int) {
	offset = min(max(offset, 0), len(r.data))
	line = bytes.Count(r.data[:offset], []byte("\n")) + 1
	start := bytes.LastIndexByte(r.data[:offset], '\n') + 1
	return line, utf8.RuneCount(r.data[start:offset]) + 1
}

// readTOML gives the root table. It reports mistakes to fault.
func readTOML(data []byte, fault func(line, column int, message string)) *node {
	r := &tomlReader{data: data, root: &node{kind: tableNode, line: 1, column: 1}, fault: fault}
	if bytes.HasPrefix(data, []byte("\ufeff")) {
		r.base = 3
	}
	for r.base < len(data) {
		r.parser.Reset(data[r.base:])
		current := r.root
		last := r.base
		for r.parser.NextExpression() {
			e := r.parser.Expression()
			if at := r.offset(e); at >= 0 {
				last = at
			}
			switch e.Kind {
			case unstable.KeyValue:
				r.keyValue(current, e)
			case unstable.Table, unstable.ArrayTable:
				current = r.header(e)
			}
		}
		err := r.parser.Error()
		if err == nil {
			break
		}
		at, message := r.mistake(err, last)
		line, column := r.place(at)
		r.fault(line, column, message)
		next := nextHeader(data, at)
		if next < 0 {
			break
		}
		r.base = next
	}
	return r.root
}

// mistake finds where the parser stopped.
func (r *tomlReader) mistake(err error, last int) (offset int, message string) {
	message = err.Error()
	offset = last
	if pe, ok := err.(*unstable.ParserError); ok {
		message = pe.Message
		if h := pe.Highlight; len(h) > 0 {
			if at := subsliceOffset(r.data, h); at >= 0 {
				offset = at
			}
		} else {
			offset = len(r.data)
		}
	}
	return offset, "TOML: " + message + "; the tables behind this one were read"
}

// subsliceOffset finds where part, a slice of whole's bytes, begins.
func subsliceOffset(whole, part []byte) int {
	n := cap(whole) - cap(part)
	if n < 0 || n > len(whole) || n+len(part) > len(whole) || len(part) > 0 && &whole[n] != &part[0] {
		return -1
	}
	return n
}

// nextHeader finds the next line that begins with '[' behind an offset.
func nextHeader(data []byte, offset int) int {
	for offset < len(data) {
		i := bytes.IndexByte(data[offset:], '\n')
		if i < 0 {
			return -1
		}
		offset += i + 1
		if offset < len(data) && data[offset] == '[' {
			return offset
		}
	}
	return -1
}

// offset gives where the first key of an expression stands, or -1.
func (r *tomlReader) offset(e *unstable.Node) int {
	it := e.Key()
	if it.Next() && it.Node().Raw.Length > 0 {
		return r.base + int(it.Node().Raw.Offset)
	}
	return -1
}

// header goes to the table that a header names.
func (r *tomlReader) header(e *unstable.Node) *node {
	at := r.root
	it := e.Key()
	for it.Next() {
		k := it.Node()
		line, column := r.place(r.base + int(k.Raw.Offset))
		last := it.IsLast()
		child := at.get(string(k.Data))
		switch {
		case child == nil && last && e.Kind == unstable.ArrayTable:
			child = &node{kind: listNode, line: line, column: column}
			at.entries = append(at.entries, entry{string(k.Data), line, column, child})
		case child == nil:
			child = &node{kind: tableNode, line: line, column: column}
			at.entries = append(at.entries, entry{string(k.Data), line, column, child})
		}
		if child.kind == listNode && (!last || e.Kind == unstable.ArrayTable) {
			if last || len(child.items) == 0 {
				child.items = append(child.items, &node{kind: tableNode, line: line, column: column})
			}
			child = child.items[len(child.items)-1]
		} else if last && child.kind == tableNode {
			if child.opened {
				r.fault(line, column, fmt.Sprintf("the table %s stands twice; both were read", k.Data))
			}
			child.opened = true
		}
		if child.kind != tableNode {
			r.fault(line, column, fmt.Sprintf("%s is no table here, it is %s above", k.Data, child.kind))
			return &node{kind: tableNode}
		}
		at = child
	}
	return at
}

func (r *tomlReader) keyValue(at *node, e *unstable.Node) {
	value := r.value(e.Value())
	it := e.Key()
	for it.Next() {
		k := it.Node()
		line, column := r.place(r.base + int(k.Raw.Offset))
		if value.line == 0 {
			value.line, value.column = line, column
		}
		child := at.get(string(k.Data))
		if it.IsLast() {
			if child != nil {
				r.fault(line, column, fmt.Sprintf("the key %s stands twice; the first counts", k.Data))
				return
			}
			at.entries = append(at.entries, entry{string(k.Data), line, column, value})
			return
		}
		if child == nil {
			child = &node{kind: tableNode, line: line, column: column}
			at.entries = append(at.entries, entry{string(k.Data), line, column, child})
		}
		if child.kind != tableNode {
			r.fault(line, column, fmt.Sprintf("%s is no table here, it is %s above", k.Data, child.kind))
			return
		}
		at = child
	}
}

func (r *tomlReader) value(v *unstable.Node) *node {
	n := &node{text: string(v.Data)}
	if v.Raw.Length > 0 {
		n.line, n.column = r.place(r.base + int(v.Raw.Offset))
	}
	switch v.Kind {
	case unstable.String:
		n.kind = textNode
	case unstable.Bool:
		n.kind = booleanNode
	case unstable.Integer:
		n.kind = integerNode
		if i, err := strconv.ParseInt(strings.ReplaceAll(n.text, "_", ""), 0, 64); err == nil {
			n.text = strconv.FormatInt(i, 10)
		}
	case unstable.Float:
		n.kind = floatNode
	case unstable.Array:
		n.kind = listNode
		for it := v.Children(); it.Next(); {
			n.items = append(n.items, r.value(it.Node()))
		}
	case unstable.InlineTable:
		n.kind = tableNode
		for it := v.Children(); it.Next(); {
			r.keyValue(n, it.Node())
		}
	default:
		n.kind = dateNode
	}
	return n
}
