package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var pythonFamily = sieve.Family{
	Name:     "python",
	Lenient:  true,
	Endings:  oneOf("py"),
	Leads:    oneOf("Traceback (|File \"|Sorry: "),
	Indented: []string{`File "`, "|", "+ Exception Group"},
	Behind:   oneOf("Traceback ("),
	New:      func() sieve.Scanner { return &pythonScanner{} },
}

// pythonScanner reads tracebacks (the deepest frame of the user own code), groups of
// exceptions, syntax errors, unittest, doctest, and warnings.
type pythonScanner struct {
	frames []problem.Place
	texts  []string // of each frame, the line that was printed below it
	start  sieve.Line
	open   bool // inside of a traceback
	raised bool // an exception was just read: another one may follow from it
	cause  *problem.Related
	// In a group, lines are behind a bar. The group itself is a problem only if none
	// of its exceptions was reported.
	inGroup bool
	group   *problem.Problem
	told    bool
	doctest bool // an example that failed is read
}

func (s *pythonScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.endGroup(rep)
	}
}

func (s *pythonScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if s.doctest && rep.Current() != nil {
		return s.example(t, rep)
	}
	s.doctest = false
	if s.inGroup && rep.Claimed() {
		bar := bytes.TrimLeft(t, " ")
		if lex.HasPrefix(bar, "+-") { // between the exceptions
			rep.Finish()
			s.raised, s.open = false, false
			rep.Claim()
			return true
		}
		if lex.HasPrefix(bar, "|") {
			in := *l
			in.Text = bytes.TrimPrefix(bar[1:], []byte(" "))
			taken := s.plain(&in, rep)
			rep.Claim()
			return taken
		}
		s.endGroup(rep)
	}
	return s.plain(l, rep)
}

// endGroup reports a group, if none of its exceptions was.
func (s *pythonScanner) endGroup(rep *sieve.Reporter) {
	rep.Finish()
	if s.group != nil && !s.told {
		rep.Give(*s.group)
	}
	s.inGroup, s.group, s.raised, s.open = false, nil, false, false
}

// plain reads a line without a bar, or the text behind it.
func (s *pythonScanner) plain(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if s.raised && rep.Current() != nil {
		return s.chained(l, rep)
	}
	s.raised = false
	if l.Has("Traceback (most recent call last):") || bytes.HasSuffix(t, []byte("Traceback (most recent call last):")) {
		rep.Finish()
		s.begin(l, rep)
		if bytes.HasSuffix(t, []byte("Exception Group Traceback (most recent call last):")) && !s.inGroup {
			s.inGroup, s.group, s.told = true, nil, false
		}
		return true
	}
	if p, ok := s.failedExample(l, rep); ok {
		p.File = rep.Place(p.File)
		rep.Begin(l, p)
		s.doctest = true
		return true
	}
	if p, ok := sorry(t); ok {
		p.File = rep.Place(p.File)
		rep.Begin(l, p)
		rep.Finish()
		return true
	}
	if frame, ok := pythonFrame(t); ok && (s.open || l.Has("  File \"")) {
		if !s.open { // a syntax error has no headline
			s.begin(l, rep)
		}
		if len(s.frames) < sieve.MaxParts {
			s.frames, s.texts = append(s.frames, frame), append(s.texts, "")
		}
		return true
	}
	if s.open {
		return s.more(l, rep)
	}
	if p, ok := pythonWarning(t); ok && !rep.Claimed() {
		p.File = rep.Place(p.File)
		rep.Begin(l, p)
		rep.Finish()
		return true
	}
	return false
}

func (s *pythonScanner) begin(l *sieve.Line, rep *sieve.Reporter) {
	s.open, s.frames, s.texts, s.start = true, s.frames[:0], s.texts[:0], l.Kept()
	rep.Claim()
}

// more reads the lines of a traceback behind its frames.
func (s *pythonScanner) more(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if len(t) == 0 || t[0] == ' ' || t[0] == '\t' {
		if l.Number-s.start.Number > 2000 {
			s.open = false
			rep.Release()
		}
		if n := len(s.texts); n > 0 && s.texts[n-1] == "" && n < sieve.MaxParts {
			s.texts[n-1] = string(t)
		}
		return true
	}
	if len(s.frames) == 0 {
		s.open = false
		rep.Release()
		return false
	}
	if !exceptionLine(t) {
		s.open = false
		rep.Release()
		return false
	}
	s.open = false
	own := ownFrame(s.frames)
	place := s.frames[own]
	place.File = rep.Place(place.File)
	start := s.start
	if s.inGroup && bytes.HasSuffix(t, []byte(")")) && bytes.Contains(t, []byte(" sub-exception")) {
		s.group = &problem.Problem{Place: place, Message: string(t), Output: sieve.SpanOf(&start, l)}
		return true
	}
	if string(t) == "KeyboardInterrupt" { // it was stopped
		rep.Release()
		return true
	}
	rep.Begin(&start, problem.Problem{Place: place, Message: string(t)})
	rep.ShowsSource(place.Line, []byte(s.texts[own]), false)
	if s.inGroup && s.group != nil {
		s.told = true
		rep.Relate(problem.Related{Place: s.group.Place, Message: s.group.Message})
	}
	if s.cause != nil {
		rep.Relate(*s.cause)
		s.cause = nil
	}
	rep.Extend(l)
	s.raised = true
	return true
}

