package run

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/renameio/v2"
)

// write writes a file by rename, as editors do.
func (s *setting) write(name, text string) {
	s.t.Helper()
	full := filepath.Join(s.root, name)
	if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
		s.t.Fatal(err)
	}
	if err := renameio.WriteFile(full, []byte(text), 0o644); err != nil {
		s.t.Fatal(err)
	}
}

// settled waits until a run has so many passes behind the first one, and is in a state.
func settled(t *testing.T, r *Run, passes int, want State) Snapshot {
	t.Helper()
	eventually(t, fmt.Sprintf("pass %d, %s", passes, want), func() bool {
		s := r.Snapshot()
		return len(s.Passes) == passes && s.State == want
	})
	return r.Snapshot()
}

// A build is run again when what it reads changes, not when what it makes does; a program
// that is built is started anew when the result changes, and not when it is the same as
// before. Problems are those of the newest pass.
func TestRunAgainOnChange(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.build]
run = "grep -Hn wrong src/*.c | sed 's/:wrong/:1: error: wrong/'; ! grep -q wrong src/*.c && cat src/*.c > out/prog"
in = "part"
rerun_on = ["src/**/*.c", "out/*"]
makes = ["out/**"]
[task.serve]
run = "echo serving; cat out/prog; exec sleep 600"
in = "part"
rerun_on = ["out/prog"]
long_running = true
ready = "serving"
before = ["#build"]
[task.dev]
with = ["#build", "#serve"]
`, Options{})
	s.write("part/src/a.c", "wrong\n")
	s.write("part/out/keep", "")
	j := s.start("dev")
	build, serve := j.Steps[0], j.Steps[1]
	if got := settled(t, build, 0, Watching); got.Words() != "failed (1), watching" || len(got.Problems) != 1 || got.Problems[0].File != "part/src/a.c" {
		t.Fatalf("the first pass: %s, %v", got.Words(), got.Problems)
	}
	if got := says(serve); got != "waits for tidytally.toml#build to be up" {
		t.Errorf("the program: %s", got)
	}
	s.write("part/src/a.c", "one\n")
	got := settled(t, build, 1, Watching)
	if got.Words() != "ok, watching" || len(got.Problems) != 0 || len(got.Before) != 1 || strings.Join(got.Passes[0].Changed, " ") != "part/src/a.c" {
		t.Errorf("after the fix: %s, %v, before %v, for %v", got.Words(), got.Problems, got.Before, got.Passes)
	}
	settled(t, serve, 0, Up)

	// A new folder is watched too; the program follows.
	s.write("part/src/deep/er/b.c", "two\n")
	settled(t, build, 2, Watching)
	s.write("part/src/b.c", "two\n")
	settled(t, build, 3, Watching)
	settled(t, serve, 1, Up)
	eventually(t, "its output", func() bool { return printed(t, serve.Snapshot()) == "serving\none\nserving\none\ntwo\n" })
	// The result is written again as it was: the program goes on.
	s.write("part/src/deep/er/b.c", "other\n")
	settled(t, build, 4, Watching)
	// A problem of a later pass has its place in the whole output.
	s.write("part/src/b.c", "wrong\n")
	got = settled(t, build, 5, Watching)
	if len(got.Problems) != 1 || got.Problems[0].Output.StartByte != got.Passes[4].StartByte {
		t.Errorf("a later problem: %+v", got.Problems)
	}
	if len(serve.Snapshot().Passes) != 1 {
		t.Errorf("the program was started again for %v", serve.Snapshot().Passes)
	}
	j.Main.Stop()
	s.finish(j)
	if states(j) != "build stopped, serve stopped, dev stopped" {
		t.Errorf("in the end: %s", states(j))
	}
}

// A check that runs is finished before it begins anew, and anything else is ended.
func TestWhatRunsIsFinishedOrEnded(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.check]
run = "echo begin; cat gate > /dev/null; echo end"
kind = "check"
rerun_on = ["a.txt"]
[task.build]
run = "echo begin; cat gate > /dev/null; echo end"
kind = "build"
rerun_on = ["b.txt"]
`, Options{})
	open := s.gate("gate")
	check, build := s.start("check").Main, s.start("build").Main
	for _, r := range []*Run{check, build} {
		eventually(t, "the beginning", func() bool { s := r.Snapshot(); return s.Spool != "" && printed(t, s) == "begin\n" })
	}
	s.write("a.txt", "1")
	s.write("b.txt", "1")
	settled(t, build, 1, Running)
	eventually(t, "the beginning again", func() bool { return printed(t, build.Snapshot()) == "begin\nbegin\n" })
	build.Stop()
	<-build.Done()
	if got := check.Snapshot(); got.State != Running || len(got.Passes) != 0 {
		t.Errorf("the check is %s", got.Words())
	}
	open("gate")
	settled(t, check, 1, Running)
	open("gate")
	if got := settled(t, check, 1, Watching); printed(t, got) != "begin\nend\nbegin\nend\n" {
		t.Errorf("the check printed %q", printed(t, got))
	}
	check.Stop()
	<-check.Done()
}

