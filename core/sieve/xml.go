package sieve

import (
	"bytes"

	"tidytally/core/problem"
)

// xmlScanner reads xmllint: "d.xml:1: parser error : message", with the source
// and a caret below.
type xmlScanner struct {
	self  int
	lines int
}

func (s *xmlScanner) flush(*Engine, bool) {}

func (s *xmlScanner) scan(l *line, e *Engine) bool {
	t := l.text
	for _, w := range [...]struct {
		mark string
		sev  problem.Severity
	}{{" error : ", problem.Error}, {" warning : ", problem.Warning}} {
		i := bytes.Index(t, []byte(w.mark))
		if i < 4 {
			continue
		}
		j := bytes.LastIndex(t[:i], []byte(": "))
		if j < 2 {
			continue
		}
		place, ok := placeAtEnd(t[:j])
		if !ok {
			// file:1: element b: validity error : …
			if k := bytes.LastIndex(t[:j], []byte(": ")); k > 0 {
				place, ok = placeAtEnd(t[:k])
			}
		}
		if !ok {
			continue
		}
		place.File = e.place(place.File)
		e.begin(l, s.self, problem.Problem{Place: place, Severity: w.sev, Message: string(t[i+len(w.mark):])})
		s.lines = 0
		return true
	}
	if e.owner != s.self || !e.open {
		return false
	}
	if s.lines++; s.lines <= 2 {
		return true // the source and the caret
	}
	e.finish()
	return false
}
