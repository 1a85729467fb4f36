package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"tidytally/internal/testtree"
)

// Someone who starts: with sources and no task, with a task that is nearly the right one, with a tool
// that nothing knows.

// Sources and no task at all: a task is made from a starting point, runs with one key, and becomes the
// watching variant by one value.
func TestAFirstTaskFromAStartingPoint(t *testing.T) {
	dir := t.TempDir()
	testtree.Fill(t, dir, map[string]string{"src/coil.c": "#include <stdio.h>\nint main(void) { puts(\"one\"); return 0; }\n", "notes.txt": "", ".git/HEAD": ""})
	s := start(t, dir, 120, 34)
	s.waitFor("No tasks are declared here")
	s.keys("f")
	s.waitFor("Which file is the current one?")
	s.typeText("coil")
	s.waitFor("src/coil.c")
	s.keys("Enter")
	s.waitFor("current file src/coil.c", "for coil.c")
	s.keys("n")
	s.waitFor("What does the new task begin from?", "compile coil.c with gcc", "watch and compile", "serve this folder")
	s.keys("Enter")
	s.waitFor("draft of a new table", `[task."compile coil"]`, `in = "src"`, "will run", "gcc -Wall -g -o coil coil.c", "it will stand in tidytally.toml")
	if _, err := os.Stat(filepath.Join(dir, "tidytally.toml")); err == nil {
		t.Error("it is written before it was asked for")
	}
	s.keys("w")
	s.waitFor("written into tidytally.toml", "¦ compile coil", "1 of 1 task shown")
	s.keys("Enter")
	s.waitFor(" ok ")
	if _, err := os.Stat(filepath.Join(dir, "src", "coil")); err != nil {
		t.Error(err)
	}
	// It compiles only when asked: one value more, and it watches.
	s.keys("E")
	s.waitFor("draft of task", "nothing differs from what is declared")
	s.chooseRow("rerun_on")
	s.keys("Enter")
	s.typeText("*.c")
	s.keys("Enter")
	s.waitFor(`rerun_on = ["*.c"]`)
	s.keys("w")
	s.waitFor("written into tidytally.toml")
	if toml := s.read("tidytally.toml"); strings.Count(toml, "[task.") != 1 || !strings.HasSuffix(toml, "kind = \"build\"\nrerun_on = [\"*.c\"]\n") {
		t.Errorf("the tally file reads\n%s", toml)
	}
	s.keys("Enter")
	s.waitFor("ok, watching")
	s.write("src/coil.c", "int main(void) { return heat(); }\n")
	s.waitFor("watching", "1 warning")
	s.keys("o")
	s.waitFor("pass 2", "as src/coil.c changed")
	s.keys("x")
	s.waitFor("stopped")
}

// styles are the sequences for colours and styles.
var styles = regexp.MustCompile("\x1b\\[[0-9;:]*m")

// chooseRow goes down until the row that begins with a word is chosen: its place for a value is
// shown reversed.
func (s *screen) chooseRow(word string) {
	s.t.Helper()
	reversed := func() string {
		for _, l := range strings.Split(s.tmux("capture-pane", "-p", "-e"), "\n") {
			if strings.Contains(l, "\x1b[7m") {
				return strings.TrimSpace(styles.ReplaceAllString(l, ""))
			}
		}
		return ""
	}
	for range 60 {
		before := reversed()
		if strings.HasPrefix(before, word+" ") {
			return
		}
		s.keys("Down")
		s.waitUntil("the next row", func(string) bool { now := reversed(); return now != "" && now != before })
	}
	s.t.Fatalf("no row %s can be chosen:\n%s", word, s.text())
}

// A task that was found is copied, changed and given a key; the file keeps its comments, and the change
// is taken back with one key.
func TestCopyAndChange(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("usual kiln#controller")
	before := s.read("tidytally.toml")
	s.keys("C")
	s.waitFor("draft of a new table task.controller", `run = ["make", "controller"]`, `in = "kiln"`)
	s.keys("Enter", "C-u")
	s.typeText("everything")
	s.keys("Enter")
	s.waitFor("task.everything")
	s.chooseRow("run")
	s.keys("Enter", "C-u")
	s.typeText("make all && make selftest")
	s.keys("Enter")
	s.waitFor(`run = "make all && make selftest"`, "will run")
	s.chooseRow("key")
	s.keys("Enter")
	s.typeText("q")
	s.keys("Enter")
	s.waitFor("other keys are those of the pages")
	s.keys("C-u")
	s.typeText("f6")
	s.keys("Enter")
	s.waitFor(`key = "f6"`)
	s.keys("w")
	s.waitFor("written into tidytally.toml", "¦ everything", "29 of 36 tasks shown")
	after := s.read("tidytally.toml")
	if !strings.HasPrefix(after, strings.TrimRight(before, "\n")) || !strings.HasSuffix(after, "[task.everything]\nrun = \"make all && make selftest\"\nabout = \"Link the controller image\"\nin = \"kiln\"\nkey = \"f6\"\n") {
		t.Errorf("the tally file ends with\n%s", after[max(0, len(after)-300):])
	}
	s.keys("F6")
	s.waitFor("failed (2)")
	// Only what differs is kept of a task that is changed where it is.
	s.find("name:selftest")
	s.waitFor("make selftest")
	s.keys("E")
	s.waitFor("what differs will stand in tidytally.toml", "nothing differs")
	s.chooseRow("timeout")
	s.keys("Enter")
	s.typeText("5m")
	s.keys("Enter", "w")
	s.waitFor("written into")
	if toml := s.read("tidytally.toml"); !strings.HasSuffix(toml, "\n[adjust.\"kiln/Makefile#selftest\"]\ntimeout = \"5m\"\n") {
		t.Errorf("the tally file ends with\n%s", toml[max(0, len(toml)-300):])
	}
	s.keys("C-z")
	s.waitFor("taken back")
	if s.read("tidytally.toml") != after {
		t.Error("the change is not taken back")
	}
}

