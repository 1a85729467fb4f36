package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// A fresh task does not run where the tally file says so: its last output and problems are shown
// again, as that. A change, a thing that it made and that is gone, other arguments and --fresh run it.
func TestWhatIsFreshIsLeftOut(t *testing.T) {
	dir := past(t, `[workspace]
skip = ["check"]
[task.all]
before = ["#lint", "#build"]
[task.lint]
run = "echo x >> lint.log; echo a.c:1:5: warning: dull glaze"
kind = "check"
reads = ["*.c"]
[task.build]
run = "echo x >> build.log; cp a.c out; echo built"
reads = ["a.c", "lib/**/*.h"]
makes = ["out"]
skip = "fresh"
[task.always]
run = "echo x >> always.log"
reads = ["a.c"]
`)
	ran := func(name string) int {
		log, _ := os.ReadFile(filepath.Join(dir, name+".log"))
		return strings.Count(string(log), "x")
	}
	write := func(name, text string) {
		t.Helper()
		full := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(filepath.Join(dir, "a.c"))
	if err != nil {
		t.Fatal(err)
	}
	for i, c := range []struct {
		what        string
		edit        func()
		args        []string
		lint, build int // how often each has run by then
	}{
		{"first", func() {}, nil, 1, 1},
		{"again", func() {}, nil, 1, 1},
		{"touched", func() { write("a.c", string(text)) }, nil, 1, 1},
		{"edited", func() { write("a.c", "int c;\n") }, nil, 2, 2},
		{"a new header", func() { write("lib/deep/b.h", "") }, nil, 2, 3},
		{"and away", func() { os.Remove(filepath.Join(dir, "lib/deep/b.h")) }, nil, 2, 4},
		{"its result gone", func() { os.Remove(filepath.Join(dir, "out")) }, nil, 2, 5},
		{"its result changed", func() { write("out", "other") }, nil, 2, 6},
		{"anyway", func() {}, []string{"--fresh"}, 3, 7},
		{"nothing", func() {}, nil, 3, 7},
	} {
		c.edit()
		out, errs, code := call(t, dir, append([]string{"run", "all"}, c.args...)...)
		if code != 0 || ran("lint") != c.lint || ran("build") != c.build {
			t.Fatalf("%d, %s: exit %d, lint ran %d, build %d times\n%s%s", i, c.what, code, ran("lint"), ran("build"), out, errs)
		}
		if !strings.Contains(out, "dull glaze") || !strings.Contains(out, "built") {
			t.Errorf("%d, %s: it printed %q", i, c.what, out)
		}
		if !strings.Contains(errs, "a.c:1:5: warning: dull glaze") {
			t.Errorf("%d, %s: the problem is gone: %q", i, c.what, errs)
		}
	}
	out, errs, _ := call(t, dir, "run", "build")
	if out != "built\n" || !strings.Contains(errs, "tidytally.toml#build is fresh: nothing that it reads has changed since ") || !strings.Contains(errs, ", not run: no problems") {
		t.Errorf("replayed: %q %q", out, errs)
	}
	if call(t, dir, "run", "build", "--", "more"); ran("build") != 8 {
		t.Errorf("with other arguments it ran %d times", ran("build"))
	}
	call(t, dir, "run", "always")
	if call(t, dir, "run", "always"); ran("always") != 2 {
		t.Errorf("what is not to be left out ran %d times", ran("always"))
	}
	if out, _, _ := call(t, dir, "list", "is:fresh"); !strings.Contains(out, "always") || !strings.Contains(out, "lint") {
		t.Errorf("is:fresh: %s", out)
	}
	if out, _, _ := call(t, dir, "plan", "lint", "--json"); !strings.Contains(out, `"state": "fresh"`) || !strings.Contains(out, `"from": "declared"`) {
		t.Errorf("plan: %s", out)
	}
	if _, errs, _ := call(t, dir, "history", "--json"); errs != "" {
		t.Error(errs)
	}
}

// A failed run is no good one: it runs again though nothing has changed.
func TestWhatFailedRunsAgain(t *testing.T) {
	dir := past(t, "[task.bad]\nrun = \"echo x >> bad.log; test -f ok\"\nreads = [\"a.c\"]\nskip = \"fresh\"\n")
	call(t, dir, "run", "bad")
	if _, _, code := call(t, dir, "run", "bad"); code != 1 {
		t.Errorf("exit %d", code)
	}
	if out, _, _ := call(t, dir, "plan", "bad"); !strings.Contains(out, "no good run is on record") {
		t.Errorf("plan: %s", out)
	}
	if err := os.WriteFile(filepath.Join(dir, "ok"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	call(t, dir, "run", "bad")
	if _, errs, code := call(t, dir, "run", "bad"); code != 0 || !strings.Contains(errs, "is fresh") {
		t.Errorf("exit %d: %s", code, errs)
	}
}

// A watched run makes it known when a task is fresh, without reads in the tally file.
func TestWhatIsLearnedIsLeftOut(t *testing.T) {
	if _, err := exec.LookPath("strace"); err != nil {
		t.Skip(err)
	}
	dir := past(t, "[task.copy]\nrun = \"echo x >> /dev/null; cat a.c > out; echo $GLAZE; cat $1\"\nlearn = true\nskip = \"fresh\"\n")
	t.Setenv("GLAZE", "celadon")
	if out, errs, _ := call(t, dir, "run", "copy"); out != "celadon\n" || strings.Contains(errs, "fresh") {
		t.Fatalf("%q %q", out, errs)
	}
	if out, errs, _ := call(t, dir, "run", "copy"); out != "celadon\n" || !strings.Contains(errs, "is fresh") {
		t.Errorf("again: %q %q", out, errs)
	}
	t.Setenv("GLAZE", "tenmoku")
	if out, errs, _ := call(t, dir, "run", "copy"); out != "tenmoku\n" || strings.Contains(errs, "is fresh") {
		t.Errorf("another environment: %q %q", out, errs)
	}
	if err := os.WriteFile(filepath.Join(dir, "a.c"), []byte("other"), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, _, _ := call(t, dir, "plan", "copy"); !strings.Contains(out, "a.c changed") {
		t.Errorf("plan: %s", out)
	}
}

// check --reads compares a watched run with the declarations of its task; and a task that executes what
// another one makes is told so.
func TestWhatIsNotDeclaredIsTold(t *testing.T) {
	if _, err := exec.LookPath("strace"); err != nil {
		t.Skip(err)
	}
	dir := past(t, `[task.make-it]
run = "cat a.c b.h > /dev/null; printf '#!/bin/sh\necho hot\n' > kiln; chmod +x kiln; echo log > log.txt"
kind = "build"
reads = ["a.c", "gone/**"]
makes = ["kiln"]
[task.fire]
run = ["./kiln"]
`)
	if err := os.WriteFile(filepath.Join(dir, "b.h"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, errs, code := call(t, dir, "check", "--reads", "make-it"); code != exitUsage || !strings.Contains(errs, "was not watched yet: tidytally run") {
		t.Errorf("exit %d: %s", code, errs)
	}
	if _, errs, code := call(t, dir, "run", "make-it", "--learn"); code != 0 {
		t.Fatalf("exit %d: %s", code, errs)
	}
	out, _, code := call(t, dir, "check", "--reads", "make-it")
	want := `tidytally.toml:4:1: error: task make-it reads b.h, which "reads" does not name
tidytally.toml:4:1: error: task make-it read nothing that matches gone/**; take it out of "reads", or run it where it does
tidytally.toml:5:1: error: task make-it makes log.txt, which "makes" does not name
`
	if code != exitFound || out != want {
		t.Errorf("exit %d:\n%s", code, out)
	}
	if out, _, _ := call(t, dir, "show", "make-it"); !strings.Contains(out, "fresh") || !strings.Contains(out, "b.h") || !strings.Contains(out, "made") {
		t.Errorf("show: %s", out)
	}
	if out, _, _ := call(t, dir, "plan", "make-it", "--json"); !strings.Contains(out, `"path": "b.h"`) || !strings.Contains(out, `"role": "made"`) {
		t.Errorf("plan: %s", out)
	}
	if out, _, _ := call(t, dir, "plan", "fire"); !strings.Contains(out, "uses kiln, which tidytally.toml#make-it makes") {
		t.Errorf("plan: %s", out)
	}
	if out, _, _ := call(t, dir, "plan", "fire", "--json"); !strings.Contains(out, `"launches": true`) {
		t.Errorf("plan: %s", out)
	}
}