// A task that changes its own input each time is told, and runs ever more rarely; a file that
// changes all the time does not keep a task from its end.
func TestTasksThatChaseTheirTail(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.tail]
run = "echo x >> in.txt"
rerun_on = ["in.txt"]
[task.slow]
run = "sleep 0.3; echo done >> log"
kind = "build"
rerun_on = ["busy.txt"]
`, Options{})
	s.write("in.txt", "")
	tail := s.start("tail").Main
	eventually(t, "the advice", func() bool {
		return strings.Contains(tail.Snapshot().Fault, "tidytally.toml#tail changes in.txt itself, it seems; name what it writes in makes")
	})
	n := len(tail.Snapshot().Passes)
	if n > 3*(patience+1) { // on a busy machine a change may be seen so late that it counts as another's
		t.Errorf("%d passes before it was told", n)
	}
	eventually(t, "a pass behind the pause", func() bool { return len(tail.Snapshot().Passes) > n })
	tail.Stop()
	<-tail.Done()

	slow := s.start("slow").Main
	over := make(chan struct{})
	go func() {
		defer close(over)
		for i := 0; ; i++ {
			select {
			case <-slow.Done():
				return
			case <-time.After(10 * time.Millisecond):
				if err := os.WriteFile(filepath.Join(s.root, "busy.txt"), []byte(fmt.Sprint(i)), 0o644); err != nil {
					t.Error(err)
				}
			}
		}
	}()
	eventually(t, "the end of a pass", func() bool {
		data, _ := os.ReadFile(filepath.Join(s.root, "log"))
		return len(data) > 0
	})
	slow.Stop()
	<-slow.Done()
	<-over
}

// Run once, a task ends as any other.
func TestOnce(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.build]\nrun = \"echo built\"\nrerun_on = [\"*.c\"]\n[task.all]\nrun = \"true\"\nbefore = [\"#build\"]\n", Options{Once: true})
	j := s.start("all")
	if s.finish(j); states(j) != "build ok, all ok" {
		t.Errorf("got %s", states(j))
	}
}

// With rerun_on = "learned" a task runs again when what its last run read changes: also what it reads
// only since then, what it looked for and was not there, and names in a folder that it listed. After a
// failure, too. What it does not read, and what it makes, begin nothing.
func TestRunAgainOnWhatWasLearned(t *testing.T) {
	t.Parallel()
	if _, err := tracer(); err != nil {
		t.Skip(err)
	}
	s := with(t, `
