package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"tidytally/demo"
)

// One key starts a day's tasks and one stops them; what changed is built again, and said so;
// the outputs stand side by side, or woven; the plan shows how each stands.
func TestAWorkDay(t *testing.T) {
	if _, err := exec.LookPath("npm"); err != nil {
		t.Skip("npm is not installed")
	}
	s := start(t, workspace(t), 142, 38)
	s.find("workday")
	s.waitFor("make -j controller", "1 of")
	s.keys("Enter")
	s.waitFor("failed (2), watching")
	s.keys("l")
	seen := s.waitFor("plan of workday", "kilnsim", "shopfront#start", "up since", "failed (2), watching", "dotted: beside it", "3 steps")
	if l, _ := line(t, seen, "¦ shopfront#start"); !strings.Contains(l, "·") || !strings.Contains(l, "┤") || !strings.Contains(l, "━━━") {
		t.Errorf("the line of a partner reads %q", l)
	}
	s.keys("T")
	s.waitFor("together: the steps of workday", "warming the serial line", "catalogue on http://", "duty_max")
	// The fix is built by itself, and the problem is gone.
	coil := s.read("kiln/src/coil.c")
	for _, fix := range demo.Fixes {
		coil = strings.Replace(coil, fix.Old, fix.New, 1)
	}
	s.write("kiln/src/coil.c", coil)
	s.waitFor("ok, watching", "gone 3", "now 0")
	s.keys("g")
	s.waitFor("kilnsim ", "workday ¦ ", "start   ¦ ")
	s.keys("t")
	s.waitFor("ok, watching")
	s.keys("o")
	s.waitFor("output of workday", "pass 2", "as kiln/src/coil.c changed")
	s.keys("x")
	s.waitFor("stopped")
	s.keys("l")
	s.waitFor("plan of workday", "kilnsim")
	seen = s.waitGone("up since")
	if strings.Count(seen, "stopped") < 3 {
		t.Errorf("not every step was stopped:\n%s", seen)
	}
}

// A build and the program that it makes are two lines of a tally file and one key: the program
// is started anew when the result changes, and one key ends both.
func TestRebuildAndRestart(t *testing.T) {
	dir := t.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "src"), 0o755); err != nil {
		t.Fatal(err)
	}
	writeWhole(t, filepath.Join(dir, "src/a.txt"), "one\n")
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), `[task.build]
run = "mkdir -p out && cat src/*.txt > out/prog"
rerun_on = ["src/**"]
makes = ["out/**"]
[task.start]
run = "echo serving $(cat out/prog); exec sleep 600"
rerun_on = ["out/prog"]
before = ["#build"]
long_running = true
ready = "serving"
[task.dev]
with = ["#build", "#start"]
key = "f7"
`)
	s := start(t, dir, 142, 38)
	s.waitFor("dev")
	s.keys("F7")
	s.keys("T")
	s.waitFor("together: the steps of dev", "serving one", "ok, watching", "up since")
	s.write("src/b.txt", "two\n")
	s.waitFor("serving one two")
	s.keys("o")
	s.keys("t")
	s.waitFor("running")
	s.keys("x")
	s.waitGone("up since", "watching")
	if out, err := exec.Command("pgrep", "-f", "exec sleep 600 "+dir).Output(); err == nil {
		t.Errorf("left over: %s", out)
	}
}

