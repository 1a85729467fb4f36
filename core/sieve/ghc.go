package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// ghcScanner reads the Haskell compiler: a place with a severity, and the
// message on the indented lines below.
type ghcScanner struct {
	self int
	ends bool
}

func (s *ghcScanner) flush(*Engine, bool) {}

func (s *ghcScanner) scan(l *line, e *Engine) bool {
	t := bytes.TrimRight(l.text, " ")
	if i := bytes.Index(t, []byte("hs:")); i > 0 && t[0] != ' ' && (t[i-1] == '.' || t[i-1] == 'l') {
		if at, sev, ok := severityMark(t); ok && sev.severity != problem.Note {
			if place, good := haskellPlace(t[:at]); good {
				code, text := leadingCodes(strings.TrimSpace(string(t[at+sev.length:])))
				place.File = e.place(place.File)
				e.begin(l, s.self, problem.Problem{Place: place, Severity: sev.severity, Code: code, Message: text})
				s.ends = false
				return true
			}
		}
	}
	if e.owner != s.self || !e.open {
		return false
	}
	body := bytes.TrimSpace(t)
	switch {
	case len(body) == 0:
		e.finish()
		return true
	case body[0] == '|' || isDigit(body[0]) && bytes.Contains(body, []byte(" |")):
		s.ends = true
		return true
	case l.indent() >= 2 && !s.ends && strings.Count(e.current.Message, "\n") < maxParts:
		if e.current.Message != "" {
			e.current.Message += "\n"
		}
		e.current.Message += string(body)
		return true
	}
	e.finish()
	return false
}

// leadingCodes cuts "[GHC-83865] [-Wunused-matches] " from the front of a text;
// the last one, the option, says most.
func leadingCodes(text string) (code, rest string) {
	for strings.HasPrefix(text, "[") {
		in, behind, ok := strings.Cut(text[1:], "]")
		if !ok || strings.Contains(in, " ") && !strings.HasPrefix(in, "-W") {
			break
		}
		code, text = cleanCode(strings.ReplaceAll(in, " ", "")), strings.TrimSpace(behind)
	}
	return code, text
}

// haskellPlace reads file:3:1, file:3:1-9 and file:(3,1)-(4,9).
func haskellPlace(t []byte) (p problem.Place, ok bool) {
	if i := bytes.Index(t, []byte(":(")); i > 0 {
		rest := t[i+2:]
		line, n := number(rest)
		if n == 0 || n >= len(rest) || rest[n] != ',' {
			return p, false
		}
		column, m := number(rest[n+1:])
		after, found := cutPrefix(rest[n+1+m:], ")-(")
		endLine, k := number(after)
		if m == 0 || !found || k == 0 || k >= len(after) || after[k] != ',' {
			return p, false
		}
		endColumn, q := number(after[k+1:])
		return problem.Place{File: string(t[:i]), Line: line, Column: column, EndLine: endLine, EndColumn: endColumn + 1}, q > 0
	}
	return placeAtEnd(t)
}
