package sieve

import (
	"fmt"
	"strings"
	"testing"

	"tidytally/core/problem"
)

func TestPlaceAtEnd(t *testing.T) {
	for text, want := range map[string]string{
		"a.c:3":                          "a.c 3",
		"a.c:3:5":                        "a.c 3:5",
		"a.c:3.5":                        "a.c 3:5",
		"a.y:3.5-9":                      "a.y 3:5-3:10",
		"a.y:3:5-9":                      "a.y 3:5-3:10",
		"a.y:3.5-4.9":                    "a.y 3:5-4:10",
		"a.c:3-7":                        "a.c 3-7",
		"a.c(3)":                         "a.c 3",
		"a.c(3,5)":                       "a.c 3:5",
		"a.cs(3,5,4,9)":                  "a.cs 3:5-4:9",
		"a.c +3:5":                       "a.c 3:5",
		"my dir/a b.c:3:5":               "my dir/a b.c 3:5",
		`C:\src\a.c:3:5`:                 `C:\src\a.c 3:5`,
		"C:/src/a.c(3)":                  "C:/src/a.c 3",
		"a:b.c:3:5":                      "a:b.c 3:5",
		"<stdin>:1:2":                    "<stdin> 1:2",
		"dir.1/a.c:3":                    "dir.1/a.c 3",
		"日本.c:3:5":                       "日本.c 3:5",
		"a.c:3 ":                         "a.c 3",
		"":                               "",
		"3":                              "",
		":3":                             "",
		"12:30:45":                       "",
		"2026-11-25 12:30":               "",
		"10.0.0.1:80":                    "",
		"http://x.example/a:80":          "",
		"[::1]:80":                       "",
		"a.c:":                           "",
		"a.c:x":                          "",
		"a.c:1234567890123":              "",
		"f(x)":                           "",
		"f()":                            "",
		"f(1,2,3)":                       "",
		"a\x01.c:3":                      "",
		strings.Repeat("x", 5000) + ":3": "",
	} {
		p, ok := placeAtEnd([]byte(text))
		got := ""
		if ok {
			got = fmt.Sprintf("%s %d", p.File, p.Line)
			if p.Column > 0 {
				got += fmt.Sprintf(":%d", p.Column)
			}
			if p.EndLine > 0 {
				got += fmt.Sprintf("-%d", p.EndLine)
				if p.EndColumn > 0 {
					got += fmt.Sprintf(":%d", p.EndColumn)
				}
			}
		}
		if got != want {
			t.Errorf("%q: got %q, want %q", text[:min(40, len(text))], got, want)
		}
	}
}

func TestSplitCode(t *testing.T) {
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

func TestStripEscapes(t *testing.T) {
	for in, want := range map[string]string{
		"\x1b[01;31m\x1b[Ka\x1b[m\x1b[K":         "a",
		"\x1b]8;;http://x\x07link\x1b]8;;\x1b\\": "link",
		"\x1b(Bcharset":                          "charset", "\x1b[38;2;1;2;3mx": "x", "a\x08\x00\x07b\tc": "ab\tc", "cut \x1b[3": "cut ", "cut \x1b": "cut ", "\x1bPdata\x1b\\x": "x", "\x1b[?25lx": "x",
	} {
		if got, _ := stripEscapes(nil, []byte(in)); string(got) != want {
			t.Errorf("%q: got %q, want %q", in, got, want)
		}
	}
	for in, want := range map[string]bool{"\x1b[2J": true, "\x1b[3J\x1b[H": true, "\x1bc": true, "\x1b[J": false, "\x1b[1J": false, "\x1b[K": false} {
		if _, cleared := stripEscapes(nil, []byte(in)); cleared != want {
			t.Errorf("%q: cleared %v", in, cleared)
		}
	}
}

// Where a relative path belongs: the task's folder, the folders that make
// entered, or the only file whose path ends so.
func TestPlacesAreResolved(t *testing.T) {
	there := map[string]bool{"kiln/src/main.c": true, "kiln/lib/x.c": true, "app/y.c": true, "kiln/a.c": true}
	search := map[string][]string{"main.c": {"kiln/src/main.c"}, "twice.c": {"a/twice.c", "b/twice.c"}}
	sift := func(output string) []problem.Problem {
		var c Collector
		e := New(Options{
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
	var c Collector
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
	seen := map[string]bool{}
	for _, name := range Families() {
		if seen[name] {
			t.Errorf("%s stands twice", name)
		}
		seen[name] = true
	}
	if Families()[len(Families())-1] != "gnu" {
		t.Error("the most general family comes last")
	}
}
