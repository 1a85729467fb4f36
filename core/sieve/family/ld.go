package family

import (
	"bytes"
	"slices"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var ldFamily = sieve.Family{
	Name:    "ld",
	Lenient: true,
	Leads:   oneOf("(."),
	Alone:   oneOf("error: |fatal error: |warning: "),
	Behind:  append(oneOf("cannot find |cannot open |unrecognized option|final link failed|i386 |relocation |undefined symbol|in function `"), linkPhrases[:len(linkPhrases)-1]...),
	New:     func() sieve.Scanner { return &ldScanner{} },
}

// ldScanner reads the linkers (GNU ld, gold, lld) and what the compiler
// drivers say of themselves, without a place.
type ldScanner struct {
	// explained is the number of errors when the linker last failed.
	explained int
	// lld: the lines behind ">>>" belong to the problem.
	lld bool
}

func (s *ldScanner) Flush(*sieve.Reporter, bool) {}

var drivers = map[string]bool{
	"cc1": true, "cc1plus": true, "cc1obj": true, "f951": true, "lto1": true, "lto-wrapper": true, "collect2": true,
	"gcc": true, "g++": true, "cc": true, "c++": true, "gfortran": true, "clang": true, "clang++": true, "as": true,
	"cpp": true, "gnat1": true, "gdc": true, "d21": true, "rust1": true,
}

func (s *ldScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if rep.Current() != nil && s.lld {
		if rest, ok := lex.CutPrefix(t, ">>> "); ok {
			s.reference(bytes.TrimSpace(rest), rep)
			return true
		}
		rep.Finish()
	}
	if len(t) == 0 {
		return false
	}
	program, rest, linker := linkerSays(t)
	if !linker && program != "" {
		return s.driver(l, program, rest, rep)
	}
	if linker {
		if words, ok := lex.CutPrefix(rest, "error: "); ok {
			s.begin(l, rep, problem.Problem{Message: string(words)}, true)
			return true
		}
		if words, ok := lex.CutPrefix(rest, "warning: "); ok {
			s.begin(l, rep, problem.Problem{Severity: problem.Warning, Message: string(words)}, true)
			return true
		}
		if hasAnyPrefix(rest, "cannot find ", "cannot open ", "unrecognized option", "final link failed", "i386 ", "relocation ", "undefined reference to ") {
			if !lex.HasPrefix(rest, "final link failed") || rep.Errors() == s.explained {
				s.begin(l, rep, problem.Problem{Message: string(rest)}, false)
			}
			return true
		}
		if bytes.HasSuffix(rest, []byte("':")) && bytes.Contains(rest, []byte(": in function `")) {
			if rep.Busy() {
				rep.Finish()
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
				r.File = rep.Place(r.File)
				p.Related = []problem.Related{{Place: r, Message: "first defined here"}}
			}
		}
		if p.File != "" {
			p.File = rep.Place(p.File)
		}
		s.begin(l, rep, p, false)
		return true
	}
	return false
}

// linkPhrases are a linker's words behind a place.
var linkPhrases = slices.Concat(undefinedReference, manyDefinitions, []string{"relocation truncated to fit", "undefined symbol", "warning: "})

func (s *ldScanner) begin(l *sieve.Line, rep *sieve.Reporter, p problem.Problem, lld bool) {
	rep.Begin(l, p)
	if s.lld = lld; !lld {
		rep.Finish()
	}
	s.explained = rep.Errors()
}

// driver reads "cc1: error: message" and the driver's word that a tool failed,
// which is a problem only when nothing explains it.
func (s *ldScanner) driver(l *sieve.Line, program string, rest []byte, rep *sieve.Reporter) bool {
	p := problem.Problem{}
	words, ok := lex.CutPrefix(rest, "error: ")
	if !ok {
		if words, ok = lex.CutPrefix(rest, "fatal error: "); !ok {
			if words, ok = lex.CutPrefix(rest, "warning: "); !ok {
				return false
			}
			p.Severity = problem.Warning
		}
	}
	if program == "collect2" || bytes.HasPrefix(words, []byte("linker command failed")) {
		rep.Finish()
		if rep.Errors() > 0 {
			return true
		}
	}
	p.Message, p.Code = splitCode(string(words), false)
	s.begin(l, rep, p, false)
	return true
}

// reference reads lld's "referenced by main.c:5 (/src/main.c:5)".
func (s *ldScanner) reference(t []byte, rep *sieve.Reporter) {
	for _, lead := range [...]string{"referenced by ", "defined at "} {
		rest, ok := lex.CutPrefix(t, lead)
		if !ok {
			continue
		}
		if i := bytes.LastIndex(rest, []byte(" (")); i > 0 && rest[len(rest)-1] == ')' {
			rest = rest[i+2 : len(rest)-1]
		}
		place, ok := lex.PlaceAtEnd(rest)
		if !ok {
			return
		}
		place.File = rep.Place(place.File)
		if rep.Current().File == "" {
			rep.Current().Place = place
		} else {
			rep.Relate(problem.Related{Place: place, Message: string(bytes.TrimSpace([]byte(lead))) + " here"})
		}
		return
	}
}

// linkerSays cuts the program's name off the front of a line.
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
		if _, n := lex.Number([]byte(base[k+1:])); n > 0 {
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
		// object:source, if both are known
		if j := bytes.LastIndexByte(t, ':'); j > 0 {
			t = t[j+1:]
		}
		p.File = strings.TrimSpace(string(t))
		return p, lex.PlausibleFile(p.File)
	}
	if p, ok = lex.PlaceAtEnd(t); ok {
		for _, object := range [...]string{".o:", ".o):", ".obj:"} { // the object, in an archive or not
			if j := strings.LastIndex(p.File, object); j > 0 {
				p.File = p.File[j+len(object):]
			}
		}
		return p, true
	}
	p.File = string(t)
	return p, lex.PlausibleFile(p.File) && !bytes.ContainsAny(t, " ")
}
