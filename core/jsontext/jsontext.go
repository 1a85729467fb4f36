// Package jsontext parses JSON (RFC 8259), optionally with comments and trailing
// commas, into values that know their place in the text. It keeps duplicate keys,
// and what it read before a mistake.
package jsontext

import (
	"bytes"
	"fmt"
	"sort"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"
)

// Kind is the type of a value.
type Kind uint8

// The kinds of values.
const (
	Null Kind = iota
	Bool
	Number
	String
	Array
	Object
)

func (k Kind) String() string {
	return [...]string{"null", "a boolean", "a number", "a string", "an array", "an object"}[k]
}

// Value is a JSON value. Offset and End delimit it in the text, in bytes.
type Value struct {
	Kind    Kind
	Text    string // of a string; the literal of a number or boolean
	Items   []*Value
	Members []Member
	Offset  int
	End     int
}

// Member is a key and its value.
type Member struct {
	Key    string
	Offset int // of the key
	Value  *Value
}

// Get returns the value of a key, the last one if there are several; nil if there is
// none or v is not an object.
func (v *Value) Get(key string) *Value {
	if v == nil {
		return nil
	}
	for i := len(v.Members) - 1; i >= 0; i-- {
		if v.Members[i].Key == key {
			return v.Members[i].Value
		}
	}
	return nil
}

// Elements returns the elements of an array; none of another value, or of nil.
func (v *Value) Elements() []*Value {
	if v == nil || v.Kind != Array {
		return nil
	}
	return v.Items
}

// Str returns the text of a string, and "" of anything else.
func (v *Value) Str() string {
	if v == nil || v.Kind != String {
		return ""
	}
	return v.Text
}

// Error is a mistake in a text, with its place; lines and columns (in
// characters) count from 1.
type Error struct {
	Line, Column int
	Message      string
}

func (e *Error) Error() string { return fmt.Sprintf("%d:%d: %s", e.Line, e.Column, e.Message) }

// maxDepth bounds how deep values may be nested.
const maxDepth = 512

// Parse parses one value. After a mistake it returns the part before it, or nil, and
// an *Error.
func Parse(data []byte, comments bool) (*Value, error) {
	p := &parser{b: data, comments: comments}
	if bytes.HasPrefix(data, []byte("\ufeff")) {
		p.i = 3
	}
	p.space()
	if p.i >= len(p.b) {
		return nil, p.fail("the file is empty")
	}
	v := p.value(0)
	if p.err == nil {
		if p.space(); p.i < len(p.b) {
			_ = p.fail("more text behind the end of the value")
		}
	}
	if p.err != nil {
		return v, p.err
	}
	return v, nil
}

// Places returns the places of many offsets of one text, each in the time of a
// search.
type Places struct {
	data   []byte
	starts []int // of the lines
}

// NewPlaces indexes the lines of a text.
func NewPlaces(data []byte) *Places {
	p := &Places{data: data, starts: []int{0}}
	for i, c := range data {
		if c == '\n' {
			p.starts = append(p.starts, i+1)
		}
	}
	return p
}

// At returns the line and the column, in characters, of an offset.
func (p *Places) At(offset int) (line, column int) {
	offset = min(max(offset, 0), len(p.data))
	line = sort.SearchInts(p.starts, offset+1)
	start := p.starts[line-1]
	if line == 1 && bytes.HasPrefix(p.data, []byte("\ufeff")) && offset >= 3 {
		start = 3
	}
	// A column far out on an endless line is not worth counting.
	return line, utf8.RuneCount(p.data[max(start, offset-maxColumn):offset]) + max(0, offset-maxColumn-start) + 1
}

// maxColumn is how many bytes of a line are counted in characters.
const maxColumn = 4096

type parser struct {
	b        []byte
	i        int
	comments bool
	err      *Error
}

func (p *parser) fail(format string, args ...any) *Error {
	if p.err == nil {
		line, column := NewPlaces(p.b).At(p.i)
		p.err = &Error{line, column, fmt.Sprintf(format, args...)}
	}
	return p.err
}

func (p *parser) space() {
	for p.i < len(p.b) {
		switch c := p.b[p.i]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			p.i++
		case c == '/' && p.comments && p.i+1 < len(p.b) && p.b[p.i+1] == '/':
			if j := bytes.IndexByte(p.b[p.i:], '\n'); j >= 0 {
				p.i += j
			} else {
				p.i = len(p.b)
			}
		case c == '/' && p.comments && p.i+1 < len(p.b) && p.b[p.i+1] == '*':
			j := bytes.Index(p.b[p.i+2:], []byte("*/"))
			if j < 0 {
				_ = p.fail("the comment is not closed")
				p.i = len(p.b)
				return
			}
			p.i += j + 4
		default:
			return
		}
	}
}

