package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var tscFamily = sieve.Family{
	Name:    "tsc",
	Columns: problem.UTF16,
	Traits:  sieve.FullStop,
	Leads:   oneOf("error TS|warning TS|message TS"),
	Behind:  oneOf("error TS|warning TS|message TS"),
	Endings: oneOf("ts|tsx|mts|cts|js|jsx|mjs|cjs|json|vue|svelte|astro"),
	New:     func() sieve.Scanner { return &tscScanner{} },
}

// tscScanner reads the TypeScript compiler: plain and pretty, once, watching
// and in build mode.
type tscScanner struct {
	// tail is the kind of the lines that follow.
	tail tscTail
}

type tscTail int

const (
	tscMessage tscTail = iota // indented lines go on with the message
	tscSource                 // pretty: source and marks, related places
	tscRelated                // pretty: the source of a related place
	tscNote                   // pretty: the message of a related place
)

func (s *tscScanner) Flush(*sieve.Reporter, bool) {}

func (s *tscScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if n := len(t); n > 0 && t[n-1] == '.' && s.watch(t, rep) {
		return true
	}
	if !rep.Claimed() && !l.MayPlace() && !l.Has("error") {
		return false // a clock, but no place
	}
	if place, rest, ok := tscPlace(t); ok {
		if sev, code, message, ok := tscSeverity(rest); ok {
			place.File = rep.Place(place.File)
			rep.Begin(l, problem.Problem{Place: place, Severity: sev, Code: code, Message: message})
			s.tail = tscMessage
			return true
		}
	}
	if sev, code, message, ok := tscSeverity(t); ok {
		rep.Begin(l, problem.Problem{Severity: sev, Code: code, Message: message})
		s.tail = tscMessage
		return true
	}
	if rep.Current() == nil {
		return false
	}
	return s.more(l, rep)
}

// watch reads the lines between the passes of a watching compiler.
func (s *tscScanner) watch(t []byte, rep *sieve.Reporter) bool {
	switch {
	case bytes.HasSuffix(t, []byte("Starting compilation in watch mode...")), bytes.HasSuffix(t, []byte("File change detected. Starting incremental compilation...")):
		rep.BeginCycle()
		return true
	case bytes.HasSuffix(t, []byte("Watching for file changes.")):
		rep.Finish()
		return true
	}
	return false
}

func (s *tscScanner) more(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	in := l.Indent()
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
			rep.Finish()
			return false
		}
		rep.AppendLine(string(bytes.TrimRight(t, " ")))
		return true
	case tscSource:
		if lex.HasPrefix(t, "Found ") {
			rep.Finish()
			return true
		}
		if in == 2 {
			if place, rest, ok := tscPlace(t[2:]); ok && len(bytes.TrimSpace(rest)) == 0 {
				s.relatedPlace(place, rep)
				return true
			}
		}
		if marks := bytes.Trim(t, " "); len(marks) > 0 && len(bytes.Trim(marks, "~")) == 0 {
			if c := rep.Current(); c.EndColumn == 0 && c.Column > 0 && c.EndLine == 0 {
				c.EndLine, c.EndColumn = c.Line, c.Column+len(marks)
			} else if c.EndColumn > 0 { // a second marked line: the range goes on
				c.EndLine, c.EndColumn = 0, 0
			}
			return true
		}
		if n, digits := lex.Number(t); digits > 0 {
			rep.ShowsSource(n, t[digits:], false)
			return true
		}
		if t[0] == '.' || in > 0 {
			return true // source text
		}
		rep.Finish()
		return false
	case tscRelated:
		if marks := bytes.Trim(t, " ~"); len(marks) == 0 {
			s.tail = tscNote
			return true
		}
		if in == 2 {
			if place, rest, ok := tscPlace(t[2:]); ok && len(bytes.TrimSpace(rest)) == 0 {
				s.relatedPlace(place, rep)
				return true
			}
		}
		return in >= 2
	default: // tscNote
		if in < 4 {
			s.tail = tscSource
			return s.more(l, rep)
		}
		if n := len(rep.Current().Related); n > 0 {
			r := &rep.Current().Related[n-1]
			r.Message = strings.TrimSpace(r.Message + "\n" + string(bytes.TrimSpace(t)))
		}
		return true
	}
}

func (s *tscScanner) relatedPlace(place problem.Place, rep *sieve.Reporter) {
	place.File = rep.Place(place.File)
	rep.Relate(problem.Related{Place: place})
	s.tail = tscRelated
}

// tscPlace reads file(line,column) with ": ", or file:line:column with " - ".
func tscPlace(t []byte) (p problem.Place, rest []byte, ok bool) {
	for i := 1; i < len(t); i++ {
		switch t[i] {
		case '(':
			line, n := lex.Number(t[i+1:])
			if n == 0 || i+1+n >= len(t) || t[i+1+n] != ',' {
				continue
			}
			column, m := lex.Number(t[i+2+n:])
			if rest, found := lex.CutPrefix(t[min(len(t), i+2+n+m):], "): "); m > 0 && found {
				p = problem.Place{File: string(t[:i]), Line: line, Column: column}
				return p, rest, lex.PlausibleFile(p.File)
			}
		case ':':
			line, n := lex.Number(t[i+1:])
			if n == 0 || i+1+n >= len(t) || t[i+1+n] != ':' {
				continue
			}
			column, m := lex.Number(t[i+2+n:])
			if m == 0 {
				continue
			}
			p = problem.Place{File: string(t[:i]), Line: line, Column: column}
			after := t[i+2+n+m:]
			if rest, found := lex.CutPrefix(after, " - "); found {
				return p, rest, lex.PlausibleFile(p.File)
			}
			return p, after, len(after) == 0 && lex.PlausibleFile(p.File)
		}
	}
	return p, nil, false
}

// tscSeverity reads "error TS2322: message".
func tscSeverity(t []byte) (sev problem.Severity, code, message string, ok bool) {
	rest, found := lex.CutPrefix(t, "error TS")
	if !found {
		if rest, found = lex.CutPrefix(t, "warning TS"); found {
			sev = problem.Warning
		} else if rest, found = lex.CutPrefix(t, "message TS"); found {
			sev = problem.Note
		} else {
			return 0, "", "", false
		}
	}
	_, n := lex.Number(rest)
	text, found := lex.CutPrefix(rest[n:], ": ")
	if n == 0 || !found {
		return 0, "", "", false
	}
	return sev, "TS" + string(rest[:n]), string(text), true
}