[task.build]
run = "cat part/a.h > out; for f in part/more/*; do cat $f >> out; done; if [ -f extra/x.h ]; then cat extra/x.h extra/y.h >> out; fi; ! grep -q wrong out"
rerun_on = "learned"
`, Options{})
	s.write("part/a.h", "one\n")
	s.write("part/more/1", "")
	s.write("other", "")
	build := s.start("build").Main
	passes := 0
	settled(t, build, passes, Watching)
	for _, c := range []struct {
		name, text string
		words      string // how the next pass ends; "" if there is none
	}{
		{"other", "changed\n", ""},
		{"part/a.h", "two\n", "ok, watching"},
		{"part/more/2", "more\n", "ok, watching"},
		{"extra/x.h", "x\n", "ok, watching"}, // y.h is not there, which says cat, but not the exit code
		{"extra/y.h", "wrong\n", "failed (1), watching"},
		{"extra/y.h", "right\n", "ok, watching"},
		{"out", "what it makes\n", ""},
		{"part/more/1", "1\n", "ok, watching"},
	} {
		s.write(c.name, c.text)
		if c.words == "" {
			continue // the next one would find a pass too many
		}
		passes++
		snap := settled(t, build, passes, Watching)
		if got := snap.Words(); got != c.words {
			t.Errorf("%s: %s, want %s\n%s", c.name, got, c.words, printed(t, snap))
		}
		if got := snap.Passes[passes-1].Changed; len(got) != 1 || got[0] != c.name && got[0] != "extra" {
			t.Errorf("%s: pass %d as %q changed", c.name, passes, got)
		}
	}
	build.Stop()
	<-build.Done()
}

// slowKeeper is a recorder that takes its time for the end of a pass.
type slowKeeper struct {
	mu            sync.Mutex
	told          []string
	ending, ended chan struct{}
}

func (k *slowKeeper) note(what string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.told = append(k.told, what)
}

func (k *slowKeeper) Began(*Run)            { k.note("began") }
func (k *slowKeeper) Fresh(*Prepared) *Past { return nil }
func (k *slowKeeper) Finish()               {}
func (k *slowKeeper) Ended(*Run) {
	k.ending <- struct{}{}
	<-k.ended
	k.note("ended")
}

// The end of a pass is recorded before the next one begins, and before the run ends, however long that takes.
func TestThePassBeforeIsRecordedFirst(t *testing.T) {
	t.Parallel()
	keeper := &slowKeeper{ending: make(chan struct{}), ended: make(chan struct{})}
	s := with(t, "[task.again]\nrun = \"cat in.txt\"\nrerun_on = [\"in.txt\"]\n", Options{Recorder: keeper})
	s.write("in.txt", "one\n")
	r := s.start("again").Main
	<-keeper.ending
	s.write("in.txt", "two\n")
	time.Sleep(300 * time.Millisecond) // in which the next pass would begin
	if n := len(r.Snapshot().Passes); n > 0 {
		t.Errorf("pass %d began while the first was recorded", n+1)
	}
	keeper.ended <- struct{}{}
	<-keeper.ending
	r.Stop()
	select {
	case <-r.Done():
		t.Error("the run has ended while its last pass is recorded")
	case <-time.After(300 * time.Millisecond):
	}
	keeper.ended <- struct{}{}
	<-r.Done()
	keeper.mu.Lock()
	defer keeper.mu.Unlock()
	if got := strings.Join(keeper.told, " "); got != "began ended began ended" {
		t.Errorf("told: %s", got)
	}
}

// A run that is stopped while a pass of it comes to its end, ends.
func TestStoppedAtTheEndOfAPass(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.build]\nrun = \"cat log\"\nrerun_on = [\"src\"]\n", Options{})
	s.write("log", "a.c:1:1: error: one\n")
	s.write("src", "")
	for range 20 {
		j := s.start("build")
		r := j.Main
		r.recording.Lock() // the end of a pass waits for it
		eventually(t, "its end", func() bool {
			r.sift.sieving.Lock()
			defer r.sift.sieving.Unlock()
			return r.sift.closed || r.stateNow() == Watching
		})
		r.Stop()
		for range 10_000 { // whoever waits to be told is told
			runtime.Gosched()
		}
		r.recording.Unlock()
		if got := s.finish(j); !got.State.Ended() || len(got.Problems) != 1 {
			t.Fatalf("%s with %v", got.Words(), got.Problems)
		}
	}
}
