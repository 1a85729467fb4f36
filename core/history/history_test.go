package history

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tidytally/core/run"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/internal/testtree"
)

// sitting is one opening of a workspace: runs are written into its history.
type sitting struct {
	t     *testing.T
	root  string
	tasks []*task.Task
	store *Store
	rec   *Recorder
	super *run.Supervisor
}

func sit(t *testing.T, root, toml string) *sitting {
	t.Helper()
	f := tallyfile.Parse("tidytally.toml", []byte(toml))
	if len(f.Faults) > 0 {
		t.Fatal(f.Faults)
	}
	var merged tallyfile.Merged
	merged.Add(f)
	store, err := Open(root)
	if err != nil {
		t.Fatal(err)
	}
	rec := NewRecorder(store, func(err error) { t.Error(err) })
	super, err := run.NewSupervisor(run.Context{Root: root, Tally: &merged}, run.Options{Recorder: recording{rec}})
	if err != nil {
		t.Fatal(err)
	}
	s := &sitting{t, root, f.Tasks, store, rec, super}
	t.Cleanup(func() { s.leave() })
	return s
}

// leave closes all, once.
func (s *sitting) leave() {
	if s.super != nil {
		s.super.Close()
		s.rec.Finish()
		s.store.Close()
		s.super = nil
	}
}

func (s *sitting) run(name string, args ...string) {
	s.t.Helper()
	k, err := task.Find(s.tasks, name)
	if err != nil {
		s.t.Fatal(err)
	}
	j, err := s.super.Start(s.tasks, k, args)
	if err != nil {
		s.t.Fatal(err)
	}
	select {
	case <-j.Done():
	case <-time.After(time.Minute):
		s.t.Fatal("the run does not end")
	}
	s.rec.Finish()
}

func (s *sitting) write(name, text string) {
	s.t.Helper()
	if err := os.WriteFile(filepath.Join(s.root, name), []byte(text), 0o644); err != nil {
		s.t.Fatal(err)
	}
}

func workspace(t *testing.T) string {
	t.Helper()
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	return testtree.Folder(t)
}

const studio = `
[task.check]
run = "cat log"
kind = "check"
[task.first]
run = "echo first"
[task.all]
run = "echo all; exit 3"
before = ["#first"]
env = { SHELF = "2", API_KEY = "very-secret", TOKEN = "x" }
[task.group]
before = ["#first"]
[task.big]
run = "seq 1 200000; printf 'no line feed'"
[task.killed]
run = "kill -TERM $$"
[task.late]
run = "sleep 60"
timeout = "100ms"
`

// A run is there in the next sitting: when and how, its output to the byte, its steps, and
// nothing that looks secret.
func TestRunsAreKept(t *testing.T) {
	s := sit(t, workspace(t), studio)
	s.run("all", "PASSWORD=hunter22", "BOARD=mk1")
	s.run("group")
	s.run("big")
	s.run("killed")
	s.run("late")
	root := s.root
	s.leave()

	s = sit(t, root, studio)
	runs, err := s.store.Runs(Wanted{})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, r := range slices.Backward(runs) {
		got = append(got, strings.TrimPrefix(r.Task, "tidytally.toml#")+" "+r.Words())
	}
	if text := strings.Join(got, ", "); text != "all failed (3), group ok, big ok, killed failed (TERM), late timed out" {
		t.Fatalf("runs: %s", text)
	}
	all := runs[len(runs)-1]
	if strings.Join(all.Args, " ") != "PASSWORD=… BOARD=mk1" || strings.Join(all.Env, " ") != "API_KEY=… SHELF=… TOKEN=…" ||
		all.Command != "echo all; exit 3 PASSWORD=… BOARD=mk1" || all.Dir != root || all.End.Before(all.Start) {
		t.Errorf("%+v", all)
	}
	steps, err := s.store.Runs(Wanted{Job: all.ID})
	if err != nil || len(steps) != 2 || steps[1].Role != "before" || steps[1].Words() != "ok" {
		t.Errorf("steps: %+v, %v", steps, err)
	}
	if text, cut, ok, err := s.store.Output(steps[1].ID); string(text) != "first\n" || cut != 0 || !ok || err != nil {
		t.Errorf("output: %q, %d, %v, %v", text, cut, ok, err)
	}
	var want bytes.Buffer
	for i := range 200000 {
		fmt.Fprintln(&want, i+1)
	}
	want.WriteString("no line feed")
	if text, _, ok, err := s.store.Output(runs[2].ID); !bytes.Equal(text, want.Bytes()) || !ok || err != nil || runs[2].Bytes != int64(want.Len()) {
		t.Errorf("the large output: %d bytes, %v, %v", len(text), ok, err)
	}
	if r := runs[2]; r.CPU <= 0 || r.Memory < 1<<19 {
		t.Errorf("it used %v and %d bytes", r.CPU, r.Memory)
	}
	last, err := s.store.Last()
	if err != nil || len(last) != 6 || last["tidytally.toml#killed"].Exit != 143 {
		t.Errorf("last: %+v, %v", last, err)
	}
	data, err := os.ReadFile(s.store.Path())
	if err != nil {
		t.Fatal(err)
	}
	for _, secret := range []string{"hunter22", "very-secret"} {
		if bytes.Contains(data, []byte(secret)) {
			t.Errorf("the store has %q", secret)
		}
	}
}

