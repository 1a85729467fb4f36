package sieve

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
)

// pythonScanner reads tracebacks (the deepest frame of the user's own code),
// groups of exceptions, syntax errors, unittest, doctest, and warnings.
type pythonScanner struct {
	self   int
	frames []problem.Place
	start  line
	open   bool // inside of a traceback
	raised bool // an exception was just read: another one may follow from it
	cause  *problem.Related
	// In a group the lines stand behind a bar. The group itself is a problem only
	// when none of its exceptions is told.
	inGroup bool
	group   *problem.Problem
	told    bool
	doctest bool // an example that failed is read
}

func (s *pythonScanner) flush(e *Engine, last bool) {
	if last {
		s.endGroup(e)
	}
}

func (s *pythonScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if s.doctest && e.owner == s.self && e.open {
		return s.example(t, e)
	}
	s.doctest = false
	if s.inGroup && e.owner == s.self {
		bar := bytes.TrimLeft(t, " ")
		if hasPrefix(bar, "+-") { // between the exceptions
			e.finish()
			s.raised, s.open, e.owner = false, false, s.self
			return true
		}
		if hasPrefix(bar, "|") {
			in := *l
			in.text = bytes.TrimPrefix(bar[1:], []byte(" "))
			taken := s.plain(&in, e)
			e.owner = s.self
			return taken
		}
		s.endGroup(e)
	}
	return s.plain(l, e)
}

// endGroup gives out a group of whose exceptions nothing was told.
func (s *pythonScanner) endGroup(e *Engine) {
	e.finish()
	if s.group != nil && !s.told {
		e.give(s.self, *s.group)
	}
	s.inGroup, s.group, s.raised, s.open = false, nil, false, false
}

// plain takes a line that stands behind no bar, or what stands behind it.
func (s *pythonScanner) plain(l *line, e *Engine) bool {
	t := l.text
	if s.raised && e.owner == s.self && e.open {
		return s.chained(l, e)
	}
	s.raised = false
	if l.has("Traceback (most recent call last):") || bytes.HasSuffix(t, []byte("Traceback (most recent call last):")) {
		e.finish()
		s.begin(l, e)
		if bytes.HasSuffix(t, []byte("Exception Group Traceback (most recent call last):")) && !s.inGroup {
			s.inGroup, s.group, s.told = true, nil, false
		}
		return true
	}
	if p, ok := s.failedExample(l, e); ok {
		p.File = e.place(p.File)
		e.begin(l, s.self, p)
		s.doctest = true
		return true
	}
	if p, ok := sorry(t); ok {
		p.File = e.place(p.File)
		e.begin(l, s.self, p)
		e.finish()
		return true
	}
	if frame, ok := pythonFrame(t); ok && (s.open || l.has("  File \"")) {
		if !s.open { // a syntax error has no headline
			s.begin(l, e)
		}
		if len(s.frames) < maxParts {
			s.frames = append(s.frames, frame)
		}
		return true
	}
	if s.open {
		return s.more(l, e)
	}
	if p, ok := pythonWarning(t); ok && e.owner != s.self {
		p.File = e.place(p.File)
		e.begin(l, s.self, p)
		e.finish()
		return true
	}
	return false
}

func (s *pythonScanner) begin(l *line, e *Engine) {
	s.open, s.frames, s.start = true, s.frames[:0], l.kept()
	e.owner = s.self
}

// more takes the lines of a traceback behind its frames.
func (s *pythonScanner) more(l *line, e *Engine) bool {
	t := l.text
	if len(t) == 0 || t[0] == ' ' || t[0] == '\t' {
		if l.number-s.start.number > 2000 {
			s.open = false
			e.owner = -1
		}
		return true
	}
	if len(s.frames) == 0 {
		s.open = false
		e.owner = -1
		return false
	}
	if !exceptionLine(t) {
		s.open = false
		e.owner = -1
		return false
	}
	s.open = false
	place := ownFrame(s.frames)
	place.File = e.place(place.File)
	start := s.start
	if s.inGroup && bytes.HasSuffix(t, []byte(")")) && bytes.Contains(t, []byte(" sub-exception")) {
		s.group = &problem.Problem{Place: place, Message: string(t), Output: spanOf(&start, l)}
		return true
	}
	e.begin(&start, s.self, problem.Problem{Place: place, Message: string(t)})
	if s.inGroup && s.group != nil {
		s.told = true
		e.relate(problem.Related{Place: s.group.Place, Message: s.group.Message})
	}
	if s.cause != nil {
		e.relate(*s.cause)
		s.cause = nil
	}
	e.extend(l)
	s.raised = true
	return true
}

