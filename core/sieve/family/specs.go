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
	Leads:    oneOf("1) "),
	Indented: oneOf("FAIL  |● |1) "),
	New:      func() sieve.Scanner { return &specsScanner{} },
}

// specsScanner reads vitest, jest, mocha, RSpec and PHPUnit: the test that failed,
// its message, and the first frame of its stack that is the user's own.
type specsScanner struct {
	state   specsState
	name    string
	message []string
	details bool // of jest, about a file that it could not read
	ended   bool // the first paragraph of the message
	first   sieve.Line
	last    sieve.Line
	place   problem.Place
	code    string // of a compiler; else the test's name is the code
	frames  []problem.Related
}

type specsState int

const (
	specsIdle specsState = iota
	vitestFailure
	jestFailure
	numberedName // of mocha, up to a colon, or of RSpec
	mochaFailure
	rspecFailure
	phpunitFailure
	minitestName
	minitestError
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
		s.state, s.name, s.first, s.last = state, name, l.Kept(), l.Kept()
		if state == numberedName {
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
	case s.state == minitestName:
		s.name, s.state = strings.TrimSuffix(t, ":"), minitestError
		return true
	case s.state == minitestError && strings.Contains(t, ".rb:") && strings.Contains(t, ":in ") && in > 0:
		where, _, _ := strings.Cut(t, ":in ")
		s.frame(l, where, rep)
		return true
	case l.Number-s.last.Number > 200, strings.HasPrefix(t, "⎯⎯"), in == 0 && t != "" && s.state != mochaFailure && s.state != vitestFailure && s.state != phpunitFailure && (s.state != minitestError || s.ended),
		s.state == phpunitFailure && (t == "--" || t == "ERRORS!" || t == "FAILURES!"):
		s.end(rep)
		return false
	case s.state == numberedName && strings.HasPrefix(t, "Failure/Error: "):
		s.state = rspecFailure
		return true
	case s.state == numberedName && strings.HasPrefix(t, "# "): // is only pending
		s.end(rep)
		return true
	case s.state == numberedName:
		s.names(s.name + " " + t)
		return true
	case s.state == rspecFailure && strings.HasPrefix(t, "# "):
		where, _, _ := strings.Cut(t[2:], ":in ")
		s.frame(l, where, rep)
		return true
	case s.state == phpunitFailure && l.Placed() && !strings.Contains(t, " ") && strings.Contains(t, ".php:"):
		s.frame(l, t, rep)
		return true
	case isFrame:
		s.frame(l, frame, rep)
	case (s.state == jestFailure || s.state == vitestFailure) && s.compiled(l, t, rep):
	case strings.HasPrefix(t, "> ") && strings.Contains(t, " |"), strings.Contains(t, " | "), strings.HasPrefix(t, "- Expected"), t == "+ expected - actual":
		s.ended = true // the source, or a comparison
	case t != "" && !s.ended && len(s.message) < maxBelow:
		s.message = append(s.message, t)
		s.see(l)
	case t == "" && len(s.message) > 0 && s.state != jestFailure && s.state != rspecFailure:
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
	case in == 2 && strings.HasPrefix(t, "● "):
		if name = strings.TrimPrefix(t, "● "); name != "Console" {
			return jestFailure, name
		}
	case in == 0 && strings.Contains(t, "::"):
		if _, n := lex.Number([]byte(t)); n > 0 && strings.HasPrefix(t[n:], ") ") && !strings.Contains(t[n+2:], " ") {
			return phpunitFailure, t[n+2:]
		}
	case in == 2 && strings.HasSuffix(t, ") Error:"):
		if _, n := lex.Number([]byte(t)); n > 0 && t[n:] == ") Error:" {
			return minitestName, ""
		}
	case in == 2 && !strings.HasSuffix(t, ") Failure:"): // else it is minitest
		if _, n := lex.Number([]byte(t)); n > 0 && strings.HasPrefix(t[n:], ") ") {
			return numberedName, ""
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
		next := specsScanner{state: s.state, name: s.name, first: l.Kept(), last: l.Kept()}
		if s.place.File == "" { // nothing was said but that the suite failed
			s.message = s.message[:0]
			next.first = s.first
		}
		s.end(rep)
		*s = next
		s.code = code
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
		s.see(l)
		return true
	}
	if s.details && s.place.File != "" && !s.ended {
		if isThrown([]byte(t)) {
			s.message, s.ended = []string{t}, true
			s.see(l)
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
	s.see(l)
	return true
}

func (s *specsScanner) see(l *sieve.Line) {
	s.last = l.Kept()
}

// frame reads "at heat (jt/heat.js:2:20)", "❯ heat src/heat.ts:2:20" and
// "jt/m.spec.js:7:48".
func (s *specsScanner) frame(l *sieve.Line, t string, rep *sieve.Reporter) {
	s.ended = true
	if i := strings.LastIndexByte(t, '('); i >= 0 {
		t = strings.TrimSuffix(t[i+1:], ")")
	} else if i := strings.LastIndexByte(t, ' '); i >= 0 {
		t = t[i+1:]
	}
	p, ok := lex.PlaceAtEnd([]byte(t))
	if !ok || nodeLibrary(p.File) ||
		strings.Contains(p.File, "/gems/") || strings.HasPrefix(p.File, "/usr/") || strings.Contains(p.File, "/vendor/") {
		return
	}
	p.File = rep.Place(p.File)
	s.see(l)
	if s.place.File == "" {
		s.place = p
	} else if len(s.frames) < sieve.MaxParts {
		s.frames = append(s.frames, problem.Related{Place: p, Message: "called from here"})
	}
}

// end reports the failure. A name without a message is only an entry of a list.
func (s *specsScanner) end(rep *sieve.Reporter) {
	f := *s
	*s = specsScanner{message: f.message[:0]}
	rep.Attend(false)
	if len(f.message) == 0 {
		return
	}
	test := f.name
	if f.code != "" {
		f.name, test = f.code, ""
	}
	rep.Give(problem.Problem{
		Place: f.place, Code: f.name, Test: test, Message: strings.Join(f.message, "\n"), Related: f.frames,
		Output: sieve.SpanOf(&f.first, &f.last),
	})
}
