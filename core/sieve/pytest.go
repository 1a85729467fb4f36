package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// pytestScanner reads pytest: failures and errors in the long, the short and the
// line form, doctests, and where nothing of these is printed (--tb=no) its
// summary. The native form has tracebacks, which are Python's.
type pytestScanner struct {
	self    int
	section pytestSection
	found   int  // problems since the tests began
	native  bool // some are told in Python's own form
	test    pytestFailure
}

// pytestSection is what stands below a headline between signs of equality.
type pytestSection int

const (
	otherSection pytestSection = iota
	failuresSection
	summarySection
)

// pytestFailure is a test that failed, as far as it was read.
type pytestFailure struct {
	name     string
	frames   []problem.Place
	because  []string // the lines marked with E
	raised   string   // the exception that the last frame names
	expected bool     // of a doctest: what was expected is read
	captured bool     // what the test printed follows
	first    line
	last     line
}

func (s *pytestScanner) flush(e *Engine, last bool) {
	if last {
		s.end(e)
		s.enter(otherSection, e)
	}
}

// enter begins a section; all lines of one matter.
func (s *pytestScanner) enter(section pytestSection, e *Engine) {
	s.section = section
	e.attend(s.self, section != otherSection)
}

func (s *pytestScanner) scan(l *line, e *Engine) bool {
	t := l.text
	switch {
	case hasPrefix(t, "==="):
		return s.headline(l, e)
	case s.section == summarySection:
		return s.summary(l, e)
	case s.section == otherSection && hasPrefix(t, "E  "):
		s.enter(failuresSection, e) // a part of an output
	case s.section != failuresSection:
		return false
	}
	switch {
	case hasPrefix(t, "___"), hasPrefix(t, "_ _ _"):
		if name := strings.Trim(string(t), "_ "); name != "" {
			s.end(e)
			s.test.name = name
			s.see(l)
		}
		return true
	case hasPrefix(t, "---"):
		s.end(e)
		s.test.captured = true
		return true
	case s.test.captured:
		return false
	}
	if rest, ok := cutPrefix(t, "E  "); ok {
		s.see(l)
		rest = bytes.TrimLeft(rest, " ")
		if p, ok := pythonFrame(append([]byte("  "), rest...)); ok { // a syntax error
			s.test.frames, s.test.because = append(s.test.frames, p), s.test.because[:0]
		} else {
			s.because(string(rest))
		}
		return true
	}
	if s.frame(l, e) {
		return true
	}
	if s.test.expected || hasAnyPrefix(t, "Expected:", "Got:") {
		s.see(l)
		s.test.expected = true
		s.because(string(bytes.TrimSpace(t)))
		return true
	}
	s.native = s.native || hasPrefix(t, "Traceback ")
	return false
}

func (s *pytestScanner) because(text string) {
	if len(s.test.because) < maxParts {
		s.test.because = append(s.test.because, text)
	}
}

// see notes that a line belongs to the failure.
func (s *pytestScanner) see(l *line) {
	if s.test.first.number == 0 {
		s.test.first = l.kept()
	}
	s.test.last = l.kept()
}

// frame reads "test_kiln.py:4: in test_a", "test_kiln.py:4: ", the last one with
// its exception "kiln.py:4: ZeroDivisionError", and the whole of a failure in
// the line form.
func (s *pytestScanner) frame(l *line, e *Engine) bool {
	if !l.placed() || l.indent() > 0 {
		return false
	}
	where, rest, _ := bytes.Cut(l.text, []byte(": "))
	p, ok := placeAtEnd(where)
	if !ok || p.Column > 0 {
		return false
	}
	switch words := string(rest); {
	case strings.HasPrefix(words, "in "), words == "":
		s.test.frames = append(s.test.frames, p)
	case !strings.Contains(words, " "):
		s.test.frames, s.test.raised = append(s.test.frames, p), words
	case s.test.name == "" && len(s.test.because) == 0:
		s.see(l)
		s.test.frames = append(s.test.frames, p)
		s.because(words)
		s.end(e)
		return true
	default:
		return false
	}
	if len(s.test.frames) > maxParts {
		s.test.frames = s.test.frames[1:]
	}
	s.see(l)
	return true
}

// end gives out the failure that was read.
func (s *pytestScanner) end(e *Engine) {
	f := s.test
	s.test = pytestFailure{frames: f.frames[:0], because: f.because[:0]}
	if len(f.because) == 0 {
		return
	}
	p := problem.Problem{Output: spanOf(&f.first, &f.last)}
	if len(f.frames) > 0 {
		p.Place = ownFrame(f.frames)
		p.File = e.place(p.File)
	} else {
		p.Code = f.name
	}
	if text := f.because[len(f.because)-1]; strings.HasPrefix(text, "SyntaxError: ") || strings.HasPrefix(text, "IndentationError: ") || strings.HasPrefix(text, "TabError: ") {
		f.because = f.because[len(f.because)-1:] // the source and a mark stand before
	}
	p.Message = strings.Join(f.because, "\n")
	if !strings.Contains(f.because[0], f.raised) {
		p.Message = f.raised + ": " + p.Message
	}
	s.found++
	e.give(s.self, p)
}

// headline reads "=== FAILURES ===" and the count that ends it all.
func (s *pytestScanner) headline(l *line, e *Engine) bool {
	title := strings.Trim(string(l.text), "= ")
	if title == "" {
		return false
	}
	s.end(e)
	switch title {
	case "test session starts":
		s.found, s.native = 0, false
		s.enter(otherSection, e)
	case "FAILURES", "ERRORS":
		s.enter(failuresSection, e)
	case "short test summary info":
		s.enter(summarySection, e)
	default:
		s.enter(otherSection, e)
		if n, ok := pytestCount(title); ok {
			if s.found > 0 && !s.native {
				e.summary(l, n, "pytest", true)
			}
			s.found, s.native = 0, false
		}
	}
	return true
}

// pytestCount reads how many did not pass from "8 failed, 2 errors in 0.06s".
func pytestCount(title string) (n int, ok bool) {
	counts, _, timed := strings.Cut(title, " in ")
	for part := range strings.SplitSeq(counts, ", ") {
		k, length := number([]byte(part))
		switch strings.TrimSpace(part[length:]) {
		case "failed", "error", "errors":
			n += k
		}
	}
	return n, timed
}

// summary reads "FAILED test_kiln.py::test_a - message", for want of more.
func (s *pytestScanner) summary(l *line, e *Engine) bool {
	rest, ok := cutPrefix(l.text, "FAILED ")
	if !ok {
		if rest, ok = cutPrefix(l.text, "ERROR "); !ok {
			return false
		}
	}
	if s.found > 0 || bytes.IndexByte(rest, ':') < 0 {
		return true
	}
	id, message, _ := strings.Cut(string(rest), " - ")
	file, name, _ := strings.Cut(id, "::")
	if message == "" {
		message = "failed"
	}
	e.begin(l, s.self, problem.Problem{Place: problem.Place{File: e.place(file)}, Code: name, Message: message})
	e.finish()
	return true
}
