package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var ocamlFamily = sieve.Family{
	Name:    "ocaml",
	Lenient: true,
	Columns: problem.Bytes,
	Leads:   oneOf(`File "|Fatal error: exception `),
	New:     func() sieve.Scanner { return &ocamlScanner{} },
}

// ocamlScanner reads ocamlc, ocamlopt and dune: the place, counted from zero, on the
// first line, the severity on a later one. Of a program that stops at an exception
// it reads the trace (OCAMLRUNPARAM=b).
type ocamlScanner struct {
	place     problem.Place
	start     sieve.Line
	wait      bool
	lines     int
	text      []byte // the line below the place
	exception string // whose trace is read
}

func (s *ocamlScanner) Flush(*sieve.Reporter, bool) {}

func (s *ocamlScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if rest, ok := lex.CutPrefix(t, "Fatal error: exception "); ok {
		rep.Finish()
		s.exception, s.wait, s.start = string(rest), false, l.Kept()
		rep.Claim()
		return true
	}
	if s.exception != "" && rep.Claimed() {
		if s.frame(l, rep) {
			return true
		}
		s.exception = ""
		rep.Finish()
		return false
	}
	if place, ok := ocamlPlace(t); ok {
		if _, message, related := bytes.Cut(t, []byte(": ")); related && rep.Current() != nil && len(message) > 0 {
			place.File = rep.Place(place.File)
			rep.Relate(problem.Related{Place: place, Message: string(message)})
			return true
		}
		rep.Finish()
		place.File = rep.Place(place.File)
		s.place, s.start, s.wait, s.lines, s.text = place, l.Kept(), true, 0, nil
		rep.Claim()
		return true
	}
	if !rep.Claimed() {
		return false
	}
	if s.wait {
		if p, ok := ocamlSeverity(t); ok {
			p.Place = s.place
			start := s.start
			rep.Begin(&start, p)
			if gutter(s.text) {
				showGutter(s.text, rep, false)
			}
			s.wait = false
			rep.Extend(l)
			return true
		}
		if s.text == nil {
			s.text = bytes.Clone(t)
		}
		if s.lines++; s.lines > 12 {
			s.wait = false
			rep.Release()
			return false
		}
		return true
	}
	if rep.Current() == nil || len(t) == 0 || lex.HasPrefix(t, "make") || strings.Count(rep.Current().Message, "\n") > 40 {
		rep.Finish()
		return false
	}
	text := bytes.TrimSpace(t)
	if place, ok := ocamlPlace(text); ok { // what another file has to do with it
		if _, message, found := bytes.Cut(text, []byte(": ")); found {
			place.File = rep.Place(place.File)
			rep.Relate(problem.Related{Place: place, Message: string(message)})
			return true
		}
	}
	rep.AppendLine(string(text))
	return true
}

// frame reads `Called from Kiln.fire in file "kiln.ml", line 2, characters 16-22`.
func (s *ocamlScanner) frame(l *sieve.Line, rep *sieve.Reporter) bool {
	how, place, ok := bytes.Cut(l.Text, []byte(" in file \""))
	if !ok || !hasAnyPrefix(how, "Raised ", "Re-raised ", "Called from ") {
		return false
	}
	p, ok := ocamlPlace(append([]byte("File \""), place...))
	how, inlined := bytes.CutSuffix(how, []byte(" (inlined)"))
	function := how[bytes.LastIndexByte(how, ' ')+1:]
	if !ok && !inlined || hasAnyPrefix(function, "Stdlib", "CamlinternalOO", "CamlinternalLazy") {
		return true
	}
	p.File = rep.Place(p.File)
	if rep.Current() != nil {
		rep.Relate(problem.Related{Place: p, Message: "called from " + string(function)})
	} else {
		start := s.start
		rep.Begin(&start, problem.Problem{Place: p, Message: "exception " + s.exception})
	}
	rep.Extend(l)
	return true
}

// ocamlPlace reads `File "b.ml", lines 3-4, characters 2-19:`.
func ocamlPlace(t []byte) (p problem.Place, ok bool) {
	rest, found := lex.CutPrefix(t, "File \"")
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
	line, n := lex.Number(rest)
	if n == 0 {
		return p, false
	}
	p.Line, p.EndLine = line, line
	rest = rest[n:]
	if len(rest) > 1 && rest[0] == '-' {
		end, k := lex.Number(rest[1:])
		p.EndLine, rest = end, rest[1+k:]
	}
	rest, found = lex.CutPrefix(rest, ", characters ")
	if !found {
		p.EndLine = 0
		return p, bytes.HasSuffix(t, []byte(":"))
	}
	from, n := lex.Number(rest)
	if n == 0 || n+1 >= len(rest) || rest[n] != '-' {
		return p, false
	}
	to, _ := lex.Number(rest[n+1:])
	p.Column, p.EndColumn = from+1, to+1
	return p, true
}

// ocamlSeverity reads "Error: message" and "Warning 8 [partial-match]: message".
func ocamlSeverity(t []byte) (p problem.Problem, ok bool) {
	for _, lead := range [...]string{"Error: ", "Error (alert ", "Error (warning ", "Warning ", "Alert "} {
		rest, found := lex.CutPrefix(t, lead)
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
