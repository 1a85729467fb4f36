package e2e

import (
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"tidytally/demo"
)

// Opens a project somebody else made, reads what each script really runs,
// serves it, opens the address it prints, stops it, runs the lint script and
// sees that there is nothing to report.
func TestServeOpenStopLint(t *testing.T) {
	if _, err := exec.LookPath("npm"); err != nil {
		t.Skip("npm is not installed")
	}
	s := start(t, workspace(t), 142, 38)
	// What each script runs stands beside its name, before anything is run.
	s.find("in:shopfront")
	seen := s.waitFor("tsc -p . --watch", "node serve.mjs", "node lint.mjs")
	if l, _ := line(t, seen, "node serve.mjs"); !strings.Contains(l, "start") {
		t.Errorf("the line reads %q", l)
	}
	s.clearFind()
	s.find("name:start in:shopfront")
	s.waitFor("1 of", "hidden by the filter", "npm run start", "shopfront/package.json:10", "catalogue on")
	s.keys("Enter")
	s.waitFor("up since")
	s.keys("o")
	seen = s.waitFor("output of shopfront#start", "up at")
	address := regexp.MustCompile(`up at (http://(127\.0\.0\.1:\d+)/)`).FindStringSubmatch(seen)
	if address == nil {
		t.Fatalf("no address in\n%s", seen)
	}
	page := func() (string, error) { // without the package for HTTP: to compile it takes longer than this test
		conn, err := net.Dial("tcp", address[2])
		if err != nil {
			return "", err
		}
		defer conn.Close()
		fmt.Fprintf(conn, "GET / HTTP/1.0\r\n\r\n")
		text, err := io.ReadAll(conn)
		return string(text), err
	}
	if text, err := page(); err != nil || !strings.Contains(text, "Copper rain") {
		t.Errorf("the page reads %s, %v", text, err)
	}
	s.waitFor("GET /") // the output goes on
	// A second start of what is up is refused, not doubled.
	s.keys("t", "Enter")
	s.waitFor("is up already")
	s.keys("x")
	s.waitFor("stopped")
	if _, err := page(); err == nil {
		t.Error("the server still answers after it was stopped")
	}
	s.clearFind()
	s.find("name:lint")
	s.waitFor("node lint.mjs")
	s.keys("Enter")
	s.waitFor("ok")
	s.keys("y")
	s.waitFor("No problems.", "ok after")
	s.keys("y") // the same key goes back
	s.waitFor("tasks", "1 of")
}

// Adds a task by editing the tally file while the program is open: it is in the
// list at once, runs, and its problems count; a mistake in the file is a
// located fault, and the rest of it still works.
func TestEditTheTallyFile(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("kilnsim")
	toml := s.read("tidytally.toml")
	s.write("tidytally.toml", toml+"\n[task.glaze-count]\nabout = \"Count them\"\nrun = \"echo glazes.txt:3:7: warning: one is missing; exit 4\"\nkey = \"f6\"\nshow = \"on-problem\"\n")
	s.waitFor("glaze-count", "Count them")
	s.keys("F6") // the key that the file gives it
	s.waitFor("tally of glaze-count", "failed (4)", "glazes.txt", "3:7", "warning", "one is missing", "the file is gone")
	s.keys("t")
	s.clearFind()
	s.write("tidytally.toml", toml+"\n[task.glaze-count]\nrnu = \"echo hello\"\n")
	s.waitFor("2 faults")
	s.keys("v")
	seen := s.waitFor("2 faults", "unknown key of [task]: rnu; did you mean run?")
	at := strings.Count(toml, "\n") + 3
	if l, _ := line(t, seen, "rnu"); !strings.Contains(l, fmt.Sprintf("tidytally.toml:%d ", at)) {
		t.Errorf("the fault's place is not seen: %q", l)
	}
	s.keys("v")
	s.waitFor("kilnsim", "controller")
	s.write("tidytally.toml", toml)
	s.waitGone("2 faults", "¦ glaze-count")
}

