package main

import (
	"bytes"
	"testing"

	"tidytally/core/problem"
)

// A problem in whose midst the output paused is printed once, with what was found of it later below it.
func TestAPauseWithinAProblem(t *testing.T) {
	first := problem.Problem{Seq: 1, Place: problem.Place{File: "coil.c", Line: 3}, Message: "no such member"}
	more := first
	more.Related = []problem.Related{{Place: problem.Place{File: "coil.h", Line: 1}, Message: "declared here"}}
	second := problem.Problem{Seq: 2, Place: first.Place, Message: "another"}
	for format, want := range map[string]string{
		"text": "coil.c:3: error: no such member\n    see coil.h:1: declared here\ncoil.c:3: error: another\n",
		"gnu":  "coil.c:3: error: no such member\ncoil.c:3: error: another\ncoil.c:3: error: no such member\n", // the last is of another input
	} {
		var out bytes.Buffer
		w, err := newProblemWriter(format, &out, ".")
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range []problem.Problem{first, more, more, second} {
			if err := w.problem(p); err != nil {
				t.Fatal(err)
			}
		}
		if w.next(); format == "gnu" {
			_ = w.problem(first)
		}
		if err := w.end(); err != nil || out.String() != want {
			t.Errorf("%s: %v\n%s\nwant\n%s", format, err, out.String(), want)
		}
	}
}
