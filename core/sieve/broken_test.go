package sieve_test

import (
	"fmt"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
)

// cracks panics at "crack", or when it is flushed.
type cracks struct{ flushed bool }

func (c cracks) Scan(l *sieve.Line, r *sieve.Reporter) bool {
	if string(l.Text) == "? crack" {
		r.Begin(l, problem.Problem{Place: problem.Place{File: "bowl.c", Line: 1}, Message: "half of it"})
		panic("cracked")
	}
	return false
}

func (c cracks) Flush(*sieve.Reporter, bool) {
	if c.flushed {
		panic("cracked when flushed")
	}
}

// A family that panics costs its own problems and nothing else, and that is told.
func TestAFamilyThatPanics(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	for _, flushed := range []bool{false, true} {
		var c sieve.Collector
		set := sieve.NewSet([]sieve.Family{
			{Name: "cracks", Leads: []string{"? "}, New: func() sieve.Scanner { return cracks{flushed} }},
			{Name: "unsaid", Leads: []string{"? ", "! "}, New: func() sieve.Scanner { return unsaid{} }},
		}, nil)
		e := sieve.New(set, sieve.Options{Problem: c.Problem, Repeat: c.Repeat})
		fmt.Fprint(e, "? crack\n? coil.c\n! too hot\n? crack\n")
		e.Pause()
		fmt.Fprint(e, "? coil.c\n! too cold\n")
		e.Close()
		var said []string
		for _, p := range c.Problems {
			said = append(said, p.Message)
		}
		if got := strings.Join(said, ", "); got != "too hot, too cold" {
			t.Errorf("flushed %v: %q", flushed, got)
		}
		if faults := e.Stats().Faults; len(faults) != 1 || !strings.Contains(faults[0].Error(), "the sieve cracks: cracked") {
			t.Errorf("flushed %v: told %v", flushed, faults)
		}
	}
}