// Any command line becomes a task, with a launcher for its kind; a mistake that is made in an editor is
// told on the page with its place.
func TestAnyCommandLine(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("usual kiln#controller")
	s.keys("Home", "n")
	s.waitFor("any command line")
	s.typeText("any")
	s.waitGone("serve this folder")
	s.keys("Enter")
	s.waitFor("any command line: the name of the task")
	s.typeText("count glazes")
	s.keys("Enter")
	s.waitFor("any command line: the command line")
	s.typeText("wc -l *.md | sort")
	s.keys("Enter")
	s.waitFor(`[task."count glazes"]`, `run = "wc -l *.md | sort"`)
	s.keys("w")
	s.waitFor("¦ count glazes")
	s.keys("Enter")
	s.waitFor(" ok ")
	s.keys("o")
	s.waitFor("README.md")
	// The name does not match, a folder is not there, two tasks have one key: each told as soon as saved.
	good := s.read("tidytally.toml")
	s.write("tidytally.toml", good+"before = [\"#cout\"]\nin = \"nowhere\"\nkey = \"f7\"\n[task.other]\nrun = \"true\"\nkey = \"f7\"\nsieves = [\"gnuu\"]\n")
	s.keys("v")
	s.waitFor("4 faults", "no task tidytally.toml#cout; the nearest are", "the folder nowhere is not there", "key f7 is that of task", "did you mean gnu?")
	s.write("tidytally.toml", good+"\n[via.box]\nrun = [\"env\", \"IN_BOX=yes\", \"{command}\"]\n")
	s.waitFor("no faults")
	// A launcher for all tasks of a kind.
	s.keys("t")
	s.find("name:count")
	s.waitFor("count glazes")
	s.keys("V")
	s.waitFor("Through which launcher, or where?", "IN_BOX=yes")
	s.keys("Enter")
	s.waitFor("What is to run through box?", "tasks of its kind")
	s.keys("2")
	s.waitFor("written into tidytally.toml", "via box: ")
	if toml := s.read("tidytally.toml"); !strings.HasSuffix(toml, "{command}\"]\nkinds = [\"other\"]\n") {
		t.Errorf("the tally file ends with\n%s", toml[max(0, len(toml)-200):])
	}
}

// A run that nothing recognises shows how it ends; a sieve is made from one of its lines, and reads
// the next run.
func TestASieveFromALine(t *testing.T) {
	dir := t.TempDir()
	testtree.Fill(t, dir, map[string]string{
		"tidytally.toml": "[workspace]\nname = \"w\"\n[task.fire]\nrun = \"cat log; exit 3\"\n",
		"log":            "warming up\n!! error in src/coil.c at 12: too hot\n!! warning in src/ramp.c at 7: too cold\n",
		"src/coil.c":     "", "src/ramp.c": "",
	})
	s := start(t, dir, 110, 30)
	s.waitFor("¦ fire")
	s.keys("Enter")
	s.waitFor("failed (3)")
	s.keys("y")
	s.waitFor("No problems were found in 3 lines of output, but fire failed (3). It ends with:", "too cold", "m makes a sieve from a line of it", "m make a sieve")
	s.keys("m")
	s.waitFor("a sieve from the output of fire", "2 problems from 2 of 3 lines", "(?P<file>")
	s.keys("Right", "Right", "Right", "Right", "Right", "2")
	s.waitFor(`(?P<line>\d+)`, `(?P<message>.+)`, "2 problems from 2 of 3 lines")
	s.keys("Enter")
	s.waitFor("name of the sieve fire")
	s.keys("Enter")
	s.waitFor("written into tidytally.toml: the sieve fire, which finds 2 problems here")
	s.keys("r")
	s.waitFor("failed (3)")
	s.keys("y")
	s.waitFor("1 error, 1 warning in 2 files", "src/coil.c", "too hot", "src/ramp.c")
}

