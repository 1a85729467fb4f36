package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var nodetestFamily = sieve.Family{
	Name:    "nodetest",
	Columns: problem.UTF16,
	Leads:   oneOf("test at |Failed tests:"),
	New:     func() sieve.Scanner { return &nodetestScanner{} },
}

// nodetestScanner reads the test runner of Node.js as it prints for people: the
// list at the end, in which each test that failed has its place above it (the
// spec reporter) and the stack of its error below. The problem is where the error
// arose, in the user's own code; where the test is declared is related.
type nodetestScanner struct {
	place problem.Place
	state nodetestState
	// thrown: the place where the error arose is known.
	thrown bool
}

type nodetestState int

const (
	nodetestIdle    nodetestState = iota
	nodetestListing               // a test's name comes next, or the list ends
	nodetestMessage               // of the test under construction
	nodetestStack
)

func (s *nodetestScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.enter(nodetestIdle, rep)
	}
}

// enter changes the state; all lines of a list are asked for.
func (s *nodetestScanner) enter(state nodetestState, rep *sieve.Reporter) {
	s.state = state
	rep.Attend(state != nodetestIdle)
}

func (s *nodetestScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if rest, ok := lex.CutPrefix(t, "test at "); ok {
		place, ok := lex.PlaceAtEnd(rest)
		if !ok {
			return false
		}
		s.finish(rep)
		s.place = place
		s.enter(nodetestListing, rep)
		return true
	}
	if string(t) == "Failed tests:" {
		rep.Finish()
		s.enter(nodetestListing, rep)
		return true
	}
	if s.state == nodetestIdle {
		return false
	}
	if name, ok := nodetestName(t); ok {
		s.finish(rep)
		s.place.File = rep.Place(s.place.File)
		rep.Begin(l, problem.Problem{Place: s.place, Code: name, Test: name})
		s.place, s.thrown = problem.Place{}, false
		s.enter(nodetestMessage, rep)
		return true
	}
	if rep.Current() == nil {
		if len(t) > 0 { // the list is over
			s.enter(nodetestIdle, rep)
		}
		return false
	}
	if len(t) > 0 && l.Indent() == 0 {
		s.finish(rep)
		s.enter(nodetestIdle, rep)
		return false
	}
	text := string(bytes.TrimSpace(t))
	frame, isFrame := strings.CutPrefix(text, "at ")
	switch {
	case isFrame:
		s.state = nodetestStack
		s.frame(frame, rep)
	case s.state == nodetestMessage && text != "":
		if rep.Current().Message == "" {
			if rep.Current().Message = withoutClass(text); saidBefore(rep.Current(), rep) {
				s.finish(rep)
				s.state = nodetestListing
			}
		} else {
			rep.AppendLine(text)
		}
	}
	return true
}

// finish ends the problem of a test, if there is one, and no others say why it failed.
func (s *nodetestScanner) finish(rep *sieve.Reporter) {
	if rep.Current() == nil {
		rep.Finish()
		return
	}
	if saidBefore(rep.Current(), rep) {
		if _, ok := rep.Withdraw(); ok {
			return
		}
	}
	if rep.Current().Message == "" {
		rep.Current().Message = "failed"
	}
	rep.Finish()
}

// frame reads the first frame of the user's own code: it is where the error arose.
func (s *nodetestScanner) frame(t string, rep *sieve.Reporter) {
	if i := strings.LastIndexByte(t, '('); i >= 0 {
		t = t[i+1:]
	}
	t, _, _ = strings.Cut(t, ")")
	place, ok := lex.PlaceAtEnd([]byte(t))
	if !ok || nodeLibrary(place.File) || s.thrown {
		return
	}
	s.thrown = true
	place.File = rep.Place(place.File)
	p := rep.Current()
	if p.File != "" && place != p.Place {
		rep.Relate(problem.Related{Place: p.Place, Message: "the test is declared here"})
	}
	p.Place = place
}

// saidBefore reports whether other problems say why a test failed: tests inside of it failed, or its file could not be
// loaded.
func saidBefore(p *problem.Problem, rep *sieve.Reporter) bool {
	if file := rep.Place(p.Test); p.Message == "test failed" && p.File != "" && (file == p.File || strings.HasSuffix(file, "/"+p.File)) {
		return rep.ErrorIn(p.File) || rep.ErrorIn(file) // the place may be printed as below the folder where it ran
	}
	_, n := lex.Number([]byte(p.Message))
	return n > 0 && (p.Message[n:] == " subtest failed" || p.Message[n:] == " subtests failed")
}

// nodetestName reads "✖ heats (3.106679ms)".
func nodetestName(t []byte) (name string, ok bool) {
	rest, ok := lex.CutPrefix(t, "✖ ")
	i := bytes.LastIndex(rest, []byte(" ("))
	if !ok || i < 1 || !bytes.HasSuffix(rest, []byte("ms)")) {
		return "", false
	}
	return string(rest[:i]), true
}

// withoutClass cuts "RangeError [CODE]: " off an error, and the quotes off a thrown
// string.
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
