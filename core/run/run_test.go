package run

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"tidytally/core/output"
	"tidytally/core/reach"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/internal/testtree"
)

type setting struct {
	t     *testing.T
	root  string
	tasks []*task.Task
	super *Supervisor
}

// with makes a supervisor for the tasks of a tally file.
func with(t *testing.T, toml string, opts Options) *setting {
	t.Helper()
	root := testtree.Folder(t)
	f := tallyfile.Parse("tidytally.toml", []byte(toml))
	if len(f.Faults) > 0 {
		t.Fatal(f.Faults)
	}
	var merged tallyfile.Merged
	merged.Add(f)
	super, err := NewSupervisor(Context{Root: root, Tally: &merged}, opts)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { super.Close() })
	return &setting{t, root, f.Tasks, super}
}

func (s *setting) start(name string, args ...string) *Job {
	s.t.Helper()
	k, err := task.Find(s.tasks, name)
	if err != nil {
		s.t.Fatal(err)
	}
	j, err := s.super.Start(s.tasks, k, args)
	if err != nil {
		s.t.Fatal(err)
	}
	return j
}

func (s *setting) finish(j *Job) Snapshot {
	s.t.Helper()
	select {
	case <-j.Done():
	case <-time.After(time.Minute):
		s.t.Fatal("the run does not end")
	}
	return j.Main.Snapshot()
}

