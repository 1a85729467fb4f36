package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
	"tidytally/internal/lazyregexp"
)

var scriptFamily = sieve.Family{
	Name:    "script",
	Lenient: true,
	Traits:  sieve.NumberStop,
	Leads:   oneOf("PHP |Fatal error: |Parse error: |Next |Warning: |Notice: |Deprecated: |Recoverable fatal error: |syntax error at |Bareword found|String found|Number found|Scalar found|Array found|Operator found|lua"),
	Endings: oneOf("awk"),
	Behind:  append(oneOf("0|1|2|3|4|5|6|7|8|9"), shellLine...),
	New:     func() sieve.Scanner { return &scriptScanner{} },
}

// scriptScanner reads what the interpreters of scripts say: shells, perl, php
// and lua.
type scriptScanner struct {
	uncaught bool // an exception of PHP's; the one that it led to may follow
}

func (s *scriptScanner) Flush(*sieve.Reporter, bool) {}

func (s *scriptScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	p, ok := s.says(l)
	if !ok {
		if rep.Current() != nil {
			if next, thrown := lex.CutPrefix(t, "Next "); thrown && s.next(next, rep) {
				return true
			}
			if s.uncaught && (len(t) == 0 || hasAnyPrefix(t, "Stack trace:", "#")) { // an exception to which it led may follow
				if p, framed := phpFrame(string(t)); framed && !isLibrary(p.File) && isLibrary(rep.Current().File) {
					p.File = rep.Place(p.File)
					rep.Current().Place = p
				}
				return true
			}
			rep.Finish()
		}
		return false
	}
	s.uncaught = bytes.Contains(t, []byte("Uncaught "))
	for i := range p.Related {
		p.Related[i].File = rep.Place(p.Related[i].File)
	}
	p.File = rep.Place(p.File)
	rep.Begin(l, p)
	return true
}

// next makes the exception under construction the cause of another one: the last that
// PHP prints is the one that nobody caught.
func (s *scriptScanner) next(t []byte, rep *sieve.Reporter) bool {
	p, ok := phpThrown(t)
	if !ok {
		return false
	}
	p.File = rep.Place(p.File)
	c := rep.Current()
	if isLibrary(p.File) && !isLibrary(c.File) { // which wraps it
		return true
	}
	rep.Relate(problem.Related{Place: c.Place, Message: strings.TrimPrefix(c.Message, "Uncaught ")})
	c.Place, c.Message = p.Place, "Uncaught "+p.Message
	return true
}

