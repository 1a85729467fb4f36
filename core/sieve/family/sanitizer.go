package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var sanitizerFamily = sieve.Family{
	Name:    "sanitizer",
	Lenient: true,
	Leads:   oneOf("==|WARNING: ThreadSanitizer: "),
	New:     func() sieve.Scanner { return &sanitizerScanner{} },
}

// sanitizerScanner reads what checks a running program: the sanitizers of gcc and
// clang (address, leak, memory, thread) and valgrind. A report is a headline and
// stacks; its place is the first frame of the first stack in the user's own code,
// and the other stacks lead to related places.
type sanitizerScanner struct {
	report   problem.Problem
	open     bool
	valgrind bool
	leaks    bool   // each leak is a report
	heading  string // of the stack that is read
	stacks   int    // with a place of the user's own
	inStack  bool   // the place of this stack is known
}

func (s *sanitizerScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.end(rep)
		s.leaks = false
	}
}

func (s *sanitizerScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if text, ok := numberedLine(t); ok {
		if message, ok := lex.CutPrefix(text, "ERROR: "); ok && bytes.Contains(message, []byte("Sanitizer: ")) {
			s.end(rep)
			if s.leaks = lex.HasPrefix(message, "LeakSanitizer: "); !s.leaks {
				s.begin(l, rep, string(message))
			}
			rep.Claim()
			return true
		}
		if s.open && !s.valgrind {
			s.end(rep) // ==7==ABORTING
			return true
		}
		return s.memcheck(l, rep, text)
	}
	if lex.HasPrefix(t, "WARNING: ThreadSanitizer: ") {
		s.end(rep)
		s.begin(l, rep, string(t[len("WARNING: "):]))
		return true
	}
	if !rep.Claimed() {
		return false
	}
	text := bytes.TrimSpace(t)
	switch {
	case s.valgrind, lex.HasPrefix(text, "===="), lex.HasPrefix(text, "SUMMARY: "), s.open && l.Number-s.report.Output.FirstLine > 2000:
		s.end(rep)
		s.leaks = false
		return lex.HasPrefix(text, "SUMMARY: ")
	case len(text) == 0:
		s.heading, s.inStack = "", false
		if s.leaks {
			s.end(rep)
			rep.Claim()
		}
	case text[0] == '#':
		s.frame(l, rep, sanitizerFrame(text))
	case s.leaks && bytes.Contains(text, []byte(" leak of ")):
		s.end(rep)
		message, _, _ := strings.Cut(string(text), " allocated from:")
		s.begin(l, rep, message)
	case s.open && s.stacks == 0 && hasAnyPrefix(text, "READ of", "WRITE of", "Read of", "Write of"):
		what, _, _ := strings.Cut(string(text), " at 0x")
		s.report.Message += ": " + what
	default:
		s.headed(text)
	}
	return true
}

func (s *sanitizerScanner) headed(text []byte) {
	heading := strings.TrimSuffix(string(text), ":")
	if i := strings.Index(heading, " at 0x"); i > 0 { // the address says nothing
		_, behind, _ := strings.Cut(heading[i+len(" at 0x"):], " ")
		heading = strings.TrimSpace(heading[:i] + " " + behind)
	}
	s.heading, s.inStack = heading, false
}

func (s *sanitizerScanner) begin(l *sieve.Line, rep *sieve.Reporter, message string) {
	rep.Finish()
	for _, cut := range [...]string{" on address 0x", " on unknown address", " (pid="} {
		message, _, _ = strings.Cut(message, cut)
	}
	s.report = problem.Problem{Message: message, Output: sieve.SpanOf(l, l)}
	s.open, s.valgrind, s.heading, s.stacks, s.inStack = true, false, "", 0, false
	rep.Claim()
}

// end reports the report, if it has a place.
func (s *sanitizerScanner) end(rep *sieve.Reporter) {
	if s.open && s.stacks > 0 {
		rep.Give(s.report)
	}
	s.open = false
	if rep.Claimed() {
		rep.Release()
	}
}

// frame reads a place of a stack; printed may have none.
func (s *sanitizerScanner) frame(l *sieve.Line, rep *sieve.Reporter, printed string) {
	p, ok := lex.PlaceAtEnd([]byte(printed))
	if !s.open || s.inStack || !ok || foreignFrame(p.File) {
		return
	}
	p.File = rep.Place(p.File)
	s.inStack = true
	l.Extend(&s.report.Output)
	if s.stacks++; s.stacks == 1 {
		s.report.Place = p
	} else if len(s.report.Related) < sieve.MaxParts {
		s.report.Related = append(s.report.Related, problem.Related{Place: p, Message: s.heading})
	}
}

// memcheck reads a line of valgrind: a headline, a frame, or the heading of a
// further stack, told by its indent.
func (s *sanitizerScanner) memcheck(l *sieve.Line, rep *sieve.Reporter, text []byte) bool {
	in := lex.Indent(text)
	body := bytes.TrimSpace(text)
	switch {
	case len(body) == 0:
		s.end(rep)
	case in == 0:
		s.end(rep)
		s.begin(l, rep, string(body))
		s.valgrind = true
		if bytes.Contains(body, []byte("possibly lost")) || bytes.Contains(body, []byte("still reachable")) {
			s.report.Severity = problem.Warning
		}
	case hasAnyPrefix(body, "at 0x", "by 0x"):
		if i := bytes.LastIndexByte(body, '('); i > 0 {
			s.frame(l, rep, string(bytes.TrimSuffix(body[i+1:], []byte(")"))))
		}
	default:
		s.headed(body)
	}
	return true
}

// numberedLine cuts "==32453== " or "==32453==" off the front of a line.
func numberedLine(t []byte) (text []byte, ok bool) {
	rest, ok := lex.CutPrefix(t, "==")
	if !ok {
		return nil, false
	}
	_, n := lex.Number(rest)
	if text, ok = lex.CutPrefix(rest[n:], "=="); n == 0 || !ok {
		return nil, false
	}
	return bytes.TrimPrefix(text, []byte(" ")), true
}

// sanitizerFrame returns the place in "#1 0x55… in heat /src/kiln.c:3:5" and "#0
// heat /src/kiln.c:3 (kiln+0x1241)".
func sanitizerFrame(t []byte) string {
	text := string(t)
	if i := strings.LastIndex(text, " ("); i > 0 && strings.HasSuffix(text, ")") {
		text = text[:i]
	}
	return text[strings.LastIndexByte(text, ' ')+1:]
}

// foreignFrame reports whether a file is the C library's or the checker's own.
func foreignFrame(file string) bool {
	return strings.HasPrefix(file, "../") || strings.HasPrefix(file, "/usr/") || strings.Contains(file, "/libsanitizer/") ||
		strings.Contains(file, "/compiler-rt/") || strings.Contains(file, "/sysdeps/") || strings.HasPrefix(file, "vg_")
}
