package reader

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// element is an XML element with the line of its "<".
type element struct {
	name  string
	attrs map[string]string
	text  string
	line  int
	inner []*element
}

const xmlMaxElements = 200_000

// readXML reads a document into elements. Only the five entities of XML itself are
// expanded. After a mistake, it returns what was read so far.
func readXML(f *declare.File, found *declare.Found) *element {
	d := xml.NewDecoder(bytes.NewReader(f.Data))
	d.Strict = true
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	// A document type's own entities stay as they are written.
	d.Entity = map[string]string{}
	d.Strict = false
	root := &element{}
	stack := []*element{root}
	count := 0
	line, last := 1, 0
	for {
		at := int(d.InputOffset())
		tok, err := d.Token()
		if err != nil {
			if err != io.EOF {
				l, c := d.InputPos()
				message := strings.TrimPrefix(err.Error(), fmt.Sprintf("XML syntax error on line %d: ", l))
				found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: l, Column: c, Message: "XML: " + message + "; what stands before was read"})
			}
			break
		}
		switch t := tok.(type) {
		case xml.StartElement:
			line += bytes.Count(f.Data[last:at], []byte("\n"))
			last = at
			if count++; count > xmlMaxElements || len(stack) > 500 {
				found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: line, Message: "too many elements; what stands before was read"})
				return root
			}
			e := &element{name: t.Name.Local, line: line, attrs: map[string]string{}}
			for _, a := range t.Attr {
				e.attrs[a.Name.Local] = a.Value
			}
			top := stack[len(stack)-1]
			top.inner = append(top.inner, e)
			stack = append(stack, e)
		case xml.EndElement:
			if len(stack) > 1 {
				stack = stack[:len(stack)-1]
			}
		case xml.CharData:
			if top := stack[len(stack)-1]; len(top.text) < 4096 {
				top.text += string(t)
			}
		}
	}
	return root
}

// child finds an inner element by its name; nil if there is none.
func (e *element) child(name string) *element {
	if e == nil {
		return nil
	}
	for _, c := range e.inner {
		if c.name == name {
			return c
		}
	}
	return nil
}

// all finds the inner elements of a name.
func (e *element) all(name string) (out []*element) {
	if e == nil {
		return nil
	}
	for _, c := range e.inner {
		if c.name == name {
			out = append(out, c)
		}
	}
	return out
}

// content is the text of an element, trimmed.
func (e *element) content() string {
	if e == nil {
		return ""
	}
	return strings.TrimSpace(e.text)
}
