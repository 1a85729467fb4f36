package family

import (
	"bytes"
	"slices"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var pytestFamily = sieve.Family{
	Name:  "pytest",
	Leads: oneOf("===|E  "),
	New:   func() sieve.Scanner { return &pytestScanner{} },
}

// pytestScanner reads pytest: failures and errors in the long, the short and the
// line form, doctests, and where nothing of these is printed (--tb=no) its
// summary. The native form has tracebacks, which are Python's.
type pytestScanner struct {
	section pytestSection
	found   int  // problems since the start
	native  bool // some are in Python's own form
	test    pytestFailure
	nowhere []problem.Problem // that passed and should have failed: the summary names their files
}

// strictPass is said of a test that passes though it must fail (xfail with strict=True).
const strictPass = "[XPASS(strict)]"

// pytestSection is a part of the output under a headline of equal signs.
type pytestSection int

const (
	otherSection pytestSection = iota
	failuresSection
	summarySection
)

// pytestFailure is a failed test that is being read.
type pytestFailure struct {
	name     string
	frames   []problem.Place
	because  []string // the lines marked with E
	raised   string   // the exception that the last frame names
	expected bool     // of a doctest: what was expected is read
	captured bool     // what the test printed follows
	causes   []problem.Related
	first    sieve.Line
	last     sieve.Line
}

func (s *pytestScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.end(rep)
		s.giveRest(rep)
		s.enter(otherSection, rep)
	}
}

// enter begins a section and asks for all its lines.
func (s *pytestScanner) enter(section pytestSection, rep *sieve.Reporter) {
	s.section = section
	rep.Attend(section != otherSection)
}

func (s *pytestScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	switch {
	case lex.HasPrefix(t, "==="):
		return s.headline(l, rep)
	case s.section == summarySection:
		return s.summary(l, rep)
	case s.section == otherSection && lex.HasPrefix(t, "E  "):
		s.enter(failuresSection, rep) // a part of an output
	case s.section != failuresSection:
		return false
	}
	switch {
	case lex.HasPrefix(t, "___"), lex.HasPrefix(t, "_ _ _"):
		if name := strings.Trim(string(t), "_ "); name != "" {
			s.end(rep)
			s.test.name = name
			s.see(l)
		}
		return true
	case lex.HasPrefix(t, "---"):
		s.end(rep)
		s.test.captured = true
		return true
	case s.test.captured:
		return false
	}
	if rest, ok := lex.CutPrefix(t, "E  "); ok {
		s.see(l)
		rest = bytes.TrimLeft(rest, " ")
		if p, ok := pythonFrame(append([]byte("  "), rest...)); ok { // a syntax error
			s.test.frames, s.test.because = append(s.test.frames, p), s.test.because[:0]
		} else {
			s.because(string(rest))
		}
		return true
	}
	if lex.HasPrefix(t, strictPass) && s.test.name != "" { // it was expected to fail
		s.see(l)
		s.because(string(bytes.TrimRight(t, " ")))
		return true
	}
	if hasAnyPrefix(t, causedException...) && len(s.test.because) > 0 {
		s.cause(rep)
		return true
	}
	if s.frame(l, rep) {
		return true
	}
	if s.test.expected || hasAnyPrefix(t, "Expected:", "Got:") {
		s.see(l)
		s.test.expected = true
		s.because(string(bytes.TrimSpace(t)))
		return true
	}
	s.native = s.native || lex.HasPrefix(t, "Traceback ")
	return false
}

// causedException begins a line between two exceptions, of which the second is the
// one that the test failed with (Python Language Reference, "The raise statement").
var causedException = []string{
	"During handling of the above exception, another exception occurred:",
	"The above exception was the direct cause of the following exception:",
}

// cause makes what was read of the failure a related place of the exception that it
// led to.
func (s *pytestScanner) cause(rep *sieve.Reporter) {
	f := &s.test
	if len(f.frames) > 0 {
		r := problem.Related{Place: f.frames[ownFrame(f.frames)], Message: strings.Join(f.because, "\n")}
		r.File = rep.Place(r.File)
		f.causes = append(f.causes, r)
	}
	f.frames, f.because, f.raised = f.frames[:0], f.because[:0], ""
}

func (s *pytestScanner) because(text string) {
	if len(s.test.because) < sieve.MaxParts {
		s.test.because = append(s.test.because, text)
	}
}

