package family

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
)

// sift returns the problems of a whole output.
func sift(t testing.TB, output []byte) []problem.Problem {
	t.Helper()
	var c sieve.Collector
	e := sieve.New(All, sieve.Options{Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
	e.Write(output)
	e.Close()
	return c.Problems
}

func read(t testing.TB, name string) []byte {
	t.Helper()
	data, err := os.ReadFile(filepath.Join("testdata", name))
	if err != nil {
		t.Fatal(err)
	}
	return data
}

// lines words problems for comparison, notes included.
func lines(problems []problem.Problem) string {
	var b strings.Builder
	for _, p := range problems {
		fmt.Fprintln(&b, p.GNU())
		for _, r := range p.Related {
			fmt.Fprintf(&b, "  %s: %s\n", r.Place, strings.Join(strings.Fields(r.Message), " "))
		}
	}
	return b.String()
}

func logs(t testing.TB) []string {
	t.Helper()
	var all []string
	for _, pattern := range []string{"testdata/*/*.log", "testdata/*.log"} {
		names, err := filepath.Glob(pattern)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, names...)
	}
	if len(all) < 10 {
		t.Fatalf("only %d logs in testdata", len(all))
	}
	return all
}

func TestCleanLogsGiveNoProblems(t *testing.T) {
	t.Parallel()
	names, _ := filepath.Glob("testdata/clean/*.log")
	if len(names) < 8 {
		t.Fatalf("only %d clean logs", len(names))
	}
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if got := sift(t, data); len(got) > 0 {
			t.Errorf("%s:\n%s", name, lines(got))
		}
	}
}

