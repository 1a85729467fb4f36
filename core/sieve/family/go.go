package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var goFamily = sieve.Family{
	Name:    "go",
	Lenient: true,
	Columns: problem.Bytes,
	Leads:   oneOf("# |vet: "),
	Endings: oneOf("go|s|mod|work"),
	New:     func() sieve.Scanner { return &goScanner{} },
}

// goScanner reads what go build, go vet, gopls check and the linters that
// print like them say: file.go:line:column: message, with lines behind a tab
// that continue the message or name another place.
type goScanner struct {
	// headed: a package header was seen.
	headed bool
}

func (g *goScanner) Flush(*sieve.Reporter, bool) {}

func (g *goScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if rep.Claimed() && (len(t) == 0 || t[0] != '\t') {
		rep.Finish() // what is indented further down belongs to something else
	}
	if len(t) == 0 {
		return false
	}
	if rest, ok := lex.CutPrefix(t, "# "); ok && !hasAnyPrefix(t, commentedHeads...) {
		if bytes.IndexByte(rest, ' ') >= 0 && !bytes.HasSuffix(rest, []byte(".test]")) {
			return false
		}
		g.headed = true
		return true
	}
	if t[0] == '\t' && rep.Current() != nil {
		return g.more(bytes.TrimSpace(t), rep)
	}
	// A finding of vet is an error like the compiler's: the command fails.
	t, _ = lex.CutPrefix(t, "vet: ")
	place, message, ok := goPlace(t)
	if !ok || !g.believable(place, message) {
		return false
	}
	if _, _, marked := severityMark(l.Text); marked {
		return false // the C compiler speaks of a cgo file
	}
	place.File = rep.Place(place.File)
	p := problem.Problem{Place: place}
	p.Message, p.Code = checkCode(string(message))
	rep.Begin(l, p)
	return true
}

// more reads a line behind a tab.
func (g *goScanner) more(t []byte, rep *sieve.Reporter) bool {
	if len(t) == 0 {
		return false
	}
	if place, message, ok := goPlace(t); ok {
		place.File = rep.Place(place.File)
		rep.Relate(problem.Related{Place: place, Message: string(message)})
		return true
	}
	rep.AppendLine(string(t))
	return true
}

// believable reports whether a line is the compiler's rather than a program's log. A
// line without a column is, if the compiler was announced, or if only the compiler
// has these words.
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
		n, length := lex.Number(t[i+1:])
		if length == 0 {
			continue
		}
		p.File, p.Line = string(t[:i]), n
		rest := t[i+1+length:]
		if len(rest) > 1 && rest[0] == ':' {
			if c, k := lex.Number(rest[1:]); k > 0 {
				p.Column, rest = c, rest[1+k:]
			}
		}
		message, found := lex.CutPrefix(rest, ": ")
		if !found || !goFile(p.File) || !lex.PlausibleFile(p.File) {
			return p, nil, false
		}
		return p, trimLeft(message), true
	}
	return p, nil, false
}

func goFile(f string) bool {
	return strings.HasSuffix(f, ".go") || strings.HasSuffix(f, ".s") && strings.Contains(f, "/") || strings.HasSuffix(f, "go.mod") || strings.HasSuffix(f, "go.work")
}

// checkCode cuts the code of a check such as (SA4006) off the end of a message.
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
	if _, n := lex.Number([]byte(c[letters:])); letters == 0 || letters > 3 || n != 4 || letters+n != len(c) {
		return message, ""
	}
	return message[:i], c
}