func printed(t *testing.T, s Snapshot) string {
	t.Helper()
	data, err := os.ReadFile(s.Spool)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

func eventually(t *testing.T, what string, so func() bool) {
	t.Helper()
	for range 3000 {
		if so() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Fatalf("%s did not happen", what)
}

const basics = `
[task.good]
run = "echo out; echo err >&2"
[task.code]
run = ["sh", "-c", "exit 7"]
[task.killed]
run = "kill -TERM $$"
[task.where]
run = "pwd; echo $A $B; stty size; tty"
env = { A = "1 2" }
env_file = ".env"
[task.missing]
run = ["no-such-program-here"]
[task.nomake]
run = ["make", "x"]
env = { PATH = "/nowhere" }
[task.notexec]
run = ["./data"]
[task.nofolder]
run = "true"
in = "gone"
[task.args]
run = ["printf", "%s|"]
[task.shellargs]
run = "printf '%s|'"
[task.bytes]
run = 'printf "\000\377\033[2Jx\r\n"; cat big'
[task.late]
run = "sleep 30"
timeout = "100ms"
`

func TestHowRunsEnd(t *testing.T) {
	t.Parallel()
	s := with(t, basics, Options{Terminal: true, Cols: 100, Rows: 30})
	os.WriteFile(filepath.Join(s.root, ".env"), []byte("# x\nexport B=\"3 4\"\n"), 0o644)
	os.WriteFile(filepath.Join(s.root, "data"), []byte("x"), 0o644)
	for _, c := range []struct {
		name, words string
		code        int
		signal      string
		fault       string
	}{
		{"good", "ok", 0, "", ""},
		{"code", "failed (7)", 7, "", ""},
		{"killed", "failed (TERM)", 143, "TERM", ""},
		{"missing", "not found", 127, "", "no-such-program-here: not found on the path (/"},
		{"nomake", "not found", 127, "", "make: not found on the path (/nowhere); install GNU make"},
		{"notexec", "failed (126)", 126, "", "is not executable; chmod +x makes it so"},
		{"nofolder", "failed (126)", 126, "", "/gone: the folder to run in is not there; correct it in tidytally.toml"},
		{"late", "failed (INT)", 130, "INT", "stopped after its time-out of 100ms"},
	} {
		snap := s.finish(s.start(c.name))
		if snap.Words() != c.words || snap.Code != c.code || snap.Signal != c.signal || !strings.Contains(snap.Fault, c.fault) || (snap.Fault == "") != (c.fault == "") {
			t.Errorf("%s: %s, code %d, signal %q, fault %q", c.name, snap.Words(), snap.Code, snap.Signal, snap.Fault)
		}
	}
	out := printed(t, s.finish(s.start("where")))
	if want := s.root + "\r\n1 2 3 4\r\n30 100\r\n/dev/"; !strings.HasPrefix(out, want) {
		t.Errorf("got %q, want %q", out, want)
	}
	for _, name := range []string{"args", "shellargs"} {
		snap := s.finish(s.start(name, "a b", "$HOME", "it's"))
		if out := printed(t, snap); out != "a b|$HOME|it's|" {
			t.Errorf("%s: %q", name, out)
		}
	}
}

// The output on disk is what was printed, to the byte; through a pipe even
// the line ends.
func TestOutputIsKeptByteForByte(t *testing.T) {
	t.Parallel()
	big := bytes.Repeat([]byte("0123456789abcdef\xf0\x9f\n"), 40000)
	var tee bytes.Buffer
	s := with(t, basics, Options{Tee: func(*Run) io.Writer { return &tee }})
	os.WriteFile(filepath.Join(s.root, "big"), big, 0o644)
	job := s.start("bytes")
	snap := s.finish(job)
	want := "\x00\xff\x1b[2Jx\r\n" + string(big)
	if got := printed(t, snap); got != want || tee.String() != want {
		t.Errorf("%d bytes on disk, %d passed on, %d printed", len(got), tee.Len(), len(want))
	}
	job.Main.Output(func(x *output.Index) {
		if x.Printed() != 40002 { // clearing the screen begins a line of its own
			t.Errorf("%d lines", x.Printed())
		}
	})
}

// Stopping ends all that was started: what ignores INT, what went into the
// background, and what left the session.
func TestStoppingStopsEverything(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("processes that left the session are found through /proc")
	}
	s := with(t, `
[task.stubborn]
run = "trap '' INT; sleep 300 & setsid sleep 301 & (trap '' INT TERM; sleep 302) & echo started; wait; sleep 303"
stop = { grace = "100ms" }
`, Options{Terminal: true})
	j := s.start("stubborn")
	eventually(t, "the start of all processes", func() bool {
		return strings.Contains(printedSoFar(j), "started") && len(j.Main.keeperNow().Kept()) >= 4
	})
	j.Main.Stop()
	snap := s.finish(j)
	if snap.State != Stopped {
		t.Errorf("state %s", snap.Words())
	}
	eventually(t, "the end of all processes", func() bool { return !j.Main.HasLeftovers() })
}

func printedSoFar(j *Job) string { return printedBy(j.Main) }

func printedBy(r *Run) string {
	var b strings.Builder
	r.Output(func(x *output.Index) {
		for i := range x.Lines() {
			b.WriteString(x.Line(i).Plain + "\n")
		}
	})
	return b.String()
}

// A task that runs in the background after its leader has ended does not keep
// the run from ending, and can still be stopped.
func TestLeftovers(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("they are found through /proc")
	}
	s := with(t, "[task.leaves]\nrun = \"setsid sleep 304 & sleep 0.2; echo gone\"\n", Options{Terminal: true})
	j := s.start("leaves")
	if snap := s.finish(j); snap.State != OK {
		t.Fatalf("state %s", snap.Words())
	}
	if !j.Main.HasLeftovers() {
		t.Fatal("the sleeping process should be known")
	}
	j.Main.Stop()
	eventually(t, "the end of what was left", func() bool { return !j.Main.HasLeftovers() })
}

