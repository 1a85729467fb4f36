package family

import (
	"bytes"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var fortranFamily = sieve.Family{
	Name:    "fortran",
	Lenient: true,
	Columns: problem.Guessed,
	Endings: oneOf("f|for|f90|f95|f03|f08|f18|fpp|ftn|inc"),
	New:     func() sieve.Scanner { return &fortranScanner{} },
}

// fortranScanner reads gfortran, which prints the place, the source and the
// message on lines of their own.
type fortranScanner struct {
	places []problem.Place
	start  sieve.Line
	lines  int
}

func (s *fortranScanner) Flush(*sieve.Reporter, bool) {}

func (s *fortranScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if len(t) > 0 && t[len(t)-1] == ':' && l.Placed() {
		if p, ok := lex.PlaceAtEnd(t[:len(t)-1]); ok && p.Column > 0 && fortranFile(p.File) {
			if !rep.Claimed() {
				rep.Finish()
				s.places = s.places[:0]
			}
			if len(s.places) == 0 {
				s.start = l.Kept()
			}
			p.File = rep.Place(p.File)
			if len(s.places) < 8 {
				s.places = append(s.places, p)
			}
			s.lines = 0
			rep.Claim()
			return true
		}
	}
	if !rep.Claimed() {
		return false
	}
	if sev, rest, ok := fortranSays(t); ok && len(s.places) > 0 {
		text, code := splitCode(string(rest), false)
		start := s.start
		rep.Begin(&start, problem.Problem{Place: s.places[0], Severity: sev, Code: code, Message: text})
		for _, p := range s.places[1:] {
			rep.Relate(problem.Related{Place: p, Message: "(2)"})
		}
		rep.Extend(l)
		rep.Finish()
		s.places = s.places[:0]
		return true
	}
	if s.lines++; s.lines > 8 || len(t) > 0 && t[0] != ' ' && !lex.HasPrefix(t, "...") {
		rep.Release()
		s.places = s.places[:0]
		return false
	}
	return true
}

// fortranSays reads "Error: message", in any language.
func fortranSays(t []byte) (severity problem.Severity, message []byte, ok bool) {
	for _, w := range [...]struct {
		word string
		sev  problem.Severity
	}{{"Error: ", problem.Error}, {"Fatal Error: ", problem.Error}, {"Warning: ", problem.Warning}, {"internal compiler error: ", problem.Error}} {
		if rest, ok := lex.CutPrefix(t, w.word); ok {
			return w.sev, rest, true
		}
	}
	severity, n, ok := spokenSeverity(t)
	return severity, trimLeft(t[n:]), ok && severity != problem.Note
}

func fortranFile(f string) bool {
	i := bytes.LastIndexByte([]byte(f), '.')
	if i < 0 {
		return false
	}
	switch f[i+1:] {
	case "f", "F", "for", "FOR", "f90", "F90", "f95", "F95", "f03", "F03", "f08", "F08", "f18", "fpp", "FPP", "ftn", "inc":
		return true
	}
	return false
}