// However the bytes are cut, the problems are the same, spans included.
func TestCutAnywhereGivesTheSame(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewSource(1))
	outputs := map[string][]byte{"a build log": buildLog(20<<10, 20)}
	for _, name := range logs(t) {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		outputs[name] = data
	}
	for name, data := range outputs {
		whole := sift(t, data)
		for range 20 {
			var c sieve.Collector
			e := sieve.New(All, sieve.Options{Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
			for rest := data; len(rest) > 0; {
				n := min(len(rest), 1+random.Intn(1+random.Intn(200)))
				e.Write(rest[:n])
				rest = rest[n:]
			}
			e.Close()
			if !reflect.DeepEqual(whole, c.Problems) {
				t.Fatalf("%s: in pieces:\n%s\nwhole:\n%s", name, lines(c.Problems), lines(whole))
			}
		}
	}
}

// A pause hands on what is there; what comes later replaces it.
func TestPauseGivesTheProblemAndLaterItsNote(t *testing.T) {
	t.Parallel()
	var given []problem.Problem
	e := sieve.New(All, sieve.Options{Problem: func(p problem.Problem) { given = append(given, p) }})
	fmt.Fprintln(e, "coil.c:3:5: error: conflicting types for 'f'")
	if len(given) != 0 {
		t.Fatalf("given before anything showed that it was complete: %v", given)
	}
	e.Pause()
	if len(given) != 1 || given[0].Line != 3 {
		t.Fatalf("after a pause: %v", given)
	}
	fmt.Fprintln(e, "coil.c:1:5: note: previous declaration of 'f'")
	e.Close()
	if len(given) != 2 || given[1].Seq != given[0].Seq || len(given[1].Related) != 1 {
		t.Fatalf("the note should come with the same Seq: %+v", given)
	}
	if len(given[0].Related) != 0 {
		t.Fatal("what was handed on has changed behind the receiver's back")
	}
}

func TestTheSameProblemIsCountedOnce(t *testing.T) {
	t.Parallel()
	line := "a.h:1:2: warning: unused [-Wunused]\n"
	got := sift(t, []byte("cc a.c\n"+line+"cc b.c\n"+line+"cc c.c\n"+line))
	if len(got) != 1 || got[0].Times != 3 {
		t.Fatalf("got %+v", got)
	}
}

func TestMakeFoldersAndWindowsLineEnds(t *testing.T) {
	t.Parallel()
	got := lines(sift(t, []byte("make: Entering directory '/w'\r\nmake[1]: Entering directory '/w/lib'\r\n"+
		"x.c:1:2: error: a\r\nmake[1]: Leaving directory '/w/lib'\r\ny.c:3: error: b\r\n")))
	want := "/w/lib/x.c:1:2: error: a\n/w/y.c:3: error: b\n"
	if got != want {
		t.Errorf("got\n%swant\n%s", got, want)
	}
}

func TestForms(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, output, want string }{
		{"gnu range", "calc.y:3.5-9: error: symbol x is used", "calc.y:3:5: error: symbol x is used\n"},
		{"msvc", `src\a.c(12,5): error C2065: 'x': undeclared identifier`, `src\a.c:12:5: error: 'x': undeclared identifier [C2065]` + "\n"},
		{"vi form", "a.c +4:3: warning: w [-Wextra]", "a.c:4:3: warning: w [extra]\n"},
		{"assembler", "x.s: Assembler messages:\nx.s:3: Error: no such instruction: `foo'", "x.s:3: error: no such instruction: `foo'\n"},
		{"spaces and colons", "my dir/a:b.c:3:4: error: e", "my dir/a:b.c:3:4: error: e\n"},
		{"make itself", "Makefile:12: *** missing separator.  Stop.", "Makefile:12: error: missing separator\n"},
		{"unexplained recipe", "false\nmake: *** [Makefile:14: x] Error 1", "error: recipe for x failed: Error 1\n  Makefile:14: the recipe\n"},
		{"recipe explained by a linter's warning", "flake8 a.py\na.py:3:1: E302 expected 2 blank lines\nmake: *** [Makefile:79: lint] Error 1", "a.py:3:1: warning: expected 2 blank lines [E302]\n"},
		{"recipe not explained by a compiler's warning", "a.c:1:1: warning: w\nmake: *** [Makefile:14: x] Error 1", "a.c:1:1: warning: w\nerror: recipe for x failed: Error 1\n  Makefile:14: the recipe\n"},
		{"recipe that was ended", "make[1]: *** [Makefile:2: prog] Interrupt\nmake: *** [Makefile:8: all] Terminated\nmake: *** Deleting file 'prog'", ""},
		{"why make runs a recipe", "Makefile:3: update target 'main.o' due to: main.c\nMakefile:5: target 'core' does not exist", ""},
		{"stopped by the keyboard", "Traceback (most recent call last):\n  File \"/src/a.py\", line 3, in <module>\n    wait()\nKeyboardInterrupt", ""},
		{"javac by ant", "    [javac] /src/A.java:2: error: hot\n    [javac] class A {\n    [javac]       ^\n    [javac] 1 error\n\nBUILD FAILED\n/src/build.xml:1: Compile failed; see the compiler error output for details.", "/src/A.java:2:7: error: hot\n"},
		{"a compiler by ant", "     [exec] a.c:1:1: error: e\n\nBUILD FAILED\n/src/build.xml:3: exec returned: 1", "a.c:1:1: error: e\n"},
		{"gradle without a line end", "> Task :compileJava/src/A.java:3: error: hot\nx\n^", "/src/A.java:3:1: error: hot\n"},
		{"a file of tests that cannot be loaded", "TAP version 13\n# node:internal/modules/cjs/loader:1210\n#   throw err;\n#   ^\n# Error: Cannot find module './gone'\n# Require stack:\n# - /src/a.test.js\n#     at require (node:internal/modules/helpers:182:18)\n#     at Object.<anonymous> (/src/a.test.js:2:9)\n# Node.js v20.20.2\n# Subtest: /src/a.test.js",
			"/src/a.test.js:2:9: error: Error: Cannot find module './gone'\n"},
		{"explained recipe", "a.c:1:1: error: e\nmake: *** [Makefile:14: a.o] Error 1", "a.c:1:1: error: e\n"},
		{"no rule", "make: *** No rule to make target 'x', needed by 'y'.  Stop.", "error: No rule to make target 'x', needed by 'y'\n"},
		{"undefined", "/usr/bin/ld: main.o: in function `main':\nmain.c:(.text+0x5): undefined reference to `f'\ncollect2: error: ld returned 1 exit status", "main.c: error: undefined reference to `f'\n"},
		{"undefined with line", "/usr/bin/ld: /src/main.c:7: undefined reference to `f'", "/src/main.c:7: error: undefined reference to `f'\n"},
		{"library", "/usr/bin/ld: cannot find -lglaze: No such file or directory", "error: cannot find -lglaze: No such file or directory\n"},
		{"lld", "ld.lld: error: undefined symbol: f\n>>> referenced by main.c:5 (/src/main.c:5)\n>>>               main.o:(main)", "/src/main.c:5: error: undefined symbol: f\n"},
		{"driver", "cc1: error: bad value 'x' for '-mtune=' switch", "error: bad value 'x' for '-mtune=' switch\n"},
		{"redrawn line", "50%\r100%\ra.c:1:1: error: e", "a.c:1:1: error: e\n"},
		{"colour and link", "\x1b[01m\x1b[Ka.c:1:1:\x1b[m\x1b[K \x1b[01;31merror: \x1b[me [\x1b]8;;https://x\x07-Wfoo\x1b]8;;\x07]", "a.c:1:1: error: e [foo]\n"},
		{"go without column", "# example.com/x\n./a.go:3: syntax error: x", "a.go:3: error: syntax error: x\n"},
		{"staticcheck", "a.go:3:2: this value is never used (SA4006)", "a.go:3:2: error: this value is never used [SA4006]\n"},
		{
			"race", "==================\nWARNING: DATA RACE\nWrite at 0x00c by goroutine 7:\n  main.f()\n      /src/a.go:9 +0x1d\n\nPrevious read at 0x00c by main goroutine:\n  main.main()\n      /src/a.go:14 +0x44\n==================\n",
			"/src/a.go:9: error: data race: write at 0x00c by goroutine 7\n  /src/a.go:14: Previous read at 0x00c by main goroutine\n",
		},
		{
			"panic", "panic: no clay\n\ngoroutine 1 [running]:\nruntime.throw(...)\n\t/usr/local/go/src/runtime/panic.go:9 +0x1\nmain.fire(...)\n\t/src/fire.go:12\nmain.main()\n\t/src/main.go:5 +0x2\nexit status 2",
			"/src/fire.go:12: error: panic: no clay\n  /src/main.go:5: called from here\n",
		},
	} {
		if got := lines(sift(t, []byte(c.output+"\n"))); got != c.want {
			t.Errorf("%s: got\n%swant\n%s", c.name, got, c.want)
		}
	}
}

