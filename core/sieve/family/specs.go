package family

import (
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var specsFamily = sieve.Family{
	Name:     "specs",
	Columns:  problem.UTF16,
	Leads:    oneOf("⎯⎯"),
	Indented: oneOf("FAIL  |● |1) "),
	New:      func() sieve.Scanner { return &specsScanner{} },
}

// specsScanner reads vitest, jest and mocha: the test that failed, its message, and the first frame of its stack that is the user's own.
type specsScanner struct {
	state   specsState
	details bool // of jest, about a file that it could not read
	ended   bool // the first paragraph of the message
	failure
}

type specsState int

const (
	specsIdle specsState = iota
	vitestFailure
	jestFailure
	mochaName // up to a colon
	mochaFailure
)

func (s *specsScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.end(rep)
	}
}

func (s *specsScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	in := l.Indent()
	t := string(l.Text[in:])
	switch state, name := specsHead(in, t); {
	case state != specsIdle:
		s.end(rep)
		s.begin(l, name)
		if s.state = state; strings.HasPrefix(string(l.Text), "⎯⎯") {
			s.name, s.code = "", name
		}
		if state == mochaName {
			s.names(t)
		}
		rep.Finish()
		rep.Attend(true)
		return true
	case s.state == specsIdle:
		return false
	}
	frame, isFrame := strings.CutPrefix(t, "at ")
	if !isFrame {
		frame, isFrame = strings.CutPrefix(t, "❯ ")
	}
	switch {
	case l.Number-s.last.Number > 200, strings.HasPrefix(t, "⎯⎯"), in == 0 && t != "" && s.state != mochaFailure && s.state != vitestFailure:
		s.end(rep)
		return false
	case s.state == mochaName:
		s.names(s.name + " " + t)
		return true
	case isFrame:
		s.called(l, frame, rep)
	case (s.state == jestFailure || s.state == vitestFailure) && s.compiled(l, t, rep):
	case strings.HasPrefix(t, "> ") && strings.Contains(t, " |"), strings.Contains(t, " | "), strings.HasPrefix(t, "- Expected"), t == "+ expected - actual":
		s.ended = true // the source, or a comparison
	case t != "" && !s.ended && len(s.message) < maxBelow:
		s.say(l, t)
	case t == "" && len(s.message) > 0 && s.state != jestFailure:
		s.ended = true
	}
	return true
}

// specsHead reads " FAIL  test/v.test.ts > kiln > heats", "  ● kiln › heats"
// and "  2) kiln".
func specsHead(in int, t string) (state specsState, name string) {
	switch {
	case in == 1 && strings.HasPrefix(t, "FAIL  "):
		// jest prints only the file here, and what failed below.
		file, name, test := strings.Cut(t[len("FAIL  "):], " > ")
		if !test {
			if name, _, test = strings.Cut(file, " ["); !test {
				return specsIdle, ""
			}
		}
		return vitestFailure, name
	case in == 0 && strings.HasPrefix(t, "⎯⎯"): // what no test caught: ⎯⎯⎯⎯ Unhandled Rejection ⎯⎯⎯⎯⎯
		if name = strings.Trim(t, "⎯ "); strings.HasPrefix(name, "Unhandled ") && name != "Unhandled Errors" || name == "Uncaught Exception" {
			return vitestFailure, name
		}
	case in == 2 && strings.HasPrefix(t, "● "):
		if name = strings.TrimPrefix(t, "● "); name != "Console" {
			return jestFailure, name
		}
	case in == 2:
		if _, ok := numbered(t); ok {
			return mochaName, ""
		}
	}
	return specsIdle, ""
}

// names reads a name of mocha, over several lines, up to its colon.
func (s *specsScanner) names(t string) {
	if s.name == "" {
		_, t, _ = strings.Cut(t, ") ")
	}
	name, ended := strings.CutSuffix(t, ":")
	s.name = name
	if ended {
		s.state = mochaFailure
	}
}

// compiled reads what a compiler says of a file of tests that could not be loaded:
//
//	test/coil.test.ts:3:7 - error TS2322: Type 'string' is not assignable to type 'number'.
//	SyntaxError: /w/src/coil.js: Unexpected token (3:7)
func (s *specsScanner) compiled(l *sieve.Line, t string, rep *sieve.Reporter) bool {
	place, rest, ok := tscPlace([]byte(t))
	if _, code, message, typed := tscSeverity(rest); ok && typed {
		state, first := s.state, l.Kept()
		if s.place.File == "" { // nothing was said but that the suite failed
			s.message = s.message[:0]
			first = s.first
		}
		s.end(rep)
		s.begin(l, "")
		s.state, s.code, s.first = state, code, first
		place.File = rep.Place(place.File)
		s.place, s.message, s.ended = place, []string{message}, true
		rep.Attend(true)
		return true
	}
	if t == "Details:" { // what jest supposes stands above
		s.message, s.details = s.message[:0], true
		return true
	}
	if p, ok := scriptPlace([]byte(t)); ok && s.details && s.place.File == "" {
		p.File = rep.Place(p.File)
		s.place = p
		s.last = l.Kept()
		return true
	}
	if s.details && s.place.File != "" && !s.ended {
		if isThrown([]byte(t)) {
			s.message, s.ended = []string{t}, true
			s.last = l.Kept()
		}
		return true
	}
	if s.place.File != "" {
		return false
	}
	p, ok := bundleLine([]byte(t))
	if !ok {
		return false
	}
	p.File = rep.Place(p.File)
	s.place, s.message, s.ended = p.Place, []string{p.Message}, true
	s.last = l.Kept()
	return true
}

// called reads "at heat (jt/heat.js:2:20)", "❯ heat src/heat.ts:2:20" and
// "jt/m.spec.js:7:48".
func (s *specsScanner) called(l *sieve.Line, t string, rep *sieve.Reporter) {
	s.ended = true
	if i := strings.LastIndexByte(t, '('); i >= 0 {
		t = strings.TrimSuffix(t[i+1:], ")")
	} else if i := strings.LastIndexByte(t, ' '); i >= 0 {
		t = t[i+1:]
	}
	if p, ok := lex.PlaceAtEnd([]byte(t)); ok {
		s.frame(l, p, "called from here", rep)
	}
}

// end reports the failure. A name without a message is only an entry of a list.
func (s *specsScanner) end(rep *sieve.Reporter) {
	f := s.failure
	*s = specsScanner{failure: failure{message: f.message[:0]}}
	rep.Attend(false)
	f.end(rep)
}
