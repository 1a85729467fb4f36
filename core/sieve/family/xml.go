package family

import (
	"bytes"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var xmlFamily = sieve.Family{
	Name: "xml",
	// The domains of libxml2's errors (xmlErrorDomain in xmlerror.h).
	Behind: oneOf("parser |namespace |validity |element |Schemas |Relax-NG |HTML parser |I/O |XInclude |XPath |XPointer |XSLT |encoding |Entity|regexp |Catalog |C14N "),
	New:    func() sieve.Scanner { return &xmlScanner{} },
}

// xmlScanner reads xmllint: "d.xml:1: parser error : message", with the source
// and a caret below.
type xmlScanner struct {
	lines int
}

func (s *xmlScanner) Flush(*sieve.Reporter, bool) {}

func (s *xmlScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	for _, w := range [...]struct {
		mark string
		sev  problem.Severity
	}{{" error : ", problem.Error}, {" warning : ", problem.Warning}} {
		i := bytes.Index(t, []byte(w.mark))
		if i < 4 {
			continue
		}
		j := bytes.LastIndex(t[:i], []byte(": "))
		if j < 2 {
			continue
		}
		place, ok := lex.PlaceAtEnd(t[:j])
		if !ok {
			// file:1: element b: validity error : …
			if k := bytes.LastIndex(t[:j], []byte(": ")); k > 0 {
				place, ok = lex.PlaceAtEnd(t[:k])
			}
		}
		if !ok {
			continue
		}
		place.File = rep.Place(place.File)
		rep.Begin(l, problem.Problem{Place: place, Severity: w.sev, Message: string(t[i+len(w.mark):])})
		s.lines = 0
		return true
	}
	if rep.Current() == nil {
		return false
	}
	if s.lines++; s.lines <= 2 {
		return true // the source and the caret
	}
	rep.Finish()
	return false
}
