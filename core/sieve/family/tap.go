package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var tapFamily = sieve.Family{
	Name:     "tap",
	Leads:    oneOf("not ok|Bail out!|#   Failed test|#   at "),
	Indented: oneOf("not ok"),
	New:      func() sieve.Scanner { return &tapScanner{} },
}

// tapScanner reads the Test Anything Protocol, versions 13 and 14: failed tests
// and the YAML block behind each.
type tapScanner struct {
	indent int  // of the failed test
	block  bool // inside of its YAML block
	in     int  // indent of the block
	key    string
	fold   int // indent of a text over several lines; 0 for none
	name   string
	rule   string // of the list that is read
	thrown bool   // the place is that of the stack
	// failed is the test about which Perl's Test::More prints comments; told are
	// those that are complete.
	failed    string
	commented bool
	told      map[string]bool
}

func (s *tapScanner) Flush(*sieve.Reporter, bool) {}

func (s *tapScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	in := l.Indent()
	t := l.Text[in:]
	if lex.HasPrefix(t, "#") && s.comment(l, string(t), rep) {
		return true
	}
	if rep.Current() != nil {
		if !s.block && string(t) == "---" && in >= s.indent {
			s.block, s.in, s.key, s.fold = true, in, "", 0
			return true
		}
		if s.block {
			if string(t) == "..." && in == s.in {
				s.block = false
				rep.Extend(l)
				s.finish(rep)
				return true
			}
			if in >= s.in || len(t) == 0 {
				s.value(l, in, string(t), rep)
				return true
			}
			s.block = false
		}
		s.finish(rep)
	}
	if lex.HasPrefix(t, "Bail out!") && in == 0 {
		rep.Begin(l, problem.Problem{Message: strings.TrimSpace("bailed out: " + string(t[9:]))})
		rep.Finish()
		return true
	}
	rest, ok := lex.CutPrefix(t, "not ok")
	if !ok || len(rest) > 0 && rest[0] != ' ' {
		return false
	}
	name := strings.TrimSpace(string(rest))
	if _, n := lex.Number([]byte(name)); n > 0 {
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
	s.indent, s.block, s.commented, s.thrown = in, false, false, false
	s.name, s.rule = name, ""
	name = strings.ReplaceAll(name, `\#`, "#")
	rep.Begin(l, problem.Problem{Code: name, Test: name, Message: "failed"})
	return true
}

// item begins the problem of another element of a list, or amends that of the test if
// it is the first.
func (s *tapScanner) item(l *sieve.Line, rep *sieve.Reporter) {
	if p := rep.Current(); p.Line > 0 {
		rep.Begin(l, problem.Problem{Code: s.rule, Message: "failed"})
	} else if s.rule != "" {
		p.Code = s.rule
	}
}

// finish ends the problem of a test, unless others say why it failed.
func (s *tapScanner) finish(rep *sieve.Reporter) {
	if saidBefore(rep.Current(), rep) {
		if _, ok := rep.Withdraw(); ok {
			return
		}
	}
	rep.Finish()
}

// comment reads what Test::More says of a test that failed (Test::More(3pm),
// "Diagnostics"):
//
//	#   Failed test 'heat'
//	#   at t/a.t line 3.
//	#          got: '2'
func (s *tapScanner) comment(l *sieve.Line, t string, rep *sieve.Reporter) bool {
	text := strings.TrimSpace(strings.TrimPrefix(t, "#"))
	if name, ok := strings.CutPrefix(text, "Failed test "); ok {
		s.failed, s.commented = strings.Trim(name, "'"), false
		return true
	}
	place, at := strings.CutPrefix(text, "at ")
	if file, rest, ok := strings.Cut(place, " line "); at && ok && s.failed != "" {
		line, n := lex.Number([]byte(rest))
		if n == 0 {
			return false
		}
		if !(rep.Current() != nil && rep.Current().Code == s.failed) {
			rep.Begin(l, problem.Problem{Code: s.failed, Message: "failed"})
			if s.told == nil {
				s.told = map[string]bool{}
			}
			if len(s.told) < sieve.MaxParts {
				s.told[s.failed] = true
			}
		}
		rep.Current().File, rep.Current().Line = rep.Place(file), line
		s.failed, s.commented = "", true
		return true
	}
	if !s.commented || rep.Current() == nil || text == "" || strings.HasPrefix(text, "Looks like ") {
		return false
	}
	if rep.Current().Message == "failed" {
		rep.Current().Message = text
	} else {
		rep.AppendLine(text)
	}
	return true
}

// value reads a line of the YAML block.
func (s *tapScanner) value(l *sieve.Line, in int, t string, rep *sieve.Reporter) {
	if strings.HasPrefix(t, "- message:") { // of a list, as checkers print it for a file
		s.item(l, rep)
	}
	p := rep.Current()
	if s.fold > 0 {
		if in > s.fold || t == "" {
			s.text(t, rep)
			return
		}
		s.fold = 0
	}
	key, value, ok := strings.Cut(t, ":")
	if !ok {
		s.frame(t, rep)
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
		if in == s.in { // stylelint's rule, above its list
			s.rule = key
		}
		return
	}
	switch strings.ToLower(key) {
	case "message", "error":
		p.Message = value
	case "severity":
		if value == "comment" || value == "todo" {
			p.Severity = problem.Note
		} else if value == "warning" {
			p.Severity = problem.Warning
		}
	case "ruleid":
		p.Code = value
		p.Message = strings.TrimSuffix(p.Message, " ("+value+")")
	case "file", "filename":
		p.File = rep.Place(strings.TrimPrefix(value, "file://"))
	case "line", "linenumber":
		if n, k := lex.Number([]byte(value)); k == len(value) {
			if p.Line = n; p.File == "" && strings.Contains(s.name, "/") && !strings.Contains(s.name, " ") {
				p.File = rep.Place(s.name) // a checker's tests are files
			}
		}
	case "endline", "endcolumn":
		if n, k := lex.Number([]byte(value)); k == len(value) {
			if strings.EqualFold(key, "endline") {
				p.EndLine = n
			} else {
				p.EndColumn = n
			}
		}
	case "column", "columnnumber":
		if n, k := lex.Number([]byte(value)); k == len(value) {
			p.Column = n
		}
	case "location", "at":
		if place, ok := lex.PlaceAtEnd([]byte(strings.Trim(value, "()"))); ok && p.File == "" {
			p.Place = place
			p.File = rep.Place(strings.TrimPrefix(place.File, "file://"))
		}
	default:
		if in > s.in {
			s.frame(t, rep)
		}
	}
}

// text reads a line of a text of several lines.
func (s *tapScanner) text(t string, rep *sieve.Reporter) {
	p := rep.Current()
	switch s.key {
	case "message", "error":
		t = strings.TrimSpace(t)
		switch {
		case t == "" || len(p.Message) > sieve.MaxLine:
		case p.Message == "failed":
			p.Message = t
		default:
			p.Message += "\n" + t
		}
	default:
		s.frame(t, rep)
	}
}

// frame reads the first place of a stack in the user's own code. The test's
// declaration, if it is elsewhere, becomes a related place.
func (s *tapScanner) frame(t string, rep *sieve.Reporter) {
	p := rep.Current()
	if s.thrown || p.File != "" && p.Line > 0 && strings.ToLower(s.key) != "stack" {
		return
	}
	if i := strings.LastIndexByte(t, '('); i >= 0 {
		t = t[i+1:]
	}
	t = strings.TrimPrefix(strings.TrimSpace(strings.TrimRight(t, ") ")), "at ")
	if nodeLibrary(t) {
		return
	}
	if place, ok := lex.PlaceAtEnd([]byte(t)); ok && bytes.ContainsAny([]byte(place.File), "./") {
		place.File = rep.Place(strings.TrimPrefix(place.File, "file://"))
		if s.thrown = strings.ToLower(s.key) == "stack"; s.thrown && p.File != "" && p.Line > 0 && p.Place != place {
			rep.Relate(problem.Related{Place: p.Place, Message: "the test is declared here"})
		}
		p.Place = place
	}
}

// unquoteYAML cuts the quotes off a scalar.
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
