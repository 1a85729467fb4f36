package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var shellcheckFamily = sieve.Family{
	Name:    "shellcheck",
	Columns: problem.Tabbed,
	Leads:   oneOf("In "),
	New:     func() sieve.Scanner { return &shellcheckScanner{} },
}

// shellcheckScanner reads shellcheck's form for people: the file and line, the
// source, and under it a line for each problem with an arrow to its column.
type shellcheckScanner struct {
	file string
	line int
	text []byte // the line, as it was printed
	seen int
}

func (s *shellcheckScanner) Flush(*sieve.Reporter, bool) {}

func (s *shellcheckScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if rest, ok := lex.CutPrefix(t, "In "); ok {
		i := bytes.LastIndex(rest, []byte(" line "))
		if i < 1 || rest[len(rest)-1] != ':' {
			return false
		}
		n, length := lex.Number(rest[i+6:])
		if length == 0 || i+6+length+1 != len(rest) {
			return false
		}
		rep.Finish()
		s.file, s.line, s.seen = rep.Place(string(rest[:i])), n, 0
		rep.Claim()
		return true
	}
	if !rep.Claimed() {
		return false
	}
	if s.seen++; s.seen == 1 {
		s.text = bytes.Clone(t)
	}
	arrow := bytes.TrimLeft(t, " ")
	if s.seen > 1 && len(arrow) > 3 && arrow[0] == '^' {
		column := len(t) - len(arrow) + 1
		end := bytes.IndexByte(arrow, ' ')
		if end > 0 {
			if p, ok := shellcheckWords(arrow[end+1:]); ok {
				p.File, p.Line, p.Column = s.file, s.line, column
				if bytes.IndexByte(arrow[:end], '^') == 0 && arrow[end-1] == '^' && end > 1 {
					p.EndLine, p.EndColumn = s.line, column+end
				}
				rep.Begin(l, p)
				rep.ShowsSource(s.line, s.text, false)
				rep.Finish()
				rep.Claim()
				return true
			}
		}
	}
	if s.seen > 2 && len(arrow) == 0 || s.seen > 40 {
		rep.Release()
		return false
	}
	return true
}

// shellcheckWords reads "SC2095 (info): message".
func shellcheckWords(t []byte) (p problem.Problem, ok bool) {
	code, rest, found := strings.Cut(string(t), " (")
	word, message, closed := strings.Cut(rest, "): ")
	if !found || !closed || !strings.HasPrefix(code, "SC") {
		return p, false
	}
	p.Code, p.Message = code, message
	switch word {
	case "error":
	case "warning":
		p.Severity = problem.Warning
	default:
		p.Severity = problem.Note
	}
	return p, true
}
