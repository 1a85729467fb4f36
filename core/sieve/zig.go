package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// zigScanner reads what programs and tests in Zig say when they stop: panics,
// errors that left main, and failed tests, each with a trace whose first frame
// outside of the library is the place. Its compiler prints the GNU form.
type zigScanner struct {
	self    int
	message string // whose trace is to come
	code    string
	first   line
	lines   int // since the message
}

func (s *zigScanner) flush(*Engine, bool) {}

func (s *zigScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if message, code, ok := zigStops(t, e); ok {
		s.begin(l, e, message, code)
		return true
	}
	place, function, ok := zigFrame(t)
	if ok && e.owner != s.self {
		// 2/7 test.fires... thread 23721 panic: message
		said := e.heading.get()
		if i := bytes.Index(said, []byte("... thread ")); i > 0 {
			if message, _, ok := zigStops(said[i+4:], e); ok {
				_, code, _ := strings.Cut(string(said[:i]), " test.")
				s.begin(l, e, message, code)
			}
		}
	}
	if e.owner != s.self {
		return false
	}
	if ok {
		library := strings.Contains(place.File, "/lib/std/") || strings.Contains(place.File, "/zig/std/") || strings.HasSuffix(place.File, "/test_runner.zig")
		place.File = e.place(place.File)
		switch {
		case library || len(s.message)+len(e.current.Related) > MaxLine:
		case e.open:
			e.relate(problem.Related{Place: place, Message: "called from " + function})
			e.extend(l)
		default:
			first := s.first
			e.begin(&first, s.self, problem.Problem{Place: place, Message: s.message, Code: s.code})
			e.extend(l)
		}
		return true
	}
	if s.lines++; l.indent() > 0 && s.lines < maxParts || len(t) > 0 && t[0] == '?' {
		return true // the source of a frame, or a frame without debug information
	}
	e.finish()
	return false
}

func (s *zigScanner) begin(l *line, e *Engine, message, code string) {
	e.finish()
	s.message, s.code, s.lines, s.first = message, code, 0, l.kept()
	e.owner = s.self
}

// zigStops reads "thread 7 panic: message", "error: Name" and, in a test,
// "FAIL (Name)", before which the test was named.
func zigStops(t []byte, e *Engine) (message, code string, ok bool) {
	if rest, thread := cutPrefix(t, "thread "); thread {
		_, n := number(rest)
		message, ok := cutPrefix(rest[n:], " panic: ")
		return string(message), "", n > 0 && ok
	}
	if name, failed := cutPrefix(t, "error: "); failed {
		return "error." + string(name), "", isName(name)
	}
	name, failed := cutPrefix(bytes.TrimSuffix(t, []byte(")")), "FAIL (")
	if !failed || !isName(name) {
		return "", "", false
	}
	message = "error." + string(name)
	// 3/7 test.cools... expected 2, found 6
	if _, test, ok := strings.Cut(string(e.heading.get()), " test."); ok {
		code, said, _ := strings.Cut(test, "... ")
		if said != "" {
			message = said
		}
		return message, code, true
	}
	return message, "", true
}

// isName tells a name that an error of Zig can have.
func isName(t []byte) bool {
	for _, c := range t {
		if !isLetter(c) && !isDigit(c) && c != '_' {
			return false
		}
	}
	return len(t) > 0
}

// zigFrame reads "/src/kiln.zig:3:13: 0x21db39 in fire (kiln)".
func zigFrame(t []byte) (p problem.Place, function string, ok bool) {
	i := bytes.Index(t, []byte(": 0x"))
	if i < 1 {
		return p, "", false
	}
	_, where, found := strings.Cut(string(t[i+4:]), " in ")
	if p, ok = placeAtEnd(t[:i]); !ok || !found {
		return p, "", false
	}
	function, _, _ = strings.Cut(where, " (")
	return p, function, true
}
