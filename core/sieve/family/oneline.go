package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var onelineFamily = sieve.Family{
	Name:    "oneline",
	Endings: oneOf("proto|hs|build|txt|options|xml"),
	Behind:  oneOf("trailing whitespace.|leftover conflict marker|new blank line at EOF.|space before tab in indent.|indent with spaces.|tab in indent."),
	New:     func() sieve.Scanner { return &onelineScanner{} },
}

// onelineScanner reads tools that say a problem in one line in a form of their
// own: the protobuf compiler, git's check of white space, the frames of
// Haskell's call stacks, meson, ant.
type onelineScanner struct{}

func (s *onelineScanner) Flush(*sieve.Reporter, bool) {}

func (s *onelineScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	for _, read := range [...]func([]byte) (problem.Problem, bool){protocLine, whitespaceLine, haskellFrame, mesonLine} {
		p, ok := read(l.Text)
		if !ok {
			continue
		}
		p.File = rep.Place(p.File)
		rep.Begin(l, p)
		rep.Finish()
		return true
	}
	if string(rep.MarginLine()) == "BUILD FAILED" {
		return s.ant(l, rep)
	}
	return false
}

// ant reads what ant says behind "BUILD FAILED": `/w/build.xml:3: hot`.
func (s *onelineScanner) ant(l *sieve.Line, rep *sieve.Reporter) bool {
	i := bytes.Index(l.Text, []byte(": "))
	if i < 1 {
		return false
	}
	place, ok := lex.PlaceAtEnd(l.Text[:i])
	if !ok || place.Column > 0 || !strings.HasSuffix(place.File, ".xml") {
		return false
	}
	message := string(l.Text[i+2:])
	if strings.HasPrefix(message, "Compile failed;") || strings.HasPrefix(message, "The following error occurred") {
		return false // reported above, or below
	}
	if strings.Contains(message, " returned: ") && rep.Anything() {
		return false // what it started has said why
	}
	place.File = rep.Place(place.File)
	rep.Begin(l, problem.Problem{Place: place, Message: message})
	rep.Finish()
	return true
}

// mesonLine reads `meson.build:2:0: ERROR: Unknown function "x".`; its columns count
// from zero.
func mesonLine(t []byte) (p problem.Problem, ok bool) {
	for _, w := range [...]struct {
		text string
		sev  problem.Severity
	}{{": ERROR: ", problem.Error}, {": WARNING: ", problem.Warning}, {": DEPRECATION: ", problem.Warning}} {
		i := bytes.Index(t, []byte(w.text))
		if i < 1 || !lex.HasPrefix(t[bytes.LastIndexByte(t[:i], '/')+1:], "meson") {
			continue
		}
		columns := bytes.Count(t[:i], []byte(":")) > 1
		if p.Place, ok = lex.PlaceAtEnd(t[:i]); !ok {
			return p, false
		}
		if columns {
			p.Column++
		}
		p.Severity, p.Message = w.sev, string(t[i+len(w.text):])
		return p, true
	}
	return p, false
}

// protocLine reads `kiln.proto:5:3: "Temp" is not defined.`
func protocLine(t []byte) (p problem.Problem, ok bool) {
	i := bytes.Index(t, []byte(".proto:"))
	if i < 1 || t[0] == ' ' {
		return p, false
	}
	end := bytes.Index(t[i+7:], []byte(": "))
	if end < 0 {
		return p, false
	}
	end += i + 7
	if p.Place, ok = lex.PlaceAtEnd(t[:end]); !ok {
		return p, false
	}
	p.Message = string(t[end+2:])
	if rest, ok := strings.CutPrefix(p.Message, "warning: "); ok {
		p.Severity, p.Message = problem.Warning, rest
	}
	return p, p.Message != "" && !strings.HasPrefix(p.Message, "error: ")
}

// whitespaceLine reads what git diff --check says (git-diff(1), "--check";
// git-config(1), "core.whitespace").
func whitespaceLine(t []byte) (p problem.Problem, ok bool) {
	for _, says := range [...]string{"trailing whitespace.", "leftover conflict marker", "new blank line at EOF.", "space before tab in indent.", "indent with spaces.", "tab in indent."} {
		i := bytes.Index(t, []byte(": "+says))
		if i < 1 {
			continue
		}
		if p.Place, ok = lex.PlaceAtEnd(t[:i]); !ok || p.Column > 0 {
			return p, false
		}
		p.Message = strings.TrimSuffix(string(t[i+2:]), ".")
		if says != "leftover conflict marker" {
			p.Severity = problem.Warning
		}
		return p, true
	}
	return p, false
}

// haskellFrame reads the frame of a call stack that is in the user's own
// package: `  heat, called at app/Main.hs:7:9 in main:Main`.
func haskellFrame(t []byte) (p problem.Problem, ok bool) {
	i := bytes.Index(t, []byte(", called at "))
	j := bytes.LastIndex(t, []byte(" in main:"))
	if i < 3 || j < i || t[0] != ' ' {
		return p, false
	}
	p.Place, ok = lex.PlaceAtEnd(t[i+12 : j])
	p.Message = "an error was raised in " + string(bytes.TrimSpace(t[:i]))
	return p, ok
}