// see extends the failure to a line.
func (s *pytestScanner) see(l *sieve.Line) {
	if s.test.first.Number == 0 {
		s.test.first = l.Kept()
	}
	s.test.last = l.Kept()
}

// frame reads "test_kiln.py:4: in test_a", "test_kiln.py:4: ", the last one with
// its exception "kiln.py:4: ZeroDivisionError", and the whole of a failure in
// the line form.
func (s *pytestScanner) frame(l *sieve.Line, rep *sieve.Reporter) bool {
	if !l.Placed() || l.Indent() > 0 {
		return false
	}
	where, rest, _ := bytes.Cut(l.Text, []byte(": "))
	p, ok := lex.PlaceAtEnd(where)
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
		s.end(rep)
		return true
	default:
		return false
	}
	if len(s.test.frames) > sieve.MaxParts {
		s.test.frames = s.test.frames[1:]
	}
	s.see(l)
	return true
}

// end reports the failure.
func (s *pytestScanner) end(rep *sieve.Reporter) {
	f := s.test
	s.test = pytestFailure{frames: f.frames[:0], because: f.because[:0]}
	if len(f.because) == 0 {
		return
	}
	p := problem.Problem{Output: sieve.SpanOf(&f.first, &f.last), Related: f.causes, Test: pytestTest(f.name)}
	if len(f.frames) > 0 {
		p.Place = f.frames[ownFrame(f.frames)]
		p.File = rep.Place(p.File)
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
	if p.File == "" && strings.HasPrefix(p.Message, strictPass) && len(s.nowhere) < sieve.MaxParts {
		s.nowhere = append(s.nowhere, p)
		return
	}
	rep.Give(p)
}

// giveRest reports those of which nothing names a file.
func (s *pytestScanner) giveRest(rep *sieve.Reporter) {
	for _, p := range s.nowhere {
		rep.Give(p)
	}
	s.nowhere = s.nowhere[:0]
}

// headline reads "=== FAILURES ===" and the count that ends it all.
func (s *pytestScanner) headline(l *sieve.Line, rep *sieve.Reporter) bool {
	title := strings.Trim(string(l.Text), "= ")
	if title == "" {
		return false
	}
	s.end(rep)
	switch title {
	case "test session starts":
		s.found, s.native = 0, false
		s.enter(otherSection, rep)
	case "FAILURES", "ERRORS":
		s.enter(failuresSection, rep)
	case "short test summary info":
		s.enter(summarySection, rep)
	default:
		s.enter(otherSection, rep)
		s.giveRest(rep)
		if n, ok := pytestCount(title); ok {
			if s.found > 0 && !s.native {
				rep.Summary(l, n, true)
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
		k, length := lex.Number([]byte(part))
		switch strings.TrimSpace(part[length:]) {
		case "failed", "error", "errors":
			n += k
		}
	}
	return n, timed
}

// summary reads "FAILED test_kiln.py::test_a - message", for want of more.
func (s *pytestScanner) summary(l *sieve.Line, rep *sieve.Reporter) bool {
	rest, ok := lex.CutPrefix(l.Text, "FAILED ")
	if !ok {
		if rest, ok = lex.CutPrefix(l.Text, "ERROR "); !ok {
			return false
		}
	}
	id, message, _ := strings.Cut(string(rest), " - ")
	file, name, test := strings.Cut(id, "::")
	if i := slices.IndexFunc(s.nowhere, func(p problem.Problem) bool { return test && p.Test == strings.ReplaceAll(name, "::", ".") }); i >= 0 {
		p := s.nowhere[i]
		s.nowhere = slices.Delete(s.nowhere, i, i+1)
		p.File = rep.Place(file)
		rep.Give(p)
		return true
	}
	if s.found > 0 || s.native || !test && !strings.HasSuffix(file, ".py") {
		return true
	}
	switch {
	case message != "":
	case test:
		message = "failed"
	default:
		message = "could not be collected"
	}
	rep.Begin(l, problem.Problem{Place: problem.Place{File: rep.Place(file)}, Code: name, Test: strings.ReplaceAll(name, "::", "."), Message: message})
	rep.Finish()
	return true
}

// pytestTest returns the name of the test from the heading of a failure: "test_a", "ERROR at setup
// of test_a"; "" for a file that could not be collected.
func pytestTest(heading string) string {
	rest, ok := strings.CutPrefix(heading, "ERROR ")
	if !ok {
		return heading
	}
	if _, name, at := strings.Cut(rest, " of "); at && strings.HasPrefix(rest, "at ") {
		return name
	}
	return ""
}
