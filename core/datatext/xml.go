package datatext

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// TextKey is the key of the text of an XML element that has attributes or elements
// too.
const TextKey = "text"

// readXML reads a document. An element is a table of its attributes and of the
// elements in it, those of one name as a list; one with text alone is that
// text. The root stands as the only entry of a table. Entities are not
// expanded beyond those of the standard (XML 1.0, 4.6).
func readXML(data []byte, fault Fault) *Node {
	dec := xml.NewDecoder(bytes.NewReader(data))
	dec.Strict = true
	dec.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil }
	root := &Node{Kind: Table, Line: 1, Column: 1}
	stack := []*Node{root}
	texts := []*strings.Builder{{}}
	for {
		line, column := dec.InputPos()
		token, err := dec.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			message := err.Error()
			var se *xml.SyntaxError
			if errors.As(err, &se) {
				line, message = se.Line, se.Msg
			}
			fault(line, 0, "XML: "+message+"; what stands before was read")
			break
		}
		switch x := token.(type) {
		case xml.StartElement:
			if len(stack) > maxDepth {
				fault(line, column, fmt.Sprintf("XML: nested more than %d deep; the rest was left out", maxDepth))
				return root
			}
			n := &Node{Kind: Table, Line: line, Column: column}
			for _, a := range x.Attr {
				n.Entries = append(n.Entries, Entry{a.Name.Local, line, column, &Node{Text: a.Value, Line: line, Column: column}})
			}
			top := stack[len(stack)-1]
			top.Entries = append(top.Entries, Entry{x.Name.Local, line, column, n})
			stack, texts = append(stack, n), append(texts, &strings.Builder{})
		case xml.CharData:
			texts[len(texts)-1].Write(x)
		case xml.EndElement:
			n := stack[len(stack)-1]
			text := strings.TrimSpace(texts[len(texts)-1].String())
			switch {
			case len(n.Entries) == 0:
				n.Kind, n.Text = Text, text
			case text != "":
				n.Entries = append(n.Entries, Entry{TextKey, n.Line, n.Column, &Node{Text: text, Line: n.Line, Column: n.Column}})
			}
			stack, texts = stack[:len(stack)-1], texts[:len(texts)-1]
		}
	}
	group(root)
	return root
}

// group puts the elements of one name into a list.
func group(n *Node) {
	count := map[string]int{}
	for _, e := range n.Entries {
		count[e.Key]++
		group(e.Value)
	}
	at := map[string]int{}
	grouped := n.Entries[:0]
	for _, e := range n.Entries {
		if count[e.Key] == 1 {
			grouped = append(grouped, e)
			continue
		}
		i, there := at[e.Key]
		if !there {
			i = len(grouped)
			at[e.Key] = i
			grouped = append(grouped, Entry{e.Key, e.Line, e.Column, &Node{Kind: List, Line: e.Line, Column: e.Column}})
		}
		grouped[i].Value.Items = append(grouped[i].Value.Items, e.Value)
	}
	n.Entries = grouped
}