// A problem has a life across sittings: first seen, seen how often, gone, or not checked.
func TestLivesOfProblems(t *testing.T) {
	root := workspace(t)
	logs := []string{
		"a.py:1: error: one [x]\nb.py:2: error: two [y]\n",
		"a.py:1: error: one [x]\n",
		"a.py:1: error: one [x]\nc.py:3: warning: three [z]\n",
		"",
	}
	for i, log := range logs {
		s := sit(t, root, studio)
		for _, name := range []string{"a.py", "b.py", "c.py"} {
			s.write(name, "x = 1\n")
		}
		s.write("log", log+"Found some errors\n")
		s.run("check")
		runs, err := s.store.Runs(Wanted{Limit: 1})
		if err != nil {
			t.Fatal(err)
		}
		lives, err := s.store.Lives(runs[0].ID)
		if err != nil {
			t.Fatal(err)
		}
		gone, err := s.store.Gone("tidytally.toml#check", 0, 0)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, l := range lives {
			got = append(got, fmt.Sprintf("%s %s first %d seen %d", l.Problem.Message, l.State, l.First, l.Seen))
		}
		for _, g := range gone {
			got = append(got, fmt.Sprintf("%s gone in %d, first %d last %d seen %d", g.Problem.Message, g.Run, g.First, g.Last, g.Seen))
		}
		want := []string{
			"one new first 1 seen 1; two new first 1 seen 1",
			"one still first 1 seen 2; two gone in 2, first 1 last 1 seen 1",
			"one still first 1 seen 3; three new first 3 seen 1; two gone in 2, first 1 last 1 seen 1",
			"three gone in 4, first 3 last 3 seen 1; one gone in 4, first 1 last 3 seen 3; two gone in 2, first 1 last 1 seen 1",
		}[i]
		if text := strings.Join(got, "; "); text != want {
			t.Errorf("after run %d: %s\nwant %s", i+1, text, want)
		}
		if b := runs[0].Balance; i == 2 && (b.New != 1 || b.Still != 1 || b.Gone != 0) {
			t.Errorf("the balance: %+v", b)
		}
		s.leave()
	}
}

// The outputs stay within their bounds, the oldest go first; and so do runs.
func TestBounds(t *testing.T) {
	root := workspace(t)
	s, err := openFile(root, filepath.Join(t.TempDir(), "x.db"), Limits{Runs: 20, Age: time.Hour, Outputs: 3000, Output: 1000})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	rec := NewRecorder(s, func(err error) { t.Error(err) })
	super, err := run.NewSupervisor(run.Context{Root: root, Tally: &tallyfile.Merged{}}, run.Options{Recorder: recording{rec}})
	if err != nil {
		t.Fatal(err)
	}
	defer super.Close()
	k := &task.Task{Name: "noise", File: "tidytally.toml", Command: task.Command{Shell: "head -c 2000 /dev/urandom; printf end"}}
	for range 30 {
		j, err := super.Start([]*task.Task{k}, k, nil)
		if err != nil {
			t.Fatal(err)
		}
		<-j.Done()
	}
	rec.Finish()
	runs, err := s.Runs(Wanted{})
	if err != nil || len(runs) != 20 {
		t.Fatalf("%d runs, %v", len(runs), err)
	}
	kept := 0
	for i, r := range runs {
		text, cut, ok, err := s.Output(r.ID)
		if err != nil {
			t.Fatal(err)
		}
		if ok {
			kept++
			if len(text) != 1000 || cut != 1003 || !bytes.HasSuffix(text, []byte("end")) || i > 2 {
				t.Errorf("run %d of the newest has %d bytes, %d are missing", i, len(text), cut)
			}
		}
	}
	if kept < 1 || kept > 3 {
		t.Errorf("%d outputs are kept", kept)
	}
	// A run that prints nothing is counted, too.
	silent := &task.Task{Name: "silent", File: "tidytally.toml", Command: task.Command{Shell: "true"}}
	for range 25 {
		j, err := super.Start([]*task.Task{silent}, silent, nil)
		if err != nil {
			t.Fatal(err)
		}
		<-j.Done()
	}
	rec.Finish()
	if runs, err := s.Runs(Wanted{}); err != nil || len(runs) != 20 || runs[19].Task != silent.ID() {
		t.Errorf("after silent runs: %d, %v", len(runs), err)
	}
}

