package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

// A failure is what a test runner says of a test, while its lines are read: the place is the first frame of the user's own code.
type failure struct {
	name     string
	code     string // "" for the name
	severity problem.Severity
	message  []string
	place    problem.Place
	related  []problem.Related
	first    sieve.Line
	last     sieve.Line
}

func (f *failure) begin(l *sieve.Line, name string) {
	*f = failure{message: f.message[:0], name: name, first: l.Kept(), last: l.Kept()}
}

// say adds a line to the message; blank ones between its paragraphs do not count.
func (f *failure) say(l *sieve.Line, text string) {
	if n := len(f.message); n > 1 && strings.Trim(text, " ^~") == "" && strings.Contains(text, "^") { // the line above is the source
		f.message = f.message[:n-1]
		return
	}
	if text != "" && len(f.message) < maxBelow {
		f.message = append(f.message, text)
		f.last = l.Kept()
	}
}

// frame takes a place of the stack. Frames of libraries do not count. why says what a place after the first one is.
func (f *failure) frame(l *sieve.Line, p problem.Place, why string, rep *sieve.Reporter) {
	if isLibrary(p.File) {
		return
	}
	p.File = rep.Place(p.File)
	f.last = l.Kept()
	if f.place.File == "" {
		f.place = p
	} else if rel := len(f.related); rel < sieve.MaxParts && p != f.place && (rel == 0 || f.related[rel-1].Place != p) {
		f.related = append(f.related, problem.Related{Place: p, Message: why})
	}
}

// end reports the failure; nothing if nothing was said of it.
func (f *failure) end(rep *sieve.Reporter) {
	if len(f.message) > 0 {
		test := f.name
		if f.code == "" {
			f.code = f.name
		}
		rep.Give(problem.Problem{
			Place: f.place, Code: f.code, Test: test, Severity: f.severity, Message: strings.Join(f.message, "\n"), Related: f.related,
			Output: sieve.SpanOf(&f.first, &f.last),
		})
	}
	*f = failure{message: f.message[:0]}
}

// isLibrary reports whether a file is one of a language or a package rather than of the project.
func isLibrary(file string) bool {
	if file == "-e" {
		return true
	}
	for _, in := range [...]string{"<internal:", "/usr/", "phar://", "node:", "(eval", "vendor/"} {
		if strings.HasPrefix(file, in) {
			return true
		}
	}
	for _, in := range [...]string{"node_modules/", "/gems/", "/vendor/", "/lib/ruby/"} {
		if strings.Contains(file, in) {
			return true
		}
	}
	return false
}

// rubyFrame reads `lib/kiln.rb:7:in `heat'`, with a blank or a mark of a list before it taken off. Some runners leave out the method.
func rubyFrame(t []byte) (p problem.Place, ok bool) {
	where, _, in := bytes.Cut(t, []byte(":in "))
	if p, ok = lex.PlaceAtEnd(where); !ok || p.Column > 0 {
		return p, false
	}
	return p, in || strings.HasSuffix(p.File, ".rb")
}

// numbered takes the number of an item of a list off: `12) name`.
func numbered(t string) (rest string, ok bool) {
	_, n := lex.Number([]byte(t))
	if n == 0 || !strings.HasPrefix(t[n:], ") ") {
		return "", false
	}
	return t[n+2:], true
}
