package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var zigFamily = sieve.Family{
	Name:    "zig",
	Lenient: true,
	Columns: problem.Bytes,
	Leads:   oneOf("thread |error: |FAIL ("),
	Endings: oneOf("zig"),
	New:     func() sieve.Scanner { return &zigScanner{} },
}

// zigScanner reads what programs and tests in Zig say when they stop: panics,
// errors that left main, and failed tests, each with a trace whose first frame
// outside of the library is the place. Its compiler prints the GNU form.
type zigScanner struct {
	message string // its trace has not come yet
	code    string
	first   sieve.Line
	lines   int // since the message
}

func (s *zigScanner) Flush(*sieve.Reporter, bool) {}

func (s *zigScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if message, code, ok := zigStops(t, rep); ok {
		s.begin(l, rep, message, code)
		return true
	}
	place, function, ok := zigFrame(t)
	if ok && !rep.Claimed() {
		// 2/7 test.fires... thread 23721 panic: message
		said := rep.MarginLine()
		if i := bytes.Index(said, []byte("... thread ")); i > 0 {
			if message, _, ok := zigStops(said[i+4:], rep); ok {
				_, code, _ := strings.Cut(string(said[:i]), " test.")
				s.begin(l, rep, message, code)
			}
		}
	}
	if !rep.Claimed() {
		return false
	}
	if ok {
		library := strings.Contains(place.File, "/lib/std/") || strings.Contains(place.File, "/zig/std/") || strings.HasSuffix(place.File, "/test_runner.zig")
		place.File = rep.Place(place.File)
		switch {
		case library || len(s.message) > sieve.MaxLine:
		case rep.Current() != nil:
			rep.Relate(problem.Related{Place: place, Message: "called from " + function})
			rep.Extend(l)
		default:
			first := s.first
			rep.Begin(&first, problem.Problem{Place: place, Message: s.message, Code: s.code})
			rep.Extend(l)
		}
		return true
	}
	if c := rep.Current(); c != nil && s.lines == 0 && l.Indent() > 0 {
		rep.ShowsSource(0, t, len(c.Related) > 0)
	}
	if s.lines++; l.Indent() > 0 && s.lines < sieve.MaxParts || len(t) > 0 && t[0] == '?' {
		return true // the source of a frame, or a frame without debug information
	}
	rep.Finish()
	return false
}

func (s *zigScanner) begin(l *sieve.Line, rep *sieve.Reporter, message, code string) {
	rep.Finish()
	s.message, s.code, s.lines, s.first = message, code, 0, l.Kept()
	rep.Claim()
}

// zigStops reads "thread 7 panic: message", "error: Name" and, in a test,
// "FAIL (Name)", before which the test was named.
func zigStops(t []byte, rep *sieve.Reporter) (message, code string, ok bool) {
	if rest, thread := lex.CutPrefix(t, "thread "); thread {
		_, n := lex.Number(rest)
		message, ok := lex.CutPrefix(rest[n:], " panic: ")
		return string(message), "", n > 0 && ok
	}
	if name, failed := lex.CutPrefix(t, "error: "); failed {
		return "error." + string(name), "", isName(name)
	}
	name, failed := lex.CutPrefix(bytes.TrimSuffix(t, []byte(")")), "FAIL (")
	if !failed || !isName(name) {
		return "", "", false
	}
	message = "error." + string(name)
	// 3/7 test.cools... expected 2, found 6
	if _, test, ok := strings.Cut(string(rep.MarginLine()), " test."); ok {
		code, said, _ := strings.Cut(test, "... ")
		if said != "" {
			message = said
		}
		return message, code, true
	}
	return message, "", true
}

// isName reports whether t may be the name of a Zig error.
func isName(t []byte) bool {
	for _, c := range t {
		if !lex.IsLetter(c) && !lex.IsDigit(c) && c != '_' {
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
	if p, ok = lex.PlaceAtEnd(t[:i]); !ok || !found {
		return p, "", false
	}
	function, _, _ = strings.Cut(where, " (")
	return p, function, true
}
