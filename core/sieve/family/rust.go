package family

import (
	"bytes"
	"strings"

	"github.com/clipperhouse/displaywidth"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var rustFamily = sieve.Family{
	Name:    "rust",
	Lenient: true,
	Leads:   oneOf("error: |error[|warning: |warning[|thread '|note: test did not panic|Error: "),
	New:     func() sieve.Scanner { return &rustScanner{} },
}

// rustScanner reads rustc, cargo build, cargo clippy and cargo test: a headline
// whose place follows behind an arrow, and panics.
type rustScanner struct {
	// head is a headline whose place has not come yet: of a problem, or of a note or
	// help of the one under construction.
	head    rustHead
	waiting bool
	causes  bool   // of an error of cargo's
	panic   bool   // the message of a panic follows on the next lines
	source  []byte // the text of the line of the problem, as it is printed below the arrow; nil if it was not seen
	// lints are the codes of messages, which are told once of each lint, by the message without its names.
	lints map[string]string
}

// maxLints bounds the messages whose code is remembered.
const maxLints = 1000

// lintOf returns a message without the names that it quotes.
func lintOf(message string) string {
	parts := strings.Split(message, "`")
	for i := 1; i < len(parts); i += 2 {
		parts[i] = ""
	}
	return strings.Join(parts, "`")
}

type rustHead struct {
	severity problem.Severity
	code     string
	message  string
	line     sieve.Line
	part     bool // a note or help of the problem under construction
	lines    int  // seen since
}

func (s *rustScanner) Flush(rep *sieve.Reporter, last bool) {
	if last && s.waiting && !s.head.part && rep.Errors() == 0 && cargoSays(s.head.message) {
		s.waiting = false
		s.withoutPlace(&s.head.line, rep)
	}
}

func (s *rustScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	s.waiting = s.waiting && rep.Claimed() // another family took over
	if s.panic && rep.Current() != nil {
		if s.morePanic(t, rep) {
			return true
		}
	}
	if s.causes = s.causes && rep.Current() != nil; s.causes && s.cause(t, rep) {
		return true
	}
	if place, ok := rustArrow(t); ok && (s.waiting || rep.Current() != nil) {
		s.place(place, l, rep)
		return true
	}
	if len(t) > 0 && (t[0] == 'e' || t[0] == 'w') {
		if head, ok := rustHeadline(t); ok {
			head.line = l.Kept()
			rep.Finish()
			s.head, s.waiting = head, true
			rep.Claim()
			return true
		}
	}
	if place, ok := rustPanic(t); ok {
		place.File = rep.Place(place.File)
		rep.Begin(l, problem.Problem{Place: place, Message: "panicked", Test: rustThread(t)})
		s.panic = true
		return true
	}
	if p, ok := rustTest(t, rep); ok {
		p.File = rep.Place(p.File)
		rep.Begin(l, p)
		rep.Finish()
		return true
	}
	if !rep.Claimed() {
		return false
	}
	if s.waiting && !s.head.part {
		// A message may continue on further lines; the place must come soon.
		if s.head.lines++; s.head.lines > 8 || len(t) == 0 {
			s.waiting = false
			if rep.Errors() == 0 && cargoSays(s.head.message) {
				s.withoutPlace(l, rep)
				return true
			}
			rep.Release()
			return false
		}
		s.head.message += "\n" + string(bytes.TrimSpace(t))
		return !l.Wanted() // otherwise it may be another tool's line that belongs to the headline
	}
	return s.more(t, rep)
}

// cargoErrors begin the errors of cargo itself, which have no place, and after which
// nothing else is said.
var cargoErrors = []string{
	"failed to load manifest", "failed to parse manifest", "no matching package", "failed to select a version", "failed to read ", "failed to get `",
	"failed to load source for dependency", "could not find `Cargo.toml`", "failed to parse lock file", "no bin target", "no test target", "no example target",
	"package ID specification", "the lock file ", "no such command", "cyclic package dependency", "failed to resolve patches", "failed to download",
}

func cargoSays(message string) bool {
	for _, lead := range cargoErrors {
		if strings.HasPrefix(message, lead) {
			return true
		}
	}
	return false
}

// withoutPlace reports an error of cargo's. Its causes follow, the file among them.
func (s *rustScanner) withoutPlace(l *sieve.Line, rep *sieve.Reporter) {
	head := s.head.line
	rep.Begin(&head, problem.Problem{Severity: s.head.severity, Message: strings.ReplaceAll(s.head.message, "\n", " ")})
	rep.Extend(l)
	s.causes = true
}

// cause reads the lines below "Caused by:". The last manifest that is named is the
// place.
func (s *rustScanner) cause(t []byte, rep *sieve.Reporter) bool {
	text := strings.TrimSpace(string(t))
	switch {
	case text == "" || text == "Caused by:":
		return true
	case t[0] != ' ':
		s.causes = false
		rep.Finish()
		return false
	}
	rep.AppendLine(text)
	return true
}

// place reads "--> file:line:column" and "::: file:line:column".
func (s *rustScanner) place(p problem.Place, l *sieve.Line, rep *sieve.Reporter) {
	p.File = rep.Place(p.File)
	switch {
	case s.waiting && !s.head.part:
		head := s.head.line
		if s.head.code == "" && len(s.lints) > 0 {
			s.head.code = s.lints[lintOf(s.head.message)]
		}
		rep.Begin(&head, problem.Problem{Place: p, Severity: s.head.severity, Code: s.head.code, Message: s.head.message})
		s.source = nil
	case s.waiting:
		rep.Relate(problem.Related{Place: p, Message: s.head.message})
	default:
		rep.Relate(problem.Related{Place: p, Message: "see here"})
	}
	rep.Extend(l)
	s.waiting, s.panic = false, false
}

// more reads the lines of a problem behind its place.
func (s *rustScanner) more(t []byte, rep *sieve.Reporter) bool {
	if rep.Current() == nil {
		rep.Release()
		return false
	}
	if len(t) == 0 {
		rep.Finish()
		return true
	}
	for _, lead := range [...]string{"note: ", "help: "} {
		if rest, ok := lex.CutPrefix(t, lead); ok {
			s.head, s.waiting = rustHead{message: string(rest), part: true}, true
			return true
		}
	}
	s.underlined(t, rep.Current())
	if gutter(t) {
		// Behind a slash or a second bar begins or goes on what is marked over several lines.
		if row := bytes.TrimSpace(t[bytes.IndexByte(t, '|')+1:]); !hasAnyPrefix(row, "/ ", "| ") {
			showGutter(t, rep, len(rep.Current().Related) > 0)
		}
	}
	if t[0] == ' ' || t[0] == '|' || t[0] == '.' || lex.IsDigit(t[0]) || t[0] == '+' || t[0] == '-' {
		if rest, ok := lex.CutPrefix(bytes.TrimLeft(t, " "), "= note: `#[warn("); ok && rep.Current().Code == "" {
			if i := bytes.IndexByte(rest, ')'); i > 0 {
				p := rep.Current()
				p.Code = string(rest[:i])
				if s.lints == nil {
					s.lints = map[string]string{}
				}
				if len(s.lints) < maxLints {
					s.lints[lintOf(p.Message)] = p.Code
				}
			}
		}
		return true
	}
	rep.Finish()
	return false
}

// underlined takes the range of a problem from the marks below its source line: "3 |     let x = 1;", "  |         ^".
func (s *rustScanner) underlined(t []byte, p *problem.Problem) {
	if p.EndColumn > 0 || p.Column == 0 || len(p.Related) > 0 {
		return
	}
	bar := bytes.IndexByte(t, '|')
	if bar < 1 || bar+2 > len(t) {
		return
	}
	row := t[bar+1:]
	if n, digits := lex.Number(bytes.TrimLeft(t[:bar], " ")); digits > 0 {
		if s.source = nil; n == p.Line && len(row) > 0 {
			s.source = bytes.Clone(row[1:])
		}
		return
	}
	from := bytes.IndexByte(row, '^')
	if s.source == nil || from < 0 || bytes.IndexByte(row[:from], '_') >= 0 { // of several lines
		return
	}
	if n := markedRunes(string(s.source), row[1:], '^'); n > 0 {
		p.EndLine, p.EndColumn = p.Line, p.Column+n
	}
	s.source = nil
}

// markedRunes returns the number of characters of a line under whose cells the first marks of a row stand; 0 if there are none. Tabs
// are printed as blanks by the tools that do this, so cells count.
func markedRunes(text string, row []byte, mark byte) (n int) {
	before := bytes.IndexByte(row, mark)
	if before < 0 {
		return 0
	}
	cells := len(row[before:]) - len(bytes.TrimLeft(row[before:], string(mark)))
	for _, r := range text {
		switch w := max(1, displaywidth.Rune(r)); {
		case before > 0:
			before -= w
		case cells > 0:
			cells -= w
			n++
		}
	}
	if cells > 0 {
		return 0
	}
	return n
}

// morePanic reads the lines of a panic's message.
func (s *rustScanner) morePanic(t []byte, rep *sieve.Reporter) bool {
	if len(t) == 0 || hasAnyPrefix(t, "note: run with", "stack backtrace:", "thread '", "failures:", "----") {
		s.panic = false
		rep.Finish()
		return len(t) == 0
	}
	if rep.Current().Message == "panicked" {
		rep.Current().Message = string(t)
	} else {
		rep.AppendLine(string(bytes.TrimSpace(t)))
	}
	return true
}

// rustTest reads the text behind "---- tests::cools stdout ----" when a test failed
// without a panic.
func rustTest(t []byte, rep *sieve.Reporter) (p problem.Problem, ok bool) {
	at, noPanic := lex.CutPrefix(t, "note: test did not panic as expected")
	if !noPanic && !lex.HasPrefix(t, "Error: ") {
		return p, false
	}
	name, ok := lex.CutPrefix(rep.MarginLine(), "---- ")
	if !ok {
		return p, false
	}
	if name, ok = bytes.CutSuffix(name, []byte(" stdout ----")); !ok {
		return p, false
	}
	p.Code, p.Message = string(name), string(t)
	if noPanic {
		p.Message = "test did not panic as expected"
		p.Place, _ = lex.PlaceAtEnd(bytes.TrimPrefix(at, []byte(" at ")))
	}
	return p, true
}

// rustHeadline reads "error[E0308]: message" and "warning: message".
func rustHeadline(t []byte) (h rustHead, ok bool) {
	rest, found := lex.CutPrefix(t, "error")
	if !found {
		if rest, found = lex.CutPrefix(t, "warning"); !found {
			return h, false
		}
		h.severity = problem.Warning
	}
	if len(rest) > 2 && rest[0] == '[' {
		i := bytes.IndexByte(rest, ']')
		if i < 0 {
			return h, false
		}
		h.code, rest = string(rest[1:i]), rest[i+1:]
	}
	message, found := lex.CutPrefix(rest, ": ")
	if !found || len(message) == 0 {
		return h, false
	}
	h.message = strings.TrimPrefix(string(message), "internal compiler error: ")
	return h, true
}

// rustArrow reads " --> src/main.rs:4:5".
func rustArrow(t []byte) (problem.Place, bool) {
	rest := bytes.TrimLeft(t, " ")
	if body, ok := lex.CutPrefix(rest, "--> "); ok {
		return lex.PlaceAtEnd(body)
	}
	if body, ok := lex.CutPrefix(rest, "::: "); ok {
		return lex.PlaceAtEnd(body)
	}
	return problem.Place{}, false
}

// rustThread returns the name of the thread that panicked, which is that of its test; "" for the
// main one and those without a name.
func rustThread(t []byte) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(string(t), "thread '"), "'")
	if name == "main" || name == "<unnamed>" {
		return ""
	}
	return name
}

// rustPanic reads "thread 'main' panicked at src/main.rs:5:10:".
func rustPanic(t []byte) (problem.Place, bool) {
	if !lex.HasPrefix(t, "thread '") {
		return problem.Place{}, false
	}
	i := bytes.Index(t, []byte("panicked at "))
	if i < 0 {
		return problem.Place{}, false
	}
	rest := bytes.TrimSuffix(t[i+len("panicked at "):], []byte(":"))
	if j := bytes.LastIndex(rest, []byte("', ")); j > 0 { // before Rust 1.73 the message came first
		rest = rest[j+3:]
	}
	return lex.PlaceAtEnd(rest)
}
