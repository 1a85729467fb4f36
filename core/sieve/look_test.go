package sieve

import (
	"bytes"
	"fmt"
	"os"
	"reflect"
	"slices"
	"testing"

	"tidytally/core/problem"
)

// The first look keeps lines from families to save time, never a problem: with
// every line shown to every family, the problems are the same.
func TestTheFirstLookLosesNothing(t *testing.T) {
	for _, name := range logs(t) {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		var c Collector
		e := New(Options{Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
		e.look = newFirstLook(e.families, false)
		for i := range e.families {
			e.look.every |= 1 << i
		}
		for first := range e.look.first {
			e.look.first[first] = beginsAll
		}
		e.Write(data)
		e.Close()
		if got := sift(t, data); !reflect.DeepEqual(got, c.Problems) {
			t.Errorf("%s: sifted after a first look:\n%s\nwithout:\n%s", name, lines(got), lines(c.Problems))
		}
	}
}

// What the first look says of a line in a block is what it says of it alone.
func FuzzFirstLook(f *testing.F) {
	for _, name := range logs(f) {
		data, err := os.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data[:min(len(data), 4<<10)])
	}
	f.Add([]byte("a.c:1: x\r\n\r\n:\n(\n12 errors\n   9 error\n[ {\n[ 42%] a.c\n 02:03 b\nx 02:03:04 c.rs:1\nd: " + "parser error : e.\n"))
	e := New(Options{})
	f.Fuzz(func(t *testing.T, text []byte) {
		var b Block
		e.Look(text, &b)
		if want := bytes.Count(text, []byte("\n")); b.lines != want {
			t.Fatalf("%d lines for %d", b.lines, want)
		}
		marks, at, number := b.marks, 0, 0
		for raw := range bytes.Lines(text) {
			raw, ended := bytes.CutSuffix(raw, []byte("\n"))
			if !ended {
				break
			}
			start := at
			at += len(raw) + 1
			number++
			var m mark
			if len(marks) > 0 && marks[0].start == start {
				if m, marks = marks[0], marks[1:]; m.line != number || m.end != start+len(raw) {
					t.Fatalf("line %d from %d to %d is marked as %+v", number, start, start+len(raw), m)
				}
			}
			raw = withoutReturn(raw)
			if redo := bytes.ContainsAny(raw, "\x1b\r") || len(raw) > MaxLine; m.redo != redo {
				t.Fatalf("%q is to be cleaned: %v", raw, m.redo)
			} else if redo || len(raw) == 0 {
				continue
			}
			if has, wants := e.look.one(raw); has != m.traits || wants != m.wants {
				t.Fatalf("%q has traits %b and is wanted by %b alone, %b and %b in the block", raw, has, wants, m.traits, m.wants)
			}
		}
		if len(marks) > 0 {
			t.Fatalf("marks of lines that are not there: %+v", marks)
		}
	})
}

// However the bits are found, they are those that the words say.
func FuzzFind(f *testing.F) {
	f.Add([]byte("a.c:1: x\n(2 (x : :\n\x1b[1m\r\n"), 3)
	f.Add(bytes.Repeat([]byte("x:9\n:("), 50), 0)
	f.Add([]byte("\xba\xba:\x80:\xb0(\xb9\x8a:/::(;"), 60)
	f.Fuzz(func(t *testing.T, text []byte, shift int) {
		text = append(bytes.Repeat([]byte("y"), int(uint(shift)%64)), text...)
		for name, got := range map[string][]spots{"": find(text, nil), "in words ": findInAllWords(text)} {
			for i, c := range text {
				next := byte(0)
				if i+1 < len(text) {
					next = text[i+1]
				}
				hint := c == 0x1b || c == '\r' || c == ':' && (isDigit(next) || next == ' ') || c == '(' && isDigit(next)
				s := got[i/64]
				if ends := s.ends>>(i%64)&1 == 1; ends != (c == '\n') {
					t.Fatalf("%q at %d of %q: found %sas an end: %v", c, i, text, name, ends)
				}
				if hints := s.hints>>(i%64)&1 == 1; hints != hint {
					t.Fatalf("%q at %d of %q: found %sas a hint: %v", c, i, text, name, hints)
				}
			}
		}
	})
}

func findInAllWords(text []byte) []spots {
	padded := append(bytes.Clone(text), make([]byte, 129)...)
	into := make([]spots, len(text)/64+1)
	findInWords(padded, into)
	return into
}

// What is said twice near by is counted once, also when more problems came
// before than are remembered, and the memory for them has a bound.
func TestSaidTwiceInALongLog(t *testing.T) {
	given, repeats := 0, 0
	e := New(Options{Problem: func(problem.Problem) { given++ }, Repeat: func(int) { repeats++ }})
	const n = maxSeen + maxSeen/2
	for i := range n {
		for range 2 {
			fmt.Fprintf(e, "kiln/coil%d.h:%d:2: warning: twice\n", i, i+1)
		}
	}
	e.Close()
	if given != n || repeats != n {
		t.Errorf("%d problems were given and %d said again, of %d", given, repeats, n)
	}
	if entries := len(e.seen.newer) + len(e.seen.older); entries > 4*maxSeen {
		t.Errorf("%d entries for at most %d problems", entries, 2*maxSeen)
	}
}

// A task may name the families that look at its output: those that have a log
// for themselves find the same in it when they are alone.
func TestAFamilyAlone(t *testing.T) {
	alone := 0
	for _, name := range logs(t) {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		all := sift(t, data)
		if len(all) == 0 || slices.ContainsFunc(all, func(p problem.Problem) bool { return p.Family != all[0].Family }) {
			continue
		}
		family := all[0].Family
		if !slices.Contains(Families(), family) {
			continue // a document
		}
		alone++
		var c Collector
		e := New(Options{Families: []string{family}, Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
		for rest := data; len(rest) > 0; rest = rest[min(len(rest), 777):] {
			e.Write(rest[:min(len(rest), 777)])
		}
		e.Close()
		if got, want := lines(c.Problems), lines(all); got != want {
			t.Errorf("%s, %s alone:\n%s\namong all:\n%s", name, family, got, want)
		}
		// And none of them finds it when it is left out.
		var others []string
		for _, f := range Families() {
			if f != family {
				others = append(others, f)
			}
		}
		e = New(Options{Families: others, Problem: func(p problem.Problem) {
			if p.Family == family {
				t.Errorf("%s: %s was left out, and found %s", name, family, p.GNU())
			}
		}})
		e.Write(data)
		e.Close()
	}
	if alone < 20 {
		t.Errorf("only %d logs are of one family", alone)
	}
}

// Each family has a bit beside those of the first look itself.
func TestThereIsABitForEachFamily(t *testing.T) {
	if n := len(Families()); uint64(1)<<n > wantAll {
		t.Errorf("%d families", n)
	}
}
