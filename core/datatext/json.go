package datatext

import (
	"strings"

	"tidytally/core/jsontext"
)

func readJSON(data []byte, fault Fault) *Node {
	v, err := jsontext.Parse(data, true)
	if err != nil {
		e := err.(*jsontext.Error)
		fault(e.Line, e.Column, e.Message+"; what stands before was read")
	}
	if v == nil {
		return nil
	}
	return fromJSON(v, jsontext.NewPlaces(data))
}

func fromJSON(v *jsontext.Value, places *jsontext.Places) *Node {
	n := &Node{Text: v.Text}
	n.Line, n.Column = places.At(v.Offset)
	switch v.Kind {
	case jsontext.Number:
		n.Kind = Integer
		if strings.ContainsAny(v.Text, ".eE") {
			n.Kind = Float
		}
	case jsontext.Bool:
		n.Kind = Boolean
	case jsontext.Null:
		n.Kind = Null
	case jsontext.Array:
		n.Kind = List
		for _, item := range v.Items {
			n.Items = append(n.Items, fromJSON(item, places))
		}
	case jsontext.Object:
		n.Kind = Table
		for _, m := range v.Members {
			line, column := places.At(m.Offset)
			n.Entries = append(n.Entries, Entry{m.Key, line, column, fromJSON(m.Value, places)})
		}
	}
	return n
}
