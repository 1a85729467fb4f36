package main

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"tidytally/core/printable"
	"tidytally/core/reader"
	"tidytally/core/sieve/family"
	"tidytally/core/workspace"
	"tidytally/demo"
	"tidytally/internal/testtree"
)

var update = flag.Bool("update", false, "write the golden files")

// The tests see nothing of what the user has for every workspace.
func TestMain(m *testing.M) {
	flag.Parse()
	os.Exit(func() int {
		home, err := os.MkdirTemp("", "tidytally-cmd-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(home)
		os.Setenv("XDG_CONFIG_HOME", home+"/config")
		os.Setenv("XDG_STATE_HOME", home+"/state")
		return m.Run()
	}())
}

// call runs a command line in a folder.
func call(t *testing.T, dir string, args ...string) (out, errs string, code int) {
	t.Helper()
	t.Chdir(dir)
	var o, e bytes.Buffer
	oldOut, oldErr, oldJSON, oldTask := stdout.To, stderr.To, jsonData, taskOutput
	stdout.To, stderr.To, jsonData, taskOutput = &o, &e, printable.JSON{To: &o}, &o
	defer func() { stdout.To, stderr.To, jsonData, taskOutput = oldOut, oldErr, oldJSON, oldTask }()
	code = execute(args)
	return o.String(), e.String(), code
}

// studio lays out the demo.
func studio(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(testtree.Folder(t), "emberclay")
	if err := demo.Lay(dir); err != nil {
		t.Fatal(err)
	}
	return dir
}

// golden are command lines in the demo. Their whole output is in testdata; go test
// ./cmd/tidytally -update writes it.
var golden = []struct {
	name string
	code int
	args []string
}{
	{"list", 0, []string{"list"}},
	{"list-filter", 0, []string{"list", "kind:build", "-clean"}},
	{"list-word", 0, []string{"list", "build"}},
	{"list-no-field", 2, []string{"list", "knid:test"}},
	{"list-no-kind", 2, []string{"list", "kind:tset"}},
	{"list-json", 0, []string{"list", "--json", "in:kiln"}},
	{"show", 0, []string{"show", "kiln#controller"}},
	{"show-json", 0, []string{"show", "kiln#controller", "--json"}},
	{"show-ambiguous", exitUsage, []string{"show", "twin"}},
	{"show-unknown", exitUsage, []string{"show", "contrller"}},
	{"plan", 0, []string{"plan", "check-all"}},
	{"plan-json", 0, []string{"plan", "check-all", "--json"}},
	{"plan-via", 0, []string{"plan", "boxed"}},
	{"show-via", 0, []string{"show", "boxed"}},
	{"run-via", 0, []string{"run", "boxed"}},
	{"run-no-choice", exitUsage, []string{"run", "boxed", "--", "SIZE=xl"}},
	{"run", 3, []string{"run", "fails", "succeeds"}},
	{"run-nothing", exitUsage, []string{"run"}},
	{"run-arguments", 0, []string{"run", "echoes", "--", "a b", "it's"}},
	{"list-is-unknown", exitUsage, []string{"list", "is:runing"}},
	{"list-is-running", 0, []string{"list", "is:running"}},
	{"sift", 0, []string{"sift", "build.log"}},
	{"sift-gnu", 0, []string{"sift", "--format", "gnu", "build.log"}},
	{"sift-jsonl", 0, []string{"sift", "--format", "jsonl", "build.log"}},
	{"sift-sarif", 0, []string{"sift", "--format", "sarif", "build.log"}},
	{"sift-fail-on", exitFound, []string{"sift", "--fail-on", "warning", "build.log"}},
	{"sift-format", exitUsage, []string{"sift", "--format", "xml", "build.log"}},
	{"sift-gone", exitUsage, []string{"sift", "gone.log"}},
	{"check", exitFound, []string{"check", "broken.toml"}},
	{"check-sample", 0, []string{"check", "--sieve", "kilnsim", "--sample", "kiln.log"}},
	{"check-no-sieve", exitUsage, []string{"check", "--sieve", "gone", "--sample", "kiln.log"}},
	{"schema", 0, []string{"schema"}},
	{"help", 0, []string{"--help"}},
	{"unknown-command", exitUsage, []string{"frobnicate", "x"}},
	{"pages-without-terminal", exitUsage, []string{}},
}

// varying is what differs from run to run.
var varying = regexp.MustCompile(`\d+\.\d s`)

func TestGolden(t *testing.T) {
	dir := studio(t)
	tally, err := os.ReadFile(filepath.Join(dir, workspace.TallyFile))
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		workspace.TallyFile: strings.Replace(string(tally), "\n\n[set]", "\nslots = 2\n[set]", 1) + `
[task.fails]
run = "echo 'kiln/src/coil.c:9:1: error: no coil [-Wcoil]'; exit 3"
[task.succeeds]
run = "echo fine"
[task.echoes]
run = ["printf", "<%s>"]
[task.twin]
run = "true"
[via.box]
run = ["env", "IN_BOX=1", "{command}"]
[task.boxed]
run = "echo $IN_BOX in a box"
via = "box"
args = [{ name = "SIZE", choices = ["s", "m"], default = "m" }]
[sieve.kilnsim]
[[sieve.kilnsim.lines]]
match = '^!! (?P<severity>\w+) in (?P<file>\S+) at (?P<line>\d+)$'
[[sieve.kilnsim.lines]]
match = '^   (?P<message>.+)$'
repeat = true
`,
		"firing/" + workspace.TallyFile: "[task.twin]\nrun = \"true\"\n",
		"broken.toml":                   "[task.x]\nrnu = \"y\"\n[workspace\nname = 3\n",
		"kiln.log":                      "up\n!! error in kiln/src/coil.c at 9\n   too hot\n",
		"build.log": "cc -c coil.c\nkiln/src/coil.c:9:5: warning: unused variable 'x' [-Wunused-variable]\nkiln/src/coil.c:12:1: error: no such member\n" +
			"kiln/src/coil.h:3:2: note: declared here\nshopfront/src/glazes.ts(4,7): error TS2322: Type 'string' is not assignable to type 'number'.\ncoil.h:7: error: the limit is found by its name\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	here, err := os.Getwd()
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range golden {
		t.Run(c.name, func(t *testing.T) {
			out, errs, code := call(t, dir, c.args...)
			if code != c.code {
				t.Errorf("exit %d, want %d", code, c.code)
			}
			text := fmt.Sprintf("$ tidytally %s\n%s--- standard error\n%s--- exit %d\n", strings.Join(c.args, " "), out, errs, code)
			text = strings.ReplaceAll(text, dir, "/work/emberclay")
			text = varying.ReplaceAllString(text, "0.0 s")
			name := filepath.Join(here, "testdata", c.name+".golden")
			if *update {
				if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			want, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			if text != string(want) {
				t.Errorf("got\n%s\nwant\n%s", text, want)
			}
		})
	}
}

// Standard output has data alone, and JSON is JSON.
func TestDataIsAlone(t *testing.T) {
	dir := studio(t)
	for _, args := range [][]string{{"list", "--json"}, {"list", "--json", "--all"}, {"show", "controller", "--json"}, {"plan", "check-all", "--json"}, {"schema"}} {
		out, errs, code := call(t, dir, args...)
		var v map[string]any
		if err := json.Unmarshal([]byte(out), &v); err != nil || code != 0 || errs != "" {
			t.Errorf("%v: exit %d, %v, errors %q", args, code, err, errs)
		}
	}
}

// Every flag and every command has words that say what it does.
func TestEveryFlagHasItsWords(t *testing.T) {
	commands := newRoot().Commands()
	if len(commands) < 8 {
		t.Fatalf("%d commands", len(commands))
	}
	for _, c := range commands {
		if c.Short == "" || strings.HasSuffix(c.Short, ".") {
			t.Errorf("%s is described as %q", c.Name(), c.Short)
		}
		if usage := c.Flags().FlagUsages(); strings.Contains(usage, "   \n") {
			t.Errorf("%s: a flag says nothing:\n%s", c.Name(), usage)
		}
	}
}

// The docs have a row for each kind of declaration and each family, and the README a
// row for each command.
func TestTheDocsNameEverything(t *testing.T) {
	read := func(name string) string {
		t.Helper()
		data, err := os.ReadFile(filepath.Join("../..", name))
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	has := func(name, text, row string) {
		t.Helper()
		if !strings.Contains(text, row) {
			t.Errorf("%s has no %s", name, row)
		}
	}
	readers, sieves, readme := read("docs/readers.md"), read("docs/sieves.md"), read("README.md")
	for _, r := range reader.All {
		has("docs/readers.md", readers, "| `"+r.Source+"` |")
	}
	for _, name := range family.All.Families() {
		if !regexp.MustCompile("(?m)^\\| .*`" + name + "`.* \\|").MatchString(sieves) {
			t.Errorf("docs/sieves.md has no row for %s", name)
		}
	}
	for _, c := range newRoot().Commands() {
		if c.Name() != "help" && c.Name() != "completion" {
			has("README.md", readme, "tidytally "+c.Name())
		}
	}
	// Paths of sources that the docs name are there.
	paths := regexp.MustCompile("`((?:core|tui|cmd|scripts|docs)/[\\w./-]+)`")
	for _, name := range []string{"README.md", "docs/readers.md", "docs/sieves.md", "docs/architecture.md", "docs/tally-file.md"} {
		for _, m := range paths.FindAllStringSubmatch(read(name), -1) {
			if strings.Contains(m[1], "NAME") {
				continue
			}
			if _, err := os.Stat(filepath.Join("../..", m[1])); err != nil {
				t.Errorf("%s names %s, which is not there", name, m[1])
			}
		}
	}
}

// Only one file knows standard output, and so what is printed is cleaned.
func TestOnlyOneFileKnowsStandardOutput(t *testing.T) {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	printing := regexp.MustCompile(`fmt\.Print|os\.Std(out|err)\b`)
	asking := regexp.MustCompile(`os\.Stdout\.Fd\(\)|To: os\.Stdout\}`)
	for _, name := range files {
		if name == "output.go" || strings.HasSuffix(name, "_test.go") {
			continue
		}
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for i, l := range strings.Split(string(data), "\n") {
			if printing.MatchString(l) && !asking.MatchString(l) {
				t.Errorf("%s:%d: %s", name, i+1, strings.TrimSpace(l))
			}
		}
	}
}

// A mistake in a call ends with 2, tells what may have been meant, and shows how the command is called.
func TestMistakesInCalls(t *testing.T) {
	dir := studio(t)
	for _, c := range []struct{ args, says, usage string }{
		{"lst", "did you mean tidytally list?", "tidytally [DIR]"},
		{"histroy", "did you mean tidytally history?", "tidytally [DIR]"},
		{"nowhere/at/all", "no command, and no folder", "tidytally [DIR]"},
		{"kiln firing", `"firing" was given too`, "tidytally [DIR]"},
		{"list --jsn", "did you mean --json?", "tidytally list"},
		{"show", "show needs the ID of a task", "tidytally show ID"},
		{"show a b", `no "b" behind it`, "tidytally show ID"},
		{"plan", "plan needs the ID of a task", "tidytally plan ID"},
		{"schema x", "takes no arguments", "tidytally schema"},
		{"completion", "bash, fish, zsh", "tidytally completion SHELL"},
		{"completion csh", "bash, fish, zsh", "tidytally completion SHELL"},
		{"help lits", "did you mean tidytally list?", "tidytally help"},
		{"--color sometimes list", "auto, always or never", "tidytally list"},
		{"-C nowhere list", "-C nowhere: no such file or directory", "tidytally list"},
		{"history --since soon", "--since soon", "tidytally history"},
	} {
		out, errs, code := call(t, dir, strings.Fields(c.args)...)
		if code != exitUsage || out != "" || !strings.Contains(errs, c.says) || !strings.Contains(errs, "usage: "+c.usage) {
			t.Errorf("tidytally %s: exit %d, %q\n%s", c.args, code, out, errs)
		}
	}
}

// -C is as good as standing there, also for the shell's completion.
func TestAnotherFolder(t *testing.T) {
	dir := studio(t)
	there, _, _ := call(t, filepath.Join(dir, "kiln"), "list", "-clean", "in:kiln")
	for _, args := range [][]string{{"-C", dir + "/kiln", "list", "-clean", "in:kiln"}, {"list", "-C", dir + "/kiln", "-clean", "in:kiln"}, {"--directory", dir, "--no-color", "list", "-clean", "in:kiln"}} {
		if out, errs, code := call(t, t.TempDir(), args...); code != 0 || out != there || errs != "" {
			t.Errorf("%v: exit %d, %s%s", args, code, out, errs)
		}
	}
	if out, _, _ := call(t, t.TempDir(), "__complete", "-C", dir, "show", ""); !strings.Contains(out, "\ncontroller\tLink the controller image\n") {
		t.Errorf("completed:\n%s", out)
	}
}

// The shell completes short ids, the arguments of the task that is named, and their choices.
func TestCompletion(t *testing.T) {
	dir := studio(t)
	tally, err := os.OpenFile(filepath.Join(dir, workspace.TallyFile), os.O_APPEND|os.O_WRONLY, 0)
	if err == nil {
		_, err = tally.WriteString("[task.fire]\nrun = \"echo {ask.cone}\"\nargs = [{ name = \"SIZE\", about = \"of the kiln\", choices = [\"s\", \"m\"] }]\npresets = { night = \"SIZE=s\" }\n")
		tally.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"run", "fire", "--", ""}, "SIZE=\tof the kiln\ncone=\n"},
		{[]string{"run", "fire", "--", "SIZE="}, "SIZE=s\nSIZE=m\n"},
		{[]string{"run", "fire", "--preset", ""}, "night\n"},
		{[]string{"list", "kind:"}, "kind:build\nkind:check\n"},
		{[]string{"draw", ""}, "plan\ntimeline\ntrend\n"},
		{[]string{"plan", "fire", ""}, ":4\n"},
		{[]string{"--color", ""}, "auto\nalways\nnever\n"},
	} {
		if out, _, _ := call(t, dir, append([]string{"__complete"}, c.args...)...); !strings.HasPrefix(out, c.want) {
			t.Errorf("%q is completed with\n%swant\n%s", c.args, out, c.want)
		}
	}
}

// Places open from where one stands, whatever folder the output was made in.
func TestSiftedPathsOpenFromHere(t *testing.T) {
	dir := studio(t)
	if err := os.WriteFile(filepath.Join(dir, "kiln", "build.log"), []byte("src/coil.c:9:5: error: hot\nsrc/coil.h:2:1: note: see here\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for here, in := range map[string]string{"kiln": ".", ".": "kiln", "kiln/src": "..", "firing": "../kiln"} {
		log, err := filepath.Rel(filepath.Join(dir, here), filepath.Join(dir, "kiln", "build.log"))
		if err != nil {
			t.Fatal(err)
		}
		for _, format := range []string{"text", "gnu"} {
			out, _, code := call(t, filepath.Join(dir, here), "sift", "--in", in, "--format", format, log)
			file, _, _ := strings.Cut(out, ":")
			if _, err := os.Stat(file); err != nil || code != 0 {
				t.Errorf("from %s, as %s: %v in\n%s", here, format, err, out)
			}
		}
	}
	t.Setenv("NO_COLOR", "") // both are put back
	t.Setenv("CLICOLOR_FORCE", "")
	out, _, _ := call(t, filepath.Join(dir, "firing"), "sift", "--in", "../kiln", "--color", "always", "../kiln/build.log")
	if want := "\x1b[1m../kiln/src/coil.c:9:5\x1b[m: \x1b[31merror\x1b[m: hot\n    see ../kiln/src/coil.h:2:1: see here\n"; out != want {
		t.Errorf("in colours: %q", out)
	}
}

// There is a manual page for each command, with its flags.
func TestManualPages(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "man1")
	if _, errs, code := call(t, t.TempDir(), "man", dir); code != 0 {
		t.Fatalf("exit %d: %s", code, errs)
	}
	for _, c := range newRoot().Commands() {
		page, err := os.ReadFile(filepath.Join(dir, "tidytally-"+c.Name()+".1"))
		if c.Name() == "help" {
			continue
		}
		if err != nil || !bytes.Contains(page, []byte("-C")) || !bytes.Contains(page, []byte(".SH SYNOPSIS")) {
			t.Errorf("%s: %v\n%s", c.Name(), err, page)
		}
		groff, err := exec.LookPath("groff")
		if err != nil {
			continue
		}
		cmd := exec.Command(groff, "-k", "-man", "-ww", "-z", "-Tutf8")
		cmd.Stdin = bytes.NewReader(page)
		if said, err := cmd.CombinedOutput(); err != nil || len(said) > 0 {
			t.Errorf("%s: groff says %v %s", c.Name(), err, said)
		}
	}
}

// A new task is written from a starting point: listed without one, printed alone with --dry-run, and
// with a free name when it is written twice.
func TestNewTasks(t *testing.T) {
	dir := studio(t)
	tally := filepath.Join(dir, workspace.TallyFile)
	before, err := os.ReadFile(tally)
	if err != nil {
		t.Fatal(err)
	}
	out, _, code := call(t, dir, "new")
	if code != 0 || !strings.Contains(out, "any command line") || !strings.Contains(out, "name= line=") {
		t.Errorf("the starting points: exit %d\n%s", code, out)
	}
	const lines = "[task.count]\nrun = \"wc -l *.md | sort\"\nin = \"kiln\"\n"
	args := []string{"-C", filepath.Join(dir, "kiln"), "new", "any command line", "name=count", "line=wc -l *.md | sort"}
	out, _, code = call(t, dir, append(args, "--dry-run")...)
	if now, _ := os.ReadFile(tally); code != 0 || out != lines || !bytes.Equal(now, before) {
		t.Errorf("only printed: exit %d\n%s", code, out)
	}
	for range 2 {
		if _, errs, code := call(t, dir, args...); code != 0 || !strings.Contains(errs, "written into tidytally.toml") {
			t.Errorf("exit %d: %s", code, errs)
		}
	}
	now, _ := os.ReadFile(tally)
	if want := string(before) + "\n" + lines + "\n" + strings.Replace(lines, "count", `"count 2"`, 1); string(now) != want {
		t.Errorf("the tally file reads\n%s", now)
	}
	for _, c := range []struct{ args, says string }{
		{"new any-comand-line", "there is no starting point any-comand-line here; did you mean 'any command line'?"},
		{"new serve port", "there is no starting point"},
		{"new --file /etc/passwd", "is not in the workspace"},
		{"new --file nothere.c", "no such file"},
	} {
		if _, errs, code := call(t, dir, strings.Fields(c.args)...); code != exitUsage || !strings.Contains(errs, c.says) {
			t.Errorf("%s: exit %d, %s", c.args, code, errs)
		}
	}
	if _, errs, code := call(t, dir, "new", "any command line", "name=x"); code != exitUsage || !strings.Contains(errs, "needs line: the command line") {
		t.Errorf("without a value: exit %d, %s", code, errs)
	}
}

// The log tells what was done, with the numbers of runs, and keeps what may be secret to itself.
func TestTheLog(t *testing.T) {
	root, log := t.TempDir(), filepath.Join(t.TempDir(), "log")
	if err := os.WriteFile(filepath.Join(root, "tidytally.toml"), []byte("[task.say]\nrun = \"echo\"\nenv = { KILN_PIN = \"glowing77\" }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	t.Chdir(root)
	if code := execute([]string{"--log", log, "run", "say", "--", "--token", "hunter22"}); code != 0 {
		t.Fatalf("exit %d", code)
	}
	text, err := os.ReadFile(log)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"msg=surveyed", "msg=\"history opened\"", "msg=\"run began\" pid=", "run=1 task=tidytally.toml#say", "msg=\"run ended\"", "state=ok"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("no %s in\n%s", want, text)
		}
	}
	if strings.Contains(string(text), "hunter22") || strings.Contains(string(text), "glowing77") {
		t.Errorf("a secret is in\n%s", text)
	}
	if info, err := os.Stat(log); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	if code := execute([]string{"--log", "/dev/full", "list"}); code != exitUsage {
		t.Errorf("a device: exit %d", code)
	}
}
