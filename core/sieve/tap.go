package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// tapScanner reads the Test Anything Protocol, versions 13 and 14: failed tests
// and the YAML block behind each.
type tapScanner struct {
	self   int
	indent int  // of the failed test
	block  bool // inside of its YAML block
	in     int  // indent of the block
	key    string
	fold   int // indent of a text over several lines; 0 for none
	// failed is the test that Perl's Test::More says more of in comments, told
	// the ones of which it did.
	failed    string
	commented bool
	told      map[string]bool
}

func (s *tapScanner) flush(*Engine, bool) {}

func (s *tapScanner) scan(l *line, e *Engine) bool {
	in := l.indent()
	t := l.text[in:]
	if hasPrefix(t, "#") && s.comment(l, string(t), e) {
		return true
	}
	if e.owner == s.self && e.open {
		if !s.block && string(t) == "---" && in > s.indent {
			s.block, s.in, s.key, s.fold = true, in, "", 0
			return true
		}
		if s.block {
			if string(t) == "..." && in == s.in {
				s.block = false
				e.extend(l)
				e.finish()
				return true
			}
			if in >= s.in || len(t) == 0 {
				s.value(in, string(t), e)
				return true
			}
			s.block = false
		}
		e.finish()
	}
	if hasPrefix(t, "Bail out!") && in == 0 {
		e.begin(l, s.self, problem.Problem{Message: strings.TrimSpace("bailed out: " + string(t[9:]))})
		e.finish()
		return true
	}
	rest, ok := cutPrefix(t, "not ok")
	if !ok || len(rest) > 0 && rest[0] != ' ' {
		return false
	}
	name := strings.TrimSpace(string(rest))
	if _, n := number([]byte(name)); n > 0 {
		name = strings.TrimSpace(name[n:])
	} else if name == "" {
		return false
	}
	name = strings.TrimSpace(strings.TrimPrefix(name, "- "))
	if i := strings.LastIndex(name, " # "); i >= 0 || strings.HasPrefix(name, "# ") {
		word := strings.ToLower(name[max(0, i):])
		if strings.Contains(word, "# todo") || strings.Contains(word, "# skip") {
			return true
		}
		if i >= 0 {
			name = strings.TrimSpace(name[:i])
		}
	}
	if name == "" {
		name = "a test without a name"
	}
	if s.told[name] { // in comments that came first, on standard error
		delete(s.told, name)
		return true
	}
	s.indent, s.block, s.commented = in, false, false
	e.begin(l, s.self, problem.Problem{Code: strings.ReplaceAll(name, `\#`, "#"), Message: "failed"})
	return true
}

// comment reads what Test::More says of a test that failed (Test::More(3pm),
// "Diagnostics"):
//
//	#   Failed test 'heat'
//	#   at t/a.t line 3.
//	#          got: '2'
func (s *tapScanner) comment(l *line, t string, e *Engine) bool {
	text := strings.TrimSpace(strings.TrimPrefix(t, "#"))
	if name, ok := strings.CutPrefix(text, "Failed test "); ok {
		s.failed, s.commented = strings.Trim(name, "'"), false
		return true
	}
	place, at := strings.CutPrefix(text, "at ")
	if file, rest, ok := strings.Cut(place, " line "); at && ok && s.failed != "" {
		line, n := number([]byte(rest))
		if n == 0 {
			return false
		}
		if !(e.owner == s.self && e.open && e.current.Code == s.failed) {
			e.begin(l, s.self, problem.Problem{Code: s.failed, Message: "failed"})
			if s.told == nil {
				s.told = map[string]bool{}
			}
			if len(s.told) < maxParts {
				s.told[s.failed] = true
			}
		}
		e.current.File, e.current.Line = e.place(file), line
		s.failed, s.commented = "", true
		return true
	}
	if !s.commented || e.owner != s.self || !e.open || text == "" || strings.HasPrefix(text, "Looks like ") {
		return false
	}
	if e.current.Message == "failed" {
		e.current.Message = text
	} else if strings.Count(e.current.Message, "\n") < maxParts {
		e.current.Message += "\n" + text
	}
	return true
}

// value takes a line of the YAML block.
func (s *tapScanner) value(in int, t string, e *Engine) {
	p := &e.current
	if s.fold > 0 {
		if in > s.fold || t == "" {
			s.text(t, e)
			return
		}
		s.fold = 0
	}
	key, value, ok := strings.Cut(t, ":")
	if !ok {
		s.frame(t, e)
		return
	}
	key = strings.Trim(strings.TrimPrefix(key, "- "), `"'`)
	value = strings.TrimSpace(value)
	if value == "|-" || value == "|" || value == ">" || value == ">-" {
		s.key, s.fold = key, in
		if key == "message" || key == "error" {
			p.Message = "failed"
		}
		return
	}
	value = unquoteYAML(value)
	if value == "" {
		return
	}
	switch strings.ToLower(key) {
	case "message", "error":
		p.Message = value
	case "severity":
		if value == "comment" || value == "todo" {
			p.Severity = problem.Note
		}
	case "file", "filename":
		p.File = e.place(strings.TrimPrefix(value, "file://"))
	case "line", "linenumber":
		if n, k := number([]byte(value)); k == len(value) {
			p.Line = n
		}
	case "column", "columnnumber":
		if n, k := number([]byte(value)); k == len(value) {
			p.Column = n
		}
	case "location", "at":
		if place, ok := placeAtEnd([]byte(strings.Trim(value, "()"))); ok && p.File == "" {
			p.Place = place
			p.File = e.place(strings.TrimPrefix(place.File, "file://"))
		}
	default:
		if in > s.in {
			s.frame(t, e)
		}
	}
}

// text takes a line of a text over several lines.
func (s *tapScanner) text(t string, e *Engine) {
	p := &e.current
	switch s.key {
	case "message", "error":
		t = strings.TrimSpace(t)
		switch {
		case t == "" || len(p.Message) > MaxLine:
		case p.Message == "failed":
			p.Message = t
		default:
			p.Message += "\n" + t
		}
	default:
		s.frame(t, e)
	}
}

// frame takes the place of a stack's first frame that is the user's own.
func (s *tapScanner) frame(t string, e *Engine) {
	p := &e.current
	if p.File != "" && p.Line > 0 {
		return
	}
	if i := strings.LastIndexByte(t, '('); i >= 0 {
		t = t[i+1:]
	}
	t = strings.TrimPrefix(strings.TrimSpace(strings.TrimRight(t, ") ")), "at ")
	if nodeLibrary(t) {
		return
	}
	if place, ok := placeAtEnd([]byte(t)); ok && bytes.ContainsAny([]byte(place.File), "./") {
		p.Place = place
		p.File = e.place(strings.TrimPrefix(place.File, "file://"))
	}
}

// unquoteYAML takes the quotes off a scalar.
func unquoteYAML(s string) string {
	if n := len(s); n >= 2 && s[0] == s[n-1] && (s[0] == '\'' || s[0] == '"') {
		inner := s[1 : n-1]
		if s[0] == '\'' {
			return strings.ReplaceAll(inner, "''", "'")
		}
		return strings.NewReplacer(`\"`, `"`, `\\`, `\`, `\n`, " ").Replace(inner)
	}
	return s
}
