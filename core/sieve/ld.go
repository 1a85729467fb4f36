package sieve

import (
	"bytes"
	"slices"
	"strings"

	"tidytally/core/problem"
)

// ldScanner reads the linkers (GNU ld, gold, lld) and what the compiler
// drivers say of themselves, without a place.
type ldScanner struct {
	self int
	// object is the file that the last "in function" line spoke of.
	explained int
	// lld says that the lines behind ">>>" belong to the problem.
	lld bool
}

func (s *ldScanner) flush(*Engine, bool) {}

var drivers = map[string]bool{
	"cc1": true, "cc1plus": true, "cc1obj": true, "f951": true, "lto1": true, "lto-wrapper": true, "collect2": true,
	"gcc": true, "g++": true, "cc": true, "c++": true, "gfortran": true, "clang": true, "clang++": true, "as": true,
	"cpp": true, "gnat1": true, "gdc": true, "d21": true, "rust1": true,
}

func (s *ldScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if e.owner == s.self && e.open && s.lld {
		if rest, ok := cutPrefix(t, ">>> "); ok {
			s.reference(bytes.TrimSpace(rest), e)
			return true
		}
		e.finish()
	}
	if len(t) == 0 {
		return false
	}
	program, rest, linker := linkerSays(t)
	if !linker && program != "" {
		return s.driver(l, program, rest, e)
	}
	if linker {
		if words, ok := cutPrefix(rest, "error: "); ok {
			s.begin(l, e, problem.Problem{Message: string(words)}, true)
			return true
		}
		if words, ok := cutPrefix(rest, "warning: "); ok {
			s.begin(l, e, problem.Problem{Severity: problem.Warning, Message: string(words)}, true)
			return true
		}
		if hasAnyPrefix(rest, "cannot find ", "cannot open ", "unrecognized option", "final link failed", "i386 ", "relocation ", "undefined reference to ") {
			if !hasPrefix(rest, "final link failed") || e.errors == s.explained {
				s.begin(l, e, problem.Problem{Message: string(rest)}, false)
			}
			return true
		}
		if bytes.HasSuffix(rest, []byte("':")) && bytes.Contains(rest, []byte(": in function `")) {
			if e.owner >= 0 {
				e.finish()
			}
			return true
		}
		t = rest
	}
	for _, phrase := range linkPhrases {
		i := bytes.Index(t, []byte(phrase))
		if i < 2 || t[i-1] != ' ' || t[i-2] != ':' {
			continue
		}
		place, ok := linkPlace(bytes.TrimRight(t[:i-2], " \u00a0"))
		if !ok || phrase == "warning: " && !bytes.Contains(t[:i-2], []byte("(.")) {
			return false
		}
		p := problem.Problem{Place: place, Message: string(t[i:])}
		if phrase == "warning: " {
			p.Severity, p.Message = problem.Warning, string(t[i+len(phrase):])
		}
		if message, other, ok := strings.Cut(p.Message, "; "); ok && strings.HasSuffix(other, "first defined here") {
			p.Message = message
			at, _, _ := strings.Cut(other, ": first defined here")
			if r, ok := linkPlace([]byte(at)); ok && r.File != "" {
				r.File = e.place(r.File)
				p.Related = []problem.Related{{Place: r, Message: "first defined here"}}
			}
		}
		if p.File != "" {
			p.File = e.place(p.File)
		}
		s.begin(l, e, p, false)
		return true
	}
	return false
}

// linkPhrases tell what a linker says of a place.
var linkPhrases = slices.Concat(undefinedReference, manyDefinitions, []string{"relocation truncated to fit", "undefined symbol", "warning: "})

func (s *ldScanner) begin(l *line, e *Engine, p problem.Problem, lld bool) {
	e.begin(l, s.self, p)
	if s.lld = lld; !lld {
		e.finish()
	}
	s.explained = e.errors
}

// driver reads "cc1: error: message" and the driver's word that a tool failed,
// which is a problem only when nothing explains it.
func (s *ldScanner) driver(l *line, program string, rest []byte, e *Engine) bool {
	p := problem.Problem{}
	words, ok := cutPrefix(rest, "error: ")
	if !ok {
		if words, ok = cutPrefix(rest, "fatal error: "); !ok {
			if words, ok = cutPrefix(rest, "warning: "); !ok {
				return false
			}
			p.Severity = problem.Warning
		}
	}
	if program == "collect2" || bytes.HasPrefix(words, []byte("linker command failed")) {
		e.finish()
		if e.errors > 0 {
			return true
		}
	}
	p.Message, p.Code = splitCode(string(words), false)
	s.begin(l, e, p, false)
	return true
}

// reference reads lld's "referenced by main.c:5 (/src/main.c:5)".
func (s *ldScanner) reference(t []byte, e *Engine) {
	for _, lead := range [...]string{"referenced by ", "defined at "} {
		rest, ok := cutPrefix(t, lead)
		if !ok {
			continue
		}
		if i := bytes.LastIndex(rest, []byte(" (")); i > 0 && rest[len(rest)-1] == ')' {
			rest = rest[i+2 : len(rest)-1]
		}
		place, ok := placeAtEnd(rest)
		if !ok {
			return
		}
		place.File = e.place(place.File)
		if e.current.File == "" {
			e.current.Place = place
		} else {
			e.relate(problem.Related{Place: place, Message: string(bytes.TrimSpace([]byte(lead))) + " here"})
		}
		return
	}
}

// linkerSays cuts the program's name from the front of a line.
func linkerSays(t []byte) (program string, rest []byte, linker bool) {
	i := bytes.Index(t, []byte(": "))
	if i < 2 {
		return "", nil, false
	}
	if i > 256 || bytes.IndexByte(t[:i], ':') >= 0 {
		return "", nil, false // a place, no program
	}
	name := string(t[bytes.LastIndexByte(t[:i], '/')+1 : i])
	rest = t[i+2:]
	if strings.HasSuffix(name, "-ld") || name == "ld" || strings.HasPrefix(name, "ld.") || name == "gold" || name == "ld64" {
		return name, rest, true
	}
	base := name
	if k := strings.LastIndexByte(base, '-'); k >= 0 && !drivers[base] {
		if _, n := number([]byte(base[k+1:])); n > 0 {
			base = base[:k] // gcc-12
		}
		if k = strings.LastIndexByte(base, '-'); k >= 0 {
			base = base[k+1:] // arm-none-eabi-gcc
		}
	}
	if drivers[base] {
		return base, rest, false
	}
	return "", nil, false
}

// linkPlace reads file.c:12, file.c:(.text+0x5), lib.a(x.o):(.text+0x5) and
// (.text+0x5), which names no file.
func linkPlace(t []byte) (p problem.Place, ok bool) {
	if i := bytes.LastIndex(t, []byte("(.")); i >= 0 && t[len(t)-1] == ')' {
		t = bytes.TrimSuffix(t[:i], []byte(":"))
		if len(t) == 0 {
			return p, true
		}
		// object:source where both are known
		if j := bytes.LastIndexByte(t, ':'); j > 0 {
			t = t[j+1:]
		}
		p.File = strings.TrimSpace(string(t))
		return p, plausibleFile(p.File)
	}
	if p, ok = placeAtEnd(t); ok {
		if j := strings.LastIndex(p.File, ".o:"); j > 0 {
			p.File = p.File[j+3:]
		}
		return p, true
	}
	p.File = string(t)
	return p, plausibleFile(p.File) && !bytes.ContainsAny(t, " ")
}