// chained reports whether the last exception led to another one. It is then the
// cause of the next problem, and none of its own.
func (s *pythonScanner) chained(l *sieve.Line, rep *sieve.Reporter) bool {
	if len(l.Text) == 0 {
		return true
	}
	s.raised = false
	if hasAnyPrefix(l.Text, causedException...) {
		if cause, ok := rep.Withdraw(); ok {
			s.cause = &problem.Related{Place: cause.Place, Message: cause.Message}
			return true
		}
	}
	rep.Finish()
	return s.Scan(l, rep)
}

// failedExample reads the place that doctest prints below a row of stars:
// `File "kiln.py", line 7, in kiln.Kiln`.
func (s *pythonScanner) failedExample(l *sieve.Line, rep *sieve.Reporter) (p problem.Problem, ok bool) {
	if !l.Has("File \"") || !lex.HasPrefix(rep.MarginLine(), "**********") {
		return p, false
	}
	p.Place, ok = pythonFrame(append([]byte(" "), l.Text...))
	return p, ok
}

// example reads the lines of a failed example: the example, the expected and the
// actual output, each below a headline.
func (s *pythonScanner) example(t []byte, rep *sieve.Reporter) bool {
	text := string(bytes.TrimSpace(t))
	message := &rep.Current().Message
	switch {
	case lex.HasPrefix(t, "****"), len(*message) > sieve.MaxLine:
		s.doctest = false
		rep.Finish()
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
	rest, ok := lex.CutPrefix(t, "Sorry: ")
	i := bytes.LastIndex(rest, []byte(" ("))
	if !ok || i < 0 {
		return p, false
	}
	file, line, ok := strings.Cut(string(bytes.TrimSuffix(rest[i+2:], []byte(")"))), ", line ")
	n, length := lex.Number([]byte(line))
	p = problem.Problem{Place: problem.Place{File: file, Line: n}, Message: string(rest[:i])}
	return p, ok && length > 0 && lex.PlausibleFile(file)
}

// exceptionLine reports whether a line is "KeyError: 'x'" or "package.Error".
func exceptionLine(t []byte) bool {
	i := 0
	for i < len(t) && (lex.IsLetter(t[i]) || lex.IsDigit(t[i]) || t[i] == '_' || t[i] == '.') {
		i++
	}
	return i > 0 && (i == len(t) || t[i] == ':' || t[i] == ' ' && bytes.Contains(t, []byte("Error")))
}

// ownFrame returns the index of the deepest frame that is neither the interpreter's nor a
// library's.
func ownFrame(frames []problem.Place) int {
	for i := len(frames) - 1; i >= 0; i-- {
		f := frames[i].File
		if f[0] != '<' && !strings.Contains(f, "/lib/python") && !strings.Contains(f, "site-packages/") && !strings.Contains(f, "dist-packages/") && !strings.Contains(f, "\\lib\\") {
			return i
		}
	}
	for i := len(frames) - 1; i >= 0; i-- {
		if frames[i].File[0] == '<' && !strings.HasPrefix(frames[i].File, "<frozen") { // given on the command line
			return i
		}
	}
	return len(frames) - 1
}

// pythonFrame reads `  File "app/conf.py", line 5, in load`.
func pythonFrame(t []byte) (p problem.Place, ok bool) {
	rest, found := lex.CutPrefix(bytes.TrimLeft(t, " |"), "File \"")
	if !found || len(rest) == len(t) {
		return p, false
	}
	i := bytes.Index(rest, []byte("\", line "))
	if i < 1 {
		return p, false
	}
	n, length := lex.Number(rest[i+8:])
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
	n, length := lex.Number(t[i+4:])
	rest, found := lex.CutPrefix(t[i+4+length:], ": ")
	category, message, said := bytes.Cut(rest, []byte(": "))
	if length == 0 || !found || !said || !bytes.HasSuffix(category, []byte("Warning")) || bytes.IndexByte(category, ' ') >= 0 {
		return p, false
	}
	p = problem.Problem{Place: problem.Place{File: string(t[:i+3]), Line: n}, Severity: problem.Warning, Code: string(category), Message: string(message)}
	return p, lex.PlausibleFile(p.File)
}