func TestBeforeWithAndAfter(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.first]
run = "echo first >> log"
[task.server]
run = "sleep 0.2; echo ready on http://127.0.0.1:9/; echo server >> log; sleep 60"
long_running = true
ready = 'ready on (?P<url>\S+)'
[task.beside]
run = "sleep 60"
[task.last]
run = "echo last >> log"
[task.main]
run = "echo main >> log"
before = ["#first", "#server"]
with = ["#beside"]
after = ["#last"]
[task.bad]
run = "exit 3"
[task.blocked]
run = "echo never >> log"
before = ["#bad"]
after = ["#last"]
[task.round]
run = "true"
before = ["#trip"]
[task.trip]
run = "true"
before = ["#round"]
`, Options{Terminal: true})
	log := func() string {
		data, _ := os.ReadFile(filepath.Join(s.root, "log"))
		os.Remove(filepath.Join(s.root, "log"))
		return strings.Join(strings.Fields(string(data)), " ")
	}
	j := s.start("main")
	if snap := s.finish(j); snap.State != OK {
		t.Errorf("main: %s", snap.Words())
	}
	// The server writes when it likes: it is ready before it does.
	if got := strings.Join(strings.Fields(strings.Replace(log(), "server", "", 1)), " "); got != "first main last" {
		t.Errorf("order: %s", got)
	}
	for _, r := range j.Steps {
		if snap := r.Snapshot(); !snap.State.Ended() {
			t.Errorf("%s is left %s", snap.Prepared.Task.Name, snap.Words())
		} else if snap.Prepared.Task.Name == "server" && snap.Address != "http://127.0.0.1:9/" {
			t.Errorf("server's address: %q", snap.Address)
		}
	}
	if snap := s.finish(s.start("blocked")); snap.State != Skipped {
		t.Errorf("blocked: %s", snap.Words())
	}
	if got := log(); got != "last" {
		t.Errorf("what comes after runs whatever happened, and only it: %s", got)
	}
	round, _ := task.Find(s.tasks, "round")
	if _, err := s.super.Start(s.tasks, round, nil); err == nil || !strings.Contains(err.Error(), "cycle: tidytally.toml#round → tidytally.toml#trip") {
		t.Errorf("a cycle should be told: %v", err)
	}
}

func TestVia(t *testing.T) {
	t.Parallel()
	s := with(t, `
[via.list]
run = ["{root}/wrap", "-x", "{command}"]
[via.shell]
run = "./wrap {command} end"
[task.a]
run = ["printf", "%s|", "a b"]
via = "list"
[task.b]
run = "echo $((1+1)) 'x y'"
via = "list"
[task.c]
run = "echo 'x y'"
via = "shell"
`, Options{})
	os.WriteFile(filepath.Join(s.root, "wrap"), []byte("#!/bin/sh\necho wrapped\n[ \"$1\" = -x ] && shift\nexec \"$@\"\n"), 0o755)
	for name, want := range map[string]string{"a": "wrapped\na b|", "b": "wrapped\n2 x y\n", "c": "wrapped\nx y\n"} {
		if got := printed(t, s.finish(s.start(name))); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
}

// A full disk costs the output, not the run.
func TestFullDisk(t *testing.T) {
	// A limit on the size of files stands in for a full disk.
	var old syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_FSIZE, &old); err != nil {
		t.Skip(err)
	}
	s := with(t, "[task.big]\nrun = \"head -c 12000000 /dev/zero | tr '\\\\0' x; echo; echo a.c:1:1: error: e\"\n", Options{Terminal: true})
	if err := syscall.Setrlimit(syscall.RLIMIT_FSIZE, &syscall.Rlimit{Cur: 8 << 20, Max: old.Max}); err != nil {
		t.Skip(err)
	}
	defer syscall.Setrlimit(syscall.RLIMIT_FSIZE, &old)
	snap := s.finish(s.start("big"))
	if snap.State != OK || !strings.Contains(snap.Fault, "were not kept") || !strings.Contains(snap.Fault, "TMPDIR") {
		t.Errorf("%s, fault %q", snap.Words(), snap.Fault)
	}
	if len(snap.Problems) != 1 {
		t.Errorf("the sieves should have seen it all: %v", snap.Problems)
	}
}

func TestManyRunsAtOnceAndAMillionLines(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.many]\nrun = \"seq 250000\"\n", Options{Terminal: true})
	var jobs []*Job
	for range 4 {
		jobs = append(jobs, s.start("many"))
	}
	for _, j := range jobs {
		s.finish(j)
		j.Main.Output(func(x *output.Index) {
			if x.Printed() != 250000 {
				t.Errorf("%d lines", x.Printed())
			}
			if got := x.Line(199999).Plain; got != "200000" {
				t.Errorf("line 200000 reads %q", got)
			}
			if got := x.Find("123456", 0, true); got != 123455 {
				t.Errorf("123456 is found in line %d", got+1)
			}
		})
	}
	if err := s.super.Close(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(s.super.spools.Path()); err == nil {
		t.Error("the spools are left behind")
	}
}

func ExampleSnapshot_Words() {
	fmt.Println((&Snapshot{State: Failed, Code: 2}).Words(), "/", (&Snapshot{State: Up}).Words())
	// Output: failed (2) / up
}

// What runs in a container names its own paths: the tally file says what they
// are here.
func TestPathsOfAViaAreThoseOfThisMachine(t *testing.T) {
	t.Parallel()
	s := with(t, `
