package family

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
)

// A workspace with a few files, as the engine is told of it.
func inWorkspace(files ...string) sieve.Options {
	there := map[string]bool{}
	for _, f := range files {
		there[f] = true
	}
	return sieve.Options{
		Root:   "/w",
		Exists: func(p string) bool { return there[strings.TrimPrefix(p, "/w/")] },
		Search: func(tail string) (found []string) {
			for _, f := range files {
				if f == tail || strings.HasSuffix(f, "/"+tail) {
					found = append(found, f)
				}
			}
			return found
		},
	}
}

// Paths are those of this machine, whatever the tool saw: mapped by the tally
// file, found by their end, offered when several are meant, or left as they are.
func TestPlacesInsideOfContainers(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, printed, want string
		byName              bool
		mayBe               int
	}{
		{"mapped", "/build/src/coil.c:3:1: error: x\n", "kiln/src/coil.c", false, 0},
		{"of this machine", "/w/kiln/src/coil.c:3:1: error: x\n", "kiln/src/coil.c", false, 0},
		{"the end of a container's path", "/app/shop/src/page.ts(3,1): error TS1: x\n", "shop/src/page.ts", true, 0},
		{"a name alone is not enough", "/usr/include/coil.c:3:1: error: x\n", "/usr/include/coil.c", false, 0},
		{"two of a name", "util.c:3:1: error: x\n", "util.c", false, 2},
		{"one of a name", "page.ts(3,1): error TS1: x\n", "shop/src/page.ts", true, 0},
		{"none", "gone.c:3:1: error: x\n", "gone.c", false, 0},
	} {
		var c2 sieve.Collector
		opts := inWorkspace("kiln/src/coil.c", "shop/src/page.ts", "a/util.c", "b/util.c")
		opts.Map = []sieve.Mapping{{From: "/build", To: "/w/kiln"}}
		opts.Problem = c2.Problem
		e := sieve.New(All, opts)
		e.Write([]byte(c.printed))
		e.Close()
		if len(c2.Problems) != 1 {
			t.Errorf("%s: %v", c.name, c2.Problems)
			continue
		}
		if p := c2.Problems[0]; p.File != c.want || p.FoundByName != c.byName || len(p.MayBe) != c.mayBe {
			t.Errorf("%s: %s, found by name %v, may be %v", c.name, p.File, p.FoundByName, p.MayBe)
		}
	}
}

// The tools' own counts agree with what was found in their own outputs, and a
// line that is missing shows.
func TestSummariesAreComparedWithWhatWasFound(t *testing.T) {
	t.Parallel()
	stats := func(text string) []sieve.Summary {
		e := sieve.New(All, sieve.Options{Problem: func(problem.Problem) {}})
		e.Write([]byte(text))
		e.Close()
		return e.Stats().Summaries
	}
	for text, want := range map[string]sieve.Summary{
		"/w/a.js\n  3:7   error    'x' is not defined  no-undef\n  10:1  warning  Unexpected  no-debugger\n\n✖ 2 problems (1 error, 1 warning)\n": {Family: "blocks", Line: 5, Said: 2, Found: 2},
		"/w/a.js\n  3:7   error    'x' is not defined  no-undef\n\n✖ 2 problems (1 error, 1 warning)\n":                                           {Family: "blocks", Line: 4, Said: 2, Found: 1},
		"a.ts(1,2): error TS2322: x\na.ts(1,2): error TS2322: x\n\nFound 2 errors in 1 files.\n":                                                  {Family: "tsc", Line: 4, Said: 2, Found: 2},
		"A.java:3: error: ';' expected\n  int x\n       ^\n1 error\n":                                                                             {Family: "java", Line: 4, Said: 1, Found: 1},
		"a.py:3: error: Incompatible types  [assignment]\nFound 1 error in 1 file (checked 1 source file)\n":                                      {Family: "gnu", Line: 2, Said: 1, Found: 1},
	} {
		if got := stats(text); len(got) != 1 || got[0] != want {
			t.Errorf("%q: %v, want %v", text, got, want)
		}
	}
	for _, name := range []string{"eslint.log", "javac.log"} {
		for _, s := range stats(string(golden(t, name))) {
			if s.Said != s.Found {
				t.Errorf("%s, line %d: it says %d, %d were found", name, s.Line, s.Said, s.Found)
			}
		}
	}
	if got := stats("compiling\n3 errors\n"); len(got) != 1 || got[0].Found != 0 {
		t.Errorf("what was not understood is not counted: %v", got)
	}
}

func golden(t *testing.T, name string) []byte {
	t.Helper()
	return readFile(t, filepath.Join("testdata", "golden", name))
}

func readFile(t *testing.T, name string) []byte {
	t.Helper()
	data, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return data
}
