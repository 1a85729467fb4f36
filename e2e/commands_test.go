package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/internal/testtree"
)

func TestListJSON(t *testing.T) {
	dir := workspace(t)
	out, _, code := call(t, filepath.Join(dir, "kiln"), "", "list", "--json")
	var got struct {
		Workspace string
		Root      string
		Tasks     []struct {
			ID, Name, Source, File, Dir, Command, About, Kind, Declared string
			Line                                                        int
			LongRunning, Hidden                                         bool
			Args                                                        []struct{ Name, Default string }
			Needs                                                       []string
		}
		Faults  []struct{}
		Skipped []struct {
			Rule, Path string
			Files      int
		}
	}
	if err := json.Unmarshal([]byte(out), &got); err != nil || code != 0 {
		t.Fatalf("%v, exit %d", err, code)
	}
	if got.Workspace != "emberclay" || got.Root != dir || len(got.Faults) != 0 {
		t.Errorf("%s at %s, %d faults", got.Workspace, got.Root, len(got.Faults))
	}
	lines := map[string]string{}
	for _, k := range got.Tasks {
		data, err := os.ReadFile(filepath.Join(dir, k.File))
		if err != nil {
			t.Fatal(err)
		}
		text := strings.Split(string(data), "\n")[k.Line-1]
		lines[k.ID] = text
		if k.Source == "npm" && !strings.Contains(text, `"`+k.Name+`":`) || k.Source == "tally" && text != "[task."+k.Name+"]" {
			t.Errorf("%s: line %d reads %q", k.ID, k.Line, text)
		}
	}
	for id, start := range map[string]string{
		"kiln/Makefile#controller": "controller:", "kiln/Makefile#selftest": "selftest:", "kiln/Makefile#size-mk1": "include rules.mk",
		"shopfront/package.json#build": `    "build"`, "tidytally.toml#kilnsim": "[task.kilnsim]",
	} {
		if !strings.HasPrefix(lines[id], start) {
			t.Errorf("%s: its line reads %q", id, lines[id])
		}
	}
	if len(got.Skipped) == 0 || got.Skipped[0].Path != "glazebook/.venv" || got.Skipped[0].Files < 10 {
		t.Errorf("skipped: %+v", got.Skipped)
	}
}

func TestShowRunAndTheirExitCodes(t *testing.T) {
	dir := workspace(t)
	out, _, code := call(t, dir, "", "show", "size-mk1")
	if code != 0 || !strings.Contains(out, "kiln/rules.mk:20, declared: included by Makefile") || !strings.Contains(out, "make size-mk1") {
		t.Errorf("exit %d\n%s", code, out)
	}
	out, _, _ = call(t, dir, "", "show", "shopfront#start", "--json")
	var shown struct {
		About   string
		Origins map[string]struct {
			File, Manner string
			Line         int
		}
	}
	if err := json.Unmarshal([]byte(out), &shown); err != nil {
		t.Fatal(err)
	}
	if o := shown.Origins["about"]; o.File != "tidytally.toml" || o.Manner != "adjusted" || o.Line != 30 {
		t.Errorf("about comes from %+v", o)
	}
	toml := "[task.seven]\nrun = \"echo out; echo a.c:1:2: error: e [x]; exit 7\"\n[task.echo]\nrun = [\"printf\", \"%s.\"]\n[task.none]\nrun = [\"nothing-of-this-name\"]\n[task.term]\nrun = \"kill -TERM $$\"\n[task.cat]\nrun = \"cat\"\n"
	small := t.TempDir()
	if err := os.WriteFile(filepath.Join(small, "tidytally.toml"), []byte(toml), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args      []string
		out, errs string
		code      int
	}{
		{[]string{"run", "seven"}, "out\na.c:1:2: error: e [x]\n", "tidytally.toml#seven failed (7)", 7},
		{[]string{"run", "echo", "--", "a b", "--x"}, "a b.--x.", "tidytally.toml#echo ok", 0},
		{[]string{"run", "none"}, "", "not found on the path", 127},
		{[]string{"run", "term"}, "", "failed (TERM)", 143},
		{[]string{"run", "cat"}, "from standard input", "ok after", 0},
		{[]string{"run", "echo", "seven", "cat"}, ".out\na.c:1:2: error: e [x]\n", "tidytally.toml#cat not run", 7},
		{[]string{"run", "ech"}, "", "no task ech; the nearest are:\n  tidytally.toml#echo", 2},
		{[]string{"run"}, "", "say which task", 2},
		{[]string{"show"}, "", "show needs the ID of a task", 2},
		{[]string{"sift", "--format", "xml"}, "", "use text, jsonl, sarif or gnu", 2},
		{[]string{"sift", "nothere.log"}, "", "no such file", 2},
		{[]string{"nonsense", "x"}, "", "", 2},
	} {
		out, errs, code := call(t, small, "from standard input", c.args...)
		if code != c.code || out != c.out || !strings.Contains(errs, c.errs) {
			t.Errorf("%v: exit %d, out %q, errors %q", c.args, code, out, errs)
		}
	}
}

