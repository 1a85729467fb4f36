package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// scriptScanner reads what the interpreters of scripts say: shells, perl, php,
// ruby and lua.
type scriptScanner struct{ self int }

func (s *scriptScanner) flush(*Engine, bool) {}

func (s *scriptScanner) scan(l *line, e *Engine) bool {
	t := l.text
	p, ok := s.says(l)
	if !ok {
		if e.owner == s.self && e.open {
			if rest, from := cutPrefix(bytes.TrimLeft(t, " \t"), "from "); from {
				rest, _, _ = bytes.Cut(rest, []byte(":in "))
				if place, good := placeAtEnd(rest); good {
					place.File = e.place(place.File)
					e.relate(problem.Related{Place: place, Message: "called from here"})
				}
				return true
			}
			e.finish()
		}
		return false
	}
	p.File = e.place(p.File)
	e.begin(l, s.self, p)
	return true
}

// says asks the interpreters whose words the line can be: each is told by a
// piece of text that is cheap to look for.
func (s *scriptScanner) says(l *line) (p problem.Problem, ok bool) {
	t := l.text
	numbered := bytes.Contains(t, []byte(" line "))
	if numbered {
		if p, ok = perlSays(t); ok {
			return p, true
		}
	}
	if p, ok = rubySays(t); ok {
		return p, true
	}
	if numbered || hasAnyPrefix(t, "PHP ", "Fatal error:") {
		if p, ok = phpSays(t); ok {
			return p, true
		}
	}
	if p, ok = shellSays(t); ok {
		return p, true
	}
	if hasPrefix(t, "lua") {
		return luaSays(t)
	}
	return p, false
}

var perlWarnings = []string{"Use of uninitialized value", "Useless use of", "Possible ", "Odd number of elements", "Argument \"", "Name \"",
	"Subroutine ", "Unquoted string", "Scalar value ", "Deep recursion", "Found = in conditional", "Statement unlikely to be reached"}

// perlSays reads "message at m.pl line 2." and "…, near "x"" forms.
func perlSays(t []byte) (p problem.Problem, ok bool) {
	i := bytes.LastIndex(t, []byte(" line "))
	if i < 4 {
		return p, false
	}
	n, length := number(t[i+6:])
	j := bytes.LastIndex(t[:i], []byte(" at "))
	if length == 0 || j < 1 {
		return p, false
	}
	rest := t[i+6+length:]
	if !(len(rest) > 0 && (rest[0] == '.' || hasPrefix(rest, ", near ") || hasPrefix(rest, ", <"))) {
		return p, false
	}
	file := string(t[j+4 : i])
	if !plausibleFile(file) || strings.Contains(file, " ") || !strings.Contains(file, ".p") && !strings.Contains(file, "/") && !strings.HasSuffix(file, ".t") {
		return p, false
	}
	message := string(t[:j])
	if k := strings.Index(message, " in @INC ("); k > 0 {
		message = message[:k+8]
	}
	p = problem.Problem{Place: problem.Place{File: file, Line: n}, Message: message}
	if hasAnyPrefix(t, perlWarnings...) { // perldiag(1), severity W
		p.Severity = problem.Warning
	}
	return p, !strings.HasPrefix(message, "BEGIN failed") && !strings.HasPrefix(message, "Compilation failed")
}

// rubySays reads "conf.rb:7:in `parse': message (ArgumentError)" and
// "a.rb:3: syntax error, …".
func rubySays(t []byte) (p problem.Problem, ok bool) {
	i := bytes.Index(t, []byte(".rb:"))
	if i < 1 {
		return p, false
	}
	n, length := number(t[i+4:])
	rest := t[i+4+length:]
	p.Place = problem.Place{File: string(t[:i+3]), Line: n}
	if length == 0 || !plausibleFile(p.File) || t[0] == ' ' || t[0] == '\t' {
		return p, false
	}
	if body, in := cutPrefix(rest, ":in "); in {
		j := bytes.Index(body, []byte("': "))
		if j < 0 {
			return p, false
		}
		p.Message = string(body[j+3:])
		return p, true
	}
	body, found := cutPrefix(rest, ": ")
	if !found {
		return p, false
	}
	p.Message = string(body)
	if w, warned := strings.CutPrefix(p.Message, "warning: "); warned {
		p.Severity, p.Message = problem.Warning, w
		return p, true
	}
	return p, strings.HasPrefix(p.Message, "syntax error") || strings.HasSuffix(p.Message, "Error)")
}

