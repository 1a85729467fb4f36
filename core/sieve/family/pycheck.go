package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var pycheckFamily = sieve.Family{
	Name:    "pycheck",
	Endings: oneOf("py|pyi"),
	New:     func() sieve.Scanner { return &pycheckScanner{} },
}

// pycheckScanner reads the checkers of Python that put a code before the
// message: flake8, ruff, pycodestyle and pylint in their several forms.
type pycheckScanner struct{}

func (s *pycheckScanner) Flush(*sieve.Reporter, bool) {}

func (s *pycheckScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if arrow, ok := lex.CutPrefix(bytes.TrimLeft(t, " "), "--> "); ok && l.Indent() > 0 {
		return s.belowHeadline(l, arrow, rep)
	}
	i := bytes.Index(t, []byte(".py"))
	if i < 1 {
		return false
	}
	at := i + 3
	if at < len(t) && t[at] == 'i' { // a stub
		at++
	}
	if at >= len(t) || t[at] != ':' {
		return false
	}
	p := problem.Problem{Place: problem.Place{File: string(t[:at])}, Severity: problem.Warning}
	n, length := lex.Number(t[at+1:])
	if length == 0 || !lex.PlausibleFile(p.File) {
		return false
	}
	p.Line = n
	rest := t[at+1+length:]
	if len(rest) > 1 && rest[0] == ':' {
		if c, k := lex.Number(rest[1:]); k > 0 {
			p.Column, rest = c, rest[1+k:]
			if p.Column == 0 {
				p.Column = -1 // this tool counts from zero
			}
		}
	}
	rest, found := lex.CutPrefix(rest, ": ")
	if !found {
		return false
	}
	code, name, message, ok := checkerCode(rest)
	if !ok {
		return false
	}
	p.Code, p.Message = code, message
	if name || p.Column == -1 {
		// pylint counts columns from zero.
		if p.Column != 0 {
			p.Column = max(p.Column, 0) + 1
		}
		switch code[0] {
		case 'E', 'F':
			p.Severity = problem.Error
		case 'C', 'R', 'I':
			p.Severity = problem.Note
		}
	}
	p.File = rep.Place(p.File)
	rep.Begin(l, p)
	rep.Finish()
	return true
}

// belowHeadline reads ruff's full form, in which the place stands below the code and
// the message:
//
//	F401 [*] `os` imported but unused
//	 --> app/m.py:1:8
func (s *pycheckScanner) belowHeadline(l *sieve.Line, arrow []byte, rep *sieve.Reporter) bool {
	head := rep.MarginLine()
	p := problem.Problem{Severity: problem.Warning}
	var ok bool
	if message, invalid := lex.CutPrefix(head, "invalid-syntax: "); invalid {
		p.Severity, p.Code, p.Message, ok = problem.Error, "invalid-syntax", string(message), true
	} else {
		p.Code, _, p.Message, ok = checkerCode(head)
	}
	place, placed := lex.PlaceAtEnd(arrow)
	if !ok || !placed || rep.Busy() {
		return false
	}
	p.Place = place
	p.File = rep.Place(p.File)
	rep.Begin(l, p)
	rep.Finish()
	return true
}

// checkerCode reads "E302 message", "[F401] message", "C0103: message
// (invalid-name)" and "[C0103(invalid-name), object] message"; named says that
// it is pylint, which names its checks.
func checkerCode(t []byte) (code string, named bool, message string, ok bool) {
	body, bracket := lex.CutPrefix(t, "[")
	n := 0
	for n < len(body) && body[n] >= 'A' && body[n] <= 'Z' {
		n++
	}
	letters := n
	for n < len(body) && lex.IsDigit(body[n]) {
		n++
	}
	if letters == 0 || letters > 4 || n-letters < 2 || n-letters > 5 || n >= len(body) {
		return "", false, "", false
	}
	code = string(body[:n])
	rest := body[n:]
	switch {
	case bracket:
		i := bytes.Index(rest, []byte("] "))
		if i < 0 || rest[0] != ']' && rest[0] != '(' && rest[0] != ',' {
			return "", false, "", false
		}
		return code, rest[0] != ']', string(rest[i+2:]), true
	case rest[0] == ':':
		message = strings.TrimSpace(string(rest[1:]))
		named = letters == 1 && n == 5
		if i := strings.LastIndex(message, " ("); named && i > 0 && strings.HasSuffix(message, ")") && checkName(message[i+2:len(message)-1]) {
			message = message[:i]
		}
		return code, named, message, message != ""
	case rest[0] == ' ':
		message = strings.TrimPrefix(string(rest[1:]), "[*] ")
		return code, false, message, message != ""
	}
	return "", false, "", false
}

// checkName reports whether s is the name of one of pylint's checks: small letters,
// digits and hyphens.
func checkName(s string) bool {
	for i := 0; i < len(s); i++ {
		if c := s[i]; (c < 'a' || c > 'z') && c != '-' && !lex.IsDigit(c) {
			return false
		}
	}
	return s != ""
}
