package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// nodetestScanner reads the test runner of Node.js as it prints for people: the
// list at the end, in which each test that failed has its place above it (the
// spec reporter) or only in the stack of its error (the dot reporter).
type nodetestScanner struct {
	self  int
	place problem.Place
	state nodetestState
	// thrown says that the place where the error arose is known.
	thrown bool
}

type nodetestState int

const (
	nodetestIdle    nodetestState = iota
	nodetestListing               // a test's name comes next, or the list ends
	nodetestMessage               // of the test under construction
	nodetestStack
)

func (s *nodetestScanner) flush(e *Engine, last bool) {
	if last {
		s.enter(nodetestIdle, e)
	}
}

// enter goes to a state; a list is followed to its end.
func (s *nodetestScanner) enter(state nodetestState, e *Engine) {
	s.state = state
	e.attend(s.self, state != nodetestIdle)
}

func (s *nodetestScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if rest, ok := cutPrefix(t, "test at "); ok {
		place, ok := placeAtEnd(rest)
		if !ok {
			return false
		}
		e.finish()
		s.place = place
		s.enter(nodetestListing, e)
		return true
	}
	if string(t) == "Failed tests:" {
		e.finish()
		s.enter(nodetestListing, e)
		return true
	}
	if s.state == nodetestIdle {
		return false
	}
	if name, ok := nodetestName(t); ok {
		s.place.File = e.place(s.place.File)
		e.begin(l, s.self, problem.Problem{Place: s.place, Code: name})
		s.place, s.thrown = problem.Place{}, false
		s.enter(nodetestMessage, e)
		return true
	}
	if e.owner != s.self || !e.open {
		if len(t) > 0 { // the list is over
			s.enter(nodetestIdle, e)
		}
		return false
	}
	if len(t) > 0 && l.indent() == 0 {
		s.finish(e)
		s.enter(nodetestIdle, e)
		return false
	}
	text := string(bytes.TrimSpace(t))
	frame, isFrame := strings.CutPrefix(text, "at ")
	switch {
	case isFrame:
		s.state = nodetestStack
		s.frame(frame, e)
	case s.state == nodetestMessage && text != "" && strings.Count(e.current.Message, "\n") < maxParts:
		if e.current.Message == "" {
			e.current.Message = withoutClass(text)
		} else {
			e.current.Message += "\n" + text
		}
	}
	return true
}

func (s *nodetestScanner) finish(e *Engine) {
	if e.current.Message == "" {
		e.current.Message = "failed"
	}
	e.finish()
}

// frame takes the first frame of the user's own: it is where the error arose.
func (s *nodetestScanner) frame(t string, e *Engine) {
	if i := strings.LastIndexByte(t, '('); i >= 0 {
		t = t[i+1:]
	}
	t, _, _ = strings.Cut(t, ")")
	place, ok := placeAtEnd([]byte(t))
	if !ok || nodeLibrary(place.File) || s.thrown {
		return
	}
	s.thrown = true
	if place.File = e.place(place.File); e.current.File == "" {
		e.current.Place = place
	} else if place != e.current.Place {
		e.relate(problem.Related{Place: place, Message: "thrown here"})
	}
}

// nodetestName reads "✖ heats (3.106679ms)".
func nodetestName(t []byte) (name string, ok bool) {
	rest, ok := cutPrefix(t, "✖ ")
	i := bytes.LastIndex(rest, []byte(" ("))
	if !ok || i < 1 || !bytes.HasSuffix(rest, []byte("ms)")) {
		return "", false
	}
	return string(rest[:i]), true
}

// withoutClass cuts "RangeError [CODE]: " from an error, and the quotes from a
// string that was thrown.
func withoutClass(text string) string {
	if n := len(text); n > 1 && text[0] == '\'' && text[n-1] == '\'' {
		return text[1 : n-1]
	}
	if class, message, ok := strings.Cut(text, ": "); ok {
		name, _, _ := strings.Cut(class, " [")
		if strings.HasSuffix(name, "Error") && !strings.Contains(name, " ") {
			return message
		}
	}
	return text
}
