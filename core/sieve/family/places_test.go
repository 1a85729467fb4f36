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

// A file that was found by its name is taken only if its line is the one that the tool printed, though the name that the
// message quotes stands in both.
func TestAPrintedLineIsEvidence(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ tool, file, source, printed string }{
		{"rustc", "src/part/lib.rs", "let glaze = cone(6);", "error[E0425]: cannot find value `glaze` in this scope\n --> /build/src/part/lib.rs:3:5\n  |\n3 |     let glaze = cone(6);\n  |         ^^^^^\n\n"},
		{"rustc, shortened", "src/part/lib.rs", "let first = 1; let glaze = cone(6);", "error[E0425]: cannot find value `glaze` in this scope\n --> /build/src/part/lib.rs:3:20\n  |\n3 | ...   let glaze = cone(6);\n  |           ^^^^^\n\n"},
		{"rustc, several lines", "src/part/lib.rs", "glaze(", "error[E0308]: wrong `glaze`\n --> /build/src/part/lib.rs:3:5\n  |\n3 | /     glaze(\n4 | |     6);\n  | |______^\n\n"},
		{"tsc, pretty", "src/part/page.ts", "const glaze: number = 'x';", "/build/src/part/page.ts:3:7 - error TS2322: Type 'string' is not assignable to 'glaze'.\n\n3 const glaze: number = 'x';\n        ~~~~~\n\n"},
		{"esbuild", "src/part/page.ts", "import glaze from 'none'", "✘ [ERROR] Could not resolve \"glaze\"\n\n    /build/src/part/page.ts:3:18:\n      3 │ import glaze from 'none'\n        ╵                   ~~~~~~\n\n"},
		{"Haskell", "src/part/Kiln.hs", "glaze = cone 6", "/build/src/part/Kiln.hs:3:9: error:\n    Variable not in scope: cone :: glaze\n  |\n3 | glaze = cone 6\n  |         ^^^^\n\n"},
		{"OCaml", "src/part/kiln.ml", "let glaze = cone 6", "File \"/build/src/part/kiln.ml\", line 3, characters 12-16:\n3 | let glaze = cone 6\n                ^^^^\nError: Unbound value glaze\n\n"},
		{"Python", "src/part/kiln.py", "glaze = cone(6)", "Traceback (most recent call last):\n  File \"/build/src/part/kiln.py\", line 3, in <module>\n    glaze = cone(6)\n            ^^^^\nNameError: name 'glaze' is not defined\n"},
		{"Node.js", "src/part/kiln.js", "const glaze = cone(6);", "/build/src/part/kiln.js:3\nconst glaze = cone(6);\n              ^\n\nReferenceError: glaze is not defined\n    at Object.<anonymous> (/build/src/part/kiln.js:3:15)\n\n"},
		{"shellcheck", "src/part/fire.sh", "glaze=$(ls *.txt)", "\nIn /build/src/part/fire.sh line 3:\nglaze=$(ls *.txt)\n^---^ SC2034 (warning): glaze appears unused.\n\n"},
		{"Zig", "src/part/kiln.zig", "const glaze = cone(6);", "thread 7 panic: glaze\n/build/src/part/kiln.zig:3:15: 0x21db39 in fire (kiln)\n    const glaze = cone(6);\n                  ^\n\n"},
	} {
		for line, want := range map[string]string{c.source: c.file, "glaze(7)": "/build/" + c.file} {
			var found sieve.Collector
			opts := inWorkspace(c.file)
			opts.Line = func(string, int) string { return line }
			opts.Problem = found.Problem
			e := sieve.New(All, opts)
			e.Write([]byte(c.printed))
			e.Close()
			if c.tool == "rustc, several lines" {
				want = c.file // what is printed is not the line alone; the name is what there is
			}
			if len(found.Problems) != 1 || found.Problems[0].File != want {
				t.Errorf("%s, where the line is %q: %+v, not %s", c.tool, line, found.Problems, want)
			}
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