// One of several tests that failed is run again alone; the others do not run.
func TestOneTestAlone(t *testing.T) {
	dir := t.TempDir()
	testtree.Fill(t, dir, map[string]string{
		"go.mod": "module emberclay.example/fire\n\ngo 1.22\n", ".git/HEAD": "",
		"cone/cone_test.go": "package cone\n\nimport \"testing\"\n\nfunc TestCold(t *testing.T) { t.Error(\"too cold\") }\n\nfunc TestHot(t *testing.T) { t.Error(\"too hot\") }\n",
	})
	s := start(t, dir, 142, 38)
	s.find("name:test")
	s.waitFor("go test ./...")
	s.keys("Enter")
	s.waitFor("failed (1)")
	s.keys("y")
	s.waitFor("2 errors in 1 file", "TestCold", "TestHot", "R this test alone")
	s.keys("Down", "R")
	s.waitFor("tally of test TestHot", "go test -run '^TestHot$' .", "failed (1) after", "1 error in 1 file")
	s.write("cone/cone_test.go", "package cone\n\nimport \"testing\"\n\nfunc TestCold(t *testing.T) { t.Error(\"too cold\") }\n\nfunc TestHot(t *testing.T) {}\n")
	s.keys("r")
	s.waitFor("ok after", "gone 1", "now 0")
}

// What a task lacks is said before it runs, and brought by what is shown, when it is chosen.
func TestWhatIsMissingIsBrought(t *testing.T) {
	if _, err := exec.LookPath("npm"); err != nil {
		t.Skip(err)
	}
	dir := t.TempDir()
	testtree.Fill(t, dir, map[string]string{
		"package.json":        `{"name": "shop", "scripts": {"glaze": "glazer"}, "dependencies": {"glazer": "file:./glazer"}}`,
		"package-lock.json":   `{"name": "shop", "lockfileVersion": 3, "requires": true, "packages": {"": {"name": "shop", "dependencies": {"glazer": "file:./glazer"}}, "glazer": {"version": "1.0.0", "bin": {"glazer": "cli.js"}}, "node_modules/glazer": {"resolved": "glazer", "link": true}}}`,
		"glazer/package.json": `{"name": "glazer", "version": "1.0.0", "bin": "cli.js"}`,
		"glazer/cli.js":       "#!/usr/bin/env node\nconsole.log('glazed')\n", ".git/HEAD": "",
	})
	s := start(t, dir, 120, 30)
	s.waitFor("¦ glaze", "not ready", "the packages are not installed; I runs what brings it: npm install", "I bring it")
	s.keys("I")
	s.waitFor("glaze: the packages are not installed.", "npm install")
	s.keys("Enter")
	s.waitFor(" ok after ", ": no problems")
	s.waitGone("not ready")
	s.find("name:glaze")
	s.keys("Enter")
	s.waitFor(" ok ")
	s.keys("o")
	s.waitFor("glazed")
}

// On a fresh clone enter configures first and then runs, and does so for the next task without a question; a configure run that failed
// leaves the build not ready.
func TestEnterConfiguresFirst(t *testing.T) {
	testtree.Needs(t, "cmake", "gcc")
	dir := t.TempDir()
	good := "cmake_minimum_required(VERSION 3.10)\nproject(k C)\nenable_testing()\nadd_executable(heat main.c)\nadd_test(NAME warm COMMAND heat)\n"
	testtree.Fill(t, dir, map[string]string{"CMakeLists.txt": good + "message(FATAL_ERROR cold)\n", "main.c": "int main(void) { return 0; }\n", ".git/HEAD": ""})
	s := start(t, dir, 120, 40)
	s.waitFor("¦ heat", "not ready")
	s.find("name:warm")
	s.keys("Enter")
	s.waitFor("test warm: the build is not configured.", "bring it first, then run", "cmake -S . -B build")
	s.keys("Enter")
	s.waitFor("failed (1)")
	testtree.Fill(t, dir, map[string]string{"CMakeLists.txt": good})
	s.waitFor("configuring the build in build failed")
	s.keys("Enter") // it is remembered
	s.waitFor("warm ok after ")
	s.waitGone("not ready")
	if _, err := os.Stat(filepath.Join(dir, "build/heat")); err != nil {
		t.Errorf("the program of the test was not built before it: %v\n%s", err, s.text())
	}
}

// The first start names the keys that one needs, until a key is pressed; the next one does not.
func TestTheFirstStart(t *testing.T) {
	state := t.TempDir()
	s := start(t, workspace(t), 100, 30, "XDG_STATE_HOME="+state)
	s.waitFor("enter runs the chosen task and x stops it", "? lists every key")
	s.keys("Down")
	s.waitGone("? lists every key")
	s.keys("q")
	s.waitFor("exit 0")
	s.again("XDG_STATE_HOME=" + state)
	s.waitFor("28 of 35 tasks shown")
	if text := s.text(); strings.Contains(text, "? lists every key") {
		t.Errorf("they are named again:\n%s", text)
	}
	// The help is found by typing, with the words of this workspace.
	s.keys("?")
	s.waitFor("run and stop", "here: kiln#controller")
	s.typeText("ignore path")
	s.waitFor("[workspace] ignore")
	s.keys("?")
	s.waitFor("28 of 35 tasks shown")
}