func (p *parser) value(depth int) *Value {
	if depth > maxDepth {
		_ = p.fail("nested more than %d deep", maxDepth)
		return nil
	}
	if p.i >= len(p.b) {
		_ = p.fail("the file ends where a value should stand")
		return nil
	}
	v := &Value{Offset: p.i}
	switch c := p.b[p.i]; {
	case c == '{':
		p.object(v, depth)
	case c == '[':
		p.array(v, depth)
	case c == '"':
		v.Kind, v.Text = String, p.str()
	case c == '-' || c >= '0' && c <= '9':
		v.Kind = Number
		for p.i < len(p.b) && bytes.IndexByte([]byte("+-0123456789.eE"), p.b[p.i]) >= 0 {
			p.i++
		}
		v.Text = string(p.b[v.Offset:p.i])
		if _, err := strconv.ParseFloat(v.Text, 64); err != nil && !isRange(err) {
			p.i = v.Offset
			_ = p.fail("%s is no number", v.Text)
			return nil
		}
	default:
		for _, w := range [...]struct {
			text string
			kind Kind
		}{{"true", Bool}, {"false", Bool}, {"null", Null}} {
			if bytes.HasPrefix(p.b[p.i:], []byte(w.text)) {
				v.Kind, v.Text = w.kind, w.text
				p.i += len(w.text)
				v.End = p.i
				return v
			}
		}
		r, _ := utf8.DecodeRune(p.b[p.i:])
		_ = p.fail("a value should stand here, not %q", r)
		return nil
	}
	v.End = p.i
	return v
}

func isRange(err error) bool {
	ne, ok := err.(*strconv.NumError)
	return ok && ne.Err == strconv.ErrRange
}

func (p *parser) object(v *Value, depth int) {
	v.Kind = Object
	p.i++
	for {
		p.space()
		if p.err != nil {
			return
		}
		if p.i >= len(p.b) {
			_ = p.fail("the file ends inside of an object")
			return
		}
		switch c := p.b[p.i]; {
		case c == '}' && (len(v.Members) == 0 || p.comments):
			p.i++
			return
		case c != '"':
			r, _ := utf8.DecodeRune(p.b[p.i:])
			if c == '}' {
				_ = p.fail("a comma stands before the closing brace")
			} else {
				_ = p.fail("a key in double quotes should stand here, not %q", r)
			}
			return
		}
		m := Member{Offset: p.i}
		m.Key = p.str()
		if p.space(); p.err != nil {
			return
		}
		if p.i >= len(p.b) || p.b[p.i] != ':' {
			_ = p.fail("a colon should stand behind the key %q", m.Key)
			return
		}
		p.i++
		p.space()
		if m.Value = p.value(depth + 1); m.Value != nil {
			v.Members = append(v.Members, m)
		}
		if p.err != nil {
			return
		}
		p.space()
		if p.i < len(p.b) && p.b[p.i] == ',' {
			p.i++
			continue
		}
		if p.i < len(p.b) && p.b[p.i] == '}' {
			p.i++
			return
		}
		if p.i >= len(p.b) {
			_ = p.fail("the file ends inside of an object")
		} else {
			_ = p.fail("a comma or a closing brace should stand behind the value of %q", m.Key)
		}
		return
	}
}

func (p *parser) array(v *Value, depth int) {
	v.Kind = Array
	p.i++
	for {
		p.space()
		if p.err != nil {
			return
		}
		if p.i < len(p.b) && p.b[p.i] == ']' && (len(v.Items) == 0 || p.comments) {
			p.i++
			return
		}
		item := p.value(depth + 1)
		if item != nil {
			v.Items = append(v.Items, item)
		}
		if p.err != nil {
			return
		}
		p.space()
		if p.i < len(p.b) && p.b[p.i] == ',' {
			p.i++
			continue
		}
		if p.i < len(p.b) && p.b[p.i] == ']' {
			p.i++
			return
		}
		_ = p.fail("a comma or a closing bracket should stand here")
		return
	}
}

// str reads a string from its opening quote.
func (p *parser) str() string {
	start := p.i
	p.i++
	var out []byte
	for p.i < len(p.b) {
		switch c := p.b[p.i]; {
		case c == '"':
			p.i++
			return string([]rune(string(out))) // each byte that is no UTF-8 becomes U+FFFD, as in encoding/json
		case c == '\n':
			p.i = start
			_ = p.fail("the string that begins here is not closed on its line")
			p.i = len(p.b)
			return string(out)
		case c == '\\' && p.i+1 < len(p.b):
			p.i++
			out = p.escape(out)
		default:
			out = append(out, c)
			p.i++
		}
	}
	p.i = start
	_ = p.fail("the string that begins here is not closed")
	p.i = len(p.b)
	return string(out)
}

func (p *parser) escape(out []byte) []byte {
	c := p.b[p.i]
	p.i++
	switch c {
	case 'n':
		return append(out, '\n')
	case 't':
		return append(out, '\t')
	case 'r':
		return append(out, '\r')
	case 'b':
		return append(out, '\b')
	case 'f':
		return append(out, '\f')
	case 'u':
		r := p.hex4()
		if utf16.IsSurrogate(r) && p.i+1 < len(p.b) && p.b[p.i] == '\\' && p.b[p.i+1] == 'u' {
			back := p.i
			p.i += 2
			if r2 := utf16.DecodeRune(r, p.hex4()); r2 != utf8.RuneError {
				return utf8.AppendRune(out, r2)
			}
			p.i = back
		}
		return utf8.AppendRune(out, r)
	}
	return append(out, c)
}

func (p *parser) hex4() rune {
	if p.i+4 > len(p.b) {
		return utf8.RuneError
	}
	n, err := strconv.ParseUint(string(p.b[p.i:p.i+4]), 16, 32)
	if err != nil {
		return utf8.RuneError
	}
	p.i += 4
	return rune(n)
}
