package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// cmakeScanner reads cmake's own errors and warnings: the place on the first
// line, the message indented below, and the call stack.
type cmakeScanner struct {
	self  int
	blank int
	stack bool
	ended bool // the first paragraph of the message is over
	// failed says that ctest lists the tests that failed.
	failed bool
}

func (s *cmakeScanner) flush(*Engine, bool) {}

func (s *cmakeScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if l.has("The following tests FAILED:") {
		e.finish()
		// What a test said of itself is better than that it failed.
		s.failed = e.errors == 0
		e.attend(s.self, true)
		return true
	}
	if s.failed {
		if name, how, ok := failedTest(t); ok {
			e.begin(l, s.self, problem.Problem{Code: name, Message: how})
			e.finish()
			return true
		}
	}
	s.failed = false
	e.attend(s.self, false)
	if p, ok := cmakeHead(t); ok {
		p.File = e.place(p.File)
		e.begin(l, s.self, p)
		s.blank, s.stack, s.ended = 0, false, false
		return true
	}
	if e.owner != s.self || !e.open {
		return false
	}
	body := bytes.TrimSpace(t)
	switch {
	case len(body) == 0:
		if s.blank++; s.blank > 1 {
			e.finish()
		}
		s.ended = e.current.Message != ""
		return true
	case hasPrefix(t, "Call Stack (most recent call first):"):
		s.stack, s.blank = true, 0
		return true
	case t[0] != ' ':
		e.finish()
		return false
	case s.stack:
		if i := bytes.LastIndex(body, []byte(" (")); i > 0 {
			if place, ok := placeAtEnd(body[:i]); ok {
				place.File = e.place(place.File)
				e.relate(problem.Related{Place: place, Message: "called from " + strings.Trim(string(body[i:]), " ()")})
			}
		}
		return true
	}
	s.blank = 0
	switch {
	case e.current.Message == "":
		e.current.Message = string(body)
	case !s.ended && strings.Count(e.current.Message, "\n") < maxParts:
		e.current.Message += "\n" + string(body)
	}
	return true
}

// failedTest reads "\t  1 - heat (Failed)" of the list that ctest ends with.
func failedTest(t []byte) (name, how string, ok bool) {
	t = bytes.TrimSpace(t)
	_, n := number(t)
	rest, ok := cutPrefix(t[n:], " - ")
	i := bytes.LastIndex(rest, []byte(" ("))
	if n == 0 || !ok || i < 1 || rest[len(rest)-1] != ')' {
		return "", "", false
	}
	return string(rest[:i]), strings.ToLower(string(rest[i+2 : len(rest)-1])), true
}

// cmakeHead reads "CMake Error at CMakeLists.txt:3 (find_package):".
func cmakeHead(t []byte) (p problem.Problem, ok bool) {
	rest, found := cutPrefix(t, "CMake ")
	if !found {
		return p, false
	}
	word, after, _ := bytes.Cut(rest, []byte(" at "))
	kind := strings.TrimSuffix(string(word), " (dev)")
	switch kind {
	case "Error":
	case "Warning", "Deprecation Warning", "Deprecation Error", "Author Warning":
		p.Severity = problem.Warning
	default:
		if message, plain := cutPrefix(rest, "Error: "); plain {
			p.Message = string(message)
			return p, true
		}
		return p, false
	}
	after = bytes.TrimSuffix(after, []byte(":"))
	if i := bytes.LastIndex(after, []byte(" (")); i > 0 && after[len(after)-1] == ')' {
		after = after[:i]
	}
	p.Place, ok = placeAtEnd(after)
	return p, ok
}
