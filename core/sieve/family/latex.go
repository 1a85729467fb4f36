package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var latexFamily = sieve.Family{
	Name:    "latex",
	Lenient: true,
	Columns: problem.Bytes,
	Leads:   oneOf("This is pdfTeX,|This is TeX,|This is XeTeX,|This is LuaTeX,|This is LuaHBTeX,|This is e-pTeX,|This is e-upTeX,|! "),
	Endings: oneOf("tex|ltx|sty|cls|dtx|tikz|bbl|aux|toc"),
	New:     func() sieve.Scanner { return &latexScanner{} },
}

// latexScanner reads what the engines of TeX print: errors with a line below them and warnings with one in them, in the file that
// was opened last and not closed (TeX: The Program, §537 and §311; -file-line-error names the file). Lines
// are broken after 79 bytes, whatever stands there (max_print_line of texmf.cnf).
type latexScanner struct {
	open   []string // the files, the innermost last; "" for a bracket that is none
	within bool     // an engine's output goes on
	broken []byte   // the beginning of a line that was broken
	start  sieve.Line
	rest   int    // of a warning: how many of its lines may follow
	pack   string // what its lines begin with
	waits  bool   // an error waits for its line
	failure
}

// latexBreaks is the number of bytes after which a line is broken.
const latexBreaks = 79

func (s *latexScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.end(rep)
		s.leave(rep)
	}
}

func (s *latexScanner) leave(rep *sieve.Reporter) {
	s.within, s.open, s.broken = false, s.open[:0], s.broken[:0]
	rep.Attend(false)
}

func (s *latexScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if bytes.HasPrefix(t, []byte("This is ")) && bytes.Contains(t, []byte("TeX, Version ")) {
		s.end(rep)
		s.leave(rep)
		s.within = true
		rep.Attend(true)
		return true
	}
	if len(s.broken) > 0 {
		s.broken = append(s.broken, t...)
		t = s.broken
	} else {
		s.start = l.Kept()
	}
	if s.within && len(l.Text) == latexBreaks && len(t) < 10*latexBreaks {
		if len(s.broken) == 0 {
			s.broken = append(s.broken, t...)
		}
		return true
	}
	s.broken = s.broken[:0]
	return s.line(l, t, rep)
}

// line reads a whole line.
func (s *latexScanner) line(l *sieve.Line, t []byte, rep *sieve.Reporter) bool {
	place, message, placed := latexPlace(t)
	switch {
	case placed && !isLatexEnd(message), lex.HasPrefix(t, "! ") && (s.within || latexSays(t[2:])) && !isLatexEnd(string(t[2:])):
		s.end(rep)
		s.begin(&s.start, "")
		if !placed {
			message = string(t[2:])
			place.File = s.file()
		}
		s.say(l, message)
		if s.waits = true; place.File != "" && !isLibrary(place.File) {
			place.File = rep.Place(place.File)
			s.place = place
		}
		rep.Attend(true)
		rep.Claim()
		return true
	case placed || lex.HasPrefix(t, "! ") && s.within: // what follows from an error
		return true
	case s.waits:
		return s.below(l, t, rep)
	case s.rest > 0 && len(t) > 0 && lex.HasPrefix(t, s.pack):
		s.rest--
		s.message[0] += " " + strings.TrimSpace(string(t[len(s.pack):]))
		s.last = l.Kept()
		s.numbered(rep)
		return true
	case !s.within:
		return false
	}
	if s.rest > 0 {
		s.end(rep)
	}
	if lex.HasPrefix(t, "Transcript written on ") {
		s.leave(rep)
		return true
	}
	if s.warns(l, t, rep) {
		return true
	}
	s.brackets(string(t))
	return false
}

// latexPlace reads "./main.tex:4: Undefined control sequence."
func latexPlace(t []byte) (p problem.Place, message string, ok bool) {
	i := bytes.Index(t, []byte(": "))
	if i < 1 || t[0] == ' ' {
		return p, "", false
	}
	if p, ok = lex.PlaceAtEnd(t[:i]); !ok || p.Column > 0 {
		return p, "", false
	}
	for _, end := range latexFamily.Endings {
		if strings.HasSuffix(p.File, "."+end) {
			return p, string(t[i+2:]), true
		}
	}
	return p, "", false
}

// isLatexEnd reports whether a message only says that TeX gives up.
func isLatexEnd(message string) bool {
	message = strings.TrimSpace(message)
	return message == "Emergency stop." || strings.HasPrefix(message, "==> Fatal error occurred")
}

// latexSays reports whether a line behind its mark is an error of TeX without the beginning of its output.
func latexSays(t []byte) bool {
	return hasAnyPrefix(t, "LaTeX Error: ", "Undefined control sequence.", "Missing ", "Package ", "Class ", "Extra ", "Too many ", "Double ", "Paragraph ended ", "File ended ", "Misplaced ", "Illegal ", "Argument of ", "Use of ", "TeX capacity ", "I can't ")
}

// file returns the innermost file that is open; "" if none is.
func (s *latexScanner) file() string {
	for i := len(s.open) - 1; i >= 0; i-- {
		if s.open[i] != "" {
			return s.open[i]
		}
	}
	return ""
}