func TestCheckAndSchema(t *testing.T) {
	dir := workspace(t)
	if out, errs, code := call(t, dir, "", "check"); code != 0 || out != "" {
		t.Errorf("exit %d: %s%s", code, out, errs)
	}
	bad := filepath.Join(t.TempDir(), "tidytally.toml")
	if err := os.WriteFile(bad, []byte("[task.x]\nrun = \"y\"\nkindd = \"build\"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	out, _, code := call(t, dir, "", "check", bad)
	if code != 1 || !strings.HasSuffix(out, "tidytally.toml:3:1: error: unknown key of [task]: kindd; did you mean kind?\n") {
		t.Errorf("exit %d: %s", code, out)
	}
	out, _, code = call(t, dir, "", "schema")
	if !json.Valid([]byte(out)) || code != 0 {
		t.Errorf("exit %d: %s", code, out)
	}
	if out, _, _ := call(t, dir, "", "__complete", "run", ""); !strings.Contains(out, "\ncontroller\tLink the controller image") {
		t.Errorf("completion: %s", out)
	}
}

func TestSiftFormats(t *testing.T) {
	dir := t.TempDir()
	const log = "make: Entering directory '/w'\na.c:3:5: error: 'x' undeclared\na.c:1:2: note: declared here\nb.c:4:1: warning: unused [-Wunused]\n"
	for _, c := range []struct{ format, want string }{
		{"gnu", "/w/a.c:3:5: error: 'x' undeclared\n/w/b.c:4:1: warning: unused [unused]\n"},
		{"text", "/w/a.c:3:5: error: 'x' undeclared\n    see /w/a.c:1:2: declared here\n/w/b.c:4:1: warning: unused [unused]\n"},
	} {
		out, _, code := call(t, dir, log, "sift", "--format", c.format)
		if out != c.want || code != 0 {
			t.Errorf("%s: exit %d\n%s", c.format, code, out)
		}
	}
	for failOn, want := range map[string]int{"error": 1, "warning": 1} {
		if _, _, code := call(t, dir, log, "sift", "--fail-on", failOn); code != want {
			t.Errorf("--fail-on %s: exit %d", failOn, code)
		}
	}
	if _, _, code := call(t, dir, "b.c:4:1: warning: unused\n", "sift", "--fail-on", "error"); code != 0 {
		t.Errorf("a warning is no error: exit %d", code)
	}
	out, _, _ := call(t, dir, log, "sift", "--format", "sarif", "--in", "/w")
	if !strings.Contains(out, `"uri": "a.c"`) || !strings.Contains(out, `"ruleId": "unused"`) || !json.Valid([]byte(out)) {
		t.Error(out)
	}
}

// The first problem of a stream comes out while the stream goes on, and the
// end of the reader is a quiet end.
func TestSiftStreams(t *testing.T) {
	cmd := exec.Command(program, "sift", "--format", "gnu")
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	fmt.Fprintln(in, "a.c:1:2: error: first")
	got := make(chan string, 1)
	go func() {
		buf := make([]byte, 100)
		n, _ := out.Read(buf)
		got <- string(buf[:n])
	}()
	select {
	case first := <-got:
		if first != "a.c:1:2: error: first\n" {
			t.Errorf("got %q", first)
		}
	case <-time.After(5 * time.Second):
		t.Error("the first problem waits for the end of the stream")
	}
	out.Close()
	for range 20000 {
		if _, err := io.WriteString(in, "b.c:1:2: error: more\nc.c:1:3: error: more\n"); err != nil {
			break
		}
	}
	in.Close()
	if err := cmd.Wait(); err != nil {
		t.Errorf("a closed reader should end it quietly: %v", err)
	}
}

// A log too long for one piece gives the same through a file, through a pipe that
// is cut anywhere, and in each format; the problems come in the order of the log.
func TestSiftOfALongLog(t *testing.T) {
	dir := t.TempDir()
	var log strings.Builder
	const problems = 9000
	for i := range problems {
		fmt.Fprintf(&log, "gcc -c src/file%d.c\n[%3d%%] Building\n2026-11-25 02:00:%02d INFO step %d: done\nsrc/file%d.c:%d:%d: warning: unused 'x%d' [-Wunused]\n", i, i%100, i%60, i, i, i+1, i%80+1, i)
		if i%100 == 0 {
			fmt.Fprintf(&log, "src/file%d.c:1:1: note: declared here\n", i)
		}
	}
	name := filepath.Join(dir, "build.log")
	if err := os.WriteFile(name, []byte(log.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	whole, _, code := call(t, dir, "", "sift", "--format", "jsonl", "build.log")
	if code != 0 {
		t.Fatalf("exit %d", code)
	}
	seq := 0
	for text := range strings.Lines(whole) {
		var p struct {
			Seq, Line int
			File      string
			Related   []struct{ Message string }
		}
		if err := json.Unmarshal([]byte(text), &p); err != nil {
			t.Fatalf("%v in %q", err, text)
		}
		if p.Seq != seq+1 || p.Line != p.Seq || p.File != fmt.Sprintf("src/file%d.c", seq) || (len(p.Related) == 1) != (seq%100 == 0) {
			t.Fatalf("problem %d is %+v", seq+1, p)
		}
		seq++
	}
	if seq != problems {
		t.Errorf("%d problems, want %d", seq, problems)
	}
	cmd := exec.Command(program, "sift", "--format", "jsonl")
	cmd.Dir = dir
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	for rest, n := log.String(), 1; rest != ""; n = n*7%8191 + 1 {
		piece := rest[:min(n, len(rest))]
		if _, err := io.WriteString(in, piece); err != nil {
			t.Fatal(err)
		}
		rest = rest[len(piece):]
	}
	in.Close()
	if err := cmd.Wait(); err != nil {
		t.Fatal(err)
	}
	// What a pause hands on early comes once more, with its note.
	last := map[int]string{}
	for text := range strings.Lines(out.String()) {
		var p struct{ Seq int }
		if err := json.Unmarshal([]byte(text), &p); err != nil {
			t.Fatal(err)
		}
		last[p.Seq] = text
	}
	var again strings.Builder
	for i := range problems {
		again.WriteString(last[i+1])
	}
	if again.String() != whole {
		t.Error("through a pipe, in pieces, the log gives something else than as a file")
	}
	text, _, _ := call(t, dir, "", "sift", "build.log")
	gnu, _, _ := call(t, dir, "", "sift", "--format", "gnu", "build.log")
	if n := strings.Count(gnu, "\n"); n != problems {
		t.Errorf("%d lines in the GNU form", n)
	}
	if n := strings.Count(text, "\n"); n != problems+problems/100 {
		t.Errorf("%d lines as text", n)
	}
	if _, errs, code := call(t, dir, "", "sift", "none.log"); code != 2 || !strings.Contains(errs, "none.log") {
		t.Errorf("of a log that is not there: exit %d, %q", code, errs)
	}
}

// The tools' own counts end nothing: an output that goes on after one is read on,
// and two files are two outputs.
func TestSiftOfSeveralFiles(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"a.log": "a.c:1:2: error: x\n1 error generated.\n", "b.log": "a.c:1:2: error: x\nb.c:2: warning: y\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	out, _, code := call(t, dir, "", "sift", "--format", "gnu", "--fail-on", "error", "a.log", "b.log")
	if out != "a.c:1:2: error: x\na.c:1:2: error: x\nb.c:2: warning: y\n" || code != 1 {
		t.Errorf("exit %d:\n%s", code, out)
	}
}

const kilnsimTally = `[workspace]
name = "x"
[sieve.kilnsim]
[[sieve.kilnsim.lines]]
match = '^!! (?P<severity>\w+) in (?P<file>\S+) at (?P<line>\d+)$'
[[sieve.kilnsim.lines]]
match = '^   (?P<message>.+)$'
[teach.jot]
files  = ["JOT"]
format = "lines"
each   = '^(?P<name>\w+) = (?P<run>.*)$'
[task.flash]
run = "echo flashing \"{ask.board}\" at {set.speed}"
[set]
speed = "9600"
`

// A sieve is tried on a sample, a taught file is told of, and a value that a
// command asks for is given.
func TestSievesAndTaughtFilesOnTheCommandLine(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"tidytally.toml": kilnsimTally, "JOT": "fire = echo hot\n", "log": "up\n!! error in a.c at 12\n   too hot\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	out, errs, code := call(t, dir, "", "check", "--sample", "log")
	want := "    1  -       up\n    2  line 1  !! error in a.c at 12\n               severity=error  file=a.c  line=12\n    3  line 2     too hot\n               message='too hot'\na.c:12: error: too hot\n"
	if out != want || code != 0 {
		t.Errorf("exit %d, %s\n%s", code, errs, out)
	}
	if _, errs, code := call(t, dir, "", "check", "--sample", "log", "--sieve", "kiln"); code != 2 || !strings.Contains(errs, "choose one of: kilnsim") {
		t.Errorf("a sieve that there is not: exit %d, %s", code, errs)
	}
	out, errs, code = call(t, dir, "", "check")
	if code != 0 || out != "" || !strings.Contains(errs, "teach jot: JOT gives fire") {
		t.Errorf("check: exit %d, %q, %q", code, out, errs)
	}
	if out, _, code := call(t, dir, "", "run", "fire"); code != 0 || !strings.HasPrefix(out, "hot\n") {
		t.Errorf("the taught task: exit %d, %q", code, out)
	}
	if out, _, _ := call(t, dir, "", "sift", "--format", "gnu", "log"); out != "a.c:12: error: too hot\n" {
		t.Errorf("sift does not use the sieve: %q", out)
	}
	if _, errs, code := call(t, dir, "", "run", "flash"); code == 0 || !strings.Contains(errs, "board=…") {
		t.Errorf("without a value: exit %d, %q", code, errs)
	}
	if out, errs, code := call(t, dir, "", "run", "flash", "--", "board=mk 2", "now"); code != 0 || !strings.HasPrefix(out, "flashing mk 2 at 9600 now\n") {
		t.Errorf("with a value: exit %d, %q, %q", code, out, errs)
	}
	if out, _, _ := call(t, dir, "", "show", "flash"); !strings.Contains(out, "echo flashing") {
		t.Errorf("show: %s", out)
	}
}

// A log that sift wrote is one that it reads; several inputs are one log; and an
// editor loads GNU lines as a list of errors.
func TestWhatGoesOutComesIn(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{"one.log": "a b.c:3:4: warning: odd [-Wodd]\n", "two.log": "x.go:1:2: undefined: y\n", "a b.c": "1\n2\n3\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	gnu, _, _ := call(t, dir, "", "sift", "--format", "gnu", "one.log", "two.log")
	sarif, _, code := call(t, dir, "", "sift", "--format", "sarif", "--fail-on", "error", "one.log", "two.log")
	if code != 1 {
		t.Errorf("exit %d", code)
	}
	back, _, _ := call(t, dir, sarif, "sift", "--format", "gnu")
	if back != gnu || strings.Count(gnu, "\n") != 2 {
		t.Errorf("out %q, back %q", gnu, back)
	}
	vim, err := exec.LookPath("vim")
	if err != nil {
		t.Skip("vim is not installed")
	}
	list := filepath.Join(dir, "list")
	if err := os.WriteFile(list, []byte(strings.ReplaceAll(gnu, "a b.c", "ab.c")), 0o644); err != nil {
		t.Fatal(err)
	}
	got := filepath.Join(dir, "got")
	cmd := exec.Command(vim, "-u", "NONE", "-es", "-c", "cgetfile list", "-c", "call writefile(map(getqflist(), 'v:val.lnum . \":\" . v:val.col . \" \" . v:val.text'), 'got')", "-c", "qa!")
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	data, err := os.ReadFile(got)
	if want := "3:4  warning: odd [odd]\n1:2  error: undefined: y\n"; err != nil || strings.ReplaceAll(string(data), "  ", " ") != strings.ReplaceAll(want, "  ", " ") {
		t.Errorf("%v, the editor's list is %q", err, data)
	}
}

// On a terminal list is for a person: by folder, with what a script really runs; in a pipe it
// has a line for each task, with its id. What is folded is told.
func TestListForAPersonAndInAPipe(t *testing.T) {
	dir := t.TempDir()
	testtree.Fill(t, dir, map[string]string{
		"Makefile": "fire:\n\ttrue\n", "shop/package.json": `{"scripts": {"pack": "echo packed"}}`, "third_party/json/Makefile": "docs:\n\ttrue\n",
		".inkpot/jobs.json": `{"jobs": [{"name": "Sweep the kiln", "command": "echo swept"}]}`,
	})
	s := startCommand(t, dir, 100, 30, program+" list; "+program+" list | cat; "+program+" run 'Sweep the kiln'; echo the tasks are done")
	text := s.waitFor("swept", "ok after")
	for _, want := range []string{"  pack  echo packed  build", "shop/package.json#pack", "npm run pack", ".inkpot/jobs.json#Sweep the kiln", "1 task is folded: third_party/json 1 (folder of other people's projects); --all lists all"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	if strings.Contains(text, "docs") {
		t.Errorf("what is folded is listed:\n%s", text)
	}
}

// On a terminal a task that asks gets what is typed, with and without echo; ctrl+c is the
// task's; ctrl+z stops the task and the program until fg; in a pipe the terminal is still the
// task's to read from. What is typed without echo is nowhere in the output.
func TestRunOnATerminalIsTheTasks(t *testing.T) {
	dir := t.TempDir()
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), `[task.ask]
run = 'printf "name? "; read name; stty -echo; printf "secret? "; read secret; stty echo; echo; echo "hello $name, ${#secret}"'
[task.tick]
run = 'trap "echo interrupted; exit 3" INT; n=0; while :; do n=$((n+1)); echo tick $n; sleep 0.1; done'
[task.plain]
run = 'echo asks; read x; echo "read $x"'
`)
	s := startCommand(t, dir, 100, 40, "echo tasks; PROGRAM="+program+" bash --norc -i; true")
	shell := func(command string) { s.typeText(command); s.keys("Enter") }
	shell("PS1='ready '; clear")
	s.waitFor("ready")
	shell("$PROGRAM run ask")
	s.waitFor("\nname?")
	shell("Mara")
	s.waitFor("secret?")
	shell("cone10")
	text := s.waitFor("hello Mara, 6", "ask ok after")
	if strings.Contains(text, "cone10") {
		t.Errorf("the secret is shown:\n%s", text)
	}
	shell("clear; $PROGRAM run plain | cat")
	s.waitFor("asks")
	shell("clay")
	s.waitFor("read clay", "plain ok after")
	shell("clear; $PROGRAM run tick")
	s.waitFor("tick 3")
	s.keys("C-z")
	s.waitFor("Stopped")
	shell("jobs; echo job-$?")
	s.waitFor("job-0")
	shell("fg")
	s.waitFor("ick 9")
	s.keys("C-c")
	s.waitFor("interrupted", "tick failed (3)")
	shell("echo alive; stty -a | grep -o -e '-\\?icanon'")
	s.waitFor("alive\nicanon")
}
