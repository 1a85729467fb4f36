package family

import (
	"bytes"
	"strings"

	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var minitestFamily = sieve.Family{
	Name:     "minitest",
	Leads:    oneOf("Failure:|Error:"),
	Indented: oneOf("1) "),
	New:      func() sieve.Scanner { return &minitestScanner{} },
}

// minitestScanner reads minitest, numbered in its list or as it goes on, and test-unit.
type minitestScanner struct {
	state  minitestState
	quoted bool     // the stack of an error that is part of the message
	held   []string // what stands below a blank line of the message, which goes on if another item or the sum follows
	failure
}

type minitestState int

const (
	minitestIdle    minitestState = iota
	minitestName                  // the next line has the name, and of a failure the place
	minitestFailure               // the message follows, to the next item
	minitestError                 // the message follows, then the stack
	minitestSkipped
	unitFailure // of test-unit
)

func (s *minitestScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.enter(minitestIdle, rep)
	}
}

// enter ends what is read, and goes on in another state.
func (s *minitestScanner) enter(state minitestState, rep *sieve.Reporter) {
	s.end(rep)
	s.state, s.held = state, s.held[:0]
	rep.Attend(state != minitestIdle)
	if state != minitestIdle {
		rep.Claim()
	}
}

func (s *minitestScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	in := l.Indent()
	t := string(l.Text[in:])
	kind, ok := t, in == 0
	if in > 0 && in < 4 {
		kind, ok = numbered(t)
	}
	switch {
	case ok && (kind == "Failure:" || kind == "Error:" || kind == "Skipped:"):
		s.goesOn()
		s.enter(minitestName, rep)
		s.begin(l, "")
		if s.name = kind; kind == "Skipped:" {
			s.state = minitestSkipped
		}
		return true
	case in == 0 && lex.HasPrefix(rep.MarginLine(), "====") && (strings.HasPrefix(t, "Failure: ") || strings.HasPrefix(t, "Error: ")):
		s.enter(unitFailure, rep)
		_, name, _ := strings.Cut(t, ": ")
		class := strings.IndexByte(name, ')')
		if class < 0 {
			s.enter(minitestIdle, rep)
			return false
		}
		s.begin(l, name[:class+1])
		s.say(l, strings.TrimSpace(strings.TrimPrefix(name[class+1:], ":")))
		return true
	case s.state == minitestIdle:
		return false
	case s.state == minitestName:
		return s.named(l, t, rep)
	case s.state == unitFailure:
		return s.unit(l, t, rep)
	case isCount(t):
		s.goesOn()
		s.enter(minitestIdle, rep)
		return false
	case l.Number-s.last.Number > 200, in == 0 && (strings.HasPrefix(t, "rails test ") || strings.HasPrefix(t, "bin/rails test ")):
		s.enter(minitestIdle, rep)
		return false
	case s.state == minitestError:
		if p, ok := rubyFrame(l.Text[in:]); ok && in > 0 {
			s.frame(l, p, "called from here", rep)
			return true
		}
	}
	if s.quoted = s.quoted && !strings.HasPrefix(t, "-----") || t == "---Backtrace---"; !s.quoted && (s.place.File == "" || s.state == minitestFailure) && (strings.Trim(t, "-") != "" || t == "") {
		switch {
		case s.state == minitestFailure && (t == "" || len(s.held) > 0):
			s.held = append(s.held, t)
			return t == ""
		default:
			s.say(l, t)
		}
	}
	return true
}

// goesOn adds what was held back to the message.
func (s *minitestScanner) goesOn() {
	for _, t := range s.held {
		s.say(&s.last, t)
	}
}

// named reads the line below the kind of an item: `KilnTest#test_heat [test/kiln_test.rb:12]:` of a failure, `KilnTest#test_heat:` of an error.
func (s *minitestScanner) named(l *sieve.Line, t string, rep *sieve.Reporter) bool {
	name, ok := strings.CutSuffix(t, ":")
	if !ok || !strings.Contains(name, "#") {
		s.enter(minitestIdle, rep)
		return false
	}
	s.state = minitestError
	if at := strings.LastIndex(name, " ["); at > 0 && s.name == "Failure:" && strings.HasSuffix(name, "]") {
		if p, ok := lex.PlaceAtEnd([]byte(name[at+2 : len(name)-1])); ok {
			p.File = rep.Place(p.File)
			s.place, s.state, name = p, minitestFailure, name[:at]
		}
	}
	s.name, s.last = name, l.Kept()
	return true
}

// unit reads a line of a failure of test-unit: the message, the place, and the source below it.
func (s *minitestScanner) unit(l *sieve.Line, t string, rep *sieve.Reporter) bool {
	if strings.HasPrefix(t, "====") {
		s.enter(minitestIdle, rep)
		return true
	}
	if p, ok := rubyFrame([]byte(t)); ok && l.Indent() == 0 {
		s.frame(l, p, "called from here", rep)
		return true
	}
	source := strings.TrimPrefix(t, "=> ")
	if n, k := lex.Number(bytes.TrimLeft([]byte(source), " ")); k > 0 && l.Indent() > 0 && strings.HasPrefix(strings.TrimLeft(source, " ")[k:], ":") {
		if n == s.place.Line {
			s.last = l.Kept()
		}
		return true
	}
	s.say(l, t)
	return true
}

// isCount reports whether a line is the sum at the end: `11 runs, 7 assertions, 7 failures, …`.
func isCount(t string) bool {
	_, n := lex.Number([]byte(t))
	return n > 0 && strings.HasPrefix(t[n:], " runs, ")
}
