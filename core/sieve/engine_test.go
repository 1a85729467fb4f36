package sieve_test

import (
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/family"
)

func sift(output []byte) []problem.Problem {
	var c sieve.Collector
	e := sieve.New(family.All, sieve.Options{Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
	e.Write(output)
	e.Close()
	return c.Problems
}

func logs(t testing.TB) []string {
	t.Helper()
	names, err := filepath.Glob("family/testdata/*/*.log")
	if err != nil || len(names) < 10 {
		t.Fatalf("only %d logs in testdata: %v", len(names), err)
	}
	return names
}

// The first look keeps lines from families to save time, never a problem: with
// every line shown to every family, the problems are the same.
func TestTheFirstLookLosesNothing(t *testing.T) {
	for _, name := range logs(t) {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		var c sieve.Collector
		e := sieve.New(family.All, sieve.Options{Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
		sieve.ShowAll(e)
		e.Write(data)
		e.Close()
		if got := sift(data); !reflect.DeepEqual(got, c.Problems) {
			t.Errorf("%s: sifted after a first look:\n%+v\nwithout:\n%+v", name, got, c.Problems)
		}
	}
}

// The first look marks a line in a block as it marks the line alone.
func FuzzFirstLook(f *testing.F) {
	for _, name := range logs(f) {
		data, err := os.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data[:min(len(data), 4<<10)])
	}
	f.Add([]byte("a.g\nD\n41: x\r\n12 errors\r\nD\n"))
	f.Add([]byte("a.c:1: x\r\n\r\n:\n(\n12 errors\n   9 error\n[ {\n[ 42%] a.c\n 02:03 b\nx 02:03:04 c.rs:1\nd: " + "parser error : e.\n"))
	e := sieve.New(family.All, sieve.Options{})
	f.Fuzz(func(t *testing.T, text []byte) {
		if fault := sieve.LookFault(e, text); fault != "" {
			t.Fatal(fault)
		}
	})
}

// A problem that is repeated near by is counted once, also when more problems came
// before than are remembered, and the memory for them has a bound.
func TestSaidTwiceInALongLog(t *testing.T) {
	given, repeats := 0, 0
	e := sieve.New(family.All, sieve.Options{Problem: func(problem.Problem) { given++ }, Repeat: func(int) { repeats++ }})
	const n = sieve.MaxSeen + sieve.MaxSeen/2
	for i := range n {
		for range 2 {
			fmt.Fprintf(e, "kiln/coil%d.h:%d:2: warning: twice\n", i, i+1)
		}
	}
	e.Close()
	if given != n || repeats != n {
		t.Errorf("%d problems were given and %d said again, of %d", given, repeats, n)
	}
	if _, entries := sieve.Kept(e); entries > 4*sieve.MaxSeen {
		t.Errorf("%d entries for at most %d problems", entries, 2*sieve.MaxSeen)
	}
}

// A line of any length is bounded, and the one behind it is read.
func TestEndlessLine(t *testing.T) {
	var c sieve.Collector
	e := sieve.New(family.All, sieve.Options{Problem: c.Problem})
	for range 64 {
		e.Write([]byte(strings.Repeat("x", 64<<10)))
	}
	fmt.Fprint(e, "\na.c:1:1: error: e\n")
	e.Close()
	if e.Stats().LongLines != 1 || len(c.Problems) != 1 || c.Problems[0].Output.FirstLine != 2 {
		t.Errorf("stats %+v, problems %+v", e.Stats(), c.Problems)
	}
	if part, _ := sieve.Kept(e); part > 4*sieve.MaxLine {
		t.Errorf("%d bytes of an endless line are kept", part)
	}
}

// unsaid begins a problem without a message at "?", and takes its message from "!".
type unsaid struct{}

func (unsaid) Scan(l *sieve.Line, r *sieve.Reporter) bool {
	if string(l.Text) == "? coil.c" {
		r.Begin(l, problem.Problem{Place: problem.Place{File: "coil.c", Line: l.Number}, Severity: problem.Error, Message: " "})
		return true
	}
	if said, ok := strings.CutPrefix(string(l.Text), "! "); ok && r.Current() != nil {
		r.Current().Message = said
		r.Finish()
		return true
	}
	return false
}

func (unsaid) Flush(*sieve.Reporter, bool) {}

// A problem without a message is refused and counted; one whose message comes after
// a pause is reported once, with it.
func TestNoProblemWithoutAMessage(t *testing.T) {
	var c sieve.Collector
	set := sieve.NewSet([]sieve.Family{{Name: "unsaid", Leads: []string{"? ", "! "}, New: func() sieve.Scanner { return unsaid{} }}}, nil)
	given := 0
	e := sieve.New(set, sieve.Options{Problem: func(p problem.Problem) { given++; c.Problem(p) }})
	fmt.Fprint(e, "? coil.c\n? coil.c\n")
	e.Pause()
	fmt.Fprint(e, "! too hot\n? coil.c\n")
	e.Pause()
	e.Close()
	if given != 1 || len(c.Problems) != 1 || c.Problems[0].Message != "too hot" || c.Problems[0].Line != 2 {
		t.Errorf("%d given: %+v", given, c.Problems)
	}
	if n := e.Stats().Unsaid; n != 2 {
		t.Errorf("%d refused", n)
	}
}