// chained tells whether the exception that was just read led to another: then
// it is no problem of its own, but the cause of the next one.
func (s *pythonScanner) chained(l *line, e *Engine) bool {
	if len(l.text) == 0 {
		return true
	}
	s.raised = false
	if !e.late && (l.has("During handling of the above exception, another exception occurred:") ||
		l.has("The above exception was the direct cause of the following exception:")) {
		s.cause = &problem.Related{Place: e.current.Place, Message: e.current.Message}
		e.open, e.owner = false, -1
		return true
	}
	e.finish()
	return s.scan(l, e)
}

// failedExample reads the place that doctest prints below a row of stars:
// `File "kiln.py", line 7, in kiln.Kiln`.
func (s *pythonScanner) failedExample(l *line, e *Engine) (p problem.Problem, ok bool) {
	if !l.has("File \"") || !hasPrefix(e.heading.get(), "**********") {
		return p, false
	}
	p.Place, ok = pythonFrame(append([]byte(" "), l.text...))
	return p, ok
}

// example takes the lines of an example that failed: the example, what was
// expected and what came, each behind a headline.
func (s *pythonScanner) example(t []byte, e *Engine) bool {
	text := string(bytes.TrimSpace(t))
	message := &e.current.Message
	switch {
	case hasPrefix(t, "****"), len(*message) > MaxLine:
		s.doctest = false
		e.finish()
		return false
	case len(t) > 0 && t[0] != ' ' && *message != "":
		*message += "\n" + text
	case text != "":
		*message = strings.TrimPrefix(*message+" "+text, " ")
	}
	return true
}

// sorry reads what py_compile says: "Sorry: TabError: message (kiln.py, line 3)".
func sorry(t []byte) (p problem.Problem, ok bool) {
	rest, ok := cutPrefix(t, "Sorry: ")
	i := bytes.LastIndex(rest, []byte(" ("))
	if !ok || i < 0 {
		return p, false
	}
	file, line, ok := strings.Cut(string(bytes.TrimSuffix(rest[i+2:], []byte(")"))), ", line ")
	n, length := number([]byte(line))
	p = problem.Problem{Place: problem.Place{File: file, Line: n}, Message: string(rest[:i])}
	return p, ok && length > 0 && plausibleFile(file)
}

// exceptionLine tells "KeyError: 'x'" and "package.Error".
func exceptionLine(t []byte) bool {
	i := 0
	for i < len(t) && (isLetter(t[i]) || isDigit(t[i]) || t[i] == '_' || t[i] == '.') {
		i++
	}
	return i > 0 && (i == len(t) || t[i] == ':' || t[i] == ' ' && bytes.Contains(t, []byte("Error")))
}

// ownFrame picks the deepest frame that is not the interpreter's or a
// library's.
func ownFrame(frames []problem.Place) problem.Place {
	for i := len(frames) - 1; i >= 0; i-- {
		f := frames[i].File
		if f[0] != '<' && !strings.Contains(f, "/lib/python") && !strings.Contains(f, "site-packages/") && !strings.Contains(f, "dist-packages/") && !strings.Contains(f, "\\lib\\") {
			return frames[i]
		}
	}
	for i := len(frames) - 1; i >= 0; i-- {
		if frames[i].File[0] == '<' && !strings.HasPrefix(frames[i].File, "<frozen") { // given on the command line
			return frames[i]
		}
	}
	return frames[len(frames)-1]
}

// pythonFrame reads `  File "app/conf.py", line 5, in load`.
func pythonFrame(t []byte) (p problem.Place, ok bool) {
	rest, found := cutPrefix(bytes.TrimLeft(t, " |"), "File \"")
	if !found || len(rest) == len(t) {
		return p, false
	}
	i := bytes.Index(rest, []byte("\", line "))
	if i < 1 {
		return p, false
	}
	n, length := number(rest[i+8:])
	if length == 0 || len(t) > 0 && t[0] != ' ' {
		return p, false
	}
	return problem.Place{File: string(rest[:i]), Line: n}, true
}

// pythonWarning reads "kiln.py:4: DeprecationWarning: message" (Python library
// reference, warnings.formatwarning), which pytest indents.
func pythonWarning(t []byte) (p problem.Problem, ok bool) {
	t = trimLeft(t)
	i := bytes.Index(t, []byte(".py:"))
	if i < 1 {
		return p, false
	}
	n, length := number(t[i+4:])
	rest, found := cutPrefix(t[i+4+length:], ": ")
	category, message, said := bytes.Cut(rest, []byte(": "))
	if length == 0 || !found || !said || !bytes.HasSuffix(category, []byte("Warning")) || bytes.IndexByte(category, ' ') >= 0 {
		return p, false
	}
	p = problem.Problem{Place: problem.Place{File: string(t[:i+3]), Line: n}, Severity: problem.Warning, Code: string(category), Message: string(message)}
	return p, plausibleFile(p.File)
}
