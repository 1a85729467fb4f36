package datatext

import (
	"bytes"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2/unstable"
)

// tomlReader parses a text into nodes. After a mistake it continues at the next
// table header.
type tomlReader struct {
	data   []byte
	base   int // where the part under the parser begins
	parser unstable.Parser
	root   *Node
	fault  func(line, column int, message string)
	told   int
	starts []int // of the lines
}

func (r *tomlReader) place(offset int) (line, column int) {
	offset = min(max(offset, 0), len(r.data))
	line = sort.SearchInts(r.starts, offset+1)
	return line, utf8.RuneCount(r.data[r.starts[line-1]:offset]) + 1
}

// maxFaults is the number of mistakes of one text that are reported: a file of
// another format has one on each line.
const maxFaults = 200

// tell reports a mistake, unless there were too many.
func (r *tomlReader) tell(line, column int, message string) {
	if r.told++; r.told == maxFaults {
		message = "more mistakes than are told"
	}
	if r.told <= maxFaults {
		r.fault(line, column, message)
	}
}

// ReadTOML parses TOML 1.0 and returns the root table. It calls fault for each
// mistake and continues at the next table header, so that the rest still counts.
func ReadTOML(data []byte, fault func(line, column int, message string)) *Node {
	r := &tomlReader{data: data, root: &Node{Kind: Table, Line: 1, Column: 1}, fault: fault, starts: []int{0}}
	for i, c := range data {
		if c == '\n' {
			r.starts = append(r.starts, i+1)
		}
	}
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
		r.tell(line, column, message)
		next := nextHeader(data, at)
		if next < 0 {
			break
		}
		r.base = next
	}
	return r.root
}

// mistake returns where the parser stopped, and why.
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

// subsliceOffset returns the index in whole at which its subslice part begins.
func subsliceOffset(whole, part []byte) int {
	n := cap(whole) - cap(part)
	if n < 0 || n > len(whole) || n+len(part) > len(whole) || len(part) > 0 && &whole[n] != &part[0] {
		return -1
	}
	return n
}

// nextHeader returns the offset of the next line that begins with '['.
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

// offset returns the offset of the first key of an expression, or -1.
func (r *tomlReader) offset(e *unstable.Node) int {
	it := e.Key()
	if it.Next() && it.Node().Raw.Length > 0 {
		return r.base + int(it.Node().Raw.Offset)
	}
	return -1
}

// header returns the table that a header names; it makes what is missing.
func (r *tomlReader) header(e *unstable.Node) *Node {
	at := r.root
	it := e.Key()
	for it.Next() {
		k := it.Node()
		line, column := r.place(r.base + int(k.Raw.Offset))
		last := it.IsLast()
		child := at.Get(string(k.Data))
		switch {
		case child == nil && last && e.Kind == unstable.ArrayTable:
			child = &Node{Kind: List, Line: line, Column: column}
			at.Entries = append(at.Entries, Entry{string(k.Data), line, column, child})
		case child == nil:
			child = &Node{Kind: Table, Line: line, Column: column}
			at.Entries = append(at.Entries, Entry{string(k.Data), line, column, child})
		}
		if child.Kind == List && (!last || e.Kind == unstable.ArrayTable) {
			if last || len(child.Items) == 0 {
				child.Items = append(child.Items, &Node{Kind: Table, Line: line, Column: column})
			}
			child = child.Items[len(child.Items)-1]
		} else if last && child.Kind == Table {
			if child.opened {
				r.tell(line, column, fmt.Sprintf("the table %s stands twice; both were read", k.Data))
			}
			child.opened = true
		}
		if child.Kind != Table {
			r.tell(line, column, fmt.Sprintf("%s is no table here, it is %s above", k.Data, child.Kind))
			return &Node{Kind: Table}
		}
		at = child
	}
	return at
}

func (r *tomlReader) keyValue(at *Node, e *unstable.Node) {
	value := r.value(e.Value())
	it := e.Key()
	for it.Next() {
		k := it.Node()
		line, column := r.place(r.base + int(k.Raw.Offset))
		if value.Line == 0 {
			value.Line, value.Column = line, column
		}
		child := at.Get(string(k.Data))
		if it.IsLast() {
			if child != nil {
				r.tell(line, column, fmt.Sprintf("the key %s stands twice; the first counts", k.Data))
				return
			}
			at.Entries = append(at.Entries, Entry{string(k.Data), line, column, value})
			return
		}
		if child == nil {
			child = &Node{Kind: Table, Line: line, Column: column}
			at.Entries = append(at.Entries, Entry{string(k.Data), line, column, child})
		}
		if child.Kind != Table {
			r.tell(line, column, fmt.Sprintf("%s is no table here, it is %s above", k.Data, child.Kind))
			return
		}
		at = child
	}
}

func (r *tomlReader) value(v *unstable.Node) *Node {
	n := &Node{Text: string(v.Data)}
	if v.Raw.Length > 0 {
		n.Line, n.Column = r.place(r.base + int(v.Raw.Offset))
	}
	switch v.Kind {
	case unstable.String:
		n.Kind = Text
	case unstable.Bool:
		n.Kind = Boolean
	case unstable.Integer:
		n.Kind = Integer
		if i, err := strconv.ParseInt(strings.ReplaceAll(n.Text, "_", ""), 0, 64); err == nil {
			n.Text = strconv.FormatInt(i, 10)
		}
	case unstable.Float:
		n.Kind = Float
	case unstable.Array:
		n.Kind = List
		for it := v.Children(); it.Next(); {
			n.Items = append(n.Items, r.value(it.Node()))
		}
	case unstable.InlineTable:
		n.Kind = Table
		for it := v.Children(); it.Next(); {
			r.keyValue(n, it.Node())
		}
	default:
		n.Kind = Date
	}
	return n
}