// The truth was printed by the compiler through its API; see testdata/tsc.
func TestTypeScriptAgainstItsOwnDiagnostics(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"all", "broken"} {
		var want []problem.Problem
		if err := json.Unmarshal(read(t, "tsc/"+name+".truth.json"), &want); err != nil {
			t.Fatal(err)
		}
		for _, form := range []string{"plain", "pretty"} {
			got := sift(t, read(t, "tsc/"+name+"."+form+".log"))
			if len(got) != len(want) || len(want) == 0 {
				t.Fatalf("%s %s: %d problems, want %d:\n%s", name, form, len(got), len(want), lines(got))
			}
			for i := range got {
				g, w := got[i], want[i]
				if form == "plain" { // it prints no ends and no related places
					w.EndLine, w.EndColumn, w.Related = 0, 0, nil
				}
				if g.EndLine == 0 { // nor does the pretty form where a range spans lines
					w.EndLine, w.EndColumn = 0, 0
				}
				for k := range w.Related {
					w.Related[k].EndLine, w.Related[k].EndColumn = 0, 0
				}
				if g.Place != w.Place || g.Severity != w.Severity || g.Code != w.Code || words(g.Message) != words(w.Message) || len(g.Related)+len(w.Related) > 0 && !reflect.DeepEqual(g.Related, w.Related) {
					t.Errorf("%s %s: got\n%swant\n%s", name, form, lines(got[i:i+1]), lines(want[i:i+1]))
				}
			}
		}
	}
}

func words(s string) string { return strings.Join(strings.Fields(s), " ") }