// A workspace has a history once something was kept of it, and no sooner.
func TestExists(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", testtree.Folder(t))
	root := t.TempDir()
	if Exists(root) {
		t.Error("before")
	}
	s, err := Open(root)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if !Exists(root) {
		t.Error("after")
	}
}

// A store that cannot be read is put aside, and a new one begins.
func TestSpoiltStores(t *testing.T) {
	for name, spoil := range map[string]func(path string) error{
		"damaged": func(path string) error { return os.WriteFile(path, bytes.Repeat([]byte("clay"), 5000), 0o600) },
	} {
		path := filepath.Join(t.TempDir(), "s ?#%.db")
		if err := spoil(path); err != nil {
			t.Fatal(err)
		}
		s, err := openFile("/", path, usual)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if runs, err := s.Runs(Wanted{}); err != nil || len(runs) > 0 || !strings.Contains(s.Told, "is kept as "+path+".") || !strings.Contains(s.Told, "nothing of it could be read") {
			t.Errorf("%s: %v, %v, told %q", name, runs, err, s.Told)
		}
		s.Close()
		if aside, _ := filepath.Glob(filepath.Join(filepath.Dir(path), "*.20*")); len(aside) != 1 {
			t.Errorf("%s: put aside as %v", name, aside)
		}
	}
	dir := t.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "folder.db"), 0o700); err != nil {
		t.Fatal(err)
	}
	if _, err := openFile("/", filepath.Join(dir, "folder.db"), usual); err == nil {
		t.Error("a folder is taken for a store")
	}
}

func sectionOf(data []byte) *io.SectionReader {
	return io.NewSectionReader(bytes.NewReader(data), 0, int64(len(data)))
}

// A secret is not kept in whatever way it came into a command: in the place of a declared argument, or from the
// environment that the program was started in.
func TestSecretsOfACommand(t *testing.T) {
	t.Setenv("STUDIO_TOKEN", "inherited-9182")
	s := sit(t, workspace(t), "[task.push]\nrun = [\"echo\", \"{env.STUDIO_TOKEN}\"]\nargs = [{ name = \"PIN\" }, { name = \"WHERE\" }]\nsecrets = [\"PIN\"]\n")
	s.run("push", "4711", "lab")
	runs, err := s.store.Runs(Wanted{})
	if err != nil || len(runs) != 1 {
		t.Fatalf("%d runs, %v", len(runs), err)
	}
	if r := runs[0]; r.Command != "echo … … lab" || strings.Join(r.Args, " ") != "… lab" || r.Words() != "ok" {
		t.Errorf("kept: %q %q %s", r.Command, r.Args, r.Words())
	}
}

// recording is a Recorder for a supervisor.
type recording struct{ *Recorder }

func (r recording) Ended(of *run.Run) { r.Recorder.Ended(of) }

// The version changes when a run settles a problem of another task: that is written after the end of the run, which another program
// may have read already.
func TestTheVersionCountsWhatIsSettled(t *testing.T) {
	s := sit(t, workspace(t), "[task.look]\nrun = \"true\"\n")
	s.run("look")
	before := s.store.Version()
	if _, err := s.store.db.Exec("INSERT INTO settled VALUES (1, 0, 1)"); err != nil {
		t.Fatal(err)
	}
	if now := s.store.Version(); now == before {
		t.Errorf("it is still %d", now)
	}
}
