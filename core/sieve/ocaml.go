package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// ocamlScanner reads ocamlc, ocamlopt and dune: the place, counted from
// nought, on the first line, the severity on a later one. Of a program that
// stops at an exception it reads the trace (OCAMLRUNPARAM=b).
type ocamlScanner struct {
	self      int
	place     problem.Place
	start     line
	wait      bool
	lines     int
	exception string // whose trace is read
}

func (s *ocamlScanner) flush(*Engine, bool) {}

func (s *ocamlScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if rest, ok := cutPrefix(t, "Fatal error: exception "); ok {
		e.finish()
		s.exception, s.wait, s.start = string(rest), false, l.kept()
		e.owner = s.self
		return true
	}
	if s.exception != "" && e.owner == s.self {
		if s.frame(l, e) {
			return true
		}
		s.exception = ""
		e.finish()
		return false
	}
	if place, ok := ocamlPlace(t); ok {
		e.finish()
		place.File = e.place(place.File)
		s.place, s.start, s.wait, s.lines = place, l.kept(), true, 0
		e.owner = s.self
		return true
	}
	if e.owner != s.self {
		return false
	}
	if s.wait {
		if p, ok := ocamlSeverity(t); ok {
			p.Place = s.place
			start := s.start
			e.begin(&start, s.self, p)
			s.wait = false
			e.extend(l)
			return true
		}
		if s.lines++; s.lines > 12 {
			s.wait = false
			e.owner = -1
			return false
		}
		return true
	}
	if !e.open || len(t) == 0 || hasPrefix(t, "make") || strings.Count(e.current.Message, "\n") > 40 {
		e.finish()
		return false
	}
	text := bytes.TrimSpace(t)
	if place, ok := ocamlPlace(text); ok { // what another file has to do with it
		if _, message, found := bytes.Cut(text, []byte(": ")); found {
			place.File = e.place(place.File)
			e.relate(problem.Related{Place: place, Message: string(message)})
			return true
		}
	}
	e.current.Message += "\n" + string(text)
	return true
}

// frame reads `Called from Kiln.fire in file "kiln.ml", line 2, characters 16-22`.
func (s *ocamlScanner) frame(l *line, e *Engine) bool {
	how, place, ok := bytes.Cut(l.text, []byte(" in file \""))
	if !ok || !hasAnyPrefix(how, "Raised ", "Re-raised ", "Called from ") {
		return false
	}
	p, ok := ocamlPlace(append([]byte("File \""), place...))
	how, inlined := bytes.CutSuffix(how, []byte(" (inlined)"))
	function := how[bytes.LastIndexByte(how, ' ')+1:]
	if !ok && !inlined || hasAnyPrefix(function, "Stdlib", "CamlinternalOO", "CamlinternalLazy") {
		return true
	}
	p.File = e.place(p.File)
	if e.open {
		e.relate(problem.Related{Place: p, Message: "called from " + string(function)})
	} else {
		start := s.start
		e.begin(&start, s.self, problem.Problem{Place: p, Message: "exception " + s.exception})
	}
	e.extend(l)
	return true
}

// ocamlPlace reads `File "b.ml", lines 3-4, characters 2-19:`.
func ocamlPlace(t []byte) (p problem.Place, ok bool) {
	rest, found := cutPrefix(t, "File \"")
	if !found {
		return p, false
	}
	i := bytes.Index(rest, []byte("\", line"))
	if i < 1 {
		return p, false
	}
	p.File = string(rest[:i])
	rest = rest[i+7:]
	rest = bytes.TrimPrefix(rest, []byte("s"))
	rest = bytes.TrimLeft(rest, " ")
	line, n := number(rest)
	if n == 0 {
		return p, false
	}
	p.Line, p.EndLine = line, line
	rest = rest[n:]
	if len(rest) > 1 && rest[0] == '-' {
		end, k := number(rest[1:])
		p.EndLine, rest = end, rest[1+k:]
	}
	rest, found = cutPrefix(rest, ", characters ")
	if !found {
		p.EndLine = 0
		return p, bytes.HasSuffix(t, []byte(":"))
	}
	from, n := number(rest)
	if n == 0 || n+1 >= len(rest) || rest[n] != '-' {
		return p, false
	}
	to, _ := number(rest[n+1:])
	p.Column, p.EndColumn = from+1, to+1
	return p, true
}

// ocamlSeverity reads "Error: message" and "Warning 8 [partial-match]: message".
func ocamlSeverity(t []byte) (p problem.Problem, ok bool) {
	for _, lead := range [...]string{"Error: ", "Error (alert ", "Error (warning ", "Warning ", "Alert "} {
		rest, found := cutPrefix(t, lead)
		if !found {
			continue
		}
		text := string(rest)
		if lead == "Error: " {
			p.Message = text
			return p, true
		}
		head, message, cut := strings.Cut(text, ": ")
		if !cut {
			return p, false
		}
		p.Message = message
		head = strings.TrimSuffix(head, ")")
		p.Code, _, _ = strings.Cut(head, " ")
		if !strings.HasPrefix(lead, "Error") {
			p.Severity = problem.Warning
		}
		return p, true
	}
	return p, false
}
