package run

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"tidytally/core/learn"
	"tidytally/internal/testtree"
)

// learner keeps what the supervisor says of watched runs.
type learner struct {
	mu    sync.Mutex
	known *learn.Known
	err   error
}

func (l *learner) take(_ *Run, k *learn.Known, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.known, l.err = k, err
}

// watching makes a setting in which each run is watched.
func watching(t *testing.T, toml string) (*setting, *learner) {
	t.Helper()
	if _, err := tracer(); err != nil {
		t.Skip(err)
	}
	l := &learner{}
	return with(t, toml, Options{Learn: true, Learned: l.take}), l
}

// A watched run prints, ends and dies as one that is not; what it started may outlive it.
func TestAWatchedRunIsTheSame(t *testing.T) {
	t.Parallel()
	const toml = `
[task.prints]
run = "echo out; echo err >&2; exit 3"
[task.dies]
run = "kill -TERM $$"
[task.makes]
run = ["make", "-f", "nothere"]
[task.daemon]
run = "sleep 60 & echo started"
[task.gone]
run = ["no-such-program"]
`
	plain := with(t, toml, Options{})
	watched, _ := watching(t, toml)
	for _, name := range []string{"prints", "dies", "makes", "daemon", "gone"} {
		want, got := plain.finish(plain.start(name)), watched.finish(watched.start(name))
		if got.State != want.State || got.Code != want.Code || got.Signal != want.Signal || got.Fault != want.Fault {
			t.Errorf("%s: %s %d %s %q, unwatched %s %d %s %q", name, got.State, got.Code, got.Signal, got.Fault, want.State, want.Code, want.Signal, want.Fault)
		}
		if want.Spool != "" && printed(t, got) != printed(t, want) {
			t.Errorf("%s printed %q, unwatched %q", name, printed(t, got), printed(t, want))
		}
	}
}

// Of a build in C, after each of many edits: it is never said to be fresh when make would do something
// or a clean build would give something else, and it is said to be stale for a reason.
func TestFreshnessOfABuildAgainstMake(t *testing.T) {
	t.Parallel()
	s, l := watching(t, "[task.build]\nrun = [\"make\"]\n")
	files := map[string]string{
		"Makefile":   "CFLAGS = -O0 -Iinc -Isrc\nprog: a.o b.o\n\t$(CC) -o $@ a.o b.o\n%.o: src/%.c inc/one.h\n\t$(CC) $(CFLAGS) -c -o $@ $<\n",
		"src/a.c":    "#include <one.h>\n#include <two.h>\nint b(void);\nint main(void) { return ONE + TWO + b(); }\n",
		"src/b.c":    "#include <one.h>\nint b(void) { return ONE; }\n",
		"inc/one.h":  "#define ONE 1\n",
		"src/two.h":  "#define TWO 2\n", // which the makefile does not know
		"README.txt": "nothing of it\n",
	}
	testtree.Fill(t, s.root, files)
	build := func() {
		t.Helper()
		if snap := s.finish(s.start("build")); snap.State != OK || l.err != nil || l.known == nil {
			t.Fatalf("%s, %v\n%s", snap.Words(), l.err, printed(t, snap))
		}
	}
	text := func() learn.Setting {
		p, err := s.super.ctx.Prepare(s.tasks[0], nil)
		if err != nil {
			t.Fatal(err)
		}
		return p.Setting()
	}
	path := func(name string) string { return filepath.Join(s.root, name) }
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(path(name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	later := func(name string) {
		now := time.Now()
		if err := os.Chtimes(path(name), now, now); err != nil {
			t.Fatal(err)
		}
	}
	quiet := func() bool { // make has nothing to do
		cmd := exec.Command("make", "-q")
		cmd.Dir = s.root
		return cmd.Run() == nil
	}
	build()
	build() // now nothing needs doing
	for i, c := range []struct {
		what  string
		edit  func()
		fresh bool
	}{
		{"nothing", func() {}, true},
		{"a file that nobody reads", func() { write("README.txt", "more\n") }, true},
		{"a source touched", func() { later("src/a.c") }, false},
		{"a source changed", func() { write("src/b.c", "#include <one.h>\nint b(void) { return ONE + 1; }\n"); later("src/b.c") }, false},
		{"a header changed", func() { write("inc/one.h", "#define ONE 3\n"); later("inc/one.h") }, false},
		{"a header that the makefile does not know", func() { write("src/two.h", "#define TWO 4\n") }, false},
		{"a header that shadows another", func() { write("inc/two.h", "#define TWO 5\n") }, false},
		{"the header away again", func() { os.Remove(path("inc/two.h")) }, false},
		{"an object gone", func() { os.Remove(path("a.o")) }, false},
		{"the program changed", func() { write("prog", "broken") }, false},
		{"a flag changed", func() { write("Makefile", strings.Replace(files["Makefile"], "-O0", "-O1", 1)) }, false},
		{"nothing at the end", func() {}, true},
	} {
		c.edit()
		reasons, unknown := l.known.Differs(s.root, text())
		fresh := len(reasons) == 0 && unknown == ""
		if fresh && !quiet() {
			t.Errorf("%d, %s: said to be fresh, and make would do something", i, c.what)
		}
		if fresh != c.fresh {
			t.Errorf("%d, %s: fresh %v: %v %s", i, c.what, fresh, reasons, unknown)
		}
		if !fresh {
			for _, o := range []string{"a.o", "b.o", "prog"} { // as a clean run: the makefile does not know it all
				os.Remove(path(o))
			}
			build()
		}
	}
	other := text()
	other.Command = learn.HashOf("make -j4")
	if reasons, _ := l.known.Differs(s.root, other); fmt.Sprint(reasons) != "[the command is another one]" {
		t.Errorf("another command: %v", reasons)
	}
}

// What used the network or wrote outside of the workspace is never fresh.
func TestWhatIsNeverFresh(t *testing.T) {
	t.Parallel()
	outside := filepath.Join(testtree.Folder(t), "out")
	if strings.HasPrefix(outside, os.TempDir()) {
		home, err := os.UserHomeDir()
		if err != nil {
			t.Skip(err)
		}
		dir, err := os.MkdirTemp(home, "tidytally-test-")
		if err != nil {
			t.Skip(err)
		}
		defer os.RemoveAll(dir)
		outside = filepath.Join(dir, "out")
	}
	s, l := watching(t, "[task.writes]\nrun = \"echo x > "+outside+"\"\n[task.connects]\nrun = [\"bash\", \"-c\", \"(exec 3<>/dev/tcp/127.0.0.1/9) 2>/dev/null; true\"]\n[task.fine]\nrun = \"cat in > out\"\n")
	testtree.Fill(t, s.root, map[string]string{"in": "a\n"})
	s.finish(s.start("writes"))
	if l.err != nil || l.known == nil || !strings.Contains(l.known.Never, "outside of the workspace") {
		t.Errorf("%+v, %v", l.known, l.err)
	}
	s.finish(s.start("connects"))
	if l.err != nil || l.known == nil || l.known.Never != "it used the network" {
		t.Errorf("%+v, %v", l.known, l.err)
	}
	s.finish(s.start("fine"))
	if l.err != nil || l.known == nil || l.known.Never != "" || fmt.Sprint(l.known.Files(learn.Made)) != "[out]" || fmt.Sprint(l.known.Files(learn.Read)) != "[. in]" && fmt.Sprint(l.known.Files(learn.Read)) != "[in]" {
		t.Errorf("%+v, %v", l.known, l.err)
	}
}
