package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var cmakeFamily = sieve.Family{
	Name:    "cmake",
	Lenient: true,
	Leads:   oneOf("CMake "),
	New:     func() sieve.Scanner { return &cmakeScanner{} },
}

// cmakeScanner reads cmake's own errors and warnings: the place on the first
// line, the message indented below, and the call stack.
type cmakeScanner struct {
	blank int
	stack bool
	ended bool // the first paragraph of the message is over
}

func (s *cmakeScanner) Flush(*sieve.Reporter, bool) {}

func (s *cmakeScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if p, ok := cmakeHead(t); ok {
		p.File = rep.Place(p.File)
		rep.Begin(l, p)
		s.blank, s.stack, s.ended = 0, false, false
		return true
	}
	if rep.Current() == nil {
		return false
	}
	body := bytes.TrimSpace(t)
	switch {
	case len(body) == 0:
		s.ended = rep.Current().Message != ""
		if s.blank++; s.blank > 1 {
			rep.Finish()
		}
		return true
	case lex.HasPrefix(t, "Call Stack (most recent call first):"):
		s.stack, s.blank = true, 0
		return true
	case t[0] != ' ':
		rep.Finish()
		return false
	case s.stack:
		if i := bytes.LastIndex(body, []byte(" (")); i > 0 {
			if place, ok := lex.PlaceAtEnd(body[:i]); ok {
				place.File = rep.Place(place.File)
				rep.Relate(problem.Related{Place: place, Message: "called from " + strings.Trim(string(body[i:]), " ()")})
			}
		}
		return true
	}
	s.blank = 0
	switch {
	case rep.Current().Message == "":
		rep.Current().Message = string(body)
	case !s.ended:
		rep.AppendLine(string(body))
	}
	return true
}

// cmakeHead reads "CMake Error at CMakeLists.txt:3 (find_package):".
func cmakeHead(t []byte) (p problem.Problem, ok bool) {
	rest, found := lex.CutPrefix(t, "CMake ")
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
		if message, plain := lex.CutPrefix(rest, "Error: "); plain {
			p.Message = string(message)
			return p, true
		}
		return p, false
	}
	after = bytes.TrimSuffix(after, []byte(":"))
	if i := bytes.LastIndex(after, []byte(" (")); i > 0 && after[len(after)-1] == ')' {
		after = after[:i]
	}
	p.Place, ok = lex.PlaceAtEnd(after)
	return p, ok
}
