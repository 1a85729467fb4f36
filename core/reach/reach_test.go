package reach

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/core/problem"
	"tidytally/internal/testtree"
)

// of returns what a run of a command in a workspace looked at, by what it printed.
func of(root, line, printed string, change func(*Run)) *Reach {
	r := Run{Root: root, Dir: root, Line: line, Over: true, Whole: true, Started: time.Now(), Since: time.Now().Add(-time.Minute)}
	r.Output = func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(printed)), nil }
	if change != nil {
		change(&r)
	}
	return Of(r)
}

func at(family, file string, severity problem.Severity) *problem.Problem {
	return &problem.Problem{Family: family, Severity: severity, Message: "too hot", Place: problem.Place{File: file, Line: 3}}
}

// tree is a workspace whose files were not edited for long.
func tree(t *testing.T, names ...string) string {
	t.Helper()
	files := map[string]string{}
	for _, n := range names {
		files[n] = "x\n"
	}
	root := testtree.Lay(t, files)
	long := time.Now().Add(-time.Hour)
	for _, n := range names {
		if err := os.Chtimes(filepath.Join(root, n), long, long); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

// What compiles or checks a file is a check of it; what only names it is none.
func TestWhatIsACheck(t *testing.T) {
	t.Parallel()
	root := tree(t, "core/coil.c", "net/coil.c", "net/heat.c", "src/kiln.cpp", "b.py", "i.ts", "Main.hs", "o.f90")
	for _, c := range []struct {
		printed      string
		family, file string
		want         bool
	}{
		{"cc -Wall -c -o core/coil.o core/coil.c", "gnu", "core/coil.c", true},
		{"cc -Wall -c -o core/coil.o core/coil.c", "gnu", "net/coil.c", false},
		{"cc -o prog core/coil.o net/heat.o", "gnu", "core/coil.c", false},
		{"ar rc lib.a core/coil.o", "gnu", "core/coil.c", false},
		{"size core/coil.o", "gnu", "core/coil.c", false},
		{"wc -l core/coil.c", "gnu", "core/coil.c", false},
		{"cp core/coil.c old/coil.c", "gnu", "core/coil.c", false},
		{"echo cc -c core/coil.c", "gnu", "core/coil.c", false},
		{"gcc -MM core/coil.c", "gnu", "core/coil.c", false},
		{"gcc -E core/coil.c", "gnu", "core/coil.c", false},
		{"gcc -fsyntax-only core/coil.c", "gnu", "core/coil.c", true},
		{"x86_64-linux-gnu-gcc-12 -o prog core/coil.c net/heat.c -lm", "gnu", "net/heat.c", true},
		{"cd core && ccache cc -c coil.c", "gnu", "core/coil.c", true},
		{"make[1]: Entering directory '" + root + "/net'\ncc -c coil.c\nmake[1]: Leaving directory '" + root + "/net'\ncc -c heat.c", "gnu", "net/coil.c", true},
		{"make[1]: Entering directory '" + root + "/net'\ncc -c coil.c\nmake[1]: Leaving directory '" + root + "/net'\ncc -c heat.c", "gnu", "net/heat.c", false},
		{"depbase=`echo x`;\\\ngcc -MT heat.o -c -o net/heat.o `test -f 'net/heat.c' || echo './'`net/heat.c &&\\\nmv -f a b", "gnu", "net/heat.c", true},
		{"/bin/bash ./libtool  --tag=CC   --mode=compile gcc -g -c -o net/heat.lo net/heat.c", "gnu", "net/heat.c", true},
		{"libtool: compile:  gcc -c net/heat.c  -fPIC -o net/.libs/heat.o", "gnu", "net/heat.c", true},
		{"libtool: link: gcc -o prog net/heat.o", "gnu", "net/heat.c", false},
		{"[1/3] /usr/bin/c++ -Isrc -o x.o -c " + root + "/src/kiln.cpp", "gnu", "src/kiln.cpp", true},
		{"[ 50%] Building C object CMakeFiles/kiln.dir/core/coil.c.o", "gnu", "core/coil.c", true},
		{"[ 50%] Building C object CMakeFiles/kiln.dir/core/coil.c.o", "gnu", "net/coil.c", false},
		{"[100%] Linking C executable coil", "gnu", "core/coil.c", false},
		{"[2/7] Compiling C object kiln.p/core_coil.c.o", "gnu", "core/coil.c", true},
		{"[2/7] Compiling C object kiln.p/core_coil.c.o", "gnu", "net/coil.c", false},
		{"  CC      net/heat.o", "gnu", "net/heat.c", true},
		{"  CC [M]  net/heat.o", "gnu", "net/heat.c", true},
		{"  LD      net/heat.o", "gnu", "net/heat.c", false},
		{"  CXX      src/kiln.o", "gnu", "src/kiln.cpp", true},
		{"  GEN     net/heat.c", "gnu", "net/heat.c", false},
		{"[1 of 3] Compiling Main             ( Main.hs, Main.o )", "ghc", "Main.hs", true},
		{"gfortran -c o.f90", "fortran", "o.f90", true},
		{"flake8 b.py", "pycheck", "b.py", true},
		{"flake8 core", "pycheck", "b.py", false},
		{"cat b.py", "pycheck", "b.py", false},
	} {
		x := of(root, "make", c.printed+"\n", func(r *Run) { r.Search = twins })
		by := Report{Line: "make"}
		if c.family == "pycheck" {
			by.Asks = "flake8"
		}
		if got := x.Checked(at(c.family, c.file, problem.Warning), "x", &by); got != c.want {
			t.Errorf("%q checks %s: %v", c.printed, c.file, got)
		}
	}
}

// twins finds two files called coil.c.
func twins(tail string) []string {
	if tail == "coil.c" {
		return []string{"core/coil.c", "net/coil.c"}
	}
	return nil
}

// A compiler that is asked for less, or for something else, says nothing of what it was asked for before.
func TestAskedForAsMuch(t *testing.T) {
	t.Parallel()
	root := tree(t, "a.c")
	for _, c := range []struct {
		then, now string
		want      bool
	}{
		{"gcc -Wall -c a.c", "gcc -Wall -c a.c", true},
		{"gcc -Wall -c a.c", "gcc -Wextra -Wall -c -o a.o a.c", true},
		{"gcc -Wall -Wextra -c a.c", "gcc -Wall -c a.c", false},
		{"gcc -Wall -c a.c", "gcc -Wall -w -c a.c", false},
		{"gcc -Wall -c a.c", "gcc -Wall -Wno-unused -c a.c", false},
		{"gcc -Wall -Wno-unused -c a.c", "gcc -Wall -c a.c", true},
		{"gcc -Wall -DHOT -c a.c", "gcc -Wall -c a.c", false},
		{"gcc -Wall -DHOT=1 -c a.c", "gcc -Wall -D HOT=1 -c a.c", true},
		{"gcc -Wall -DHOT=1 -c a.c", "gcc -Wall -DHOT=2 -c a.c", false},
		{`gcc -Wall '-DV="1.2"' -c a.c`, `gcc -Wall -DV=\"1.3\" -c a.c`, true},
		{"gcc -Wall -O2 -c a.c", "gcc -Wall -O0 -c a.c", false},
		{"gcc -Wall -c a.c", "clang -Wall -c a.c", false},
		{"gcc -Wall -Wl,-O1 a.c", "gcc -Wall a.c", true},
	} {
		p := at("gnu", "a.c", problem.Warning)
		p.Output.StartByte = int64(len(c.then) + 1)
		by := of(root, "make", c.then+"\na.c:3:1: warning: too hot\n", nil).Report(p)
		if got := of(root, "make", c.now+"\n", nil).Checked(p, "x", &by); got != c.want {
			t.Errorf("%q, then %q: checked %v", c.then, c.now, got)
		}
	}
}

// A header is checked when all sources through which its problem was reported are.
func TestTheUsersOfAHeader(t *testing.T) {
	t.Parallel()
	root := tree(t, "h.h", "mid.h", "a.c", "b.c", "c.c")
	const first = "cc -c a.c\nIn file included from a.c:1:\nh.h:3:5: warning: too hot\n" +
		"cc -c b.c\nIn file included from mid.h:2,\n                 from b.c:1:\nh.h:3:5: warning: too hot\n" +
		"b.c:9:1: warning: dull\ncc -c c.c\n"
	p := at("gnu", "h.h", problem.Warning)
	by := of(root, "make", first, nil).Report(p)
	if got := strings.Join(by.Units, " "); got != "a.c b.c" {
		t.Errorf("reported through %q", got)
	}
	for printed, want := range map[string]bool{"cc -c a.c\n": false, "cc -c b.c\n": false, "cc -c a.c\ncc -c b.c\n": true, "cc -c c.c\n": false} {
		if got := of(root, "make", printed, nil).Checked(p, "x", &by); got != want {
			t.Errorf("%q: checked %v", printed, got)
		}
	}
	if err := os.Remove(filepath.Join(root, "b.c")); err != nil {
		t.Fatal(err)
	}
	if !of(root, "make", "cc -c a.c\n", nil).Checked(p, "x", &by) {
		t.Error("its other user is gone")
	}
}

// Where nothing is printed, what was made says what was compiled; and where that is not known either, what was edited.
func TestSilentBuilds(t *testing.T) {
	t.Parallel()
	root := tree(t, "a.c", "b.c", "deep/b.c", "out/a.o", "out/b.o", "c.c", "run.sh", "make.sh")
	now := time.Now()
	touch := func(name string, at time.Time) {
		t.Helper()
		if err := os.Chtimes(filepath.Join(root, name), at, at); err != nil {
			t.Fatal(err)
		}
	}
	touch("out/a.o", now)
	touch("b.c", now.Add(-20*time.Second))
	touch("c.c", now.Add(-20*time.Second))
	if err := os.WriteFile(filepath.Join(root, "make.sh"), []byte("set -e\nmake -s all\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		line, printed, file string
		change              func(*Run)
		want                bool
	}{
		{line: "make", file: "a.c", want: true},
		{line: "make", file: "b.c"},      // edited, but its object is old
		{line: "make", file: "deep/b.c"}, // of another folder
		{line: "make", file: "c.c", want: true},
		{line: "make", file: "c.c", printed: "cc -c a.c\n"},
		{line: "make", file: "c.c", printed: "make: Nothing to be done for 'all'.\n"},
		{line: "make", file: "c.c", change: func(r *Run) { r.Whole = false }},
		{line: "make", file: "a.c", change: func(r *Run) { r.Over = false }},
		{line: "make", file: "c.c", change: func(r *Run) { r.Line = "make lib" }},
		{line: "make", file: "c.c", change: func(r *Run) { r.Since = now }},
		{line: "sh make.sh", file: "deep/b.c"},
		{line: "sh run.sh", file: "deep/b.c", want: true}, // does the same each time
		{line: "./unknown", file: "deep/b.c"},
		{line: "gcc -Wall a.c deep/b.c", file: "deep/b.c", want: true},
		{line: "cc -c a.c && cc -c c.c", file: "c.c", want: true},
		{line: "cc -c a.c && cc -c c.c", file: "c.c", change: func(r *Run) { r.Whole = false }}, // it may not have come to it
		{line: "make -n", file: "c.c", printed: "cc -c c.c\n"},
		{line: "make -kn", file: "c.c", printed: "cc -c c.c\n"},
		{line: "make --dry-run", file: "c.c", printed: "cc -c c.c\n"},
		{line: "make -k", file: "c.c", printed: "cc -c c.c\n", want: true},
		{line: "gcc -Wall a.c deep/b.c", file: "b.c", change: func(r *Run) { r.Whole = false }},
	} {
		x := of(root, c.line, c.printed, func(r *Run) {
			r.Started = now
			r.Search = func(tail string) []string { return map[string][]string{"b.c": {"b.c", "deep/b.c"}}[tail] }
			if c.change != nil {
				c.change(r)
			}
		})
		if got := x.Checked(at("gnu", c.file, problem.Warning), "x", &Report{Line: c.line}); got != c.want {
			t.Errorf("%s, which prints %q: %s is checked: %v", c.line, c.printed, c.file, got)
		}
	}
}

// Of what tools check that look at all they are given, and of tests.
func TestToolsAndTests(t *testing.T) {
	t.Parallel()
	root := tree(t, "a.py", "lib/b.py", "a_test.go", "deep/b_test.go", "tests/test_a.py", "a.c", "CMakeLists.txt", "Makefile")
	inTest := func(family, file, name string) *problem.Problem {
		p := at(family, file, problem.Error)
		p.Test = name
		return p
	}
	fails := func(r *Run) { r.Whole = false }
	lint, deep := at("pycheck", "a.py", problem.Warning), at("pycheck", "lib/b.py", problem.Warning)
	goTest, pyTest := inTest("gotest", "deep/b_test.go", "TestB"), inTest("pytest", "tests/test_a.py", "test_hot")
	for _, c := range []struct {
		what, then, now, printed string
		p                        *problem.Problem
		change                   func(*Run)
		want                     bool
	}{
		{"the same", "flake8", "flake8", "", lint, nil, true},
		{"the same, which fails for something else", "flake8", "flake8", "", lint, func(r *Run) {
			r.Whole, r.Problems = false, []problem.Problem{*deep}
		}, true},
		{"it fails before it looks", "flake8", "flake8", "", lint, fails, false},
		{"other arguments", "flake8", "flake8 lib", "", lint, nil, false},
		{"the first of two", "flake8 lib && flake8 a.py", "flake8 lib && flake8 a.py", "", lint, func(r *Run) {
			r.Whole, r.Problems = false, []problem.Problem{*deep}
		}, false},
		{"by a build, not called", "make lint", "make lint", "make: 'lint' is up to date.\n", lint, nil, false},
		{"tests of all packages", "go test ./...", "go test ./...", "ok  \tp\t0.1s\n", goTest, nil, true},
		{"its package passes", "go test ./...", "go test ./...", "ok  \tp/deep\t0.1s\nFAIL\tp\t0.2s\n", goTest, fails, true},
		{"its package is not built", "go test ./...", "go test ./...", "FAIL\tp/deep [build failed]\n", goTest, fails, false},
		{"another package", "go test ./...", "go test .", "ok  \tp\t0.1s\n", goTest, nil, false},
		{"its file", "pytest", "pytest", "tests/test_a.py .F   [100%]\n", pyTest, fails, true},
		{"its file, cut short", "pytest -x", "pytest -x", "tests/test_a.py .F   [100%]\n!!! stopping after 1 failures !!!\n", pyTest, fails, false},
		{"by name", "pytest -x -v", "pytest -x -v", "tests/test_a.py::test_hot PASSED  [ 50%]\n!!! stopping after 1 failures !!!\n", pyTest, fails, true},
		{"another test", "pytest", "pytest -k cold", "tests/test_b.py .   [100%]\n", pyTest, nil, false},
		{"an error of make", "make", "make", "", at("make", "Makefile", problem.Error), fails, true},
		{"CMake reads its files", "make", "make", "-- Configuring done\n", at("cmake", "CMakeLists.txt", problem.Warning), nil, true},
		{"CMake does not", "make", "make", "[100%] Built target kiln\n", at("cmake", "CMakeLists.txt", problem.Warning), nil, false},
		{"it is linked again", "make", "make", "cc -o kiln a.o\n", at("ld", "a.c", problem.Warning), nil, true},
		{"another is linked", "make", "make", "cc -o other a.o\n", at("ld", "a.c", problem.Warning), nil, false},
		{"it is compiled", "make", "make", "cc -c a.c\n", at("ld", "a.c", problem.Warning), nil, false},
		{"what failed for it succeeds", "make", "make", "", at("ld", "a.c", problem.Error), nil, true},
		{"the file is gone", "make", "make", "", at("gnu", "never.c", problem.Warning), fails, true},
	} {
		by := of(root, c.then, "", fails).Report(c.p)
		if c.p.Family == "ld" {
			by.Into = "kiln"
		}
		if got := of(root, c.now, c.printed, c.change).Checked(c.p, "x", &by); got != c.want {
			t.Errorf("%s: checked %v", c.what, got)
		}
	}
}

// Any output can be read, and what was asked for comes back from the history as it was.
func FuzzReach(f *testing.F) {
	f.Add("cc -c a.c\nIn file included from a.c:1:\nh.h:3:5: warning: too hot\n", "gcc -DX=1 -Wall")
	f.Add("make[1]: Entering directory '/w'\ncd x && gcc -c \\\n a.c\n[1/2] CC a.o", "")
	f.Add("(cc -c $(a `b`) 'x\n", "cc \x1e\x1f")
	f.Fuzz(func(t *testing.T, printed, line string) {
		x := of("/none", "make", printed, nil)
		for _, file := range []string{"a.c", "h.h", "a.py"} {
			for _, family := range []string{"gnu", "ld", "pycheck", "gotest"} {
				p := at(family, file, problem.Warning)
				by := x.Report(p)
				x.Checked(p, "", &by)
				if again := readAsks(by.Asks).String(); strings.Contains(by.Asks, "\x1e") && strings.Count(by.Asks, "\x1e") == 3 && again != by.Asks {
					t.Errorf("%q comes back as %q", by.Asks, again)
				}
			}
		}
		of("/none", line, "", nil).Checked(at("gnu", "a.c", problem.Warning), "", &Report{})
	})
}
