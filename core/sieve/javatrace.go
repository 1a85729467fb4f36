package sieve

import (
	"strings"

	"tidytally/core/problem"
)

// javatraceScanner reads the stack traces of programs of the Java virtual
// machine that end with one, and of tests as maven's surefire tells them: the
// first frame of the user's own code, with what caused it.
type javatraceScanner struct {
	self    int
	state   javatraceState
	name    string // of the test
	message string
	related []problem.Related
	place   problem.Place
	cause   string // whose frames are read
	first   line
	last    line
}

type javatraceState int

const (
	noTrace javatraceState = iota
	exceptionNext
	inTrace
)

func (s *javatraceScanner) flush(e *Engine, last bool) {
	if last {
		s.end(e)
	}
}

func (s *javatraceScanner) scan(l *line, e *Engine) bool {
	t := string(l.text)
	if message, ok := strings.CutPrefix(t, "Exception in thread \""); ok {
		if _, message, ok = strings.Cut(message, "\" "); ok {
			s.begin(l, e, inTrace, "")
			s.message = message
			return true
		}
	}
	if name, ok := surefireTest(t); ok {
		s.begin(l, e, exceptionNext, name)
		return true
	}
	if s.state == noTrace {
		return false
	}
	body := strings.TrimLeft(t, " \t")
	frame, isFrame := strings.CutPrefix(body, "at ")
	cause, isCause := strings.CutPrefix(body, "Caused by: ")
	switch {
	case s.state == exceptionNext && t != "":
		s.message, s.state = t, inTrace
	case isFrame && l.indent() > 0:
		s.frame(frame, e)
	case isCause:
		s.cause = cause
	case l.indent() > 0: // "... 12 more", or more of the message
		if s.place.File == "" && !strings.HasPrefix(body, "...") && strings.Count(s.message, "\n") < maxParts {
			s.message += "\n" + body
		}
	default:
		s.end(e)
		return false
	}
	s.last = l.kept()
	return true
}

func (s *javatraceScanner) begin(l *line, e *Engine, state javatraceState, name string) {
	s.end(e)
	s.state, s.name, s.first, s.last = state, name, l.kept(), l.kept()
	e.attend(s.self, true)
}

// end gives out the trace that was read, when it has a place.
func (s *javatraceScanner) end(e *Engine) {
	f := *s
	*s = javatraceScanner{self: f.self}
	e.attend(s.self, false)
	if f.state != inTrace || f.place.File == "" {
		return
	}
	e.give(s.self, problem.Problem{
		Place: f.place, Code: f.name, Message: f.message, Related: f.related,
		Output: spanOf(&f.first, &f.last),
	})
}

// frame takes the first frame of the user's own, of the exception and of each
// that caused it.
func (s *javatraceScanner) frame(t string, e *Engine) {
	p, ok := javaFrame(t)
	if !ok {
		return
	}
	p.File = e.place(p.File)
	switch {
	case s.place.File == "" && s.cause == "":
		s.place = p
	case s.cause != "" && len(s.related) < maxParts:
		s.related = append(s.related, problem.Related{Place: p, Message: "caused by " + s.cause})
		s.cause = ""
	}
}

// surefireTest reads "[ERROR] heats(k.KilnTest)  Time elapsed: 0.006 s  <<< FAILURE!"
// and the later "[ERROR] k.KilnTest.heats -- Time elapsed: 0.006 s <<< ERROR!".
func surefireTest(t string) (name string, ok bool) {
	rest, ok := strings.CutPrefix(t, "[ERROR] ")
	if !ok || !strings.HasSuffix(rest, "<<< FAILURE!") && !strings.HasSuffix(rest, "<<< ERROR!") {
		return "", false
	}
	name, _, ok = strings.Cut(rest, "Time elapsed: ")
	name = strings.TrimRight(name, " -")
	return name, ok && name != "" && !strings.HasPrefix(name, "Tests run")
}

// foreignPackages are what stands in a stack beside the user's own code.
var foreignPackages = strings.Fields("java. javax. jdk. sun. com.sun. org.junit. junit. org.apache.maven. org.gradle. org.hamcrest. kotlin. kotlinx. scala. groovy. org.codehaus. org.opentest4j.")

// javaFrame reads "app//k.Kiln$Coil.heat(Kiln.java:4)" of the user's own code; the
// file stands in the folder of its package.
func javaFrame(t string) (p problem.Place, ok bool) {
	method, in, _ := strings.Cut(t, "(")
	in, _, closed := strings.Cut(in, ")")
	method = method[strings.LastIndexByte(method, '/')+1:]
	if p, ok = placeAtEnd([]byte(in)); !ok || !closed || strings.ContainsAny(p.File, "/\\ ") {
		return p, false
	}
	for _, foreign := range foreignPackages {
		if strings.HasPrefix(method, foreign) {
			return p, false
		}
	}
	parts := strings.Split(method, ".")
	if len(parts) > 2 {
		p.File = strings.Join(parts[:len(parts)-2], "/") + "/" + p.File
	}
	return p, true
}
