package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var boxedFamily = sieve.Family{
	Name:     "boxed",
	Indented: oneOf("× |✖ |x |! |⚠ |ℹ |i "),
	New:      func() sieve.Scanner { return &boxedScanner{} },
}

// boxedScanner reads checkers that mark their message with a sign and draw a box
// around the source: biome, with the place in a headline above, and oxlint and
// its kin, with the place on the edge of the box.
type boxedScanner struct {
	said  problem.Problem // a problem whose box has not come yet
	first sieve.Line
	lines int    // since the message
	above string // the headline whose message was taken
}

// maxBoxed is the number of lines of a message that are read.
const maxBoxed = 4

func (s *boxedScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		rep.Attend(false)
	}
}

var boxedSigns = []struct {
	sign string
	sev  problem.Severity
}{{"× ", problem.Error}, {"✖ ", problem.Error}, {"x ", problem.Error}, {"! ", problem.Warning}, {"⚠ ", problem.Warning}, {"ℹ ", problem.Note}, {"i ", problem.Note}}

func (s *boxedScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	in := l.Indent()
	t := l.Text[in:]
	if in == 2 {
		for _, sign := range boxedSigns {
			if rest, ok := lex.CutPrefix(t, sign.sign); ok {
				return s.message(l, rep, sign.sev, string(rest))
			}
		}
	}
	if s.said.Message == "" {
		return false
	}
	rep.Attend(false)
	if rest, ok := lex.CutPrefix(t, "╭─["); ok {
		return s.box(l, rep, rest)
	}
	if rest, ok := lex.CutPrefix(t, ",-["); ok {
		return s.box(l, rep, rest)
	}
	// A long message continues, behind a bar or blanks.
	if s.lines++; s.lines < maxBoxed && in > 2 && len(t) > 0 {
		s.said.Message += " " + strings.TrimLeft(string(t), "│| ")
		rep.Attend(true)
		return false
	}
	s.said = problem.Problem{}
	return false
}

// message reads a line with a sign: it belongs to the headline above or to a box
// below.
func (s *boxedScanner) message(l *sieve.Line, rep *sieve.Reporter, sev problem.Severity, text string) bool {
	heading := string(rep.MarginLine())
	if strings.HasSuffix(heading, "━━") {
		where := strings.TrimRight(heading, "━ ")
		if heading == s.above {
			return false // advice on the problem above
		}
		place, rest, _ := strings.Cut(where, " ")
		p := problem.Problem{Severity: sev, Message: text}
		var ok bool
		if p.Place, ok = lex.PlaceAtEnd([]byte(place)); !ok {
			if !strings.ContainsAny(place, "./") {
				return false // about the whole run
			}
			p.File = place
		}
		p.Code, _, _ = strings.Cut(strings.TrimSpace(rest), " ")
		p.File = rep.Place(p.File)
		s.above = heading
		rep.Begin(l, p)
		rep.Finish()
		return true
	}
	s.above = ""
	s.said = problem.Problem{Severity: sev, Message: text}
	// eslint(no-debugger): message
	if code, message, ok := strings.Cut(text, "): "); ok && !strings.Contains(code, " ") {
		if _, rule, ok := strings.Cut(code, "("); ok {
			s.said.Code, s.said.Message = rule, message
		}
	}
	s.first, s.lines = l.Kept(), 0
	rep.Attend(true)
	return false
}

// box reads the edge of the box, "[src/style.js:1:7]".
func (s *boxedScanner) box(l *sieve.Line, rep *sieve.Reporter, t []byte) bool {
	p := s.said
	s.said = problem.Problem{}
	place, ok := lex.PlaceAtEnd(bytes.TrimRight(t, "] "))
	if !ok {
		return false
	}
	p.Place = place
	p.File = rep.Place(p.File)
	first := s.first
	rep.Begin(&first, p)
	rep.Extend(l)
	rep.Finish()
	return true
}
