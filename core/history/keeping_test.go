package history

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/core/learn"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/tallyfile"
)

// fresh opens a store of its own.
func fresh(t *testing.T) *Store {
	t.Helper()
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	s, err := openFile("/w", filepath.Join(t.TempDir(), "x.db"), usual)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// The runs of a program that was killed are interrupted when it printed last, with what they had printed; those of one that
// lives are left alone, and outputs that it had no time to store are stored.
func TestRunsOfAKilledProgram(t *testing.T) {
	s := fresh(t)
	spools := t.TempDir()
	spool := func(name, text string) string {
		path := filepath.Join(spools, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	start := time.Now().Add(-time.Hour).Truncate(time.Second)
	wrote := start.Add(10 * time.Minute)
	cut := spool("cut", "pass one\npass two\n")
	if err := os.Chtimes(cut, wrote, wrote); err != nil {
		t.Fatal(err)
	}
	earlier := spool("earlier", "clock went back\n")
	if err := os.Chtimes(earlier, start.Add(-time.Hour), start.Add(-time.Hour)); err != nil {
		t.Fatal(err)
	}
	const dead = "999999999:1"
	for i, r := range []struct {
		spool, owner string
		from         int
		ended        bool
	}{
		{spool: cut, owner: dead, from: len("pass one\n")},
		{spool: filepath.Join(spools, "gone"), owner: dead},
		{spool: spools, owner: dead}, // no file
		{owner: dead},
		{spool: spool("ended", "it ended\n"), owner: dead, ended: true},
		{spool: spool("lives", "it lives\n"), owner: ownerNow()},
		{spool: earlier, owner: dead},
	} {
		state, end := "running", any(nil)
		if r.ended {
			state, end = "ok", start.Add(time.Second).UnixNano()
		}
		if _, err := s.db.Exec(`INSERT INTO run (id, job, role, task, args, command, dir, env, hash, start, "end", state, spool, spoolStart, owner, bytes) VALUES (?, ?, 'task', ?, '[]', 'x', '/w', '[]', '', ?, ?, ?, ?, ?, ?, 3)`,
			i+1, i+1, fmt.Sprint("M#", i+1), start.UnixNano(), end, state, r.spool, r.from, r.owner); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.Recover(); err != nil {
		t.Fatal(err)
	}
	for id, want := range map[int64]struct {
		state  string
		end    time.Time // zero where it is that of the recovery
		output string
		bytes  int64
	}{
		1: {"interrupted", wrote, "pass two\n", int64(len("pass two\n"))}, 2: {state: "interrupted"}, 3: {state: "interrupted"}, 4: {state: "interrupted"},
		5: {"ok", start.Add(time.Second), "it ended\n", 3}, 7: {"interrupted", start, "clock went back\n", int64(len("clock went back\n"))},
	} {
		r, err := s.Run(id)
		if err != nil {
			t.Fatal(err)
		}
		text, _, kept, err := s.Output(id)
		if r.State != want.state || r.Bytes != want.bytes || string(text) != want.output || kept != (want.output != "") || err != nil {
			t.Errorf("run %d is %s with %d bytes, printed %q (%v, %v)", id, r.State, r.Bytes, text, kept, err)
		}
		if want.end.IsZero() && time.Since(r.End) > time.Minute || !want.end.IsZero() && !r.End.Equal(want.end) {
			t.Errorf("run %d ended at %s, want %s", id, r.End, want.end)
		}
	}
	if r, err := s.Run(6); err != nil || r.State != "running" || !r.End.IsZero() {
		t.Errorf("the run of a program that lives is %+v, %v", r, err)
	}
	going, err := s.Going()
	if err != nil || len(going) != 1 || going[0].ID != 6 || going[0].From != 0 || !strings.HasSuffix(going[0].Spool, "lives") {
		t.Errorf("what goes on: %+v, %v", going, err)
	}
}

// How long a run takes is known from three good ones: their median, of the newest eleven.
func TestHowLongARunTakes(t *testing.T) {
	s := fresh(t)
	at := time.Now().Add(-time.Hour)
	add := func(state string, seconds int) {
		t.Helper()
		at = at.Add(time.Minute)
		if _, err := s.Add(Run{Task: "M#all", Command: "x", Start: at, End: at.Add(time.Duration(seconds) * time.Second), State: state}, nil, nil, ""); err != nil {
			t.Fatal(err)
		}
	}
	want := func(seconds int) {
		t.Helper()
		all, err := s.Expected()
		if got, known := all["M#all"]; err != nil || known != (seconds > 0) || got != time.Duration(seconds)*time.Second {
			t.Errorf("expected are %v, %v; want %d s", all, err, seconds)
		}
	}
	add("ok", 9)
	add("failed", 1)
	add("ok", 2)
	want(0)
	add("ok", 4)
	want(4)
	for range 11 {
		add("ok", 7)
	}
	want(7)
	r := Run{Start: at, End: at.Add(5 * time.Second)}
	if got := r.Elapsed(at.Add(time.Hour)); got != 5*time.Second {
		t.Errorf("a run that has ended took %s", got)
	}
	r.End = time.Time{}
	if got := r.Elapsed(at.Add(7 * time.Second)); got != 7*time.Second {
		t.Errorf("a run that goes on has taken %s", got)
	}
	if got := r.Elapsed(at.Add(-time.Second)); got != 0 {
		t.Errorf("before it started it has taken %s", got)
	}
	for _, c := range []struct {
		r    Run
		want string
	}{{Run{State: "failed", Exit: 3}, "failed (3)"}, {Run{State: "failed", Signal: "KILL", Exit: 137}, "failed (KILL)"}, {Run{State: "failed", Exit: 127}, "not found"}, {Run{State: "timedOut"}, "timed out"}, {Run{State: "stopped"}, "stopped"}} {
		if got := c.r.Words(); got != c.want {
			t.Errorf("%+v is %q", c.r, got)
		}
	}
	good, err := s.Good()
	if err != nil || !good["M#all"].Equal(at) {
		t.Errorf("the last good run started at %v, %v", good, err)
	}
}

// Each pass of a run that runs again on change has its own row, with its own output and a verdict against the one before.
func TestEachPassIsKept(t *testing.T) {
	s := sit(t, workspace(t), "[task.again]\nrun = \"cat log\"\nrerun_on = [\"log\"]\n")
	s.write("log", "a.c:1:1: error: hot\n")
	j, err := s.super.Start(s.tasks, s.tasks[0], nil)
	if err != nil {
		t.Fatal(err)
	}
	pass := func(n int) {
		t.Helper()
		for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(time.Millisecond) {
			runs, err := s.store.Runs(Wanted{Steps: true})
			if err == nil && len(runs) == n && !runs[0].End.IsZero() {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("pass %d is not kept: %+v, %v", n, runs, err)
			}
		}
	}
	pass(1)
	s.write("log", "a.c:2:1: error: cold\n")
	pass(2)
	j.Main.Stop()
	<-j.Done()
	s.rec.Finish()
	for id, want := range map[int64]string{1: "a.c:1:1: error: hot\n", 2: "a.c:2:1: error: cold\n"} {
		if text, cut, ok, err := s.store.Output(id); string(text) != want || cut != 0 || !ok || err != nil {
			t.Errorf("pass %d printed %q, %d, %v, %v", id, text, cut, ok, err)
		}
	}
	v, err := s.store.Verdict(2)
	if err != nil || v.New != 1 || v.Balance.Gone != 1 || v.Before != 1 || v.Now != 1 || len(v.Left) != 1 || v.Left[0].First != 1 || v.Found[0].Message != "cold" || v.Rule != problem.Rule {
		t.Errorf("the second pass: %+v, %v", v, err)
	}
}

// A task that is fresh has its last good run; where that, or what is known of it, is gone, it runs and that is told.
func TestTheLastGoodRunOfAFreshTask(t *testing.T) {
	root := workspace(t)
	f := tallyfile.Parse("tidytally.toml", []byte("[task.bake]\nrun = \"cat in; echo a.c:1:1: warning: warm; cp in out\"\nreads = [\"in\"]\nmakes = [\"out\"]\nskip = \"fresh\"\n"))
	store, err := Open(root)
	if err != nil {
		t.Fatal(err)
	}
	defer store.Close()
	var told []string
	rec := NewRecorder(store, func(err error) { told = append(told, err.Error()) })
	super, err := run.NewSupervisor(run.Context{Root: root, Tally: &tallyfile.Merged{}}, run.Options{Recorder: recording{rec}, Learned: rec.Learned})
	if err != nil {
		t.Fatal(err)
	}
	defer super.Close()
	if err := os.WriteFile(filepath.Join(root, "in"), []byte("clay\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	ctx := super.Context()
	p, err := ctx.Prepare(f.Tasks[0], nil)
	if err != nil {
		t.Fatal(err)
	}
	if rec.Fresh(p) != nil {
		t.Error("it is fresh before it ran")
	}
	j, err := super.Start(f.Tasks, f.Tasks[0], nil)
	if err != nil {
		t.Fatal(err)
	}
	<-j.Done()
	rec.Finish()
	records, err := store.LearnedOf(f.Tasks[0].ID())
	if k := records[learn.Declared]; err != nil || k == nil || k.Run != 1 {
		t.Fatalf("known is %+v, %v", records, err)
	}
	past := rec.Fresh(p)
	if past == nil || len(past.Problems) != 1 || past.State != run.OK || len(told) > 0 {
		t.Fatalf("fresh is %+v, told %q", past, told)
	}
	text, err := past.Output()
	if err != nil || !bytes.HasPrefix(text, []byte("clay\n")) {
		t.Errorf("it printed %q, %v", text, err)
	}
	if _, err := store.db.Exec("DELETE FROM output"); err != nil {
		t.Fatal(err)
	}
	if _, err := past.Output(); err == nil || !strings.Contains(err.Error(), "no longer kept") {
		t.Errorf("an output that is gone: %v", err)
	}
	if _, err := store.db.Exec("UPDATE run SET bytes = 0"); err != nil {
		t.Fatal(err)
	}
	silent := rec.Fresh(p)
	if silent == nil {
		t.Fatal("it is not fresh any more")
	}
	if text, err := silent.Output(); err != nil || len(text) > 0 {
		t.Errorf("a run that printed nothing: %q, %v", text, err)
	}
	if _, err := store.db.Exec("DELETE FROM run"); err != nil {
		t.Fatal(err)
	}
	if rec.Fresh(p) != nil || len(told) != 1 || !strings.Contains(told[0], "is fresh, and runs again as its last run is not kept") {
		t.Errorf("without its last run it is fresh; told %q", told)
	}
	rec.Learned(j.Main, nil, fmt.Errorf("the trace broke"))
	if len(told) != 2 || told[1] != "the trace broke" {
		t.Errorf("told %q", told)
	}
}

// Damage in a row costs that row: the problems of a run count as unknown, and reading an output fails with the number of its run.
func TestDamageInARow(t *testing.T) {
	s := fresh(t)
	lives := []Lived{{Problem: problem.Problem{Message: "too hot", Family: "gnu"}, Seen: 1}}
	id, err := s.Add(Run{Task: "M#all", Command: "x", Start: time.Now(), End: time.Now(), State: "failed"}, lives, lives, "printed\n")
	if err != nil {
		t.Fatal(err)
	}
	k, err := s.KnownBefore("M#all", id+1)
	if err != nil || k.Run != id || len(k.Lives) != 1 {
		t.Fatalf("known is %+v, %v", k, err)
	}
	if k, err := s.KnownBefore("M#all", id); err != nil || k.Run != 0 || k.Lives != nil {
		t.Errorf("before the first run %+v is known, %v", k, err)
	}
	for _, q := range []string{"UPDATE standing SET data = x'1f8b08ff'", "UPDATE output SET data = 'clay'", "UPDATE gone SET problem = '{'"} {
		if _, err := s.db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	if k, err := s.KnownBefore("M#all", id+1); err != nil || k.Run != id || k.Lives != nil {
		t.Errorf("damaged, %+v is known, %v", k, err)
	}
	if lives, err := s.Lives(id); err != nil || lives != nil {
		t.Errorf("lives %v, %v", lives, err)
	}
	if _, _, ok, err := s.Output(id); ok || err == nil || !strings.Contains(err.Error(), fmt.Sprintf("output of run %d", id)) {
		t.Errorf("the output: %v, %v", ok, err)
	}
	if gone, err := s.GoneIn(id); err != nil || len(gone) != 0 {
		t.Errorf("gone: %v, %v", gone, err)
	}
	s.Close()
	if _, _, ok, err := s.Output(id); ok || err == nil {
		t.Errorf("of a closed store: %v, %v", ok, err)
	}
}

// A whole log is a run of its own: what it has no more is gone.
func TestALogIsARun(t *testing.T) {
	s := fresh(t)
	log := func(messages ...string) (words []string) {
		t.Helper()
		var found []problem.Problem
		for i, m := range messages {
			found = append(found, problem.Problem{Place: problem.Place{File: "a.c", Line: i + 1}, Message: m, Family: "gnu", Severity: problem.Error})
		}
		lives, err := s.AddLog(Run{Task: "log", Command: "sift", Start: time.Now(), End: time.Now(), State: "ok"}, found)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range lives {
			words = append(words, fmt.Sprintf("%s %s %d-%d %d", l.Problem.Message, l.State, l.First, l.Last, l.Seen))
		}
		return words
	}
	for i, c := range []struct {
		given []string
		want  string
	}{
		{[]string{"hot", "cold"}, "hot new 1-1 1, cold new 1-1 1"},
		{[]string{"hot", "wet"}, "hot still 1-2 2, wet new 2-2 1, cold gone 1-1 1"},
		{nil, "hot gone 1-2 2, wet gone 2-2 1"},
	} {
		if got := strings.Join(log(c.given...), ", "); got != c.want {
			t.Errorf("log %d: %s, want %s", i+1, got, c.want)
		}
	}
	runs, err := s.Runs(Wanted{})
	if err != nil || runs[1].Balance.New != 1 || runs[1].Balance.Still != 1 || runs[1].Balance.Gone != 1 || runs[1].Count.Errors != 2 {
		t.Errorf("the second log: %+v, %v", runs, err)
	}
}

// The runs beside one are those of its task that have ended.
func TestTheRunsBesideOne(t *testing.T) {
	s := fresh(t)
	for i := range 6 {
		r := aRun(0)
		if i == 3 {
			r.Task = "other"
		}
		if _, err := s.Add(r, nil, nil, ""); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.db.Exec(`UPDATE run SET "end" = NULL WHERE id = 5`); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ id, by, want int64 }{{1, -1, 0}, {1, 1, 2}, {3, 1, 6}, {6, -1, 3}, {6, 1, 0}, {3, -1, 2}} {
		r, err := s.Beside(aRun(0).Task, c.id, int(c.by))
		if got := int64(0); err != nil || (r != nil && r.ID != c.want) || (r == nil && got != c.want) {
			t.Errorf("beside %d by %d is %+v, %v; want %d", c.id, c.by, r, err, c.want)
		}
	}
	if _, err := s.NewestAt("abc"); err == nil {
		t.Error("three digits name a commit")
	}
	if r, err := s.NewestAt("abcdef"); err != nil || r.ID != 6 {
		t.Errorf("the newest at the commit is %d, %v", r.ID, err)
	}
	if _, err := s.NewestAt("abcdef9999"); err == nil || !strings.Contains(err.Error(), "nothing was run at commit") {
		t.Errorf("at another commit: %v", err)
	}
	if last, err := s.Last(); err != nil || len(last) != 2 || last["other"].ID != 4 || last[aRun(0).Task].ID != 6 {
		t.Errorf("the last runs are %+v, %v", last, err)
	}
	before := s.Version()
	if _, err := s.db.Exec(`UPDATE run SET "end" = 1 WHERE id = 5`); err != nil {
		t.Fatal(err)
	}
	if s.Version() == before {
		t.Error("the end of a run is no news")
	}
}

// A time is a day, a moment, or how long ago.
func TestTimesAsPeopleGiveThem(t *testing.T) {
	now := time.Date(2026, 3, 6, 17, 20, 0, 0, time.Local)
	for text, want := range map[string]time.Time{
		"2026-03-02": time.Date(2026, 3, 2, 0, 0, 0, 0, time.Local), "2026-03-02T09:30": time.Date(2026, 3, 2, 9, 30, 0, 0, time.Local), "2026-03-02 09:30": time.Date(2026, 3, 2, 9, 30, 0, 0, time.Local),
		"2026-03-02T09:30:00Z": time.Date(2026, 3, 2, 9, 30, 0, 0, time.UTC), "2d": now.Add(-48 * time.Hour), "0.5d": now.Add(-12 * time.Hour), "0d": now, "90m": now.Add(-90 * time.Minute), "1h30m": now.Add(-90 * time.Minute), "0s": now,
	} {
		if got, err := Since(text, now); err != nil || !got.Equal(want) {
			t.Errorf("%s is %s, %v; want %s", text, got, err, want)
		}
	}
	for _, text := range []string{"", "d", "-1d", "-3h", "monday", "2026-13-40", "3"} {
		if got, err := Since(text, now); err == nil {
			t.Errorf("%q is %s", text, got)
		}
	}
}
