package family

import (
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
)

func TestSplitCode(t *testing.T) {
	t.Parallel()
	for message, want := range map[string]string{
		"unused variable 'x' [-Wunused-variable]":                          "unused variable 'x'|unused-variable",
		"unused [-Werror=unused]":                                          "unused|unused",
		"unused [-Werror,-Wunused]":                                        "unused|unused",
		"double free [CWE-415] [-Wanalyzer-double-free]":                   "double free|analyzer-double-free",
		"invalid conversion [-fpermissive]":                                "invalid conversion|-fpermissive",
		"quote this [SC2086]":                                              "quote this|SC2086",
		"use nullptr [modernize-use-nullptr]":                              "use nullptr|modernize-use-nullptr",
		"unknown pragma [-Wunknown-pragmas,Lexical or Preprocessor Issue]": "unknown pragma|unknown-pragmas",
		"expected ';' [Parse Issue]":                                       "expected ';'|",
		"has type 'int[3]'":                                                "has type 'int[3]'|",
		"array of [3]":                                                     "array of [3]|",
		"see [the manual]":                                                 "see [the manual]|",
		"ends in [":                                                        "ends in [|",
		"":                                                                 "|",
	} {
		text, code := splitCode(message, true)
		if got := text + "|" + code; got != want {
			t.Errorf("%q: got %q, want %q", message, got, want)
		}
	}
}

// Where a relative path belongs: the task's folder, the folders that make
// entered, or the only file whose path ends so.
func TestPlacesAreResolved(t *testing.T) {
	t.Parallel()
	there := map[string]bool{"kiln/src/main.c": true, "kiln/lib/x.c": true, "app/y.c": true, "kiln/a.c": true, "app": true, "kiln/lib": true}
	search := map[string][]string{"main.c": {"kiln/src/main.c"}, "twice.c": {"a/twice.c", "b/twice.c"}}
	sift := func(output string) []problem.Problem {
		var c sieve.Collector
		e := sieve.New(All, sieve.Options{
			Root: "/w", Dir: "kiln", Problem: c.Problem, Repeat: c.Repeat,
			Exists: func(p string) bool { return there[strings.TrimPrefix(p, "/w/")] },
			Search: func(tail string) []string { return search[tail] },
		})
		e.Write([]byte(output))
		e.Close()
		return c.Problems
	}
	for _, c := range []struct {
		name, output, file string
		byName             bool
	}{
		{"the task's folder", "a.c:1:1: error: e\n", "kiln/a.c", false},
		{"absolute in the workspace", "/w/app/y.c:1:1: error: e\n", "app/y.c", false},
		{"absolute outside", "/usr/include/x.h:1:1: error: e\n", "/usr/include/x.h", false},
		{"entered", "make[1]: Entering directory '/w/kiln/lib'\nx.c:1:1: error: e\n", "kiln/lib/x.c", false},
		{"left", "make[1]: Entering directory '/w/kiln/lib'\nmake[1]: Leaving directory '/w/kiln/lib'\na.c:1:1: error: e\n", "kiln/a.c", false},
		{"ninja", "ninja: Entering directory `lib'\nx.c:1:1: error: e\n", "kiln/lib/x.c", false},
		{"dots", "../app/./y.c:1:1: error: e\n", "app/y.c", false},
		{"file URL", "file:///w/app/y.c:1:1: error: e\n", "app/y.c", false},
		{"found by name", "main.c:1:1: error: e\n", "kiln/src/main.c", true},
		{"several have the name", "twice.c:1:1: error: e\n", "kiln/twice.c", false},
		{"side by side, by the command", "make[1]: Entering directory '/w/kiln/lib'\ncc -c -o x.o x.c\nmake[1]: Entering directory '/w/app'\ncc -c -o y.o y.c\nx.c:1:1: error: e\n", "kiln/lib/x.c", false},
		{"side by side, by what is there", "make[1]: Entering directory '/w/app'\nmake[1]: Entering directory '/w/kiln/lib'\ny.c:1:1: error: e\n", "app/y.c", false},
	} {
		got := sift(c.output)
		if len(got) != 1 || got[0].File != c.file || got[0].FoundByName != c.byName {
			t.Errorf("%s: %+v, want %s", c.name, got, c.file)
		}
	}
}

// What somebody was lent does not change behind their back.
func TestLentProblemsStay(t *testing.T) {
	t.Parallel()
	var c sieve.Collector
	c.Problem(problem.Problem{Seq: 1, Message: "a", Times: 1})
	c.Problem(problem.Problem{Seq: 2, Message: "b", Times: 1})
	lent := c.Lend()
	c.Repeat(1)
	c.Problem(problem.Problem{Seq: 2, Message: "b with a note", Times: 1})
	c.Problem(problem.Problem{Seq: 3, Message: "c", Times: 1})
	if len(lent) != 2 || lent[0].Times != 1 || lent[1].Message != "b" {
		t.Errorf("lent: %+v", lent)
	}
	if now := c.Lend(); len(now) != 3 || now[0].Times != 2 || now[1].Message != "b with a note" {
		t.Errorf("now: %+v", now)
	}
	c.NextCycle(1)
	if len(c.Problems) != 0 || len(c.Before) != 3 {
		t.Errorf("after a cycle: %d, before %d", len(c.Problems), len(c.Before))
	}
}

func TestFamiliesAreNamedOnce(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for _, name := range All.Families() {
		if seen[name] {
			t.Errorf("%s stands twice", name)
		}
		seen[name] = true
	}
	if All.Families()[len(All.Families())-1] != "gnu" {
		t.Error("the most general family comes last")
	}
}
