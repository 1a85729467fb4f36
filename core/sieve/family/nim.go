package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var nimFamily = sieve.Family{
	Name:    "nim",
	Lenient: true,
	Columns: problem.Bytes,
	Leads:   oneOf("Error: unhandled exception: "),
	Endings: oneOf("nim"),
	New:     func() sieve.Scanner { return &nimScanner{} },
}

// nimScanner reads the Nim compiler, with the places that led to a problem in a
// template or a generic, and what a program says that stops at an exception.
type nimScanner struct {
	before []problem.Related // instantiations, ahead of their problem
	frames []problem.Place   // of a stack, the deepest last
	start  sieve.Line
}

func (s *nimScanner) Flush(*sieve.Reporter, bool) {}

func (s *nimScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	place, rest, ok := nimPlace(l.Text)
	if !ok {
		return s.unhandled(l, rep)
	}
	word, message, found := strings.Cut(rest, ": ")
	p := problem.Problem{Place: place}
	switch {
	case found && word == "Error":
	case found && word == "Warning":
		p.Severity = problem.Warning
	case found && word == "Hint":
		p.Severity = problem.Note
	case place.Column > 0 && strings.HasPrefix(rest, "template/generic instantiation"):
		place.File = rep.Place(place.File)
		if len(s.before) < sieve.MaxParts {
			s.before = append(s.before, problem.Related{Place: place, Message: strings.TrimSuffix(rest, " from here")})
		}
		return true
	case place.Column == 0 && !strings.Contains(rest, " "): // a frame, with its procedure
		if len(s.frames) == 0 {
			s.start = l.Kept()
		}
		if len(s.frames) < sieve.MaxParts {
			s.frames = append(s.frames, place)
		}
		return true
	default:
		return false
	}
	p.File = rep.Place(p.File)
	p.Message, p.Code = cutBracket(strings.TrimRight(message, " "))
	rep.Begin(l, p)
	for _, r := range s.before {
		rep.Relate(r)
	}
	rep.Finish()
	s.before, s.frames = s.before[:0], s.frames[:0]
	return true
}

// unhandled reads "Error: unhandled exception: message [Defect]" behind a stack.
func (s *nimScanner) unhandled(l *sieve.Line, rep *sieve.Reporter) bool {
	message, ok := lex.CutPrefix(l.Text, "Error: unhandled exception: ")
	if !ok || len(s.frames) == 0 {
		return false
	}
	own := len(s.frames) - 1
	for i, f := range s.frames {
		if !strings.Contains(f.File, "/nim/lib/") && !strings.Contains(f.File, "/lib/system/") {
			own = i
		}
	}
	p := problem.Problem{Place: s.frames[own]}
	p.File = rep.Place(p.File)
	p.Message, p.Code = cutBracket(string(message))
	start := s.start
	rep.Begin(&start, p)
	for i := own - 1; i >= 0; i-- {
		f := s.frames[i]
		f.File = rep.Place(f.File)
		rep.Relate(problem.Related{Place: f, Message: "called from here"})
	}
	rep.Extend(l)
	rep.Finish()
	s.frames = s.frames[:0]
	return true
}

// nimPlace reads "kiln.nim(3, 5) " and "kiln.nim(3) " at the start of a line.
func nimPlace(t []byte) (p problem.Place, rest string, ok bool) {
	i := bytes.Index(t, []byte(".nim("))
	if i < 1 {
		return p, "", false
	}
	end := bytes.IndexByte(t[i:], ')') + i
	if end < i || end+1 >= len(t) || t[end+1] != ' ' {
		return p, "", false
	}
	p, ok = lex.PlaceAtEnd(bytes.ReplaceAll(t[:end+1], []byte(", "), []byte(",")))
	return p, strings.TrimLeft(string(t[end+2:]), " "), ok
}
