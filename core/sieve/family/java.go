package family

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var javaFamily = sieve.Family{
	Name:    "java",
	Lenient: true,
	Columns: problem.UTF16,
	Leads:   oneOf("[ERROR] |[WARNING] |e: |w: "),
	Endings: oneOf("java"),
	New:     func() sieve.Scanner { return &javaScanner{} },
}

// javaScanner reads javac (alone, and as maven and gradle wrap it) and kotlinc
// under gradle.
type javaScanner struct {
	held [][]byte
	// detail: the caret was seen, so indented lines are details.
	detail bool
	maven  bool
}

func (s *javaScanner) Flush(*sieve.Reporter, bool) {}

func (s *javaScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if len(t) > 0 && t[0] == '[' {
		return s.wrapped(l, rep)
	}
	if p, ok := gradleKotlin(t); ok {
		p.File = rep.Place(p.File)
		rep.Begin(l, p)
		rep.Finish()
		return true
	}
	if p, ok := javacLine(t); ok {
		p.File = rep.Place(p.File)
		rep.Begin(l, p)
		s.held, s.detail, s.maven = s.held[:0], false, false
		return true
	}
	if rep.Current() == nil {
		return false
	}
	if s.maven { // maven prints the details twice, once without the bracket
		if l.Indent() < 2 || strings.Count(rep.Current().Message, "\n") > sieve.MaxParts {
			rep.Finish()
			return false
		}
		rep.AppendLine(string(bytes.TrimSpace(t)))
		return true
	}
	return s.more(l, rep)
}

// more reads the lines behind a diagnostic: the rest of the message, the source
// line, the caret that gives the column, and details.
func (s *javaScanner) more(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if s.detail {
		if l.Indent() >= 2 && len(bytes.TrimSpace(t)) > 0 {
			rep.AppendLine(string(bytes.TrimSpace(t)))
			return true
		}
		rep.Finish()
		return false
	}
	if mark := bytes.TrimLeft(t, " \t"); string(mark) == "^" {
		if n := len(s.held); n > 0 {
			rep.Current().Column = utf8.RuneCount(t[:len(t)-1]) + 1
			for _, h := range s.held[:n-1] {
				rep.AppendLine(string(bytes.TrimSpace(h)))
			}
		}
		s.held, s.detail = s.held[:0], true
		return true
	}
	if len(s.held) > 12 {
		rep.Finish()
		return false
	}
	s.held = append(s.held, bytes.Clone(t))
	return true
}

// javacLine reads "src/Order.java:8: error: message" and
// "…: warning: [rawtypes] message".
func javacLine(t []byte) (p problem.Problem, ok bool) {
	i := bytes.Index(t, []byte(".java:"))
	if i < 1 {
		return p, false
	}
	n, length := lex.Number(t[i+6:])
	rest := t[i+6+length:]
	if length == 0 {
		return p, false
	}
	switch {
	case lex.HasPrefix(rest, ": error: "):
		p.Message = string(rest[9:])
	case lex.HasPrefix(rest, ": warning: "):
		p.Severity, p.Message = problem.Warning, string(rest[11:])
	case lex.HasPrefix(rest, ": "):
		severity, n, spoken := spokenSeverity(rest[2:])
		if !spoken || severity == problem.Note {
			return p, false
		}
		p.Severity, p.Message = severity, string(bytes.TrimLeft(rest[2+n:], " "))
	default:
		return p, false
	}
	file := t[:i+5]
	if lex.HasPrefix(file, "> Task :") { // gradle writes no line end behind it
		if k := bytes.IndexByte(file, '/'); k > 0 {
			file = file[k:]
		}
	}
	p.File, p.Line = string(file), n
	p.Message, p.Code = leadingCode(p.Message)
	return p, lex.PlausibleFile(p.File)
}

// leadingCode cuts "[rawtypes] " off the front of a message.
func leadingCode(message string) (text, code string) {
	if strings.HasPrefix(message, "[") {
		if i := strings.Index(message, "] "); i > 1 && !strings.Contains(message[:i], " ") {
			return message[i+2:], message[1:i]
		}
	}
	return message, ""
}

// wrapped reads maven's "[ERROR] /src/App.java:[10,5] message".
func (s *javaScanner) wrapped(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	p := problem.Problem{}
	rest, ok := lex.CutPrefix(t, "[ERROR] ")
	if !ok {
		if rest, ok = lex.CutPrefix(t, "[WARNING] "); !ok {
			return false
		}
		p.Severity = problem.Warning
	}
	i := bytes.Index(rest, []byte(":["))
	if i < 1 {
		if rep.Current() != nil && s.maven && lex.HasPrefix(rest, "  ") {
			rep.AppendLine(string(bytes.TrimSpace(rest)))
			return true
		}
		return false
	}
	j := bytes.IndexByte(rest[i:], ']')
	if j < 0 {
		return false
	}
	line, n := lex.Number(rest[i+2:])
	if n == 0 {
		return false
	}
	p.Line = line
	if after := rest[i+2+n:]; len(after) > 0 && after[0] == ',' {
		p.Column, _ = lex.Number(after[1:])
	}
	p.File = rep.Place(strings.TrimPrefix(string(rest[:i]), "file://"))
	p.Message, p.Code = leadingCode(strings.TrimPrefix(strings.TrimSpace(string(rest[i+j+1:])), "error: "))
	rep.Begin(l, p)
	s.maven = true
	return true
}

// gradleKotlin reads "e: file:///src/App.kt:3:5 message" and the older
// "e: /src/App.kt: (3, 5): message".
func gradleKotlin(t []byte) (p problem.Problem, ok bool) {
	rest, found := lex.CutPrefix(t, "e: ")
	if !found {
		if rest, found = lex.CutPrefix(t, "w: "); !found {
			return p, false
		}
		p.Severity = problem.Warning
	}
	i := bytes.Index(rest, []byte(".kt"))
	if i < 1 {
		return p, false
	}
	end := i + 3
	if end < len(rest) && rest[end] == 's' {
		end++
	}
	p.File = string(rest[:end])
	rest = rest[end:]
	if body, old := lex.CutPrefix(rest, ": ("); old {
		line, n := lex.Number(body)
		after, comma := lex.CutPrefix(body[n:], ", ")
		column, m := lex.Number(after)
		message, closed := lex.CutPrefix(after[m:], "): ")
		p.Line, p.Column, p.Message = line, column, string(message)
		return p, n > 0 && comma && m > 0 && closed
	}
	if len(rest) == 0 || rest[0] != ':' {
		return p, false
	}
	line, n := lex.Number(rest[1:])
	if n == 0 || len(rest) <= 1+n || rest[1+n] != ':' {
		return p, false
	}
	column, m := lex.Number(rest[2+n:])
	p.Line, p.Column, p.Message = line, column, strings.TrimSpace(string(rest[2+n+m:]))
	return p, m > 0
}
