package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// blocksScanner reads checkers that print a file's name and, indented below
// it, a line for each problem: eslint, stylelint and their kin.
type blocksScanner struct {
	self int
	file string
}

func (s *blocksScanner) flush(*Engine, bool) {}

func (s *blocksScanner) scan(l *line, e *Engine) bool {
	in := l.indent()
	if in < 1 || in > 12 {
		return false
	}
	t := l.text[in:]
	lineNumber, n := number(t)
	if n == 0 || n >= len(t) || t[n] != ':' {
		return false
	}
	column, m := number(t[n+1:])
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
		if body, ok := cutPrefix(rest, w.word); ok {
			p.Severity, rest, found = w.sev, bytes.TrimSpace(body), true
			break
		}
	}
	if !found || !s.inBlock(e) {
		return false
	}
	p.Message = string(rest)
	// The rule stands behind at least two spaces.
	if i := strings.LastIndex(p.Message, "  "); i > 0 {
		if rule := p.Message[i+2:]; !strings.ContainsAny(rule, " ") {
			p.Message, p.Code = strings.TrimRight(p.Message[:i], " "), strings.Trim(rule, "()")
		}
	}
	p.File = e.place(s.file)
	e.begin(l, s.self, p)
	e.finish()
	return true
}

// inBlock tells whether the last line that was not indented names a file.
func (s *blocksScanner) inBlock(e *Engine) bool {
	name := string(bytes.TrimSpace(e.heading.get()))
	if name == s.file && name != "" {
		return true
	}
	if !plausibleFile(name) || !strings.ContainsAny(name, "/.\\") || strings.HasSuffix(name, ".") || strings.HasSuffix(name, ":") || strings.Contains(name, "  ") {
		return false
	}
	if i := strings.LastIndexByte(name, '.'); i < 0 || strings.ContainsAny(name[i:], " /\\") {
		return false
	}
	s.file = name
	return true
}
