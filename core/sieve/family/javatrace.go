package family

import (
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var javatraceFamily = sieve.Family{
	Name:  "javatrace",
	Leads: oneOf("Exception in thread \"|[ERROR] "),
	New:   func() sieve.Scanner { return &javatraceScanner{} },
}

// javatraceScanner reads the stack traces of programs of the Java virtual machine
// that end with one, and of tests as maven's surefire tells them: the first frame of
// the user own code, with what caused it.
type javatraceScanner struct {
	state   javatraceState
	name    string // of the test
	message string
	related []problem.Related
	place   problem.Place
	cause   string // whose frames are read
	first   sieve.Line
	last    sieve.Line
}

type javatraceState int

const (
	noTrace javatraceState = iota
	exceptionNext
	inTrace
)

func (s *javatraceScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.end(rep)
	}
}

func (s *javatraceScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := string(l.Text)
	if message, ok := strings.CutPrefix(t, "Exception in thread \""); ok {
		if _, message, ok = strings.Cut(message, "\" "); ok {
			s.begin(l, rep, inTrace, "")
			s.message = message
			return true
		}
	}
	if name, ok := surefireTest(t); ok {
		s.begin(l, rep, exceptionNext, name)
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
	case isFrame && l.Indent() > 0:
		s.frame(frame, rep)
	case isCause:
		s.cause = cause
	case l.Indent() > 0: // "... 12 more", or more of the message
		if s.place.File == "" && !strings.HasPrefix(body, "...") && strings.Count(s.message, "\n") < sieve.MaxParts {
			s.message += "\n" + body
		}
	default:
		s.end(rep)
		return false
	}
	s.last = l.Kept()
	return true
}

func (s *javatraceScanner) begin(l *sieve.Line, rep *sieve.Reporter, state javatraceState, name string) {
	s.end(rep)
	s.state, s.name, s.first, s.last = state, name, l.Kept(), l.Kept()
	rep.Attend(true)
}

// end reports the trace, if it has a place.
func (s *javatraceScanner) end(rep *sieve.Reporter) {
	f := *s
	*s = javatraceScanner{}
	rep.Attend(false)
	if f.state != inTrace || f.place.File == "" {
		return
	}
	rep.Give(problem.Problem{
		Place: f.place, Code: f.name, Message: f.message, Related: f.related,
		Output: sieve.SpanOf(&f.first, &f.last),
	})
}

// frame reads the first frame of the user's own code, of the exception and of each
// cause.
func (s *javatraceScanner) frame(t string, rep *sieve.Reporter) {
	p, ok := javaFrame(t)
	if !ok {
		return
	}
	p.File = rep.Place(p.File)
	switch {
	case s.place.File == "" && s.cause == "":
		s.place = p
	case s.cause != "" && len(s.related) < sieve.MaxParts:
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

// foreignPackages are those of stack frames beside the user's own code.
var foreignPackages = strings.Fields("java. javax. jdk. sun. com.sun. org.junit. junit. org.apache.maven. org.gradle. org.hamcrest. kotlin. kotlinx. scala. groovy. org.codehaus. org.opentest4j.")

// javaFrame reads "app//k.Kiln$Coil.heat(Kiln.java:4)" of the user own code; the
// file stands in the folder of its package.
func javaFrame(t string) (p problem.Place, ok bool) {
	method, in, _ := strings.Cut(t, "(")
	in, _, closed := strings.Cut(in, ")")
	method = method[strings.LastIndexByte(method, '/')+1:]
	if p, ok = lex.PlaceAtEnd([]byte(in)); !ok || !closed || strings.ContainsAny(p.File, "/\\ ") {
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
