package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// tscScanner reads the TypeScript compiler: plain and pretty, once, watching
// and in build mode.
type tscScanner struct {
	self int
	// tail says which lines of the problem under construction come next.
	tail tscTail
}

type tscTail int

const (
	tscMessage tscTail = iota // indented lines go on with the message
	tscSource                 // pretty: source and marks, related places
	tscRelated                // pretty: the source of a related place
	tscNote                   // pretty: the message of a related place
)

func (s *tscScanner) flush(*Engine, bool) {}

func (s *tscScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if n := len(t); n > 0 && t[n-1] == '.' && s.watch(t, e) {
		return true
	}
	if e.owner != s.self && l.traits&(anyPlace|digitParen) == 0 && !l.has("error") {
		return false // a clock, but no place
	}
	if place, rest, ok := tscPlace(t); ok {
		if sev, code, message, ok := tscSeverity(rest); ok {
			place.File = e.place(place.File)
			e.begin(l, s.self, problem.Problem{Place: place, Severity: sev, Code: code, Message: message})
			s.tail = tscMessage
			return true
		}
	}
	if sev, code, message, ok := tscSeverity(t); ok {
		e.begin(l, s.self, problem.Problem{Severity: sev, Code: code, Message: message})
		s.tail = tscMessage
		return true
	}
	if e.owner != s.self || !e.open {
		return false
	}
	return s.more(l, e)
}

// watch sees the lines between the passes of a watching compiler.
func (s *tscScanner) watch(t []byte, e *Engine) bool {
	switch {
	case bytes.HasSuffix(t, []byte("Starting compilation in watch mode...")), bytes.HasSuffix(t, []byte("File change detected. Starting incremental compilation...")):
		e.newCycle()
		return true
	case bytes.HasSuffix(t, []byte("Watching for file changes.")):
		e.finish()
		return true
	}
	return false
}

func (s *tscScanner) more(l *line, e *Engine) bool {
	t := l.text
	in := l.indent()
	if len(bytes.TrimSpace(t)) == 0 {
		if s.tail == tscMessage {
			s.tail = tscSource
		} else if s.tail == tscNote {
			s.tail = tscSource
		}
		return true
	}
	switch s.tail {
	case tscMessage:
		if in == 0 {
			e.finish()
			return false
		}
		if strings.Count(e.current.Message, "\n") < maxParts {
			e.current.Message += "\n" + string(bytes.TrimRight(t, " "))
		}
		return true
	case tscSource:
		if hasPrefix(t, "Found ") {
			e.finish()
			return true
		}
		if in == 2 {
			if place, rest, ok := tscPlace(t[2:]); ok && len(bytes.TrimSpace(rest)) == 0 {
				s.relatedPlace(place, e)
				return true
			}
		}
		if marks := bytes.Trim(t, " "); len(marks) > 0 && len(bytes.Trim(marks, "~")) == 0 {
			if c := &e.current; c.EndColumn == 0 && c.Column > 0 && c.EndLine == 0 {
				c.EndLine, c.EndColumn = c.Line, c.Column+len(marks)
			} else if c.EndColumn > 0 { // a second marked line: the range goes on
				c.EndLine, c.EndColumn = 0, 0
			}
			return true
		}
		if isDigit(t[0]) || t[0] == '.' || in > 0 {
			return true // source text
		}
		e.finish()
		return false
	case tscRelated:
		if marks := bytes.Trim(t, " ~"); len(marks) == 0 {
			s.tail = tscNote
			return true
		}
		if in == 2 {
			if place, rest, ok := tscPlace(t[2:]); ok && len(bytes.TrimSpace(rest)) == 0 {
				s.relatedPlace(place, e)
				return true
			}
		}
		return in >= 2
	default: // tscNote
		if in < 4 {
			s.tail = tscSource
			return s.more(l, e)
		}
		if n := len(e.current.Related); n > 0 {
			r := &e.current.Related[n-1]
			r.Message = strings.TrimSpace(r.Message + "\n" + string(bytes.TrimSpace(t)))
		}
		return true
	}
}

func (s *tscScanner) relatedPlace(place problem.Place, e *Engine) {
	place.File = e.place(place.File)
	e.relate(problem.Related{Place: place})
	s.tail = tscRelated
}

// tscPlace reads file(line,column) with ": ", or file:line:column with " - ".
func tscPlace(t []byte) (p problem.Place, rest []byte, ok bool) {
	for i := 1; i < len(t); i++ {
		switch t[i] {
		case '(':
			line, n := number(t[i+1:])
			if n == 0 || i+1+n >= len(t) || t[i+1+n] != ',' {
				continue
			}
			column, m := number(t[i+2+n:])
			if rest, found := cutPrefix(t[min(len(t), i+2+n+m):], "): "); m > 0 && found {
				p = problem.Place{File: string(t[:i]), Line: line, Column: column}
				return p, rest, plausibleFile(p.File)
			}
		case ':':
			line, n := number(t[i+1:])
			if n == 0 || i+1+n >= len(t) || t[i+1+n] != ':' {
				continue
			}
			column, m := number(t[i+2+n:])
			if m == 0 {
				continue
			}
			p = problem.Place{File: string(t[:i]), Line: line, Column: column}
			after := t[i+2+n+m:]
			if rest, found := cutPrefix(after, " - "); found {
				return p, rest, plausibleFile(p.File)
			}
			return p, after, len(after) == 0 && plausibleFile(p.File)
		}
	}
	return p, nil, false
}

// tscSeverity reads "error TS2322: message".
func tscSeverity(t []byte) (sev problem.Severity, code, message string, ok bool) {
	rest, found := cutPrefix(t, "error TS")
	if !found {
		if rest, found = cutPrefix(t, "warning TS"); found {
			sev = problem.Warning
		} else if rest, found = cutPrefix(t, "message TS"); found {
			sev = problem.Note
		} else {
			return 0, "", "", false
		}
	}
	_, n := number(rest)
	text, found := cutPrefix(rest[n:], ": ")
	if n == 0 || !found {
		return 0, "", "", false
	}
	return sev, "TS" + string(rest[:n]), string(text), true
}
