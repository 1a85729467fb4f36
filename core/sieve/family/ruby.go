package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var rubyFamily = sieve.Family{
	Name:    "ruby",
	Lenient: true,
	Leads:   oneOf("<internal:"),
	Endings: oneOf("rb"),
	New:     func() sieve.Scanner { return &rubyScanner{} },
}

// rubyScanner reads what Ruby says of a file that it cannot read, warnings, and errors that nothing caught, with what caused
// them: the first frame of the user's own code counts.
type rubyScanner struct {
	thrown rubyError // that is read
	caused rubyError // by this one, if it turns out to be of the same program
}

// A rubyError is an error with its stack.
type rubyError struct {
	failure
	bottom string // the file of the last frame
	framed bool   // frames have come
}

func (s *rubyScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.end(rep)
	}
}

func (s *rubyScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	reading := len(s.thrown.message) > 0
	e := &s.thrown
	if len(s.caused.message) > 0 {
		e = &s.caused
	}
	if frame, from := lex.CutPrefix(trimLeft(t), "from "); from && reading {
		if p, ok := rubyFrame(frame); ok {
			e.frame(l, p, "called from here", rep)
			e.bottom, e.framed = p.File, true
		}
		return true
	}
	p, ok := rubySays(t)
	if !ok {
		if reading && (e.framed || l.Number-e.first.Number > maxBelow) { // else it may be the message or the source
			s.end(rep)
		}
		return false
	}
	if !bytes.Contains(t, []byte(":in ")) || isLibrary(p.File) && p.Severity != problem.Error {
		s.end(rep)
		p.File = rep.Place(p.File)
		rep.Begin(l, p)
		rep.Finish()
		return true
	}
	if e = &s.caused; !s.thrown.framed || len(s.caused.message) > 0 {
		s.end(rep)
		e = &s.thrown
	}
	bottom := p.File
	if inner, ok := rubySays([]byte(p.Message)); ok && isLibrary(p.File) { // …/kernel_require.rb:85:in `require': /w/lib/bad.rb:1: syntax error, …
		p = inner
	}
	e.begin(l, "")
	e.say(l, p.Message)
	e.frame(l, p.Place, "", rep)
	e.bottom = bottom
	rep.Attend(true)
	return true
}

// end reports what is read. An error that ends at the bottom of the same program as the one before led to it.
func (s *rubyScanner) end(rep *sieve.Reporter) {
	rep.Attend(false)
	if c := &s.caused; len(c.message) > 0 && c.bottom == s.thrown.bottom && c.place.File != "" {
		s.thrown.related = append(s.thrown.related, problem.Related{Place: c.place, Message: "caused by " + strings.Join(c.message, " ")})
		c.message = c.message[:0]
	}
	s.thrown.end(rep)
	s.caused.end(rep)
	s.thrown, s.caused = rubyError{failure: s.thrown.failure}, rubyError{failure: s.caused.failure}
}

// rubySays reads "conf.rb:7:in `parse': message (ArgumentError)" and
// "a.rb:3: syntax error, …".
func rubySays(t []byte) (p problem.Problem, ok bool) {
	i := bytes.Index(t, []byte(".rb"))
	if i < 1 {
		return p, false
	}
	end := i + 3
	if lex.HasPrefix(t, "<internal:") && end < len(t) && t[end] == '>' {
		end++
	}
	rest, ok := lex.CutPrefix(t[end:], ":")
	if !ok {
		return p, false
	}
	n, length := lex.Number(rest)
	rest = rest[length:]
	p.Place = problem.Place{File: string(t[:end]), Line: n}
	if length == 0 || !lex.PlausibleFile(p.File) && t[0] != '<' || t[0] == ' ' || t[0] == '\t' {
		return p, false
	}
	if body, in := lex.CutPrefix(rest, ":in "); in {
		j := bytes.Index(body, []byte("': "))
		if j < 0 {
			return p, false
		}
		p.Message = string(body[j+3:])
		return p, true
	}
	body, found := lex.CutPrefix(rest, ": ")
	if !found {
		return p, false
	}
	p.Message = string(body)
	if w, warned := strings.CutPrefix(p.Message, "warning: "); warned {
		p.Severity, p.Message = problem.Warning, w
		return p, true
	}
	return p, strings.HasPrefix(p.Message, "syntax error") || strings.HasSuffix(p.Message, "Error)")
}
