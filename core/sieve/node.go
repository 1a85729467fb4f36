package sieve

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"tidytally/core/problem"
)

// nodeScanner reads what Node.js prints when a program throws: the place and
// the source above, then the error with its stack.
type nodeScanner struct {
	self  int
	place problem.Place
	start line
	lines int
	wait  bool
}

func (s *nodeScanner) flush(*Engine, bool) {}

func (s *nodeScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if p, ok := scriptPlace(t); ok {
		if e.owner != s.self {
			e.finish()
		}
		s.place, s.start, s.wait, s.lines = p, l.kept(), true, 0
		e.owner = s.self
		return true
	}
	if e.owner != s.self {
		return false
	}
	if s.wait {
		if isThrown(t) {
			s.wait = false
			p := problem.Problem{Place: s.place, Message: strings.TrimPrefix(string(t), "Uncaught ")}
			p.File = e.place(p.File)
			start := s.start
			e.begin(&start, s.self, p)
			e.extend(l)
			return true
		}
		if mark := bytes.TrimLeft(t, " \t"); s.place.Column == 0 && len(mark) > 0 && len(bytes.Trim(mark, "^")) == 0 {
			s.place.Column = utf8.RuneCount(t[:len(t)-len(mark)]) + 1
		}
		if s.lines++; s.lines > 8 {
			s.wait = false
			e.owner = -1
			return false
		}
		return true
	}
	if !e.open {
		return false
	}
	if rest, ok := cutPrefix(bytes.TrimLeft(t, " "), "at "); ok && l.indent() >= 4 {
		frame := bytes.TrimSuffix(rest, []byte(")"))
		if i := bytes.LastIndexByte(frame, '('); i >= 0 {
			frame = frame[i+1:]
		}
		if p, ok := placeAtEnd(frame); ok && !nodeLibrary(p.File) {
			p.File = e.place(p.File)
			if e.current.Line == p.Line && e.current.File == p.File && len(e.current.Related) == 0 && (e.current.Column == 0 || e.current.Column == p.Column) {
				e.current.Column = p.Column
			} else {
				e.relate(problem.Related{Place: p, Message: "called from here"})
			}
		}
		return true
	}
	e.finish()
	return false
}

// scriptPlace reads a line that is a place of a script and nothing else.
func scriptPlace(t []byte) (p problem.Place, ok bool) {
	if len(t) < 6 || !isDigit(t[len(t)-1]) || bytes.IndexByte(t, ' ') >= 0 && t[0] != '/' && !hasPrefix(t, "file:") {
		return p, false
	}
	if p, ok = placeAtEnd(t); !ok || p.Column > 0 {
		return p, false
	}
	for _, end := range [...]string{".js", ".mjs", ".cjs", ".ts", ".mts", ".cts", ".jsx", ".tsx"} {
		if strings.HasSuffix(p.File, end) {
			return p, strings.HasPrefix(p.File, "/") || strings.HasPrefix(p.File, "file:")
		}
	}
	return p, false
}

// nodeLibrary tells the files of Node.js itself and of packages.
func nodeLibrary(file string) bool {
	return strings.HasPrefix(file, "node:") || strings.Contains(file, "node_modules/")
}

// isThrown tells "TypeError: x is not a function" and "Error [CODE]: …".
func isThrown(t []byte) bool {
	word, _, found := bytes.Cut(bytes.TrimPrefix(t, []byte("Uncaught ")), []byte(": "))
	if !found {
		return false
	}
	word, _, _ = bytes.Cut(word, []byte(" ["))
	return bytes.HasSuffix(word, []byte("Error")) && bytes.IndexByte(word, ' ') < 0
}
