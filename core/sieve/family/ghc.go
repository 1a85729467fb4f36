package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var ghcFamily = sieve.Family{
	Name:    "ghc",
	Lenient: true,
	Columns: problem.Tabbed,
	Endings: oneOf("hs|lhs"),
	New:     func() sieve.Scanner { return &ghcScanner{} },
}

// ghcScanner reads the Haskell compiler: a place with a severity, and the
// message on the indented lines below.
type ghcScanner struct {
	ends bool
}

func (s *ghcScanner) Flush(*sieve.Reporter, bool) {}

func (s *ghcScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := bytes.TrimRight(l.Text, " ")
	if i := bytes.Index(t, []byte("hs:")); i > 0 && t[0] != ' ' && (t[i-1] == '.' || t[i-1] == 'l') {
		if at, sev, ok := severityMark(t); ok && sev.severity != problem.Note {
			if place, good := haskellPlace(t[:at]); good {
				code, text := leadingCodes(strings.TrimSpace(string(t[at+sev.length:])))
				place.File = rep.Place(place.File)
				rep.Begin(l, problem.Problem{Place: place, Severity: sev.severity, Code: code, Message: text})
				s.ends = false
				return true
			}
		}
	}
	if rep.Current() == nil {
		return false
	}
	body := bytes.TrimSpace(t)
	switch {
	case len(body) == 0:
		rep.Finish()
		return true
	case body[0] == '|' || lex.IsDigit(body[0]) && bytes.Contains(body, []byte(" |")):
		s.ends = true
		if gutter(t) {
			showGutter(t, rep, false)
		}
		return true
	case l.Indent() >= 2 && !s.ends:
		if rep.Current().Message != "" {
			rep.Current().Message += "\n"
		}
		rep.Current().Message += string(body)
		return true
	}
	rep.Finish()
	return false
}

// leadingCodes cuts "[GHC-83865] [-Wunused-matches] " off the front of a text. It
// returns the last code, the option, which says most.
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
		line, n := lex.Number(rest)
		if n == 0 || n >= len(rest) || rest[n] != ',' {
			return p, false
		}
		column, m := lex.Number(rest[n+1:])
		after, found := lex.CutPrefix(rest[n+1+m:], ")-(")
		endLine, k := lex.Number(after)
		if m == 0 || !found || k == 0 || k >= len(after) || after[k] != ',' {
			return p, false
		}
		endColumn, q := lex.Number(after[k+1:])
		return problem.Place{File: string(t[:i]), Line: line, Column: column, EndLine: endLine, EndColumn: endColumn + 1}, q > 0
	}
	return lex.PlaceAtEnd(t)
}