// says reads the line with each interpreter's rules that can apply. A piece of text
// that is cheap to search for decides.
func (s *scriptScanner) says(l *sieve.Line) (p problem.Problem, ok bool) {
	t := l.Text
	numbered := bytes.Contains(t, []byte(" line "))
	if numbered {
		if p, ok = perlSays(t); ok {
			return p, true
		}
	}
	if p, ok = awkSays(t); ok {
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
	if lex.HasPrefix(t, "lua") {
		return luaSays(t)
	}
	return p, false
}

var perlWarnings = []string{
	"Use of uninitialized value", "Useless use of", "Possible ", "Odd number of elements", "Argument \"", "Name \"",
	"Subroutine ", "\"my\" variable ", "\"our\" variable ", "\"state\" variable ", "Applying pattern match", "Parentheses missing", "Redundant argument", "Missing argument", "Reversed ", "Smartmatch is ", "Unrecognized escape", "substr outside of string", "splice() offset", "isn't numeric", "Unquoted string", "Scalar value ", "Deep recursion", "Found = in conditional", "Statement unlikely to be reached",
}

// perlSays reads "message at m.pl line 2." and "…, near "x"" forms.
func perlSays(t []byte) (p problem.Problem, ok bool) {
	i := bytes.LastIndex(t, []byte(" line "))
	if i < 4 {
		return p, false
	}
	n, length := lex.Number(t[i+6:])
	j := bytes.LastIndex(t[:i], []byte(" at "))
	if length == 0 || j < 1 {
		return p, false
	}
	rest := t[i+6+length:]
	if !(len(rest) > 0 && (rest[0] == '.' || hasAnyPrefix(rest, ", near ", ", <", ", at EOF", ", at end of line"))) {
		return p, false
	}
	file := string(t[j+4 : i])
	if !lex.PlausibleFile(file) || strings.Contains(file, " ") || !strings.Contains(file, ".p") && !strings.Contains(file, "/") && !strings.HasSuffix(file, ".t") {
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

// phpSays reads "PHP Parse error:  message in a.php on line 3".
func phpSays(t []byte) (p problem.Problem, ok bool) {
	i := bytes.LastIndex(t, []byte(" on line "))
	if i < 1 {
		return phpUncaught(t)
	}
	n, length := lex.Number(t[i+9:])
	j := bytes.LastIndex(t[:i], []byte(" in "))
	if length == 0 || j < 1 || len(bytes.TrimSpace(t[i+9+length:])) > 0 {
		return phpUncaught(t)
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
	return p, found && lex.PlausibleFile(p.File)
}

// phpUncaught reads "PHP Fatal error:  Uncaught Exception: message in a.php:3".
func phpUncaught(t []byte) (p problem.Problem, ok bool) {
	body, found := lex.CutPrefix(bytes.TrimPrefix(t, []byte("PHP ")), "Fatal error:")
	if !found {
		return p, false
	}
	return phpThrown(body)
}

// phpThrown reads "Exception: message in a.php:3". The message may name the line of
// the call: "…, called in b.php on line 7 and defined in a.php:3".
func phpThrown(body []byte) (p problem.Problem, ok bool) {
	i := bytes.LastIndex(body, []byte(" in "))
	if i < 1 {
		return p, false
	}
	p.Place, ok = lex.PlaceAtEnd(body[i+4:])
	p.Message = strings.TrimSpace(string(body[:i]))
	if message, call, called := strings.Cut(p.Message, ", called in "); called {
		file, line, numbered := strings.Cut(strings.TrimSuffix(call, " and defined"), " on line ")
		if n, k := lex.Number([]byte(line)); numbered && k == len(line) && k > 0 {
			p.Message = message
			p.Related = []problem.Related{{Place: problem.Place{File: file, Line: n}, Message: "called from here"}}
		}
	}
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
		if body, bash = lex.CutPrefix(rest, word); bash {
			break
		}
	}
	body = trimLeft(body)
	n, length := lex.Number(body)
	message, found := body[length:], false
	for _, behind := range [...]string{": ", " : ", "\u00a0: ", " 行: ", " 行：", " 列："} {
		if message, found = lex.CutPrefix(body[length:], behind); found {
			bash = bash || strings.ContainsAny(behind, "行列")
			break
		}
	}
	if length == 0 || !found || !lex.PlausibleFile(p.File) || strings.Contains(p.File, ": ") {
		return p, false
	}
	p.Line, p.Message = n, string(message)
	shell := strings.HasSuffix(p.File, ".sh") || strings.HasSuffix(p.File, ".bash") || strings.Contains(p.File, "/")
	if bash {
		return p, (shell || p.File == "bash" || p.File == "sh") && p.File != "bash" && p.File != "sh" && !strings.Contains(p.File, " line ")
	}
	return p, shell && (strings.HasSuffix(p.Message, ": not found") || strings.Contains(p.Message, "Syntax error: ") || strings.HasSuffix(p.Message, "parameter not set") || strings.HasSuffix(p.Message, "Permission denied"))
}

// awkSays reads "mawk: a.awk: line 3: syntax error at or near }" and "gawk:
// a.awk:3:   ^ unexpected newline"; gawk prints the source in such a line above.
func awkSays(t []byte) (p problem.Problem, ok bool) {
	program, rest, found := strings.Cut(string(t), "awk: ")
	if !found || program != "g" && program != "m" && program != "" && program != "n" {
		return p, false
	}
	file, message, found := strings.Cut(rest, ": line ")
	if n, k := lex.Number([]byte(message)); found && k > 0 && strings.HasPrefix(message[k:], ": ") {
		return problem.Problem{Place: problem.Place{File: file, Line: n}, Message: message[k+2:]}, lex.PlausibleFile(file)
	}
	i := strings.Index(rest, ": ")
	if i < 1 {
		return p, false
	}
	p.Place, ok = lex.PlaceAtEnd([]byte(rest[:i]))
	p.Message = rest[i+2:]
	if mark, says, marked := strings.Cut(p.Message, "^ "); marked && strings.TrimSpace(mark) == "" {
		p.Message = says
	} else if fatal, dies := strings.CutPrefix(p.Message, "fatal: "); dies {
		p.Message = fatal
	} else if warns, warned := strings.CutPrefix(p.Message, "warning: "); warned {
		p.Severity, p.Message = problem.Warning, warns
	} else {
		return p, false
	}
	return p, ok && p.File != "cmd. line"
}

// luaPrograms matches the name of a program before its message.
var luaPrograms = lazyregexp.New(`^lua(?:c|jit)?[0-9.]*: `)

// luaSays reads "lua: main.lua:3: message".
func luaSays(t []byte) (p problem.Problem, ok bool) {
	lead := luaPrograms().FindIndex(t)
	if lead == nil {
		return p, false
	}
	body := t[lead[1]:]
	i := bytes.Index(body, []byte(".lua:"))
	if i < 1 {
		return p, false
	}
	n, length := lex.Number(body[i+5:])
	message, found := lex.CutPrefix(body[i+5+length:], ": ")
	p = problem.Problem{Place: problem.Place{File: string(body[:i+4]), Line: n}, Message: string(message)}
	return p, length > 0 && found && lex.PlausibleFile(p.File)
}