[via.box]
run = ["sh", "-c", "{command}"]
paths = { "/work" = "kiln", "/work/vendor" = "third" }
[task.build]
run = ["printf", "/work/src/a.c:3:1: error: x\n/work/vendor/b.c:4:1: error: y\n/elsewhere/c.c:5:1: error: z\n"]
via = "box"
`, Options{})
	p := s.finish(s.start("build")).Problems
	if len(p) != 3 {
		t.Fatalf("%v", p)
	}
	for i, want := range []string{"kiln/src/a.c:3:1", "third/b.c:4:1", "/elsewhere/c.c:5:1"} {
		if got := p[i].Place.String(); got != want {
			t.Errorf("got %s, want %s", got, want)
		}
	}
}

// The text of a problem's line is that of the time of the run.
func TestProblemsKeepTheirSourceLines(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.build]\nrun = \"printf 'a.c:2:1: error: x\\\\na.c:9:1: error: beyond\\\\nb.c:1:1: error: gone\\\\n'\"\n", Options{})
	if err := os.WriteFile(filepath.Join(s.root, "a.c"), []byte("one\n\t two words \nthree\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range s.finish(s.start("build")).Problems {
		got = append(got, p.LineText)
	}
	if strings.Join(got, "|") != "two words||" {
		t.Errorf("%q", got)
	}
}

// A watching task that only rests between its passes: what a pass no longer says
// is gone from its problems.
func TestARestEndsAPass(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.look]
run = "echo checking; echo 'kiln.c:3:1: error: a'; echo 'kiln.c:4:1: error: b'; sleep 0.6; echo checking; echo 'kiln.c:4:1: error: b'; sleep 60"
long_running = true
[task.build]
run = "echo checking; echo 'kiln.c:3:1: error: a'; sleep 0.6; echo checking; echo 'kiln.c:4:1: error: b'"
`, Options{})
	look := s.start("look")
	eventually(t, "the second pass", func() bool {
		snap := look.Main.Snapshot()
		return snap.Cycle == 1 && len(snap.Problems) == 1 && len(snap.Before) == 2
	})
	look.Main.Stop()
	if snap := s.finish(s.start("build")); snap.Cycle != 0 || len(snap.Problems) != 2 {
		t.Errorf("a build rests too: cycle %d, %d problems", snap.Cycle, len(snap.Problems))
	}
}

func waitingForReady(line string) *Run {
	r := &Run{super: &Supervisor{}, Prepared: &Prepared{Task: &task.Task{}, Ready: regexp.MustCompile(line)}, state: Running, up: make(chan struct{})}
	r.sift.run = r
	return r
}

