package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var blocksFamily = sieve.Family{
	Name:    "blocks",
	Columns: problem.UTF16,
	Traits:  sieve.IndentPlace,
	New:     func() sieve.Scanner { return &blocksScanner{} },
}

// blocksScanner reads checkers that print a file's name and, indented below
// it, a line for each problem: eslint, stylelint and their kin.
type blocksScanner struct {
	file string
}

func (s *blocksScanner) Flush(*sieve.Reporter, bool) {}

func (s *blocksScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	in := l.Indent()
	if in < 1 || in > 12 {
		return false
	}
	t := l.Text[in:]
	lineNumber, n := lex.Number(t)
	if n == 0 || n >= len(t) || t[n] != ':' {
		return false
	}
	column, m := lex.Number(t[n+1:])
	rest := t[n+1+m:]
	if m == 0 || len(rest) < 3 || rest[0] != ' ' {
		return false
	}
	rest = bytes.TrimLeft(rest, " ")
	p := problem.Problem{Place: problem.Place{Line: lineNumber, Column: column}}
	found := false
	for _, w := range [...]struct {
		word string
		sev  problem.Severity
	}{{"error ", problem.Error}, {"warning ", problem.Warning}, {"✖ ", problem.Error}, {"⚠ ", problem.Warning}, {"× ", problem.Error}, {"info ", problem.Note}} {
		if body, ok := lex.CutPrefix(rest, w.word); ok {
			p.Severity, rest, found = w.sev, bytes.TrimSpace(body), true
			break
		}
	}
	if !found || !s.inBlock(rep) {
		return false
	}
	p.Message = string(rest)
	// The rule is separated by at least two blanks.
	if i := strings.LastIndex(p.Message, "  "); i > 0 {
		if rule := p.Message[i+2:]; !strings.ContainsAny(rule, " ") {
			p.Message, p.Code = strings.TrimRight(p.Message[:i], " "), strings.Trim(rule, "()")
		}
	}
	if p.Code == "" { // yamllint's errors of syntax
		if text, ok := strings.CutSuffix(p.Message, " (syntax)"); ok {
			p.Message, p.Code = text, "syntax"
		}
	}
	p.File = rep.Place(s.file)
	rep.Begin(l, p)
	rep.Finish()
	return true
}

// inBlock reports whether the last line at the margin names a file.
func (s *blocksScanner) inBlock(rep *sieve.Reporter) bool {
	name := string(bytes.TrimSpace(rep.MarginLine()))
	if name == s.file && name != "" {
		return true
	}
	if !lex.PlausibleFile(name) || !strings.ContainsAny(name, "/.\\") || strings.HasSuffix(name, ".") || strings.HasSuffix(name, ":") || strings.Contains(name, "  ") {
		return false
	}
	if i := strings.LastIndexByte(name, '.'); i < 0 || strings.ContainsAny(name[i:], " /\\") {
		return false
	}
	s.file = name
	return true
}