// A helper comes first, then the server, then the page; what each waits for is seen, and at the
// end of the page all ends and a clean-up runs.
func TestOneAfterTheOther(t *testing.T) {
	dir := t.TempDir()
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), `[set]
shell = "sh"
[task.helper]
run = ["{set.shell}", "-c", "cat helper.pipe; echo helper listens; exec sleep 600"]
long_running = true
ready = "listens"
[task.server]
run = ["{set.shell}", "-c", "cat server.pipe; echo server listens; exec sleep 600"]
long_running = true
ready = "listens"
before = ["#helper"]
[task.page]
run = "echo the page; cat page.pipe"
before = ["#server"]
after = ["#sweep"]
[task.sweep]
run = "echo swept with $TIDYTALLY_STATUS"
`)
	for _, name := range []string{"helper", "server", "page"} {
		if out, err := exec.Command("mkfifo", filepath.Join(dir, name+".pipe")).CombinedOutput(); err != nil {
			t.Fatalf("%s", out)
		}
	}
	s := start(t, dir, 142, 38)
	s.find("name:page")
	s.waitFor("1 of")
	s.keys("Enter")
	s.keys("l")
	s.waitFor("plan of page", "waits for tidytally.toml#helper to be up", "waits for tidytally.toml#server to be up")
	open := func(name string) {
		if err := os.WriteFile(filepath.Join(dir, name+".pipe"), nil, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	open("helper")
	s.waitGone("waits for tidytally.toml#helper")
	s.waitFor("up since")
	open("server")
	s.waitGone("waits for tidytally.toml#server")
	open("page")
	s.waitFor("ok ", "stopped")
	s.waitGone("running", "up since", "waits for tidytally", "waiting", "waits for a slot")
	seen := s.text()
	if strings.Count(seen, "stopped") != 2 {
		t.Errorf("the helpers were not stopped:\n%s", seen)
	}
	s.keys("End", "Enter")
	s.waitFor("output of sweep", "swept with 0")
}

// A slow suite is split by file, two at a time, then one at a time; what failed is run again
// alone with one key, and the problems of all are one tally.
func TestSplitASuite(t *testing.T) {
	if _, err := exec.LookPath("go"); err != nil {
		t.Skip("go is not installed")
	}
	dir := t.TempDir()
	writeWhole(t, filepath.Join(dir, "go.mod"), "module suite\n\ngo 1.24\n")
	for _, p := range []string{"a", "b", "c"} {
		body := ""
		if p == "b" {
			body = `t.Error("too hot")`
		}
		if err := os.Mkdir(filepath.Join(dir, p), 0o755); err != nil {
			t.Fatal(err)
		}
		writeWhole(t, filepath.Join(dir, p, "x_test.go"), "package "+p+"\n\nimport \"testing\"\n\nfunc TestFire(t *testing.T) {\n\t"+body+"\n}\n")
	}
	s := start(t, dir, 142, 38)
	s.find("name:test runs:...")
	s.waitFor("go test ./...")
	s.keys("S")
	seen := s.waitFor("has 3 files. How many run at once?", "2 at a time")
	l, _ := line(t, seen, "2 at a time")
	s.keys(strings.Fields(l)[0])
	s.waitFor("failed (1)")
	s.keys("l")
	s.waitFor("plan of test", "test ./a", "test ./b", "test ./c", "1 of 3 failed")
	s.keys("y")
	s.waitFor("tally of test", "b/x_test.go", "too hot", "1 error")
	s.write("b/x_test.go", "package b\n\nimport \"testing\"\n\nfunc TestFire(t *testing.T) {}\n")
	s.keys("F")
	s.waitFor("tally of test", "ok, 1 of 3 files after")
	s.keys("l")
	seen = s.waitFor("plan of test", "test ./b")
	if strings.Contains(seen, "test ./a") {
		t.Errorf("more than what failed ran:\n%s", seen)
	}
	s.keys("t")
	s.keys("S")
	seen = s.waitFor("How many run at once?", "1 at a time")
	if strings.Contains(seen, "what failed last") {
		t.Error("what failed is offered, but nothing failed last")
	}
	l, _ = line(t, seen, "1 at a time")
	s.keys(strings.Fields(l)[0])
	s.keys("l")
	s.waitFor("plan of test", "test ./a", "test ./b", "test ./c")
	s.waitFor("ok")
}

// The task that compiles is copied, changed and given a key; a problem is found, and the program
// runs under the debugger, which stops at its line.
func TestDebugAtAProblem(t *testing.T) {
	if _, err := exec.LookPath("gdb"); err != nil {
		t.Skip("gdb is not installed")
	}
	dir := t.TempDir()
	writeWhole(t, filepath.Join(dir, "p.c"), "#include <stdio.h>\n\nint main(void)\n{\n\tint fire = 21;\n\tint unused;\n\tprintf(\"%d\\n\", fire);\n\treturn 0;\n}\n")
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), "[task.compile]\nrun = [\"gcc\", \"-g\", \"-Wall\", \"-o\", \"p\", \"p.c\"]\nkind = \"build\"\nkey = \"f7\"\n")
	s := start(t, dir, 142, 38, "HOME="+t.TempDir())
	s.waitFor("compile")
	s.keys("F7")
	s.waitFor("ok", "1 warning")
	s.keys("y")
	s.waitFor("unused variable", "6:13")
	s.keys("D")
	s.waitFor("output of debug compile", "the keyboard is the task's", "(gdb)")
	s.typeText("print fire * 2\n")
	s.waitFor("$1 = 42")
	seen := s.text()
	if !regexp.MustCompile(`Breakpoint 1, main \(\) at .*p\.c:[67]`).MatchString(seen) {
		t.Errorf("it did not stop at the line:\n%s", seen)
	}
	s.typeText("continue\nquit\n")
	s.waitFor("ok after")
}