// While a ready line is waited for, a line without an end is kept in part only.
func TestTheTailOfAReadyLineIsBounded(t *testing.T) {
	t.Parallel()
	r := waitingForReady("^up (?P<url>.*)$")
	for range 64 {
		r.sift.lookForReady(bytes.Repeat([]byte("x"), 32<<10))
		if len(r.sift.readyTail) > 128<<10 {
			t.Fatalf("%d bytes are kept", len(r.sift.readyTail))
		}
	}
	r.sift.lookForReady([]byte("\nnot up\nu"))
	if r.state != Running {
		t.Fatal("up without its line")
	}
	r.sift.lookForReady([]byte("p at http://x\r\nrest"))
	if r.state != Up || r.address != "at http://x" || r.sift.readyTail != nil {
		t.Errorf("%s at %q with %d bytes kept", r.state, r.address, len(r.sift.readyTail))
	}
}

// A terminal has the size that is asked for, follows it, and is never too small to
// draw on.
func TestSizeOfTheTerminal(t *testing.T) {
	t.Parallel()
	const toml = `
[task.size]
run = "stty size"
[task.follow]
run = "trap 'stty size; exit' WINCH; echo ready; while :; do sleep 0.05; done"
`
	for want, asked := range map[string][2]int{"30 90": {90, 30}, "5 20": {3, 1}, "5 21": {21, 5}, "6 20": {20, 6}} {
		s := with(t, toml, Options{Terminal: true, Cols: asked[0], Rows: asked[1]})
		j := s.start("size")
		s.finish(j)
		if got := strings.TrimSpace(printedSoFar(j)); got != want {
			t.Errorf("a terminal of %v has the size %s, want %s", asked, got, want)
		}
	}
	for want, asked := range map[string][2]int{"31 91": {91, 31}, "5 20": {3, 1}, "6 21": {21, 6}} {
		s := with(t, toml, Options{Terminal: true, Cols: 90, Rows: 30})
		done := s.start("size")
		s.finish(done) // its terminal is closed, which is no reason to fail
		j := s.start("follow")
		eventually(t, "the start", func() bool { return strings.Contains(printedSoFar(j), "ready") })
		s.super.Resize(asked[0], asked[1])
		s.finish(j)
		if got := strings.Fields(printedSoFar(j)); strings.Join(got[1:], " ") != want {
			t.Errorf("a terminal that becomes %v has %s, want %s", asked, got, want)
		}
	}
}

// A step that fails ends the plan: what should come behind it is skipped, what comes
// after runs, and nothing goes on.
func TestWhatAPlanDoesNotRun(t *testing.T) {
	t.Parallel()
	s := with(t, `
[workspace]
slots = 1
[task.bad]
run = "exit 3"
[task.second]
run = "echo never"
[task.slow]
run = "echo slow; sleep 60"
[task.dies]
run = "sleep 0.1; exit 1"
long_running = true
ready = "up"
[task.last]
run = "echo last"
[task.both]
run = "echo never"
before = ["#bad", "#second"]
with = ["#slow"]
after = ["#last"]
[task.waits]
run = "echo never"
before = ["#slow", "#second"]
after = ["#last"]
[task.falls]
run = "echo never"
before = ["#dies"]
`, Options{Terminal: true})
	states := func(j *Job) string {
		var out []string
		for _, r := range j.Steps {
			out = append(out, r.Snapshot().Prepared.Task.Name+" "+string(r.Snapshot().State))
		}
		return strings.Join(out, ", ")
	}
	j := s.start("both")
	s.finish(j)
	if got := states(j); got != "bad failed, second not run, slow not run, both not run, last ok" {
		t.Errorf("a first step that fails: %s", got)
	}
	j = s.start("falls")
	s.finish(j)
	if got := states(j); got != "dies failed, falls not run" {
		t.Errorf("a server that ends before it is up: %s", got)
	}
	j = s.start("waits")
	eventually(t, "the slow step", func() bool { return j.Steps[0].Snapshot().State == Running })
	j.Main.Stop()
	s.finish(j)
	if got := states(j); got != "slow stopped, second stopped, waits stopped, last ok" && got != "slow stopped, second ok, waits stopped, last ok" {
		t.Errorf("stopped while an earlier step ran: %s", got)
	}
}