// Builds, goes through the problems, mends them one by one going by the page
// alone; the balance is right at each step, and the unresolved symbol of the
// link has its place.
func TestMendTheController(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("usual kiln#controller")
	s.keys("u")
	s.waitFor("failed (2)", "before 0 · new 3 · gone 0 · now 3", "1 error, 2 warnings")
	s.keys("y") // the error comes first, though a warning stands above it
	seen := s.waitFor("tally of kiln#controller", "kiln/src/coil.c", "duty_max", "problem 3 of 3", "sign-compare", "output, line")
	if l, _ := line(t, seen, "23:27"); !strings.Contains(l, "+") || !strings.Contains(l, "warning") {
		t.Errorf("the first problem reads %q", l)
	}
	s.keys("N", "N")
	s.waitFor("problem 1 of 3", "for (int i = 0; i < count; i++)") // the source
	s.keys("n", "n")
	s.waitFor("problem 3 of 3", "if (c->duty < c->duty_max)")
	s.keys("n")
	s.waitFor("no more problems that way")
	// To the line of output, and back to the same problem.
	s.keys("o")
	seen = s.waitFor("output of kiln#controller", "make controller")
	if l, _ := line(t, seen, "duty_max’; did"); !strings.HasPrefix(strings.TrimSpace(l), "e ") {
		t.Errorf("no mark in the margin: %q", l)
	}
	s.keys("Enter")
	s.waitFor("problem 3 of 3")
	balances := []string{
		"before 3 · new 0 · gone 1 · now 2",
		"before 2 · new 0 · gone 1 · now 1",
		"before 1 · new 1 · gone 1 · now 1",
		"before 1 · new 0 · gone 1 · now 0",
	}
	for i, fix := range demo.Fixes {
		if err := fix.Apply(s.dir); err != nil {
			t.Fatal(err)
		}
		s.keys("r")
		seen = s.waitFor(balances[i])
		if i == 2 {
			s.waitFor("undefined reference to `coil_mean'", "kiln/src/main.c", "found by its name")
		}
	}
	if l, _ := line(t, seen, "undefined reference"); !strings.Contains(l, "-") {
		t.Errorf("the problem that is gone reads %q", l)
	}
	s.waitFor("ok after")
	// Struck problems stay for one run only.
	s.keys("r")
	s.waitFor("No problems.", "before 0 · new 0 · gone 0 · now 0")
}

// After changing what make is given, cleans and builds all; the arguments come
// back, and what will run is shown while they are typed.
func TestArgumentsCleanAndBuildAll(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	for _, f := range demo.Fixes {
		if err := f.Apply(s.dir); err != nil {
			t.Fatal(err)
		}
	}
	s.find("name:all")
	s.waitFor("make all", "BOARD=mk2")
	s.keys("a")
	s.typeText("BOARD=mk1 'CFLAGS=-O0")
	s.waitFor("the quote ' at character 11 is not closed")
	s.typeText(" -g'")
	s.waitFor("will run", "make all BOARD=mk1 CFLAGS='-O0 -g'")
	s.keys("Enter")
	s.waitFor("ok")
	if _, err := os.Stat(filepath.Join(s.dir, "kiln/build/mk1/controller")); err != nil {
		t.Error(err)
	}
	s.keys("o")
	s.waitFor("cc -O0 -g -DBOARD_mk1", "make all BOARD=mk1 CFLAGS='-O0 -g'")
	s.keys("t", "a")
	s.waitFor("arguments", "BOARD=mk1 CFLAGS='-O0 -g'") // of the last run
	s.keys("Escape")
	s.waitGone("will run")
	s.clearFind()
	s.find("name:clean in:kiln")
	s.waitFor("make clean", "1 of")
	s.keys("Enter")
	s.waitUntil("the end of clean", func(text string) bool {
		l, _ := line(t, text, "make clean")
		return strings.Contains(l, "ok")
	})
	if _, err := os.Stat(filepath.Join(s.dir, "kiln/build")); err == nil {
		t.Error("clean left the build folder")
	}
}

// Looks for what a build file offers: goals of the main file and of the file it
// includes both show, each with its place. Runs one, then another.
func TestMainFileAndItsHelper(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.find("from:make")
	s.waitFor("kiln  Makefile, rules.mk", "selftest", "size-mk1", "The size of the image of one board")
	s.keys("Down", "Down", "Down", "Down", "Down")
	s.waitFor("kiln/rules.mk:20", "included by Makefile", "BOARD=mk2")
	s.clearFind()
	s.find("name:selftest")
	s.waitFor("1 of", "kiln/Makefile:18")
	s.keys("Enter")
	s.waitFor("ok")
	s.clearFind()
	s.find("name:clean in:kiln")
	s.waitFor("1 of", "kiln/rules.mk:12")
	s.keys("Enter")
	s.waitUntil("the end of clean", func(text string) bool {
		l, _ := line(t, text, "make clean")
		return strings.Contains(l, "ok")
	})
}

// Tasks follow from the tools' own files; when those change, the tasks do, and
// one value is overridden alone.
func TestInferredTasksFollowTheirFiles(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.find("in:firing is:inferred")
	s.waitFor("go test ./...", "run curve")
	s.write("firing/curve/curve.go", s.read("firing/curve/curve.go")+"\n//go:generate echo made\n")
	s.waitFor("generate", "go generate ./...")
	if err := os.MkdirAll(filepath.Join(s.dir, "firing/cmd/hold"), 0o755); err != nil {
		t.Fatal(err)
	}
	s.write("firing/cmd/hold/main.go", "package main\n\nfunc main() {}\n")
	s.waitFor("run hold")
	s.clearFind()
	s.find("run hold")
	s.waitFor("firing/cmd/hold/main.go:1", "inferred")
	s.write("tidytally.toml", s.read("tidytally.toml")+"\n[adjust.\"firing/go.mod#run hold\"]\nabout = \"Holds the heat\"\n")
	s.waitFor("Holds the heat", "tidytally.toml:44")
}

