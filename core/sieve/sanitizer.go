package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// sanitizerScanner reads what checks a running program: the sanitizers of gcc and
// clang (address, leak, memory, thread) and valgrind. A report is a headline and
// stacks; its place is the first frame of the first stack in the user's own code,
// and the other stacks lead to related places.
type sanitizerScanner struct {
	self     int
	report   problem.Problem
	open     bool
	valgrind bool
	leaks    bool   // each leak is a report
	heading  string // of the stack that is read
	stacks   int    // with a place of the user's own
	inStack  bool   // the place of this stack is known
}

func (s *sanitizerScanner) flush(e *Engine, last bool) {
	if last {
		s.end(e)
		s.leaks = false
	}
}

func (s *sanitizerScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if text, ok := numberedLine(t); ok {
		if message, ok := cutPrefix(text, "ERROR: "); ok && bytes.Contains(message, []byte("Sanitizer: ")) {
			s.end(e)
			if s.leaks = hasPrefix(message, "LeakSanitizer: "); !s.leaks {
				s.begin(l, e, string(message))
			}
			e.owner = s.self
			return true
		}
		if s.open && !s.valgrind {
			s.end(e) // ==7==ABORTING
			return true
		}
		return s.memcheck(l, e, text)
	}
	if hasPrefix(t, "WARNING: ThreadSanitizer: ") {
		s.end(e)
		s.begin(l, e, string(t[len("WARNING: "):]))
		return true
	}
	if e.owner != s.self {
		return false
	}
	text := bytes.TrimSpace(t)
	switch {
	case s.valgrind, hasPrefix(text, "===="), hasPrefix(text, "SUMMARY: "), s.open && l.number-s.report.Output.FirstLine > 2000:
		s.end(e)
		s.leaks = false
		return hasPrefix(text, "SUMMARY: ")
	case len(text) == 0:
		s.heading, s.inStack = "", false
		if s.leaks {
			s.end(e)
			e.owner = s.self
		}
	case text[0] == '#':
		s.frame(l, e, sanitizerFrame(text))
	case s.leaks && bytes.Contains(text, []byte(" leak of ")):
		s.end(e)
		message, _, _ := strings.Cut(string(text), " allocated from:")
		s.begin(l, e, message)
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

func (s *sanitizerScanner) begin(l *line, e *Engine, message string) {
	e.finish()
	for _, cut := range [...]string{" on address 0x", " on unknown address", " (pid="} {
		message, _, _ = strings.Cut(message, cut)
	}
	s.report = problem.Problem{Message: message, Output: spanOf(l, l)}
	s.open, s.valgrind, s.heading, s.stacks, s.inStack = true, false, "", 0, false
	e.owner = s.self
}

// end gives out the report that was read, when it has a place.
func (s *sanitizerScanner) end(e *Engine) {
	if s.open && s.stacks > 0 {
		e.give(s.self, s.report)
	}
	s.open = false
	if e.owner == s.self {
		e.owner = -1
	}
}

// frame takes a place of a stack, or none.
func (s *sanitizerScanner) frame(l *line, e *Engine, printed string) {
	p, ok := placeAtEnd([]byte(printed))
	if !s.open || s.inStack || !ok || foreignFrame(p.File) {
		return
	}
	p.File = e.place(p.File)
	s.inStack = true
	s.report.Output.LastLine, s.report.Output.EndByte = l.number, l.end
	if s.stacks++; s.stacks == 1 {
		s.report.Place = p
	} else if len(s.report.Related) < maxParts {
		s.report.Related = append(s.report.Related, problem.Related{Place: p, Message: s.heading})
	}
}

// memcheck takes a line of valgrind's: a headline, a frame, or what a further
// stack is of, by its indent.
func (s *sanitizerScanner) memcheck(l *line, e *Engine, text []byte) bool {
	in := indentOf(text)
	body := bytes.TrimSpace(text)
	switch {
	case len(body) == 0:
		s.end(e)
	case in == 0:
		s.end(e)
		s.begin(l, e, string(body))
		s.valgrind = true
		if bytes.Contains(body, []byte("possibly lost")) || bytes.Contains(body, []byte("still reachable")) {
			s.report.Severity = problem.Warning
		}
	case hasAnyPrefix(body, "at 0x", "by 0x"):
		if i := bytes.LastIndexByte(body, '('); i > 0 {
			s.frame(l, e, string(bytes.TrimSuffix(body[i+1:], []byte(")"))))
		}
	default:
		s.headed(body)
	}
	return true
}

// numberedLine cuts "==32453== " or "==32453==" from the front of a line.
func numberedLine(t []byte) (text []byte, ok bool) {
	rest, ok := cutPrefix(t, "==")
	if !ok {
		return nil, false
	}
	_, n := number(rest)
	if text, ok = cutPrefix(rest[n:], "=="); n == 0 || !ok {
		return nil, false
	}
	return bytes.TrimPrefix(text, []byte(" ")), true
}

// sanitizerFrame gives the place in "#1 0x55… in heat /src/kiln.c:3:5" and
// "#0 heat /src/kiln.c:3 (kiln+0x1241)".
func sanitizerFrame(t []byte) string {
	text := string(t)
	if i := strings.LastIndex(text, " ("); i > 0 && strings.HasSuffix(text, ")") {
		text = text[:i]
	}
	return text[strings.LastIndexByte(text, ' ')+1:]
}

// foreignFrame tells the C library's and the checker's own files.
func foreignFrame(file string) bool {
	return strings.HasPrefix(file, "../") || strings.HasPrefix(file, "/usr/") || strings.Contains(file, "/libsanitizer/") ||
		strings.Contains(file, "/compiler-rt/") || strings.Contains(file, "/sysdeps/") || strings.HasPrefix(file, "vg_")
}
