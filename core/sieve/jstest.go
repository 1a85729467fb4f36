package sieve

import (
	"strings"

	"tidytally/core/problem"
)

// jstestScanner reads vitest, jest and mocha: the test that failed, its message,
// and the first frame of its stack that is the user's own.
type jstestScanner struct {
	self    int
	state   jstestState
	name    string
	message []string
	ended   bool // the first paragraph of the message
	first   line
	last    line
	place   problem.Place
	frames  []problem.Related
}

type jstestState int

const (
	jstestIdle jstestState = iota
	vitestFailure
	jestFailure
	mochaName // the name goes on until a colon
	mochaFailure
)

func (s *jstestScanner) flush(e *Engine, last bool) {
	if last {
		s.end(e)
	}
}

func (s *jstestScanner) scan(l *line, e *Engine) bool {
	in := l.indent()
	t := string(l.text[in:])
	switch state, name := jstestHead(in, t); {
	case state != jstestIdle:
		s.end(e)
		s.state, s.name, s.first, s.last = state, name, *l, *l
		s.first.text, s.last.text = nil, nil
		if state == mochaName {
			s.names(t)
		}
		e.owner, e.curious = -1, e.curious|1<<s.self
		return true
	case s.state == jstestIdle:
		return false
	}
	frame, isFrame := strings.CutPrefix(t, "at ")
	if !isFrame {
		frame, isFrame = strings.CutPrefix(t, "❯ ")
	}
	switch {
	case l.number-s.last.number > 200, strings.HasPrefix(t, "⎯⎯"), in == 0 && t != "" && s.state == jestFailure:
		s.end(e)
		return false
	case s.state == mochaName:
		s.names(s.name + " " + t)
		return true
	case isFrame:
		s.frame(l, frame, e)
	case strings.HasPrefix(t, "> ") && strings.Contains(t, " |"), strings.Contains(t, " | "), strings.HasPrefix(t, "- Expected"), t == "+ expected - actual":
		s.ended = true // the source, or a comparison
	case t != "" && !s.ended && len(s.message) < maxBelow:
		s.message = append(s.message, t)
		s.see(l)
	case t == "" && len(s.message) > 0 && s.state != jestFailure:
		s.ended = true
	}
	return true
}

// jstestHead reads " FAIL  test/v.test.ts > kiln > heats", "  ● kiln › heats"
// and "  2) kiln".
func jstestHead(in int, t string) (state jstestState, name string) {
	switch {
	case in == 1 && strings.HasPrefix(t, "FAIL  "):
		file, name, _ := strings.Cut(t[len("FAIL  "):], " > ")
		if name == "" {
			name, _, _ = strings.Cut(file, " [")
		}
		return vitestFailure, name
	case in == 2 && strings.HasPrefix(t, "● "):
		if name = strings.TrimPrefix(t, "● "); name != "Console" {
			return jestFailure, name
		}
	case in == 2 && !strings.HasSuffix(t, ") Failure:") && !strings.HasSuffix(t, ") Error:"): // else it is minitest
		if _, n := number([]byte(t)); n > 0 && strings.HasPrefix(t[n:], ") ") {
			return mochaName, ""
		}
	}
	return jstestIdle, ""
}

// names takes a name of mocha's, over lines, up to its colon.
func (s *jstestScanner) names(t string) {
	if s.name == "" {
		_, t, _ = strings.Cut(t, ") ")
	}
	name, ended := strings.CutSuffix(t, ":")
	s.name = name
	if ended {
		s.state = mochaFailure
	}
}

func (s *jstestScanner) see(l *line) {
	s.last = *l
	s.last.text = nil
}

// frame reads "at heat (jt/heat.js:2:20)", "❯ heat src/heat.ts:2:20" and
// "jt/m.spec.js:7:48".
func (s *jstestScanner) frame(l *line, t string, e *Engine) {
	s.ended = true
	if i := strings.LastIndexByte(t, '('); i >= 0 {
		t = strings.TrimSuffix(t[i+1:], ")")
	} else if i := strings.LastIndexByte(t, ' '); i >= 0 {
		t = t[i+1:]
	}
	p, ok := placeAtEnd([]byte(t))
	if !ok || strings.HasPrefix(p.File, "node:") || strings.Contains(p.File, "node_modules/") {
		return
	}
	p.File = e.place(p.File)
	s.see(l)
	if s.place.File == "" {
		s.place = p
	} else if len(s.frames) < maxParts {
		s.frames = append(s.frames, problem.Related{Place: p, Message: "called from here"})
	}
}

// end gives out the failure that was read. A name without a message is only a
// line in a list.
func (s *jstestScanner) end(e *Engine) {
	f := *s
	*s = jstestScanner{self: f.self, message: f.message[:0]}
	e.curious &^= 1 << s.self
	if len(f.message) == 0 {
		return
	}
	e.give(s.self, problem.Problem{
		Place: f.place, Code: f.name, Message: strings.Join(f.message, "\n"), Related: f.frames,
		Output: problem.Span{FirstLine: f.first.number, LastLine: f.last.number, StartByte: f.first.start, EndByte: f.last.end},
	})
}
