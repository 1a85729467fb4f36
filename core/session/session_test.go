package session

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"tidytally/core/history"
	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/task"
	"tidytally/internal/testbatch"
	"tidytally/internal/testtree"
)

// sitting is a session in a test.
type sitting struct {
	*Session
	t *testing.T

	mu     sync.Mutex // guards the field below
	faults []string
}

// sit opens a session on a workspace and waits for its survey.
func sit(t *testing.T, root string, o Options) *sitting {
	t.Helper()
	s := &sitting{t: t}
	o.Fault = func(err error) {
		s.mu.Lock()
		s.faults = append(s.faults, err.Error())
		s.mu.Unlock()
	}
	var err error
	if s.Session, err = Open(root, o); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	s.Touch()
	s.settle()
	return s
}

func (s *sitting) settle() *Snapshot {
	s.t.Helper()
	snap, err := s.Settle(s.t.Context())
	if err != nil {
		s.t.Fatal(err)
	}
	return snap
}

func (s *sitting) told() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return strings.Join(s.faults, "\n")
}

func (s *sitting) find(name string) *task.Task {
	s.t.Helper()
	t, err := task.Find(s.Snapshot().Survey.Tasks, name)
	if err != nil {
		s.t.Fatal(err)
	}
	return t
}

// start starts a task.
func (s *sitting) start(name string) *run.Run {
	s.t.Helper()
	job, err := s.Start(s.Snapshot().Survey.Tasks, s.find(name), nil)
	if err != nil {
		s.t.Fatal(err)
	}
	return job.Main
}

// ran runs a task to its end and returns its verdict in words.
func (s *sitting) ran(name string) string {
	s.t.Helper()
	r := s.start(name)
	select {
	case <-r.Done():
	case <-time.After(30 * time.Second):
		s.t.Fatal("it does not end")
	}
	return words(s.Verdict(r))
}

func words(v *Verdict) string {
	return fmt.Sprintf("before %d new %d gone %d not checked %d now %d", v.Before, v.New, v.Balance.Gone, v.Balance.NotChecked, v.Now)
}

// firstLine returns the first line of an output.
func firstLine(r *run.Run) string {
	var text strings.Builder
	r.Output(func(x *output.Index) {
		for _, c := range x.Line(0).Cells {
			text.WriteString(c.Text)
		}
	})
	return text.String()
}

// eventually waits until something holds.
func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for deadline := time.Now().Add(30 * time.Second); !holds(); time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("%s does not come", what)
		}
	}
}