// below reads a line below an error: `l.4 Hello \undefined`, where TeX had read to when it stopped.
func (s *latexScanner) below(l *sieve.Line, t []byte, rep *sieve.Reporter) bool {
	rest, at := lex.CutPrefix(t, "l.")
	n, k := lex.Number(rest)
	switch {
	case at && k > 0:
		if s.place.File != "" {
			s.place.Line = n
			read, spaced := lex.CutPrefix(rest[k:], " ")
			if whole := spaced && !lex.HasPrefix(read, "..."); whole && strings.HasPrefix(s.message[0], "Undefined control sequence") {
				if i := bytes.LastIndexByte(read, '\\'); i >= 0 {
					s.place.Column, s.place.EndLine, s.place.EndColumn = i+1, n, len(read)+1
				}
			}
		}
		s.last = l.Kept()
		s.end(rep)
	case lex.HasPrefix(t, "<*> ") || lex.HasPrefix(t, "Transcript written on "):
		if name := string(bytes.TrimSpace(t[3:])); s.place.File == "" && t[0] == '<' && lex.PlausibleFile(name) { // all of it was read
			s.place.File = rep.Place(name)
		}
		s.end(rep)
	case lex.HasPrefix(t, "("): // more of the message of a package: (amsmath)   …
		if pack, text, ok := bytes.Cut(t, []byte(") ")); ok && !bytes.ContainsAny(pack, "./ ") {
			s.message[0] += " " + strings.TrimSpace(string(text))
		} else {
			s.brackets(string(t))
		}
	case l.Number-s.first.Number > 30:
		s.end(rep)
		return false
	}
	return true
}

// warns reads "LaTeX Warning: Reference `a' on page 1 undefined on input line 6." and its like of packages, and lines that are too long.
func (s *latexScanner) warns(l *sieve.Line, t []byte, rep *sieve.Reporter) bool {
	text := string(t)
	if rest, ok := strings.CutPrefix(text, `Overfull \hbox `); ok {
		_, lines, ok := strings.Cut(rest, " at line")
		lines = strings.TrimLeft(lines, "s ")
		if n, k := lex.Number([]byte(lines)); ok && k > 0 && s.file() != "" && !isLibrary(s.file()) {
			rep.Give(problem.Problem{
				Place: problem.Place{File: rep.Place(s.file()), Line: n}, Severity: problem.Note, Code: "overfull", Message: `Overfull \hbox ` + strings.TrimSuffix(rest[:strings.Index(rest, " at line")], " in paragraph"),
				Output: sieve.SpanOf(&s.start, l),
			})
		}
		return true
	}
	who, message, ok := strings.Cut(text, " Warning: ")
	words := strings.Fields(who)
	if !ok || len(words) == 0 || len(words) > 3 || words[0] != "LaTeX" && words[0] != "Package" && words[0] != "Class" && words[0] != "pdfTeX" {
		return false
	}
	if strings.HasPrefix(message, "There were ") || strings.HasPrefix(message, "Label(s) may have changed") {
		return true
	}
	s.begin(&s.start, "")
	s.say(l, message)
	s.severity, s.rest = problem.Warning, 6
	if s.pack = ""; len(words) > 1 {
		s.pack = "(" + words[1] + ")"
		s.code = words[1]
	}
	s.numbered(rep)
	return true
}

// numbered takes the line from the end of a warning, which ends it.
func (s *latexScanner) numbered(rep *sieve.Reporter) {
	text, line, ok := strings.Cut(s.message[0], " on input line ")
	n, k := lex.Number([]byte(line))
	if !ok || k == 0 {
		if s.pack == "" || strings.HasSuffix(s.message[0], ".") {
			s.rest = 0
			s.end(rep) // without a line
		}
		return
	}
	if s.message[0], s.rest = text, 0; s.file() != "" && !isLibrary(s.file()) {
		s.place = problem.Place{File: rep.Place(s.file()), Line: n}
	}
	s.end(rep)
}

// end reports what is read.
func (s *latexScanner) end(rep *sieve.Reporter) {
	s.waits, s.rest = false, 0
	s.failure.end(rep)
	rep.Attend(s.within)
}

// brackets follows the files that are opened and closed.
func (s *latexScanner) brackets(t string) {
	for i := 0; i < len(t); i++ {
		switch t[i] {
		case '(':
			name := t[i+1:]
			if end := strings.IndexAny(name, "()[]{}<> \t"); end >= 0 && !strings.HasPrefix(name, `"`) {
				name = name[:end]
			} else if strings.HasPrefix(name, `"`) { // with blanks
				name, _, _ = strings.Cut(name[1:], `"`)
			}
			if !strings.ContainsAny(name, "./") || strings.HasSuffix(name, ".") {
				name = ""
			}
			if len(s.open) < 500 {
				s.open = append(s.open, name)
			}
			i += len(name)
		case ')':
			if n := len(s.open); n > 0 {
				s.open = s.open[:n-1]
			}
		}
	}
}
