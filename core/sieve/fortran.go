package sieve

import (
	"bytes"

	"tidytally/core/problem"
)

// fortranScanner reads gfortran, which prints the place, the source and the
// message on lines of their own.
type fortranScanner struct {
	self   int
	places []problem.Place
	start  line
	lines  int
}

func (s *fortranScanner) flush(*Engine, bool) {}

func (s *fortranScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if len(t) > 0 && t[len(t)-1] == ':' && l.placed() {
		if p, ok := placeAtEnd(t[:len(t)-1]); ok && p.Column > 0 && fortranFile(p.File) {
			if e.owner != s.self {
				e.finish()
				s.places = s.places[:0]
			}
			if len(s.places) == 0 {
				s.start = l.kept()
			}
			p.File = e.place(p.File)
			if len(s.places) < 8 {
				s.places = append(s.places, p)
			}
			s.lines = 0
			e.owner = s.self
			return true
		}
	}
	if e.owner != s.self {
		return false
	}
	if sev, rest, ok := fortranSays(t); ok && len(s.places) > 0 {
		text, code := splitCode(string(rest), false)
		start := s.start
		e.begin(&start, s.self, problem.Problem{Place: s.places[0], Severity: sev, Code: code, Message: text})
		for _, p := range s.places[1:] {
			e.relate(problem.Related{Place: p, Message: "(2)"})
		}
		e.extend(l)
		e.finish()
		s.places = s.places[:0]
		return true
	}
	if s.lines++; s.lines > 8 || len(t) > 0 && t[0] != ' ' && !hasPrefix(t, "...") {
		e.owner, s.places = -1, s.places[:0]
		return false
	}
	return true
}

// fortranSays reads "Error: message", in any language.
func fortranSays(t []byte) (severity problem.Severity, message []byte, ok bool) {
	for _, w := range [...]struct {
		word string
		sev  problem.Severity
	}{{"Error: ", problem.Error}, {"Fatal Error: ", problem.Error}, {"Warning: ", problem.Warning}, {"internal compiler error: ", problem.Error}} {
		if rest, ok := cutPrefix(t, w.word); ok {
			return w.sev, rest, true
		}
	}
	severity, n, ok := spokenSeverity(t)
	return severity, trimLeft(t[n:]), ok && severity != problem.Note
}

func fortranFile(f string) bool {
	i := bytes.LastIndexByte([]byte(f), '.')
	if i < 0 {
		return false
	}
	switch f[i+1:] {
	case "f", "F", "for", "FOR", "f90", "F90", "f95", "F95", "f03", "F03", "f08", "F08", "f18", "fpp", "FPP", "ftn", "inc":
		return true
	}
	return false
}