func write(t *testing.T, root, name, text string) {
	t.Helper()
	full := filepath.Join(root, name)
	if err := os.WriteFile(full+".new", []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(full+".new", full); err != nil {
		t.Fatal(err)
	}
}

// lay makes a workspace with a task that prints the file log, and a state folder of its own.
func lay(t *testing.T, more map[string]string) string {
	t.Helper()
	t.Setenv("XDG_STATE_HOME", testtree.Folder(t))
	files := map[string]string{"tidytally.toml": "[task.look]\nrun = \"cat log\"\n", "log": "", "a.c": "int a;\nint b;\n"}
	for name, text := range more {
		files[name] = text
	}
	return testtree.Lay(t, files)
}

const hot = "a.c:1:5: error: too hot\n"

// One run has one verdict, whoever ran the one before it: what it is compared with is in the history.
func TestOneVerdictForAll(t *testing.T) {
	root := lay(t, map[string]string{"log": hot})
	first, second := sit(t, root, Options{}), sit(t, root, Options{})
	watching := sit(t, root, Options{Follow: true, Known: true})
	if got := first.ran("look"); got != "before 0 new 1 gone 0 not checked 0 now 1" {
		t.Errorf("the first run: %s", got)
	}
	write(t, root, "log", "")
	if got := second.ran("look"); got != "before 1 new 0 gone 1 not checked 0 now 0" {
		t.Errorf("another session, silent: %s", got)
	}
	write(t, root, "log", hot)
	const want = "before 0 new 1 gone 0 not checked 0 now 1"
	if got := first.ran("look"); got != want {
		t.Errorf("the first session again: %s", got)
	}
	runs, err := first.Store().Runs(history.Wanted{Limit: 1})
	if err != nil || runs[0].Balance.New != 1 || runs[0].Balance.Still != 0 || runs[0].Rule != problem.Rule {
		t.Errorf("kept: %+v, %v", runs, err)
	}
	if err := second.Refresh(); err != nil {
		t.Fatal(err)
	}
	r, err := second.Recall(second.find("look"), runs[0].ID)
	if err != nil {
		t.Fatal(err)
	}
	if got := words(second.Verdict(r)); got != want || !second.Verdict(r).Settled {
		t.Errorf("recalled by the other: %s", got)
	}
	eventually(t, "the problem that stands", func() bool {
		stands := watching.Standing()["tidytally.toml#look"]
		return len(stands) == 1 && stands[0].First == runs[0].ID && stands[0].Problem.Message == "too hot"
	})
}

// A session that begins anew compares with the runs of those before it, and recalls them.
func TestASessionAfterAnother(t *testing.T) {
	root := lay(t, map[string]string{"log": hot})
	before := sit(t, root, Options{})
	before.ran("look")
	before.Close()
	after := sit(t, root, Options{})
	if got := after.ran("look"); got != "before 1 new 0 gone 0 not checked 0 now 1" {
		t.Errorf("after the other: %s", got)
	}
	if err := after.Refresh(); err != nil {
		t.Fatal(err)
	}
	r, err := after.Recall(after.find("look"), 1)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := after.Recall(after.find("look"), 1); err != nil || again != r {
		t.Errorf("recalled twice it is another one (%v)", err)
	}
	text := firstLine(r)
	if got := words(after.Verdict(r)); got != "before 0 new 1 gone 0 not checked 0 now 1" || !strings.Contains(text, "too hot") {
		t.Errorf("the earlier run: %s, printed %q", got, text)
	}
	if own, err := after.Recall(after.find("look"), 2); err != nil || own != after.Runs()[0] {
		t.Errorf("its own run is another one (%v)", err)
	}
	if _, err := after.Recall(after.find("look"), 99); err == nil {
		t.Error("a run that was never is recalled")
	}
}

// Without a history, before is the session's own last run; where none can be kept, that is said.
func TestWithoutAHistory(t *testing.T) {
	root := lay(t, map[string]string{"log": hot})
	kept := sit(t, root, Options{})
	kept.ran("look")
	for name, open := range map[string]func() *sitting{
		"no history": func() *sitting { return sit(t, root, Options{NoHistory: true}) },
		"no folder": func() *sitting {
			t.Setenv("XDG_STATE_HOME", filepath.Join(root, "a.c"))
			return sit(t, root, Options{})
		},
	} {
		write(t, root, "log", hot)
		s := open()
		for i, want := range []string{"before 0 new 1 gone 0 not checked 0 now 1", "before 1 new 0 gone 0 not checked 0 now 1", "before 1 new 0 gone 1 not checked 0 now 0"} {
			if i == 2 {
				write(t, root, "log", "")
			}
			if got := s.ran("look"); got != want {
				t.Errorf("%s, run %d: %s, want %s", name, i, got, want)
			}
		}
		if said := strings.Contains(s.told(), "compared with those of this session alone"); said != (name == "no folder") {
			t.Errorf("%s: told %q", name, s.told())
		}
	}
}

// Another session sees a run that goes on: its state, its output and problems as they come, and its end.
func TestRunsOfOtherSessions(t *testing.T) {
	root := lay(t, map[string]string{
		"tidytally.toml": "[task.look]\nrun = \"cat pipe; cat pipe\"\n[task.again]\nrun = \"cat log; cat pipe\"\nrerun_on = [\"a.c\"]\n", "log": hot,
	})
	pipe := filepath.Join(root, "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Skip(err)
	}
	feed := func(text string) {
		if err := os.WriteFile(pipe, []byte(text), 0o600); err != nil {
			t.Error(err)
		}
	}
	one, other := sit(t, root, Options{}), sit(t, root, Options{Follow: true, Known: true})
	r := one.start("look")
	var seen *run.Run
	eventually(t, "the run in the other session", func() bool {
		if all := other.Others(); len(all) == 1 {
			seen = all[0]
		}
		return seen != nil
	})
	if s := seen.Snapshot(); s.State != run.Running || !seen.Followed() || s.Words() != "running elsewhere" {
		t.Errorf("it is %s", s.Words())
	}
	feed(hot)
	eventually(t, "its problem", func() bool { return words(other.Verdict(seen)) == "before 0 new 1 gone 0 not checked 0 now 1" })
	if stands := other.Standing()["tidytally.toml#look"]; len(stands) != 1 {
		t.Errorf("%d problems stand", len(stands))
	}
	seen.Stop() // which is the other's to do
	feed("")
	<-r.Done()
	eventually(t, "its end", func() bool { return seen.Snapshot().State == run.OK && len(other.Others()) == 0 })
	if v, own := other.Verdict(seen), one.Verdict(r); words(v) != words(own) || v.Run != own.Run || !v.Settled {
		t.Errorf("it has the verdict %s, and %s where it ran", words(v), words(own))
	}

	// Of a run that runs again on change each pass is one, from where its output begins.
	again := one.start("again")
	feed("")
	eventually(t, "the first pass", func() bool { return again.Snapshot().State == run.Watching })
	write(t, root, "log", strings.Replace(hot, "1:5", "2:5", 1))
	write(t, root, "a.c", "int a;\nint b; \n")
	eventually(t, "the second pass", func() bool { s := again.Snapshot(); return s.Pass() == 2 && s.State == run.Running })
	eventually(t, "its output elsewhere", func() bool {
		all := other.Others()
		return len(all) == 1 && strings.HasPrefix(firstLine(all[0]), "a.c:2:5")
	})
	again.Stop()
	<-again.Done()
}

// A run of another session has its declared task even if the history is read before the survey.
func TestTheHistoryIsReadFirst(t *testing.T) {
	root := lay(t, map[string]string{"tidytally.toml": "[task.kiln]\nrun = \"sleep 600\"\nlong_running = true\n"})
	one := sit(t, root, Options{})
	r := one.start("kiln")
	other, err := Open(root, Options{Follow: true})
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	eventually(t, "what the history says", func() bool { return other.Snapshot().Past != nil })
	if n := len(other.Others()); n != 0 {
		t.Errorf("%d runs are followed whose tasks are not known", n)
	}
	other.Touch()
	eventually(t, "the run in the other session", func() bool { return len(other.Others()) == 1 })
	if !other.Others()[0].Prepared.Task.LongRunning {
		t.Error("it is not the task that is declared")
	}
	r.Stop()
	<-r.Done()
}

// A job of a batch system that is seen as another program's is one of this session when it is taken up.
func TestAFollowedJobIsTakenUp(t *testing.T) {
	conf := testtree.Folder(t)
	testbatch.Start(t, conf)
	t.Setenv("SLURM_CONF", filepath.Join(conf, "slurm.conf"))
	root := lay(t, map[string]string{"tidytally.toml": "[place.batch]\nrun = [\"sbatch\"]\n[task.kiln]\nrun = \"sleep 600\"\nat = \"batch\"\n"})
	one := sit(t, root, Options{})
	first := one.start("kiln")
	eventually(t, "the run at the batch system", func() bool { s := first.Snapshot(); return s.State == run.Running && one.RunID(first) != 0 })
	other := sit(t, root, Options{Follow: true})
	eventually(t, "the run in the other session", func() bool { return len(other.Others()) == 1 })
	if err := one.Close(); err != nil {
		t.Error(err)
	}
	jobs, err := other.TakeUp()
	if err != nil || len(jobs) != 1 {
		t.Fatalf("%d jobs were taken up: %v", len(jobs), err)
	}
	eventually(t, "the end of the following", func() bool { return len(other.Others()) == 0 })
	jobs[0].Main.Stop()
	<-jobs[0].Main.Done()
}

// A pass that is stopped has a verdict in which nothing disagrees, and so have the passes before it.
func TestVerdictsOfPasses(t *testing.T) {
	root := lay(t, map[string]string{
		"tidytally.toml": "[task.again]\nrun = \"cat log; [ ! -e wait ] || sleep 60\"\nrerun_on = [\"a.c\"]\n", "log": hot + "a.c:2:5: error: too cold\n",
	})
	s := sit(t, root, Options{})
	r := s.start("again")
	pass := func(n int, state run.State) {
		t.Helper()
		eventually(t, fmt.Sprintf("pass %d, %s", n, state), func() bool {
			snap := r.Snapshot()
			return snap.Pass() == n && snap.State == state && (state != run.Running || len(snap.Problems) == 1)
		})
	}
	agrees := func(want string) {
		t.Helper()
		v := s.Verdict(r)
		if got := words(v); got != want || len(v.Found) != len(v.States) || len(v.Lives) != v.Now {
			t.Errorf("%s, want %s: %d found, %d states, %d lives", got, want, len(v.Found), len(v.States), len(v.Lives))
		}
	}
	pass(1, run.Watching)
	eventually(t, "its verdict", func() bool { return s.Verdict(r).Settled })
	agrees("before 0 new 2 gone 0 not checked 0 now 2")
	write(t, root, "log", hot)
	write(t, root, "wait", "")
	write(t, root, "a.c", "int a;\nint c;\n")
	pass(2, run.Running)
	eventually(t, "a verdict of what goes on", func() bool { return !s.Verdict(r).Settled && len(s.Verdict(r).Found) == 1 })
	agrees("before 2 new 0 gone 0 not checked 1 now 2")
	r.Stop()
	<-r.Done()
	if s.settle(); !s.Verdict(r).Settled {
		t.Error("it is not settled at its end")
	}
	agrees("before 2 new 0 gone 0 not checked 1 now 2")
	runs, err := s.Store().Runs(history.Wanted{Steps: true})
	if err != nil || len(runs) != 2 || runs[0].Balance.NotChecked != 1 || runs[1].Balance.New != 2 {
		t.Errorf("kept: %+v, %v", runs, err)
	}
}

// Files that change are surveyed; a snapshot stays as it is.
func TestFollowingFiles(t *testing.T) {
	root := lay(t, nil)
	var changed int
	var mu sync.Mutex
	s := sit(t, root, Options{Follow: true, Changed: func() {
		mu.Lock()
		defer mu.Unlock()
		changed++
	}})
	before := s.Snapshot()
	if before.Find("tidytally.toml#look") == nil || before.Find("Makefile#all") != nil || before.File() != "" {
		t.Errorf("%d tasks, the current file is %q", len(before.Survey.Tasks), before.File())
	}
	write(t, root, "Makefile", "all:\n\ttrue\n")
	eventually(t, "the new task", func() bool { return s.Snapshot().Find("Makefile#all") != nil })
	write(t, root, "a.c", "int c;\n")
	eventually(t, "the file saved last", func() bool { return s.Snapshot().File() == filepath.Join(root, "a.c") && s.Snapshot().Saves > 0 })
	if before.Find("Makefile#all") != nil || before.Number >= s.Snapshot().Number {
		t.Errorf("snapshot %d has changed; the newest is %d", before.Number, s.Snapshot().Number)
	}
	s.Choose(filepath.Join(root, "b.c"), 7)
	s.Took(filepath.Join(root, "a.c"))
	if ctx := s.Context(); s.Snapshot().File() != filepath.Join(root, "b.c") || ctx.File != s.Snapshot().File() || ctx.Line != 7 {
		t.Errorf("chosen is %q, commands get %q:%d", s.Snapshot().File(), ctx.File, ctx.Line)
	}
	s.Choose("", 0)
	if ctx := s.Context(); ctx.File != filepath.Join(root, "a.c") || ctx.Line != 0 {
		t.Errorf("commands get %q:%d", ctx.File, ctx.Line)
	}
	s.Took("/elsewhere/a.c")
	s.Took(filepath.Join(root, "notes"))
	if s.Snapshot().Saved != filepath.Join(root, "a.c") {
		t.Errorf("in hand is %q", s.Snapshot().Saved)
	}
	if names, ok := s.Names(); ok && !slices.Contains(names, "a.c") {
		t.Errorf("the files are %q", names)
	}
	mu.Lock()
	defer mu.Unlock()
	if changed < 3 {
		t.Errorf("told %d times", changed)
	}
}

// A sieve that waits for the disk does not hold up those who look: the output comes whole, and its end when the sieve is done.
func TestASlowDiskHoldsUpNobody(t *testing.T) {
	const lines, lost = 100_000, 5_000
	root := lay(t, map[string]string{"tidytally.toml": fmt.Sprintf("[task.many]\nrun = \"seq -f 'gone%%.0f.c:1:1: error: lost' %d; seq -f 'kiln %%.0f is warm' %d\"\n", lost, lines-lost)})
	s := sit(t, root, Options{})
	asked, answer := make(chan struct{}), make(chan struct{})
	var once sync.Once
	s.ChangeContext(func(c *run.Context) {
		c.Search = func(string) []string {
			once.Do(func() { close(asked) })
			<-answer
			return nil
		}
	})
	r := s.start("many")
	select {
	case <-asked:
	case <-time.After(30 * time.Second):
		t.Fatal("the sieve asks nothing")
	}
	printed := 0
	eventually(t, "the whole output", func() bool {
		r.Output(func(x *output.Index) { printed = x.Printed() })
		return printed == lines
	})
	if snap := r.Snapshot(); snap.State != run.Running || len(snap.Problems) > 1 {
		t.Errorf("it is %s with %d problems", snap.Words(), len(snap.Problems))
	}
	s.Verdict(r)
	close(answer)
	<-r.Done()
	if n := len(s.Verdict(r).Found); n != lost {
		t.Errorf("%d problems were found", n)
	}
}

// A closed session takes nothing up again, and closing it twice is no fault.
func TestAClosedSession(t *testing.T) {
	root := lay(t, nil)
	s := sit(t, root, Options{Follow: true})
	r := s.start("look")
	<-r.Done()
	if err := errors.Join(s.Close(), s.Close()); err != nil {
		t.Error(err)
	}
	s.Touch()
	s.settle()
	select {
	case <-s.Closed():
	default:
		t.Error("it is not closed")
	}
	if s.Store() != nil {
		t.Error("its store is open")
	}
}

// The user's own tasks are seen when they are written first, in a folder that was not there.
func TestAPersonalTallyFileThatIsMadeLater(t *testing.T) {
	root := lay(t, nil)
	config := filepath.Join(testtree.Folder(t), "not/there")
	t.Setenv("XDG_CONFIG_HOME", config)
	s := sit(t, root, Options{Follow: true})
	before := len(s.Snapshot().Survey.Tasks)
	if err := os.MkdirAll(filepath.Join(config, "tidytally"), 0o755); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(config, "tidytally"), "tidytally.toml", "[task.mine]\nrun = \"true\"\n")
	eventually(t, "the user's task", func() bool { return len(s.Snapshot().Survey.Tasks) == before+1 })
}

