package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/internal/testtree"
)

// Compiles, or just runs, the one current file: what is tied to its type is offered
// on top as soon as the file is saved, and so is a task that is added.
func TestTheFileInHand(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("28 of 35 tasks shown")
	s.write("tidytally.toml", s.read("tidytally.toml")+`
[task.compile-this]
run = ["gcc", "-Wall", "-c", "{file}", "-o", "/dev/null"]
for = ["*.c"]
`)
	s.waitFor("compile-this")
	s.write("kiln/src/coil.c", s.read("kiln/src/coil.c")+"\n")
	s.waitFor("saved last kiln/src/coil.c", "compilers and interpreters on this machine")
	s.keys("Home")
	s.waitFor("for coil.c")
	s.waitUntil("the task for the file on top", func(text string) bool {
		_, head := line(t, text, "for coil.c")
		_, task := line(t, text, "gcc -Wall -c")
		return task == head+1
	})
	s.keys("Enter")
	s.waitFor("failed (1)")
	s.keys("y")
	s.waitFor("kiln/src/coil.c", "has no member named")
	s.keys("t")
	// Another file, another task; one that is added is there at once, and where
	// its program was looked for is told.
	s.write("tidytally.toml", s.read("tidytally.toml")+`
[task.bake-this]
run = ["pybake", "{file}"]
for = ["*.py"]
`)
	s.waitFor("bake-this")
	s.write("glazebook/scripts/print_labels.py", s.read("glazebook/scripts/print_labels.py")+"\n")
	s.waitFor("saved last glazebook/", "/print_labels.py")
	s.keys("Home")
	s.waitFor("for print_labels.py")
	s.waitFor("tidytally.toml:47", "pybake")
	s.keys("Enter")
	s.waitFor("pybake: not found on the path (", "not found")
	// Kept in hand, it stays whatever is saved.
	s.keys("f")
	s.waitFor("Which file is the current one?", "print_labels.py", "saved last")
	s.typeText("prlabels")
	s.keys("Enter")
	s.waitFor("current file glazebook/", "/print_labels.py")
	s.write("kiln/src/coil.c", s.read("kiln/src/coil.c")+"\n")
	s.write("new/Makefile", "fire:\n\techo hot\n")
	s.find("name:fire")
	s.waitFor("make fire", "2 of", "current file glazebook/", "/print_labels.py")
}

// Compiles the current file with a compiler of this machine; the program has two
// files, and the symbol that is missing is a problem with a place.
func TestCompilersOfThisMachine(t *testing.T) {
	dir := workspace(t)
	s := start(t, dir, 142, 38)
	s.waitFor("28 of 35 tasks shown")
	s.write("kiln/src/lone.c", "int glow(int);\n\nint main(void)\n{\n\treturn glow(3);\n}\n")
	s.waitFor("compilers and interpreters")
	s.keys("Home", "Enter")
	s.waitFor("compile lone.c with gcc", "gcc -Wall -g -o lone lone.c", "/gcc")
	s.keys("Enter")
	s.waitFor("failed (1)")
	s.keys("y")
	s.waitFor("kiln/src/lone.c", "5", "undefined reference to `glow'", "return glow(3);")
}

// Presses the key for the usual task when none is chosen yet; is offered the
// likely ones; the choice stays, for everybody or for one alone.
func TestTheUsualTaskIsChosenOnce(t *testing.T) {
	dir := workspace(t)
	s := start(t, dir, 142, 38)
	s.waitFor("28 of 35 tasks shown")
	s.write("tidytally.toml", strings.Replace(s.read("tidytally.toml"), "usual = \"kiln/Makefile#controller\"\n", "# none yet\n", 1))
	s.waitGone("usual kiln")
	s.keys("u")
	s.waitFor("Which task is the usual one", "kiln/Makefile#all")
	text := s.waitFor("shopfront/package.json#build")
	l, _ := line(t, text, "kiln/Makefile#all")
	s.keys(strings.Fields(l)[0])
	s.waitFor("Where is it to be kept", "for me alone")
	s.keys("1")
	s.waitFor("usual kiln#all", "written into tidytally.toml")
	if got := s.read("tidytally.toml"); !strings.Contains(got, "# none yet\nusual = \"kiln/Makefile#all\"\n") && !strings.Contains(got, "usual = \"kiln/Makefile#all\"\n# none yet\n") {
		t.Errorf("the tally file reads\n%s", got[:200])
	}
	s.find("name:selftest")
	s.waitFor("1 of")
	s.keys("U")
	s.waitFor("Which task is the usual one")
	s.keys("Enter")
	s.waitFor("Where is it to be kept")
	s.keys("2")
	s.waitFor("usual kiln#selftest")
	s.keys("q")
	s.waitFor("exit 0")
	if strings.Contains(s.read("tidytally.toml"), "selftest\"\nslots") || !strings.Contains(s.read("tidytally.toml"), "usual = \"kiln/Makefile#all\"") {
		t.Error("what is for one alone is in the tally file")
	}
}

