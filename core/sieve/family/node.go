package family

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var nodeFamily = sieve.Family{
	Name:    "node",
	Lenient: true,
	Columns: problem.UTF16,
	Leads:   append(commentedHeads, nodeHeads...),
	Endings: oneOf("js|mjs|cjs|ts|mts|cts|jsx|tsx"),
	New:     func() sieve.Scanner { return &nodeScanner{} },
}

// nodeHeads begin the places in Node.js's own code, and in code without a file.
var nodeHeads = oneOf("node:|<anonymous_script>:|evalmachine.<anonymous>:|[eval]:|[eval1]:")

// commentedHeads are those that node --test puts behind the mark of a comment (TAP version 13), places of scripts too.
var commentedHeads = oneOf("# node:|# <anonymous_script>:|# evalmachine.<anonymous>:|# /|# file:")

// nodeScanner reads what Node.js prints when a program throws: the place and
// the source above, then the error with its stack. If the place is in Node.js's own code, the first frame of the
// program is the one that counts.
type nodeScanner struct {
	place problem.Place
	start sieve.Line
	lines int
	wait  bool
	text  []byte // the line of source below the place
	last  string // the line before, while the error is waited for
	inner bool   // the place is in Node.js's own code, and no frame of the program has come
	mark  bool   // the lines stand behind the mark of a comment
}

func (s *nodeScanner) Flush(*sieve.Reporter, bool) {}

func (s *nodeScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t, mark := lex.CutPrefix(l.Text, "# ")
	if rep.Claimed() && s.mark != mark {
		s.wait = false
		rep.Finish()
		rep.Release()
	}
	p, ok := scriptPlace(t)
	inner := !ok && innerPlace(t)
	if inner {
		p = problem.Place{}
	}
	if ok || inner {
		if !rep.Claimed() {
			rep.Finish()
		}
		s.place, s.start, s.wait, s.lines, s.inner, s.last, s.mark = p, l.Kept(), true, 0, inner, "", mark
		rep.Claim()
		return true
	}
	if !rep.Claimed() {
		return false
	}
	if s.wait {
		if isThrown(t) {
			s.wait = false
			p := problem.Problem{Place: s.place, Message: strings.TrimPrefix(string(t), "Uncaught ")}
			p.File = rep.Place(p.File)
			start := s.start
			if _, from, imported := strings.Cut(p.Message, " imported from "); imported && s.inner && (from[0] == '/' || strings.HasPrefix(from, "file:")) {
				p.File, s.inner = rep.Place(from), false
			}
			rep.Begin(&start, p)
			if !s.inner {
				rep.ShowsSource(p.Line, s.text, false)
			}
			rep.Extend(l)
			s.lines = 0
			return true
		}
		if lex.HasPrefix(t, "(Use `node --trace-uncaught") && s.last != "" { // what is thrown is no error
			start := s.start
			s.place.File = rep.Place(s.place.File)
			rep.Begin(&start, problem.Problem{Place: s.place, Message: "Uncaught " + s.last})
			rep.ShowsSource(s.place.Line, s.text, false)
			rep.Extend(l)
			rep.Finish()
			s.wait = false
			return true
		}
		if s.last = string(t); s.lines == 0 {
			s.text = bytes.Clone(t)
		}
		if mark := bytes.TrimLeft(t, " \t"); !s.inner && s.place.Column == 0 && len(mark) > 0 && len(bytes.Trim(mark, "^")) == 0 {
			s.place.Column = utf8.RuneCount(t[:len(t)-len(mark)]) + 1
		}
		if s.lines++; s.lines > 8 {
			s.wait = false
			rep.Release()
			return false
		}
		return true
	}
	if rep.Current() == nil {
		return false
	}
	if rest, ok := lex.CutPrefix(bytes.TrimLeft(t, " "), "at "); ok && lex.HasPrefix(t, "    ") {
		frame := bytes.TrimSuffix(rest, []byte(")"))
		if i := bytes.LastIndexByte(frame, '('); i >= 0 {
			frame = frame[i+1:]
		}
		if p, ok := lex.PlaceAtEnd(frame); ok && !nodeLibrary(p.File) {
			p.File = rep.Place(p.File)
			if s.inner {
				rep.Current().Place, s.inner = p, false
				return true
			}
			if c := rep.Current(); c.File == p.File && c.Line == 0 { // known by its name so far
				c.Place = p
				return true
			}
			if c := rep.Current(); c.Line == p.Line && c.File == p.File && len(c.Related) == 0 && (c.Column == 0 || c.Column == p.Column) {
				c.Column = p.Column
			} else {
				rep.Relate(problem.Related{Place: p, Message: "called from here"})
			}
		}
		return true
	}
	if s.inner && s.lines < 8 && len(t) > 0 { // the message goes on, or says who required what is missing
		if s.lines++; string(t) != "Require stack:" && !lex.HasPrefix(t, "- ") {
			rep.AppendLine(string(t))
		}
		return true
	}
	rep.Finish()
	return false
}

// innerPlace reports whether a line is a place in Node.js's own code, or in code without a file, and nothing else.
func innerPlace(t []byte) bool {
	if len(t) < 6 || !lex.IsDigit(t[len(t)-1]) || bytes.IndexByte(t, ' ') >= 0 {
		return false
	}
	return hasAnyPrefix(t, nodeHeads...)
}

// scriptPlace reads a line that is a place of a script and nothing else.
func scriptPlace(t []byte) (p problem.Place, ok bool) {
	if len(t) < 6 || !lex.IsDigit(t[len(t)-1]) || bytes.IndexByte(t, ' ') >= 0 && t[0] != '/' && !lex.HasPrefix(t, "file:") {
		return p, false
	}
	if p, ok = lex.PlaceAtEnd(t); !ok || p.Column > 0 {
		return p, false
	}
	for _, end := range [...]string{".js", ".mjs", ".cjs", ".ts", ".mts", ".cts", ".jsx", ".tsx"} {
		if strings.HasSuffix(p.File, end) {
			return p, strings.HasPrefix(p.File, "/") || strings.HasPrefix(p.File, "file:")
		}
	}
	return p, false
}

// nodeLibrary reports whether a file is Node.js's own or a package's.
func nodeLibrary(file string) bool {
	return strings.HasPrefix(file, "node:") || strings.Contains(file, "node_modules/")
}

// isThrown reports whether a line is an error: "TypeError: x is not a function",
// "Error [CODE]: …".
func isThrown(t []byte) bool {
	word, _, found := bytes.Cut(bytes.TrimPrefix(t, []byte("Uncaught ")), []byte(": "))
	if !found {
		return false
	}
	word, _, _ = bytes.Cut(word, []byte(" ["))
	return (bytes.HasSuffix(word, []byte("Error")) || string(word) == "UnhandledPromiseRejection") && bytes.IndexByte(word, ' ') < 0
}