// A build that is run again on change says nothing of what it does not build again: those problems
// stay, as not checked, from pass to pass and from day to day.
func TestPassesKeepWhatTheyDoNotCheck(t *testing.T) {
	dir := t.TempDir()
	writeWhole(t, filepath.Join(dir, "Makefile"), "all: a.o b.o c.o\nCFLAGS = -Wall\n")
	for _, name := range []string{"a", "b", "c"} {
		writeWhole(t, filepath.Join(dir, name+".c"), "int "+name+"(void)\n{\n\tint unused;\n\treturn 1;\n}\n")
	}
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), "[task.again]\nrun = \"make\"\nrerun_on = [\"*.c\"]\nmakes = [\"*.o\"]\nkind = \"build\"\nkey = \"f7\"\n")
	state := t.TempDir()
	s := start(t, dir, 142, 38, "XDG_STATE_HOME="+state)
	s.waitFor("again")
	s.keys("F7")
	s.waitFor("ok, watching", "before 0 · new 3 · gone 0 · now 3")
	s.write("a.c", "int a(void)\n{\n\treturn 1;\n}\n")
	s.waitFor("ok, watching", "before 3 · new 0 · gone 1 · not checked 2 · now 2")
	s.write("b.c", "int b(void)\n{\n\tint other;\n\treturn 1;\n}\n")
	s.waitFor("ok, watching", "before 2 · new 1 · gone 1 · not checked 1 · now 2")
	s.keys("q", "q")
	s.waitFor("exit 0")
	s.again("XDG_STATE_HOME=" + state)
	s.waitFor("again")
	s.keys("F7")
	s.waitFor("ok, watching", "before 2 · new 0 · gone 0 · not checked 2 · now 2")
}

// In a shell the outputs of a group are woven, with the name of each line's origin, and ctrl+c
// ends all of it.
func TestAGroupInAShell(t *testing.T) {
	dir := t.TempDir()
	writeWhole(t, filepath.Join(dir, "a.txt"), "one\n")
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), `[task.build]
run = "cat a.txt"
rerun_on = ["a.txt"]
[task.serve]
run = "echo serving; exec sleep 600"
long_running = true
[task.dev]
with = ["#build", "#serve"]
[task.quick]
run = "echo quick"
before = ["#build"]
`)
	s := startCommand(t, dir, 100, 30, "echo tasks; "+program+" run dev; echo left with $?; "+program+" run build")
	s.waitFor("build ¦ one", "serve ¦ serving")
	s.write("a.txt", "two\n")
	s.waitFor("build ¦ two")
	s.keys("C-c")
	s.waitFor("tidytally.toml#build stopped", "tidytally.toml#serve stopped", "tidytally.toml#dev stopped", "left with")
	// Alone, what is run again on change waits, and ends with ctrl+c too.
	s.write("a.txt", "three\n")
	s.waitFor("three")
	s.keys("C-c")
	s.waitFor("exit ")
}