// What a run read is known afterwards, in this session at once and in others by the history: whether another run would do anything.
func TestLookingAhead(t *testing.T) {
	root := lay(t, map[string]string{"tidytally.toml": "[task.bake]\nrun = \"cp clay bowl\"\nreads = [\"clay\"]\nmakes = [\"bowl\"]\n", "clay": "wet\n"})
	one, other := sit(t, root, Options{}), sit(t, root, Options{})
	const id = "tidytally.toml#bake"
	state := func(s *sitting) string {
		s.LookAhead()
		o, known := s.settle().Outlooks()[id]
		if !known {
			return "not known"
		}
		return string(o.State)
	}
	if got := state(one); got != "not known" {
		t.Errorf("before it ran it is %s", got)
	}
	one.ran("bake")
	eventually(t, "what it read", func() bool { return len(one.Learned(id)) == 1 })
	if got := state(one); got != "fresh" {
		t.Errorf("just after it ran it is %s", got)
	}
	if err := other.Refresh(); err != nil {
		t.Fatal(err)
	}
	if got := state(other); got != "fresh" {
		t.Errorf("in another session it is %s", got)
	}
	if known := other.Snapshot().Past; known.Last[id].State != "ok" || len(known.Learned) != 1 {
		t.Errorf("the history says %+v", known)
	}
	write(t, root, "clay", "dry, and more of it\n")
	if got := state(other); got == "fresh" || got == "not known" {
		t.Errorf("after an edit it is %s", got)
	}
}

