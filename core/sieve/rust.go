package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// rustScanner reads rustc, cargo build, cargo clippy and cargo test: a headline
// whose place follows behind an arrow, and panics.
type rustScanner struct {
	self int
	// head is a headline whose place is still to come: of a problem, or of a
	// note or help that belongs to the one under construction.
	head    rustHead
	waiting bool
	panic   bool // the message of a panic follows on the next lines
}

type rustHead struct {
	severity problem.Severity
	code     string
	message  string
	line     line
	part     bool // a note or help of the problem under construction
	lines    int  // seen since
}

func (s *rustScanner) flush(*Engine, bool) {}

func (s *rustScanner) scan(l *line, e *Engine) bool {
	t := l.text
	s.waiting = s.waiting && e.owner == s.self // another family took over
	if s.panic && e.owner == s.self {
		if s.morePanic(t, e) {
			return true
		}
	}
	if place, ok := rustArrow(t); ok && (s.waiting || e.owner == s.self && e.open) {
		s.place(place, l, e)
		return true
	}
	if len(t) > 0 && (t[0] == 'e' || t[0] == 'w') {
		if head, ok := rustHeadline(t); ok {
			head.line = l.kept()
			e.finish()
			s.head, s.waiting = head, true
			e.owner = s.self
			return true
		}
	}
	if place, ok := rustPanic(t); ok {
		place.File = e.place(place.File)
		e.begin(l, s.self, problem.Problem{Place: place, Message: "panicked"})
		s.panic = true
		return true
	}
	if p, ok := rustTest(t, e); ok {
		p.File = e.place(p.File)
		e.begin(l, s.self, p)
		e.finish()
		return true
	}
	if e.owner != s.self {
		return false
	}
	if s.waiting && !s.head.part {
		// A message may go on over lines; the place must come soon.
		if s.head.lines++; s.head.lines > 8 || len(t) == 0 {
			s.waiting = false
			e.owner = -1
			return false
		}
		s.head.message += "\n" + string(bytes.TrimSpace(t))
		return l.wants == 0 // else it may be another tool's, which says what belongs to the headline
	}
	return s.more(t, e)
}

// place takes "--> file:line:column" and "::: file:line:column".
func (s *rustScanner) place(p problem.Place, l *line, e *Engine) {
	p.File = e.place(p.File)
	switch {
	case s.waiting && !s.head.part:
		head := s.head.line
		e.begin(&head, s.self, problem.Problem{Place: p, Severity: s.head.severity, Code: s.head.code, Message: s.head.message})
	case s.waiting:
		e.relate(problem.Related{Place: p, Message: s.head.message})
	default:
		e.relate(problem.Related{Place: p, Message: "see here"})
	}
	e.extend(l)
	s.waiting, s.panic = false, false
}

// more takes the lines of a problem behind its place.
func (s *rustScanner) more(t []byte, e *Engine) bool {
	if !e.open {
		e.owner = -1
		return false
	}
	if len(t) == 0 {
		e.finish()
		return true
	}
	for _, lead := range [...]string{"note: ", "help: "} {
		if rest, ok := cutPrefix(t, lead); ok {
			s.head, s.waiting = rustHead{message: string(rest), part: true}, true
			return true
		}
	}
	if t[0] == ' ' || t[0] == '|' || t[0] == '.' || isDigit(t[0]) || t[0] == '+' || t[0] == '-' {
		if rest, ok := cutPrefix(bytes.TrimLeft(t, " "), "= note: `#[warn("); ok && e.current.Code == "" {
			if i := bytes.IndexByte(rest, ')'); i > 0 {
				e.current.Code = string(rest[:i])
			}
		}
		return true
	}
	e.finish()
	return false
}

// morePanic takes the lines of a panic's message.
func (s *rustScanner) morePanic(t []byte, e *Engine) bool {
	if len(t) == 0 || hasAnyPrefix(t, "note: run with", "stack backtrace:", "thread '", "failures:", "----") {
		s.panic = false
		e.finish()
		return len(t) == 0
	}
	if e.current.Message == "panicked" {
		e.current.Message = string(t)
	} else if strings.Count(e.current.Message, "\n") < maxParts {
		e.current.Message += "\n" + string(bytes.TrimSpace(t))
	}
	return true
}

// rustTest reads what stands behind "---- tests::cools stdout ----" when a test
// failed without a panic.
func rustTest(t []byte, e *Engine) (p problem.Problem, ok bool) {
	at, noPanic := cutPrefix(t, "note: test did not panic as expected")
	if !noPanic && !hasPrefix(t, "Error: ") {
		return p, false
	}
	name, ok := cutPrefix(e.heading.get(), "---- ")
	if !ok {
		return p, false
	}
	if name, ok = bytes.CutSuffix(name, []byte(" stdout ----")); !ok {
		return p, false
	}
	p.Code, p.Message = string(name), string(t)
	if noPanic {
		p.Message = "test did not panic as expected"
		p.Place, _ = placeAtEnd(bytes.TrimPrefix(at, []byte(" at ")))
	}
	return p, true
}

// rustHeadline reads "error[E0308]: message" and "warning: message".
func rustHeadline(t []byte) (h rustHead, ok bool) {
	rest, found := cutPrefix(t, "error")
	if !found {
		if rest, found = cutPrefix(t, "warning"); !found {
			return h, false
		}
		h.severity = problem.Warning
	}
	if len(rest) > 2 && rest[0] == '[' {
		i := bytes.IndexByte(rest, ']')
		if i < 0 {
			return h, false
		}
		h.code, rest = string(rest[1:i]), rest[i+1:]
	}
	message, found := cutPrefix(rest, ": ")
	if !found || len(message) == 0 {
		return h, false
	}
	h.message = strings.TrimPrefix(string(message), "internal compiler error: ")
	return h, true
}

// rustArrow reads " --> src/main.rs:4:5".
func rustArrow(t []byte) (problem.Place, bool) {
	rest := bytes.TrimLeft(t, " ")
	if body, ok := cutPrefix(rest, "--> "); ok {
		return placeAtEnd(body)
	}
	if body, ok := cutPrefix(rest, "::: "); ok {
		return placeAtEnd(body)
	}
	return problem.Place{}, false
}

// rustPanic reads "thread 'main' panicked at src/main.rs:5:10:".
func rustPanic(t []byte) (problem.Place, bool) {
	if !hasPrefix(t, "thread '") {
		return problem.Place{}, false
	}
	i := bytes.Index(t, []byte("panicked at "))
	if i < 0 {
		return problem.Place{}, false
	}
	rest := bytes.TrimSuffix(t[i+len("panicked at "):], []byte(":"))
	if j := bytes.LastIndex(rest, []byte("', ")); j > 0 { // before Rust 1.73 the message came first
		rest = rest[j+3:]
	}
	return placeAtEnd(rest)
}