// How a task is asked to end is its own, or the usual.
func TestHowATaskIsAskedToEnd(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.plain]
run = "true"
[task.own]
run = "true"
timeout = "90s"
stop = { signal = "HUP", grace = "250ms" }
`, Options{})
	for name, want := range map[string]string{"plain": "INT 3s 0s", "own": "HUP 250ms 1m30s"} {
		j := s.start(name)
		s.finish(j)
		p := j.Main.Snapshot().Prepared
		if got := fmt.Sprintf("%s %s %s", p.Signal, p.Grace, p.Timeout); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
}

// A task that ignores its own signal and TERM is killed.
func TestWhatIgnoresSignalsIsKilled(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.deaf]
run = "trap '' INT TERM; echo ready; while :; do sleep 0.05; done"
stop = { grace = "50ms" }
`, Options{})
	j := s.start("deaf")
	eventually(t, "the start", func() bool { return strings.Contains(printedSoFar(j), "ready") })
	j.Main.Stop()
	if got := s.finish(j); got.State != Stopped || got.Signal != "KILL" {
		t.Errorf("%s by %s", got.State, got.Signal)
	}
}

// A run that cannot keep its output does not begin, and its exit code is that of a
// command that never ran; one whose packages are missing says what installs them.
func TestRunsThatCannotBegin(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.plain]\nrun = \"true\"\n[task.lint]\nrun = \"no-such-linter\"\n", Options{})
	plain, err := task.Find(s.tasks, "lint")
	if err != nil {
		t.Fatal(err)
	}
	if got := s.finish(s.start("lint")); got.Code != CodeNotFound || got.Fault != "" {
		t.Errorf("without packages: %d, %q", got.Code, got.Fault)
	}
	plain.Setup = task.Setup{Path: "node_modules", Above: true, State: "the packages are not installed", Command: "npm install"}
	if got := s.finish(s.start("lint")); got.Code != CodeNotFound || !strings.HasSuffix(got.Fault, "the packages are not installed; run npm install first") {
		t.Errorf("packages are missing: %d, %q", got.Code, got.Fault)
	}
	if err := os.Mkdir(filepath.Join(s.root, "node_modules"), 0o755); err != nil {
		t.Fatal(err)
	}
	if got := s.finish(s.start("lint")); got.Fault != "" {
		t.Errorf("packages are there: %q", got.Fault)
	}
	plain.Dir = "sub"
	if err := os.MkdirAll(filepath.Join(s.root, "sub"), 0o755); err != nil {
		t.Fatal(err)
	}
	if got := s.finish(s.start("lint")); got.Fault != "" {
		t.Errorf("packages are in the folder above: %q", got.Fault)
	}
	if err := os.RemoveAll(s.super.spools.Path()); err != nil {
		t.Fatal(err)
	}
	if got := s.finish(s.start("plain")); got.State != Failed || got.Code != 125 || !strings.Contains(got.Fault, "no place for the output") {
		t.Errorf("no place for the output: %s, %d, %q", got.State, got.Code, got.Fault)
	}
}

// The output of a process that outlives its task, and holds the output open, does not
// keep the run from ending.
func TestAnOutputThatIsHeldOpen(t *testing.T) {
	t.Parallel()
	for _, terminal := range []bool{false, true} {
		s := with(t, "[task.leaves]\nrun = \"trap '' HUP; sleep 30 & echo done\"\n", Options{Terminal: terminal, Cols: 80, Rows: 24})
		j := s.start("leaves")
		began := time.Now()
		if got := s.finish(j); got.State != OK || time.Since(began) > 15*time.Second || !strings.Contains(printed(t, got), "done") {
			t.Errorf("on a terminal %v: %s after %s", terminal, got.State, time.Since(began))
		}
		if !j.Main.HasLeftovers() {
			t.Error("nothing is left")
		}
	}
}

