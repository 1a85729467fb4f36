package run

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// A task that runs after another one knows how that ended.
func TestAfterKnowsTheStatus(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.main]\nrun = \"exit 7\"\nafter = [\"#then\"]\n[task.then]\nrun = \"echo status $TIDYTALLY_STATUS\"\n", Options{})
	j := s.start("main")
	s.finish(j)
	<-j.Done()
	if got := outputOf(t, j.Steps[len(j.Steps)-1]); got != "status 7\n" {
		t.Errorf("it prints %q", got)
	}
}

// A task of the user's own shell knows what its start-up files set.
func TestLoginShell(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("SHELL", "/bin/bash")
	if err := os.WriteFile(filepath.Join(home, ".bash_profile"), []byte("alias fire='echo fired'\ncool() { echo \"cooled $1\"; }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	s := with(t, "[task.own]\nrun = \"fire at 10; cool 'to 20'\"\nlogin = true\n[task.plain]\nrun = \"cool\"\n", Options{Terminal: true, Cols: 80, Rows: 24})
	j := s.start("own")
	if got := s.finish(j); got.Code != 0 {
		t.Errorf("exit %d", got.Code)
	}
	if got := strings.ReplaceAll(outputOf(t, j.Main), "\r\n", "\n"); got != "fired at 10\ncooled to 20\n" {
		t.Errorf("it prints %q", got)
	}
	if got := s.finish(s.start("plain")); got.Code != CodeNotFound {
		t.Errorf("without: exit %d", got.Code)
	}
}

// outputOf returns the output of a run.
func outputOf(t *testing.T, r *Run) string {
	t.Helper()
	data, err := os.ReadFile(r.Snapshot().Spool)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// cracked is a recorder that panics whatever it is told.
type cracked struct{}

func (cracked) Began(*Run)            { panic("cracked at the beginning") }
func (cracked) Ended(*Run)            { panic("cracked at the end") }
func (cracked) Finish()               { panic("cracked when finished") }
func (cracked) Fresh(*Prepared) *Past { panic("cracked before") }

// A recorder that panics costs no run: it says that it is not kept.
func TestARecorderThatPanics(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	s := with(t, "[task.bake]\nrun = \"echo baked; exit 3\"\n[task.skips]\nrun = \"echo ran\"\nskip = \"fresh\"\nreads = [\"*\"]\n", Options{Recorder: cracked{}})
	for name, want := range map[string]string{"bake": "baked\n", "skips": "ran\n"} {
		j := s.start(name)
		got := s.finish(j)
		if !strings.Contains(got.Fault, "in the history: cracked") || outputOf(t, j.Main) != want || name == "bake" && got.Code != 3 {
			t.Errorf("%s: %q, exit %d, %q", name, outputOf(t, j.Main), got.Code, got.Fault)
		}
	}
}

// Keys for a task that does not read wait, up to a bound, and nobody waits for them; the task gets them all, in
// order, when it reads.
func TestKeysThatAreNotRead(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.slow]\nrun = \"stty raw -echo; echo ready; while ! test -e go; do sleep 0.05; done; head -c 40000 | cksum\"\n[task.never]\nrun = \"echo ready; sleep 100\"\n", Options{Terminal: true, Cols: 80, Rows: 24})
	ready := func(name string) *Job {
		j := s.start(name)
		eventually(t, name+" is ready", func() bool { return j.Main.Snapshot().Bytes > 0 })
		return j
	}
	slow := ready("slow")
	text := strings.Repeat("0123456789abcdef", 2500)
	if err := slow.Main.Type([]byte(text[:24_000])); err != nil {
		t.Fatal(err)
	}
	if err := slow.Main.Type([]byte(text[24_000:])); err != nil {
		t.Fatal(err)
	}
	if n := slow.Main.Unread(); n == 0 {
		t.Error("nothing waits, though nothing was read")
	}
	if err := os.WriteFile(filepath.Join(s.root, "go"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	s.finish(slow)
	want, err := exec.Command("sh", "-c", "printf %s '"+text+"' | cksum").Output()
	if err != nil {
		t.Fatal(err)
	}
	if got := outputOf(t, slow.Main); !strings.Contains(got, strings.TrimSpace(string(want))) {
		t.Errorf("it read %q, want %q", got, want)
	}
	never := ready("never")
	err = never.Main.Type(bytes.Repeat([]byte("x"), 2*maxUnread))
	if err == nil || !strings.Contains(err.Error(), "never does not read what is typed") {
		t.Errorf("too many keys: %v", err)
	}
	never.Main.Stop()
	s.finish(never)
	if err := never.Main.Type([]byte("x")); err != ErrNoTerminal {
		t.Errorf("after the end: %v", err)
	}
}

// A run that is stopped in the midst of a later pass has the problems of that pass, and ends.
func TestStoppedInALaterPass(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.build]\nrun = \"cat log; test -e slow && sleep 100\"\nrerun_on = [\"src\"]\n", Options{})
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(s.root, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("log", "a.c:1:1: error: one\nb.c:1:1: error: two\n")
	write("src", "")
	j := s.start("build")
	eventually(t, "the first pass is over", func() bool { return j.Main.Snapshot().State == Watching })
	write("log", "c.c:1:1: error: three\n")
	write("slow", "")
	write("src", "changed")
	eventually(t, "the second pass goes on", func() bool {
		got := j.Main.Snapshot()
		return got.Pass() == 2 && got.State == Running && len(got.Problems) == 1
	})
	j.Main.Stop()
	got := s.finish(j)
	if got.State != Stopped || len(got.Problems) != 1 || got.Problems[0].Message != "three" {
		t.Errorf("%s with %v", got.State, got.Problems)
	}
}

// What a background child prints after its parent's end is kept, as long as it is never silent for long; what goes on
// for ever is cut, and that is said.
func TestOutputOfWhatIsLeftBehind(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.some]\nrun = \"(i=0; while [ $i -lt 12 ]; do sleep 0.04; i=$((i+1)); echo late $i; done) & echo first\"\n[task.ever]\nrun = \"(while :; do echo more; sleep 0.01; done) & echo first\"\n[task.quiet]\nrun = \"sleep 100 & echo first\"\n", Options{})
	const tries = 5 // on a busy machine a child may be silent for long enough
	j, whole := s.start("some"), false
	for range tries {
		if got := s.finish(j); got.Fault != "" {
			t.Errorf("%q", got.Fault)
		}
		if whole = strings.Contains(outputOf(t, j.Main), "late 12\n"); whole {
			break
		}
		j = s.start("some")
	}
	if !whole {
		t.Errorf("%q", outputOf(t, j.Main))
	}
	for range tries {
		j = s.start("ever")
		got := s.finish(j)
		if strings.Contains(got.Fault, "its output was cut 5 s after its end") && got.State == OK {
			break
		}
		if got.Fault != "" || got.Ended.Sub(got.Started) > mostOfOutput {
			t.Fatalf("%s, %q", got.State, got.Fault)
		}
	}
	j = s.start("quiet")
	s.finish(j)
	if left := j.Main.Leftovers(); len(left) != 1 || !strings.HasPrefix(left[0], "sleep (") {
		t.Errorf("left behind: %q", left)
	}
	j.Main.Stop()
	eventually(t, "all that was left has ended", func() bool { return !j.Main.HasLeftovers() })
}
