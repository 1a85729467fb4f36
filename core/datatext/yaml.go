package datatext

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

const (
	// maxYAML is how many bytes of YAML are read: the parser's time grows faster
	// than the text.
	maxYAML = 1 << 20
	// maxNodes is the number of nodes to which aliases may expand a text.
	maxNodes = 200_000
	maxDepth = 256
)

var yamlErrorLine = regexp.MustCompile(`line (\d+): (.*)`)

// readYAML parses the documents of a text; several become a list. Aliases are
// expanded, within bounds.
func readYAML(data []byte, fault Fault) (root *Node) {
	if len(data) > maxYAML {
		fault(0, 0, fmt.Sprintf("%d bytes of YAML; at most %d are read", len(data), maxYAML))
		return nil
	}
	defer func() {
		if r := recover(); r != nil {
			fault(0, 0, fmt.Sprintf("YAML: %v", r))
		}
	}()
	dec := yaml.NewDecoder(bytes.NewReader(data))
	var documents []*Node
	y := yamlReader{fault: fault}
	for {
		var doc yaml.Node
		err := dec.Decode(&doc)
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			line, message := 0, err.Error()
			if m := yamlErrorLine.FindStringSubmatch(message); m != nil {
				line, _ = strconv.Atoi(m[1])
				message = m[2]
				if strings.HasPrefix(message, "did not find expected") {
					line++ // its parser, unlike its scanner, counts lines from nought
				}
			}
			fault(line, 0, "YAML: "+message+"; the documents before were read")
			break
		}
		if len(doc.Content) > 0 {
			documents = append(documents, y.node(doc.Content[0], 0))
		}
	}
	switch len(documents) {
	case 0:
		return nil
	case 1:
		return documents[0]
	}
	return &Node{Kind: List, Items: documents, Line: 1, Column: 1}
}

type yamlReader struct {
	fault Fault
	count int
	full  bool
}

func (y *yamlReader) node(n *yaml.Node, depth int) *Node {
	out := &Node{Line: n.Line, Column: n.Column, Text: n.Value}
	if y.count++; y.count > maxNodes || depth > maxDepth {
		if !y.full {
			y.full = true
			y.fault(n.Line, n.Column, "YAML: aliases or nesting grow beyond what is read; the rest was left out")
		}
		out.Kind = Null
		return out
	}
	switch n.Kind {
	case yaml.AliasNode:
		if n.Alias != nil {
			return y.node(n.Alias, depth+1)
		}
		out.Kind = Null
	case yaml.SequenceNode:
		out.Kind = List
		for _, c := range n.Content {
			out.Items = append(out.Items, y.node(c, depth+1))
		}
	case yaml.MappingNode:
		out.Kind = Table
		at := map[string]int{}
		put := func(e Entry, override bool) {
			i, there := at[e.Key]
			switch {
			case !there:
				at[e.Key] = len(out.Entries)
				out.Entries = append(out.Entries, e)
			case override:
				out.Entries[i] = e
			}
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			key, value := n.Content[i], y.node(n.Content[i+1], depth+1)
			if key.Tag == "!!merge" && value.Kind == Table {
				for _, e := range value.Entries {
					put(e, false)
				}
				continue
			}
			put(Entry{key.Value, key.Line, key.Column, value}, true)
		}
	default:
		switch n.ShortTag() {
		case "!!int":
			out.Kind = Integer
		case "!!float":
			out.Kind = Float
		case "!!bool":
			out.Kind = Boolean
		case "!!null":
			out.Kind = Null
		case "!!timestamp":
			out.Kind = Date
		}
	}
	return out
}