// Changed is called for each change of a run, and its version grows.
func TestChangesAreTold(t *testing.T) {
	t.Parallel()
	var told atomic.Int64
	s := with(t, `
[task.talks]
run = "echo one; sleep 30"
[task.dev]
run = "echo; echo up; sleep 30"
long_running = true
ready = "^up$"
`, Options{Changed: func(*Run) { told.Add(1) }})
	j := s.start("talks")
	eventually(t, "its words", func() bool { return strings.Contains(printedSoFar(j), "one") })
	before, version := told.Load(), j.Main.Snapshot().Version
	if before < 2 || version < 1 {
		t.Errorf("told %d times, version %d, when it had begun and printed", before, version)
	}
	j.Main.Stop()
	if told.Load() == before || j.Main.Snapshot().Version == version {
		t.Error("nobody was told that it is stopping")
	}
	s.finish(j)
	dev := s.start("dev")
	eventually(t, "its ready line", func() bool { return dev.Main.Snapshot().State == Up })
	before, version = told.Load(), dev.Main.Snapshot().Version
	eventually(t, "its rest", func() bool { return told.Load() > before && dev.Main.Snapshot().Version > version })
	dev.Main.Stop()
	s.finish(dev)
}

// A job has ended when all that ran beside its task has.
func TestPartnersEndBeforeTheJob(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.slow]
run = "trap 'sleep 0.4; exit' INT; echo up; while :; do sleep 0.05; done"
long_running = true
ready = "up"
[task.main]
run = "true"
with = ["slow"]
`, Options{})
	j := s.start("main")
	s.finish(j)
	for _, r := range j.Steps {
		if got := r.Snapshot(); !got.State.Ended() {
			t.Errorf("%s is %s when the job is done", got.Prepared.Task.Name, got.State)
		}
	}
}

// A pass of a watching tool has checked what it did not report when it rests.
func TestAPassIsOverWhenItRests(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.watch]
run = "echo '> check'; echo 'a.py:1:1: E302 two lines'; sleep 0.6; echo '> check'; sleep 30"
long_running = true
`, Options{})
	if err := os.WriteFile(filepath.Join(s.root, "a.py"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	j := s.start("watch")
	eventually(t, "its problem", func() bool { return len(j.Main.Snapshot().Problems) == 1 })
	found := j.Main.Snapshot().Problems[0]
	eventually(t, "its second pass", func() bool { return j.Main.Snapshot().Cycle == 1 })
	eventually(t, "its rest", func() bool { return j.Main.Reach(time.Time{}).Checked(&found, "", &reach.Report{}) })
	j.Main.Stop()
	s.finish(j)
}

// slowly is a receiver of output that takes its time with the first piece.
type slowly struct {
	bytes.Buffer
	begun bool
}

func (s *slowly) Write(p []byte) (int, error) {
	if !s.begun {
		s.begun = true
		time.Sleep(3 * endOfOutput)
	}
	return s.Buffer.Write(p)
}

// Nothing of an output is lost, however slow its receiver is.
func TestASlowReceiverGetsAll(t *testing.T) {
	t.Parallel()
	for _, terminal := range []bool{false, true} {
		for range 5 {
			var to slowly
			s := with(t, "[task.count]\nrun = \"seq 1 30000\"\n", Options{Terminal: terminal, Cols: 80, Rows: 24, Tee: func(*Run) io.Writer { return &to }})
			s.finish(s.start("count"))
			if lines := strings.Count(to.String(), "\n"); lines != 30000 {
				t.Fatalf("on a terminal %v: %d lines", terminal, lines)
			}
		}
	}
}

// hungUp is a receiver that is gone after so many bytes.
type hungUp struct{ left int }

func (h *hungUp) Write(p []byte) (int, error) {
	if h.left -= len(p); h.left < 0 {
		return 0, syscall.EPIPE
	}
	return len(p), nil
}

// A task whose receiver is gone ends as in a pipe of the shell.
func TestATaskWithoutAReceiverEnds(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.endless]\nrun = \"exec yes\"\n", Options{Tee: func(*Run) io.Writer { return &hungUp{1 << 16} }})
	got := s.finish(s.start("endless"))
	if got.Signal != "PIPE" || got.Code != 128+int(syscall.SIGPIPE) || got.Bytes > 1<<24 {
		t.Errorf("ended by %q with %d after %d bytes", got.Signal, got.Code, got.Bytes)
	}
}