// Has personal tasks on top, pins one of the project's, and finds both again;
// the list is swamped by scripts: one rule hides them, and says how many.
func TestPersonalTasksAndNoise(t *testing.T) {
	dir := workspace(t)
	config := t.TempDir()
	for name, text := range map[string]string{
		config + "/tidytally/tidytally.toml": "[task.scratch]\nrun = \"echo in $PWD\"\n",
		dir + "/borrowed/a.sh":               "#!/bin/sh\n",
		dir + "/borrowed/b.sh":               "#!/bin/sh\n",
		dir + "/borrowed/deep/c.sh":          "#!/bin/sh\n",
	} {
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	s := start(t, dir, 142, 38, "XDG_CONFIG_HOME="+config)
	s.waitFor("32 of 39 tasks shown")
	s.keys("Home")
	s.waitFor("personal", "scratch")
	s.find("name:scratch")
	s.waitFor("1 of")
	s.keys("Enter")
	s.waitFor("ok")
	s.clearFind()
	s.find("name:sweep")
	s.waitFor("1 of")
	s.keys("p")
	s.waitFor("is pinned", "pinned")
	s.clearFind()
	s.keys("v")
	s.waitFor("borrowed/deep/c.sh")
	s.keys("Home", "Down", "Down", "Down", "i")
	text := s.waitFor("What is to be ignored?", "borrowed/a.sh", "**/a.sh")
	l, _ := line(t, text, "  borrowed  ")
	s.keys(strings.Fields(l)[0])
	s.waitFor("written into tidytally.toml: borrowed is ignored", "tidytally.toml: ignore borrowed", "3 files")
	tally := s.read("tidytally.toml")
	if !strings.Contains(tally, `ignore = ["borrowed"]`) || !strings.HasPrefix(tally, "# The tally file of the pottery studio's workspace.\n") {
		t.Errorf("the tally file reads\n%s", tally[:300])
	}
	// The rule is switched off where it stands, and the scripts are back.
	s.keys("End")
	s.waitUntil("the rule", func(text string) bool { return strings.Contains(text, "ignore borrowed") })
	s.keys("s")
	s.waitFor("Is borrowed no longer to be ignored?", "for everybody who works here")
	s.keys("Enter")
	s.waitFor("no longer ignored", "borrowed/deep/c.sh")
	s.keys("q")
	s.waitFor("exit 0")

	s.again("XDG_CONFIG_HOME=" + config)
	s.waitFor("of 39 tasks shown")
	s.keys("Home")
	s.waitFor("pinned", "Sweep the kiln", "run last", "scratch")
}

// Adds any command line as a task with a sieve of its own; a mistake in the file
// is a problem in that file.
func TestASieveOfOnesOwn(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("28 of 35 tasks shown")
	s.write("tidytally.toml", s.read("tidytally.toml")+`
[task.rehearse]
run = "printf '!! odd in kiln/src/ramp.c at 12\n   too steep\nramp.c:3:1: error: not asked for\n'; exit 1"
sieves = ["kilnsim"]
key = "f6"

[sieve.kilnsim]
severities = { odd = "warning" }
[[sieve.kilnsim.lines]]
match = '^!! (?P<severity>\w+) in (?P<file>\S+) at (?P<line>\d+)$'
[[sieve.kilnsim.lines]]
match = '^   (?P<message>.+)$'
repeat = true
`)
	s.waitFor("rehearse")
	s.keys("F6")
	s.waitFor("failed (1)")
	s.keys("y")
	s.waitFor("1 warning in 1 file", "kiln/src/ramp.c", "too steep")
	s.write("tidytally.toml", strings.Replace(s.read("tidytally.toml"), `sieves = ["kilnsim"]`, `sieves = ["kilnsin"]`, 1))
	s.waitFor("in the task files", "there is no sieve kilnsin; did you mean kilnsim?")
	s.write("tidytally.toml", strings.Replace(s.read("tidytally.toml"), `(?P<message>.+)`, `(?P<message>.+`, 1))
	s.waitFor("missing closing )")
	if _, err := exec.LookPath("git"); err == nil {
		out, _, code := call(t, s.dir, "", "check")
		if code != 1 || !strings.Contains(out, "tidytally.toml:") {
			t.Errorf("check: %d, %s", code, out)
		}
	}
}

// Works through the problems: in the order of their severity, filtered, moved
// with the text when the file changes.
func TestWorkThroughTheTally(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("28 of 35 tasks shown")
	s.keys("u")
	s.waitFor("failed (2)")
	s.keys("y")
	s.waitFor("1 error, 2 warnings in 1 file, by file", "problem 3 of 3")
	s.keys("g")
	text := s.waitFor("by severity", "errors", "warnings")
	if _, e := line(t, text, "has no member"); e > 8 {
		t.Errorf("the error should stand first\n%s", text)
	}
	s.keys("/")
	s.typeText("sev:warning unused")
	s.waitFor("1 shown, 2 hidden by the filter", "unused variable")
	s.keys("Enter")
	source := s.read("kiln/src/coil.c")
	s.write("kiln/src/coil.c", "/* one */\n/* two */\n"+source)
	s.waitFor("the file has changed since the run: line 32 was line 30", "coil.c:32:13")
	s.keys("Escape")
	s.waitFor("1 error, 2 warnings")
}

// Tries a sieve on what was printed, while its expression is changed, and has it
// written where it stands in the tally file.
func TestASieveIsTriedWhileItIsChanged(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("28 of 35 tasks shown")
	s.write("tidytally.toml", s.read("tidytally.toml")+`
[task.rehearse]
run = "printf 'up\n!! odd in kiln/src/ramp.c at 12\n!! cold in kiln/src/coil.c at 9\n'"
key = "f6"

[sieve.kilnsim]
[[sieve.kilnsim.lines]] # the only line
match = '^!! (?P<message>odd) in (?P<file>\S+)' # as it is
`)
	s.waitFor("rehearse")
	s.keys("F6")
	s.waitFor("ok")
	s.keys("y", "s")
	text := s.waitFor("sieve kilnsim", "tried on the output of rehearse", "1 problem from 1 of 3 lines")
	if l, _ := line(t, text, "!! odd"); !strings.Contains(l, "1 ¦") || !strings.Contains(l, "message file") {
		t.Errorf("the line that matches reads %q", l)
	}
	s.keys("Enter", "C-a", "C-k")
	s.typeText(`^!! (?P<message>\w+) in (?P<file>\S+) at (?P<line>\d+`)
	s.waitFor("missing closing )")
	s.typeText(`)`)
	s.waitFor("2 problems from 2 of 3 lines", "message file line")
	s.keys("Enter")
	s.waitFor("written into tidytally.toml")
	want := `[[sieve.kilnsim.lines]] # the only line
match = '^!! (?P<message>\w+) in (?P<file>\S+) at (?P<line>\d+)' # as it is
`
	if got := s.read("tidytally.toml"); !strings.HasSuffix(got, want) {
		t.Errorf("the tally file ends in\n%s", got[len(got)-200:])
	}
	s.keys("y", "r")
	s.waitFor("2 errors in 2 files", "kiln/src/ramp.c", "12", "cold")
}

// Runs a program that is older than its sources: the list says so before it is
// run, and which files have changed.
func TestAMarkSaysThatATaskIsStale(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("28 of 35 tasks shown")
	s.write("tidytally.toml", s.read("tidytally.toml")+`
[adjust."kiln/Makefile#selftest"]
reads = ["src/*.c", "Makefile"]
`)
	s.find("name:selftest")
	s.waitFor("1 of", "reads", "src/*.c Makefile")
	s.keys("Enter")
	s.waitUntil("the end of the self-test", func(text string) bool {
		l, _ := line(t, text, "make selftest")
		return strings.Contains(l, "ok")
	})
	s.write("kiln/src/ramp.c", s.read("kiln/src/ramp.c")+"\n")
	s.waitFor("stale (1)", "kiln/src/ramp.c changed   by what it declares")
	s.clearFind()
	s.find("is:stale")
	s.waitFor("1 of", "selftest")
	out, errs, code := call(t, s.dir, "", "list", "is:stale")
	if code != 0 || !strings.HasPrefix(out, "kiln/Makefile#selftest") || strings.Count(out, "\n") != 1 {
		t.Errorf("list: exit %d, %q, %q", code, out, errs)
	}
	s.keys("Enter")
	s.waitFor("Nothing matches the filter") // it is fresh
	// Another session knows it too.
	s.keys("q")
	s.waitFor("exit 0")
	s.write("kiln/src/ramp.c", s.read("kiln/src/ramp.c")+"\n")
	s.again()
	s.find("is:stale")
	s.waitFor("1 of", "stale (1)")
}

// A hundred lines that no tool says make no problem, and a document in the midst
// of an output is read as what it is.
func TestADocumentInTheOutput(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("28 of 35 tasks shown")
	s.write("report.sarif", `{
  "version": "2.1.0",
  "runs": [{"tool": {"driver": {"name": "kilnlint"}}, "results": [
    {"ruleId": "K1", "level": "error", "message": {"text": "the ramp is too steep"}, "locations": [{"physicalLocation": {"artifactLocation": {"uri": "kiln/src/ramp.c"}, "region": {"startLine": 3}}}]}
  ]}]
}
`)
	s.write("tidytally.toml", s.read("tidytally.toml")+`
[task.report]
run = "echo linting; cat report.sarif; echo done"
key = "f6"
show = "on-problem"
`)
	s.waitFor("¦ report ")
	s.keys("F6")
	s.waitFor("tally of report", "1 error in 1 file", "kiln/src/ramp.c", "the ramp is too steep", "K1")
}

// On a terminal the mistakes in task files do not push the tasks out of sight; for a
// script they are all told.
func TestListTellsMistakesInOneLine(t *testing.T) {
	dir := testtree.Lay(t, map[string]string{"Makefile": "include a.mk\ninclude b.mk\nx: ; true\n", "tidytally.toml": ""})
	s := startCommand(t, dir, 142, 38, program+" list; "+program+" list --faults; echo these are all tasks")
	text := s.waitFor("these are all tasks")
	if strings.Count(text, "and 1 more mistake in task files; --faults lists all") != 1 || strings.Count(text, "include b.mk") != 1 {
		t.Errorf("on a terminal:\n%s", text)
	}
	if _, errs, _ := call(t, dir, "", "list"); strings.Count(errs, "\n") != 2 {
		t.Errorf("elsewhere: %q", errs)
	}
}

// A tree shows what it will offer before it is configured, and what must be done first; once
// it is, the list follows by itself, also into a build folder that version control ignores.
func TestTreeBeforeAndAfterItsConfigureRun(t *testing.T) {
	dir := t.TempDir()
	testtree.Fill(t, dir, map[string]string{
		".gitignore": "/Makefile\n/build\n", "configure.ac": "AC_INIT([kiln], [1])\n",
		"Makefile.in": "all:\n\t@CC@ main.c\nsweep:\n\ttrue\n",
		"shelf/CMakeLists.txt": `cmake_minimum_required(VERSION 3.10)
project(shelf C)
execute_process(COMMAND echo oak OUTPUT_VARIABLE WOOD OUTPUT_STRIP_TRAILING_WHITESPACE)
add_custom_target(plane_${WOOD} COMMAND true)
`,
	})
	if err := os.WriteFile(filepath.Join(dir, "configure"), []byte("#!/bin/sh\n# Configures the kiln\nprintf 'all:\\n\\ttrue\\nsweep:\\n\\techo swept\\n' > Makefile\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	s := start(t, dir, 142, 38)
	s.waitFor("sweep", "Configures the kiln")
	s.find("sweep")
	s.waitFor("the tree is not configured; run ./configure first")
	s.clearFind()
	s.find("configures")
	s.keys("Enter")
	s.waitFor(" ok ")
	s.clearFind()
	s.find("sweep")
	s.waitUntil("the target of the new Makefile", func(text string) bool {
		return strings.Contains(text, "Makefile:3") && !strings.Contains(text, "first")
	})
	s.clearFind()
	if _, err := exec.LookPath("cmake"); err != nil {
		t.Skip("cmake is not installed")
	}
	if out, err := exec.Command("cmake", "-S", filepath.Join(dir, "shelf"), "-B", filepath.Join(dir, "shelf/build")).CombinedOutput(); err != nil {
		t.Fatalf("cmake: %v\n%s", err, out)
	}
	s.find("plane_oak")
	s.waitFor("cmake --build build --target plane_oak")
}

// In a tree of many folders the list begins with the root's tasks, and each folder is one row
// that opens; tests and other people's projects are folded; a filter finds what is folded,
// and names what is hidden.
func TestTreeOfManyFolders(t *testing.T) {
	dir := t.TempDir()
	files := map[string]string{
		"Makefile": "all:\n\tfor d in src; do $(MAKE) -C $$d $@; done\nflash:\n\ttrue\nobj/kiln.o:\n\ttrue\n", "src/Makefile": "all:\n\ttrue\nunit:\n\ttrue\n",
		"third_party/json/Makefile": "docs:\n\ttrue\n",
		"suite/CMakeLists.txt":      "project(suite C)\nenable_testing()\nforeach(i RANGE 1 40)\n add_test(NAME case${i} COMMAND true)\nendforeach()\n",
	}
	for i := range 60 {
		files[fmt.Sprintf("packages/p%02d/package.json", i)] = `{"scripts": {"build": "tsc", "say": "echo said"}}`
	}
	testtree.Fill(t, dir, files)
	s := start(t, dir, 142, 38)
	text := s.waitFor("2 of 169 tasks shown, 166 folded", "h shows 1 hidden", "the same in 1 folder below …   all", "packages …   60 folders, 120 tasks", "third_party/json …   1 task", "folder of other people's projects")
	if _, at := line(t, text, "¦ all"); at != 5 {
		t.Errorf("the root's first task is in line %d:\n%s", at, text)
	}
	s.keys("S-Down")
	s.waitUntil("the first folder chosen", func(text string) bool { return strings.Contains(text, "\n packages   60 folders, 120 tasks") })
	s.keys("Enter")
	s.waitFor("packages/p07 …   2 tasks")
	s.keys("Down", "Down", "Enter")
	s.waitFor("¦ say", "echo said")
	s.keys("Down", "Down")
	s.waitFor("runs      npm run say")
	s.keys("Enter")
	s.waitFor(" ok ")
	s.keys("z")
	s.waitUntil("the folder closed again", func(text string) bool { return !strings.Contains(text, "runs      npm run say") })
	s.keys("z")
	s.find("case17")
	s.waitFor("test case17", "1 of 169 tasks shown")
	s.clearFold()
	s.find("kiln.o")
	s.waitFor("make obj/kiln.o", "1 of")
	s.clearFold()
	s.keys("h")
	s.waitFor("164 folded")
	// The same on a small screen.
	s.keys("h")
	s.tmux("resize-window", "-x", "80", "-y", "24")
	s.waitFor("4 of 169 tasks shown, 164 folded", "packages   60 folders, 120 tasks")
}

// clearFold takes the filter off a list that has folds.
func (s *screen) clearFold() {
	s.t.Helper()
	s.keys("Escape")
	s.waitFor("folded")
}