// Every value of a task has its origin: it follows its configuration at once,
// opens in the editor at its line, and is overridden alone. What a script calls
// leads on to the task that is called.
func TestValuesAndTheirOrigins(t *testing.T) {
	dir := workspace(t)
	editor := filepath.Join(t.TempDir(), "ed")
	if err := os.WriteFile(editor, []byte("#!/bin/sh\necho \"opened $1\"\nread -r line\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	s := start(t, dir, 142, 38, "TIDYTALLY_EDITOR='"+editor+" {file}:{line}'")
	s.waitFor("usual kiln#controller")
	s.write("shopfront/vite.config.mjs", "export default {\n  build: {\n    outDir: 'www',\n  },\n}\n")
	s.find("runs:vite name:build")
	s.waitFor("1 of", "npx --no -- vite build")
	s.keys("Tab")
	text := s.waitFor("values of shopfront/vite.config.mjs#vite build", "inferred  lock file")
	if l, _ := line(t, text, "makes"); !strings.Contains(l, "www") || !strings.Contains(l, "shopfront/vite.config.mjs:3") || !strings.Contains(l, "from build.outDir") {
		t.Errorf("of the output: %s", l)
	}
	s.write("shopfront/vite.config.mjs", "import { out } from './where.mjs'\n\nexport default {\n  build: {\n    outDir: out,\n  },\n}\n")
	text = s.waitFor("unknown", "build.outDir is no plain data")
	if l, _ := line(t, text, "makes"); !strings.Contains(l, "shopfront/vite.config.mjs:5") {
		t.Errorf("of the unknown output: %s", l)
	}
	s.write("tidytally.toml", s.read("tidytally.toml")+"\n[adjust.\"shopfront/vite.config.mjs#vite build\"]\nmakes = [\"public\"]\n")
	text = s.waitFor("public", "adjusted")
	if l, _ := line(t, text, "makes"); !strings.Contains(l, "tidytally.toml:44") {
		t.Errorf("of the output adjusted: %s", l)
	}
	if l, _ := line(t, text, "command"); !strings.Contains(l, "shopfront/package-lock.json") {
		t.Errorf("the rest stays as it was: %s", l)
	}
	s.keys("End")
	s.keys("Enter")
	s.waitFor("opened " + filepath.Join(dir, "tidytally.toml") + ":44")
	s.keys("Enter")
	s.waitFor("values of shopfront/vite.config.mjs#vite build")
	s.keys("Escape")
	s.waitFor("find runs:vite")
	s.clearFind()
	s.find("name:dev in:shopfront from:npm")
	s.waitFor("1 of")
	s.keys("Tab")
	s.waitFor("task shopfront/package.json#watch", "task shopfront/package.json#start")
	s.keys("End", "Up", "Enter")
	s.waitFor("values of shopfront/package.json#start", "node serve.mjs")
}

// The editor opens at line and column, and the page comes back to the same row.
func TestEditorOpensAtThePlace(t *testing.T) {
	dir := workspace(t)
	editor := filepath.Join(t.TempDir(), "ed")
	log := editor + ".log"
	if err := os.WriteFile(editor, []byte("#!/bin/sh\necho \"$@\" >> "+log+"\necho \"editor $(wc -l < "+log+") is open\"\nread -r line\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	s := start(t, dir, 142, 38, "TIDYTALLY_EDITOR='"+editor+" +{line}:{column} {file}'")
	s.waitFor("usual kiln#controller")
	s.keys("u")
	s.waitFor("failed (2)")
	s.keys("y")
	s.waitFor("problem 3 of 3")
	s.keys("Enter")
	s.waitFor("editor 1 is open")
	s.keys("Enter")
	s.waitFor("tally of kiln#controller", "problem 3 of 3")
	s.keys("t")
	s.waitFor("selftest")
	s.keys("e")
	s.waitFor("editor 2 is open") // the first one's words are still on the screen below
	s.keys("Enter")
	s.waitFor("selftest", "find")
	data, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	want := "+39:26 " + filepath.Join(dir, "kiln/src/coil.c") + "\n+15:1 " + filepath.Join(dir, "kiln/Makefile") + "\n"
	if string(data) != want {
		t.Errorf("the editor was opened with\n%swant\n%s", data, want)
	}
}