// The file saved last is the newest source file among those that changed; a folder or a link with such a name does not count.
func TestTheFileSavedLast(t *testing.T) {
	root := lay(t, map[string]string{"old.c": "", "new.c": "", "folder.c/x": "", "notes.txt": ""})
	s := sit(t, root, Options{})
	if err := os.Symlink("old.c", filepath.Join(root, "link.c")); err != nil {
		t.Fatal(err)
	}
	now := time.Now()
	for name, age := range map[string]time.Duration{"old.c": time.Hour, "new.c": time.Minute, "folder.c": 0, "notes.txt": 0} {
		if err := os.Chtimes(filepath.Join(root, name), now.Add(-age), now.Add(-age)); err != nil {
			t.Fatal(err)
		}
	}
	s.Touch("old.c", "new.c", "folder.c", "link.c", "notes.txt", "gone.c")
	if snap := s.settle(); snap.Saved != filepath.Join(root, "new.c") || snap.Saves != 1 {
		t.Errorf("saved last is %q, %d saves", snap.Saved, snap.Saves)
	}
	s.Touch("notes.txt")
	if snap := s.settle(); snap.Saves != 1 {
		t.Errorf("%d saves", snap.Saves)
	}
	s.Touch("old.c")
	if snap := s.settle(); snap.Saved != filepath.Join(root, "old.c") || snap.Saves != 2 {
		t.Errorf("saved last is %q, %d saves", snap.Saved, snap.Saves)
	}
}