// Waiting for a ready line costs no more than reading the lines: what came so far is not
// copied for each of them.
func TestAReadyLineIsCheap(t *testing.T) {
	r := waitingForReady("^never$")
	piece := bytes.Repeat([]byte("123456\n"), 32<<10/7)
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	for range 64 {
		r.sift.lookForReady(piece)
	}
	runtime.ReadMemStats(&after)
	if made := after.TotalAlloc - before.TotalAlloc; made > 64*uint64(len(piece))*64 {
		t.Errorf("%d bytes are copied for %d", made, 64*len(piece))
	}
}

// When all is stopped no process is left, whatever it did to stay: ignoring signals,
// leaving its session, or outliving the one that started it.
func TestStoppingAllLeavesNothing(t *testing.T) {
	t.Parallel()
	s := with(t, `
[workspace]
slots = 5
[task.ignores]
run = "trap '' INT TERM; while :; do sleep 0.05; done"
stop = { grace = "50ms" }
[task.child]
run = "(trap '' INT TERM HUP; while :; do sleep 0.05; done) & wait"
stop = { grace = "50ms" }
[task.orphan]
run = "(trap '' INT TERM HUP; while :; do sleep 0.05; done) & sleep 0.1"
stop = { grace = "50ms" }
[task.session]
run = "setsid sh -c 'trap : INT TERM; while :; do sleep 0.05; done' & sleep 0.1"
stop = { grace = "50ms" }
[task.twice]
run = "( (trap '' INT HUP; exec sleep 300) & ) ; sleep 0.1"
stop = { grace = "50ms" }
`, Options{Terminal: true, Cols: 80, Rows: 24})
	var runs []*Run
	for _, name := range []string{"ignores", "child", "orphan", "session", "twice"} {
		runs = append(runs, s.start(name).Main)
	}
	for _, r := range runs {
		eventually(t, "the start of "+r.Prepared.Task.Name, func() bool {
			state := r.Snapshot().State
			return r.HasLeftovers() && (r.Prepared.Task.Name == "ignores" || r.Prepared.Task.Name == "child" || state.Ended())
		})
	}
	s.super.StopAll()
	for _, r := range runs {
		eventually(t, "the end of what "+r.Prepared.Task.Name+" started", func() bool { return !r.HasLeftovers() })
	}
}

// What a command prints when it is asked to end is no problem, in whatever words it says it.
func TestStoppingMakesNoProblem(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.build]
run = ["sh", "-c", "trap 'echo a.c:2:1: error: ended; exit 1' INT; echo a.c:1:1: warning: hot; sleep 60 & wait"]
`, Options{Terminal: true})
	j := s.start("build")
	eventually(t, "its problem", func() bool { return len(j.Main.Snapshot().Problems) == 1 })
	j.Main.Stop()
	snap := s.finish(j)
	if len(snap.Problems) != 1 || snap.Problems[0].Message != "hot" {
		t.Errorf("%s: %v", snap.Words(), snap.Problems)
	}
}
