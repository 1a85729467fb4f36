package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var beamFamily = sieve.Family{
	Name:    "beam",
	Lenient: true,
	Leads:   oneOf("** ("),
	Endings: oneOf("erl|hrl|yrl|xrl|ex|exs"),
	New:     func() sieve.Scanner { return &beamScanner{} },
}

// beamScanner reads the compilers of Erlang, whose errors have no word before
// them, and of Elixir, whose warnings have their place below.
type beamScanner struct{}

func (s *beamScanner) Flush(*sieve.Reporter, bool) {}

func (s *beamScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	p, ok := raisedBy(l.Text)
	if !ok {
		if p, ok = elixirWarning(l.Text, rep); !ok {
			if p, ok = erlangLine(l.Text); !ok {
				return false
			}
		}
	}
	p.File = rep.Place(p.File)
	rep.Begin(l, p)
	rep.Finish()
	return true
}

// raisedBy reads "** (CompileError) lib/kiln.ex:4: message".
func raisedBy(t []byte) (p problem.Problem, ok bool) {
	rest, ok := lex.CutPrefix(t, "** (")
	if !ok {
		return p, false
	}
	kind, rest, raised := bytes.Cut(rest, []byte("Error) "))
	where, message, found := bytes.Cut(rest, []byte(": "))
	if p.Place, ok = lex.PlaceAtEnd(where); !ok || !raised || !found || bytes.IndexByte(kind, ' ') >= 0 {
		return p, false
	}
	p.Code, p.Message = string(kind)+"Error", string(message)
	return p, true
}

// elixirWarning reads "  lib/kiln.ex:3: Kiln.heat/1" below "warning: message".
func elixirWarning(t []byte, rep *sieve.Reporter) (p problem.Problem, ok bool) {
	if !elixirPlace(t) {
		return p, false
	}
	where, _, _ := bytes.Cut(t[2:], []byte(": "))
	heading := string(rep.MarginLine())
	for word, severity := range map[string]problem.Severity{"warning: ": problem.Warning, "error: ": problem.Error} {
		if message, found := strings.CutPrefix(heading, word); found {
			p.Severity, p.Message = severity, message
			p.Place, ok = lex.PlaceAtEnd(where)
			return p, ok
		}
	}
	return p, false
}

// elixirPlace reports whether a line is the place of the problem above it.
func elixirPlace(t []byte) bool {
	if lex.Indent(t) != 2 {
		return false
	}
	i := bytes.Index(t, []byte(".ex"))
	if i < 0 {
		return false
	}
	rest := bytes.TrimPrefix(t[i+3:], []byte("s"))
	return len(rest) > 1 && rest[0] == ':' && lex.IsDigit(rest[1]) && bytes.IndexByte(t[2:i], ' ') < 0
}

// erlangLine reads "kiln.erl:4:12: syntax error before: x".
func erlangLine(t []byte) (p problem.Problem, ok bool) {
	i := bytes.Index(t, []byte("rl:"))
	if i < 2 || t[i-2] != '.' || t[i-1] != 'e' && t[i-1] != 'h' && t[i-1] != 'y' && t[i-1] != 'x' || t[0] == ' ' {
		return p, false
	}
	where, message, found := bytes.Cut(t, []byte(": "))
	if p.Place, ok = lex.PlaceAtEnd(where); !ok || !found {
		return p, false
	}
	p.Message = strings.TrimSpace(string(message))
	if rest, warned := strings.CutPrefix(p.Message, "Warning: "); warned {
		p.Severity, p.Message = problem.Warning, rest
	}
	return p, p.Message != ""
}