// phpSays reads "PHP Parse error:  message in a.php on line 3".
func phpSays(t []byte) (p problem.Problem, ok bool) {
	i := bytes.LastIndex(t, []byte(" on line "))
	if i < 1 {
		return phpUncaught(t)
	}
	n, length := number(t[i+9:])
	j := bytes.LastIndex(t[:i], []byte(" in "))
	if length == 0 || j < 1 || len(bytes.TrimSpace(t[i+9+length:])) > 0 {
		return p, false
	}
	p.Place = problem.Place{File: string(t[j+4 : i]), Line: n}
	body := bytes.TrimPrefix(t[:j], []byte("PHP "))
	kind, message, found := strings.Cut(string(body), ":")
	switch kind {
	case "Parse error", "Fatal error", "Recoverable fatal error":
	case "Warning", "Deprecated":
		p.Severity = problem.Warning
	case "Notice":
		p.Severity = problem.Note
	default:
		return p, false
	}
	p.Message = strings.TrimSpace(message)
	return p, found && plausibleFile(p.File)
}

// phpUncaught reads "PHP Fatal error:  Uncaught Exception: message in a.php:3".
func phpUncaught(t []byte) (p problem.Problem, ok bool) {
	body, found := cutPrefix(bytes.TrimPrefix(t, []byte("PHP ")), "Fatal error:")
	i := bytes.LastIndex(body, []byte(" in "))
	if !found || i < 1 {
		return p, false
	}
	p.Place, ok = placeAtEnd(body[i+4:])
	p.Message = strings.TrimSpace(string(body[:i]))
	return p, ok
}

// shellSays reads bash's "file: line 3: message" and dash's "file: 3: message".
func shellSays(t []byte) (p problem.Problem, ok bool) {
	i := bytes.Index(t, []byte(": "))
	if i < 1 {
		return p, false
	}
	rest := t[i+2:]
	p.File = strings.TrimRight(string(t[:i]), " \u00a0")
	body, bash := rest, false
	for _, word := range shellLine {
		if body, bash = cutPrefix(rest, word); bash {
			break
		}
	}
	body = trimLeft(body)
	n, length := number(body)
	message, found := body[length:], false
	for _, behind := range [...]string{": ", " : ", "\u00a0: ", " 行: ", " 行：", " 列："} {
		if message, found = cutPrefix(body[length:], behind); found {
			bash = bash || strings.ContainsAny(behind, "行列")
			break
		}
	}
	if length == 0 || !found || !plausibleFile(p.File) || strings.Contains(p.File, ": ") {
		return p, false
	}
	p.Line, p.Message = n, string(message)
	shell := strings.HasSuffix(p.File, ".sh") || strings.HasSuffix(p.File, ".bash") || strings.Contains(p.File, "/")
	if bash {
		return p, (shell || p.File == "bash" || p.File == "sh") && p.File != "bash" && p.File != "sh" && !strings.Contains(p.File, " line ")
	}
	return p, shell && (strings.HasSuffix(p.Message, ": not found") || strings.Contains(p.Message, "Syntax error: ") || strings.HasSuffix(p.Message, "parameter not set") || strings.HasSuffix(p.Message, "Permission denied"))
}

// luaSays reads "lua: main.lua:3: message".
func luaSays(t []byte) (p problem.Problem, ok bool) {
	body := t
	for _, lead := range [...]string{"lua: ", "luac: ", "luajit: ", "lua5.4: ", "lua5.3: "} {
		body = bytes.TrimPrefix(body, []byte(lead))
	}
	i := bytes.Index(body, []byte(".lua:"))
	if i < 1 || len(body) == len(t) {
		return p, false
	}
	n, length := number(body[i+5:])
	message, found := cutPrefix(body[i+5+length:], ": ")
	p = problem.Problem{Place: problem.Place{File: string(body[:i+4]), Line: n}, Message: string(message)}
	return p, length > 0 && found && plausibleFile(p.File)
}