func TestWatchingCompilerBeginsACycle(t *testing.T) {
	t.Parallel()
	clear := "\x1b[2J\x1b[3J\x1b[H"
	var c sieve.Collector
	e := sieve.New(All, sieve.Options{Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
	fmt.Fprint(e, clear+"12:00:01 AM - Starting compilation in watch mode...\r\n\r\nsrc/a.ts(1,2): error TS2322: x.\r\n\r\n12:00:02 AM - Found 1 error. Watching for file changes.\r\n")
	if len(c.Problems) != 1 {
		t.Fatalf("first cycle: %+v", c.Problems)
	}
	fmt.Fprint(e, clear+"12:00:03 AM - File change detected. Starting incremental compilation...\r\n\r\n\r\n12:00:04 AM - Found 0 errors. Watching for file changes.\r\n")
	if len(c.Problems) != 0 || len(c.Before) != 1 || c.Cycle != 1 {
		t.Fatalf("second cycle: %d problems, %d before, cycle %d", len(c.Problems), len(c.Before), c.Cycle)
	}
}

func FuzzEngine(f *testing.F) {
	for _, name := range []string{"tsc/all.pretty.log", "clean/server.log", "runners/rspec.log", "runners/minitest.log", "runners/phpunit-testdox.log", "golden/latex.log"} {
		f.Add(read(f, name), uint8(7))
	}
	f.Add([]byte("a.c:1:2: error: x [-Wy]\n    1 | z\n      | ^\n\x1b[31ma.c:3.4-5: note: n"), uint8(3))
	f.Add([]byte("--- FAIL: TestX (0.00s)\n    a_test.go:3: b\nFAIL\tx/y\t0.1s\npanic: x\n\ngoroutine 1:\nf()\n\t/a.go:1 +0x1\n"), uint8(5))
	f.Add([]byte("web | a.c:1:2: error: x\napi | E   x\nweb |     1 | z\n2026-11-26T08:44:00Z #8 0.312 a.c:1: error: y\npackages/a build$ x\n│ a.c:1:1: error: z\n└─ r\n\x1b[2A│ b\n"), uint8(9))
	f.Add([]byte("make[1]: Entering directory 'a'\nld: a.c:(.text+0x1): undefined reference to `b'\nmake: *** [x:1: y] Error 2"), uint8(1))
	f.Fuzz(func(t *testing.T, data []byte, cut uint8) {
		whole := sift(t, data)
		var c sieve.Collector
		e := sieve.New(All, sieve.Options{Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
		for rest, n := data, int(cut)+1; len(rest) > 0; rest = rest[min(n, len(rest)):] {
			e.Write(rest[:min(n, len(rest))])
		}
		e.Close()
		// A prefix is learned from the lines that come together.
		once := sieve.New(All, sieve.Options{Problem: func(problem.Problem) {}})
		once.Write(data)
		once.Close()
		if e.Stats().Streams+once.Stats().Streams == 0 && !reflect.DeepEqual(whole, c.Problems) {
			t.Errorf("in pieces of %d:\n%s\nwhole:\n%s", cut+1, lines(c.Problems), lines(whole))
		}
		for _, p := range whole {
			if p.Line < 0 || p.Column < 0 || p.Output.FirstLine < 1 || p.Output.LastLine < p.Output.FirstLine || p.Output.EndByte > int64(len(data)) {
				t.Errorf("impossible: %+v", p)
			}
		}
	})
}

// The logs were printed by the real tools, the truth is what they say in their
// machine-readable form; see the README.md in testdata/golden and testdata/web.
func TestGoldenAgainstTheToolsOwnAnswer(t *testing.T) {
	t.Parallel()
	names, err := filepath.Glob("testdata/*/*.truth.json")
	if err != nil || len(names) < 20 {
		t.Fatalf("%d truths, %v", len(names), err)
	}
	for _, name := range names {
		if strings.Contains(name, "/tsc/") {
			continue // these have a test of their own
		}
		var want []problem.Problem
		tool := strings.TrimPrefix(strings.TrimSuffix(name, ".truth.json"), "testdata/")
		if err := json.Unmarshal(read(t, tool+".truth.json"), &want); err != nil {
			t.Fatal(err)
		}
		got := sift(t, read(t, tool+".log"))
		byPlace := func(a, b problem.Problem) int {
			return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column), cmp.Compare(a.Code, b.Code), cmp.Compare(a.Message, b.Message))
		}
		slices.SortStableFunc(got, byPlace)
		slices.SortStableFunc(want, byPlace)
		if len(got) != len(want) || len(want) == 0 {
			t.Errorf("%s: %d problems, want %d:\n%s", tool, len(got), len(want), lines(got))
			continue
		}
		for i := range got {
			g, w := got[i], want[i]
			message, _, _ := strings.Cut(g.Message, "\n")
			whole, _, _ := strings.Cut(w.Message, "\n")
			if g.File != w.File || g.Line != w.Line || g.Column != w.Column || g.Severity != w.Severity || w.Code != "" && g.Code != w.Code || w.Message != "" && message != whole {
				t.Errorf("%s: got %s, want %s", tool, g.GNU(), w.GNU())
			}
		}
	}
}
