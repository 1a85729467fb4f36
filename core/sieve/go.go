package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// goScanner reads what go build, go vet, gopls check and the linters that
// print like them say: file.go:line:column: message, with lines behind a tab
// that continue the message or name another place.
type goScanner struct {
	self int
	// headed says that a package header was seen.
	headed bool
}

func (g *goScanner) flush(*Engine, bool) {}

func (g *goScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if e.owner == g.self && (len(t) == 0 || t[0] != '\t') {
		e.finish() // what is indented further down says something else
	}
	if len(t) == 0 {
		return false
	}
	if rest, ok := cutPrefix(t, "# "); ok {
		if bytes.IndexByte(rest, ' ') >= 0 && !bytes.HasSuffix(rest, []byte(".test]")) {
			return false
		}
		g.headed = true
		return true
	}
	if t[0] == '\t' && e.owner == g.self && e.open {
		return g.more(bytes.TrimSpace(t), e)
	}
	// What vet finds is an error like the compiler's: the command fails on it.
	t, _ = cutPrefix(t, "vet: ")
	place, message, ok := goPlace(t)
	if !ok || !g.believable(place, message) {
		return false
	}
	if _, _, marked := severityMark(l.text); marked {
		return false // the C compiler speaks of a cgo file
	}
	place.File = e.place(place.File)
	p := problem.Problem{Place: place}
	p.Message, p.Code = checkCode(string(message))
	e.begin(l, g.self, p)
	return true
}

// more takes a line behind a tab.
func (g *goScanner) more(t []byte, e *Engine) bool {
	if len(t) == 0 {
		return false
	}
	if place, message, ok := goPlace(t); ok {
		place.File = e.place(place.File)
		e.relate(problem.Related{Place: place, Message: string(message)})
		return true
	}
	if strings.Count(e.current.Message, "\n") < maxParts {
		e.current.Message += "\n" + string(t)
	}
	return true
}

// believable tells the compiler's words from a program's log: those without a
// column are taken when the compiler was announced or says what only it says.
func (g *goScanner) believable(p problem.Place, message []byte) bool {
	if p.Column > 0 || g.headed || strings.HasPrefix(p.File, "./") || strings.HasSuffix(p.File, "go.mod") || strings.HasSuffix(p.File, "go.work") {
		return true
	}
	return hasAnyPrefix(message, "syntax error", "undefined: ", "cannot use ", "declared and not used", "invalid operation",
		"imported and not used", "missing return", "cannot find package", "unexpected ", "//line ", "misplaced ", "duplicate ",
		"invalid argument", "cannot ", "too many arguments", "not enough arguments", "assignment mismatch", "expected ")
}

// goPlace reads file.go:line:column: or file.go:line: at the start of a line.
func goPlace(t []byte) (p problem.Place, message []byte, ok bool) {
	for i := 1; i < len(t)-1; i++ {
		j := bytes.IndexByte(t[i:], ':')
		if j < 0 {
			return p, nil, false
		}
		i += j
		n, length := number(t[i+1:])
		if length == 0 {
			continue
		}
		p.File, p.Line = string(t[:i]), n
		rest := t[i+1+length:]
		if len(rest) > 1 && rest[0] == ':' {
			if c, k := number(rest[1:]); k > 0 {
				p.Column, rest = c, rest[1+k:]
			}
		}
		message, found := cutPrefix(rest, ": ")
		if !found || !goFile(p.File) || !plausibleFile(p.File) {
			return p, nil, false
		}
		return p, trimLeft(message), true
	}
	return p, nil, false
}

func goFile(f string) bool {
	return strings.HasSuffix(f, ".go") || strings.HasSuffix(f, ".s") && strings.Contains(f, "/") || strings.HasSuffix(f, "go.mod") || strings.HasSuffix(f, "go.work")
}

// checkCode cuts a check's code such as (SA4006) from the end of a message.
func checkCode(message string) (text, code string) {
	i := strings.LastIndex(message, " (")
	if i < 0 || !strings.HasSuffix(message, ")") {
		return message, ""
	}
	c := message[i+2 : len(message)-1]
	letters := 0
	for letters < len(c) && c[letters] >= 'A' && c[letters] <= 'Z' {
		letters++
	}
	if _, n := number([]byte(c[letters:])); letters == 0 || letters > 3 || n != 4 || letters+n != len(c) {
		return message, ""
	}
	return message[:i], c
}
