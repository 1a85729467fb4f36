package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// boxedScanner reads checkers that mark their message with a sign and draw a box
// around the source: biome, with the place in a headline above, and oxlint and
// its kin, with the place on the edge of the box.
type boxedScanner struct {
	self  int
	said  problem.Problem // whose box is still to come
	first line
	lines int    // since the message
	above string // the headline whose message was taken
}

// maxBoxed is how many lines a message has at most.
const maxBoxed = 4

func (s *boxedScanner) flush(e *Engine, last bool) {
	if last {
		e.attend(s.self, false)
	}
}

var boxedSigns = []struct {
	sign string
	sev  problem.Severity
}{{"× ", problem.Error}, {"✖ ", problem.Error}, {"x ", problem.Error}, {"! ", problem.Warning}, {"⚠ ", problem.Warning}, {"ℹ ", problem.Note}, {"i ", problem.Note}}

func (s *boxedScanner) scan(l *line, e *Engine) bool {
	in := l.indent()
	t := l.text[in:]
	if in == 2 {
		for _, sign := range boxedSigns {
			if rest, ok := cutPrefix(t, sign.sign); ok {
				return s.message(l, e, sign.sev, string(rest))
			}
		}
	}
	if s.said.Message == "" {
		return false
	}
	e.attend(s.self, false)
	if rest, ok := cutPrefix(t, "╭─["); ok {
		return s.box(l, e, rest)
	}
	if rest, ok := cutPrefix(t, ",-["); ok {
		return s.box(l, e, rest)
	}
	// A long message goes on, behind a bar or blanks.
	if s.lines++; s.lines < maxBoxed && in > 2 && len(t) > 0 {
		s.said.Message += " " + strings.TrimLeft(string(t), "│| ")
		e.attend(s.self, true)
		return false
	}
	s.said = problem.Problem{}
	return false
}

// message takes a line with a sign: of the headline above, or of a box below.
func (s *boxedScanner) message(l *line, e *Engine, sev problem.Severity, text string) bool {
	heading := string(e.heading.get())
	if strings.HasSuffix(heading, "━━") {
		where := strings.TrimRight(heading, "━ ")
		if heading == s.above {
			return false // advice to what was said
		}
		place, rest, _ := strings.Cut(where, " ")
		p := problem.Problem{Severity: sev, Message: text}
		var ok bool
		if p.Place, ok = placeAtEnd([]byte(place)); !ok {
			if !strings.ContainsAny(place, "./") {
				return false // what the whole run says of itself
			}
			p.File = place
		}
		p.Code, _, _ = strings.Cut(strings.TrimSpace(rest), " ")
		p.File = e.place(p.File)
		s.above = heading
		e.begin(l, s.self, p)
		e.finish()
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
	s.first, s.lines = l.kept(), 0
	e.attend(s.self, true)
	return false
}

// box takes the edge of the box, "[src/style.js:1:7]".
func (s *boxedScanner) box(l *line, e *Engine, t []byte) bool {
	p := s.said
	s.said = problem.Problem{}
	place, ok := placeAtEnd(bytes.TrimRight(t, "] "))
	if !ok {
		return false
	}
	p.Place = place
	p.File = e.place(p.File)
	first := s.first
	e.begin(&first, s.self, p)
	e.extend(l)
	e.finish()
	return true
}