// A workspace that is gone is told, and what was read of it stays.
func TestAWorkspaceThatIsGone(t *testing.T) {
	root := lay(t, nil)
	s := sit(t, root, Options{})
	if err := os.RemoveAll(root); err != nil {
		t.Fatal(err)
	}
	s.Touch()
	if snap := s.settle(); snap.Find("tidytally.toml#look") == nil || !strings.Contains(s.told(), "the workspace could not be read") {
		t.Errorf("told %q", s.told())
	}
}

// A verdict of a run that goes on names the run, and each verdict has a number of its own.
func TestAVerdictNamesItsRun(t *testing.T) {
	root := lay(t, map[string]string{"tidytally.toml": "[task.look]\nrun = \"cat log; sleep 60\"\n", "log": hot})
	s := sit(t, root, Options{})
	r := s.start("look")
	eventually(t, "its problem", func() bool { return len(s.Verdict(r).Found) == 1 })
	live := s.Verdict(r)
	if live.Run != 1 || s.RunID(r) != 1 || live.Settled || live.Lives[0].First != 1 || live.Count.Errors != 1 {
		t.Errorf("while it runs: %+v of run %d", live, s.RunID(r))
	}
	r.Stop()
	<-r.Done()
	if end := s.Verdict(r); end.Run != 1 || !end.Settled || end.Number <= live.Number || words(end) != words(live) {
		t.Errorf("at its end: %+v", end)
	}
}
