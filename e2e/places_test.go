package e2e

import (
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/internal/testbatch"
	"tidytally/internal/testtree"
)

var suiteFiles = flag.Int("files", 30, "the files of the suite that goes to a batch system")

// withBatch returns a call of the program that knows a batch system and keeps its state in a folder.
func withBatch(conf, dir, state string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "SLURM_CONF="+filepath.Join(conf, "slurm.conf"), "XDG_STATE_HOME="+state)
	return cmd
}

// A suite goes to a batch system as an array. The program is killed in the middle; started again, it takes up what went on: all results, each once,
// and the problems of a run here.
func TestABatchSystemGoesOn(t *testing.T) {
	t.Parallel()
	conf := testtree.Folder(t)
	testbatch.Start(t, conf)
	files := *suiteFiles
	var tally strings.Builder
	tally.WriteString("[place.batch]\nrun = [\"sbatch\"]\nslots = 2\n[task.suite]\nbefore = [")
	for i := range files {
		fmt.Fprintf(&tally, "\"#f%d\",", i)
	}
	tally.WriteString("]\n")
	for i := range files {
		fmt.Fprintf(&tally, "[task.f%[1]d]\nrun = \"echo f%[1]d.c:%[1]d1:2: error: odd; echo >> ran%[1]d\"\n", i)
	}
	dir := testtree.Lay(t, map[string]string{"tidytally.toml": tally.String()})
	started := func(state string, args ...string) *exec.Cmd { return withBatch(conf, dir, state, args...) }
	results := func(state string) map[string]string {
		out, err := started(state, "history", "--json", "--steps", "--limit", "0").Output()
		if err != nil {
			t.Fatal(err)
		}
		var all struct{ Runs []map[string]any }
		if err := json.Unmarshal(out, &all); err != nil {
			t.Fatal(err)
		}
		got := map[string]string{}
		for _, r := range all.Runs {
			name := fmt.Sprint(r["task"])
			if got[name] != "" {
				t.Errorf("%s is there twice", name)
			}
			got[name] = fmt.Sprint(r["state"], r["exit"], r["errors"], r["new"], r["bytes"])
		}
		return got
	}
	here, there := filepath.Join(t.TempDir(), "here"), filepath.Join(t.TempDir(), "there")
	if out, err := started(here, "run", "suite").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	for i := range files {
		if err := os.Remove(filepath.Join(dir, fmt.Sprintf("ran%d", i))); err != nil {
			t.Fatal(err)
		}
	}
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), strings.ReplaceAll(tally.String(), "]\nrun = \"echo", "]\nat = \"batch\"\nrun = \"echo"))
	first := started(there, "run", "suite")
	if err := first.Start(); err != nil {
		t.Fatal(err)
	}
	until := func(what string, so func() bool) {
		t.Helper()
		for deadline := time.Now().Add(patience); !so(); time.Sleep(20 * time.Millisecond) {
			if time.Now().After(deadline) {
				t.Fatalf("%s did not happen", what)
			}
		}
	}
	ran := func() int {
		names, err := filepath.Glob(filepath.Join(dir, "ran*"))
		if err != nil {
			t.Fatal(err)
		}
		return len(names)
	}
	until("the tenth file", func() bool { return ran() >= 10 })
	_ = first.Process.Kill() // it has not ended: not all files were run
	_ = first.Wait()
	if ran() == files {
		t.Fatal("all had run when it was killed")
	}
	until("ten more, without it", func() bool { return ran() >= 20 })
	out, err := started(there, "resume").CombinedOutput()
	if err != nil || strings.Count(string(out), " ok after ") != files {
		t.Errorf("%v\n%.2000s", err, out)
	}
	got, want := results(there), results(here)
	for name, result := range want {
		if got[name] != result {
			t.Errorf("%s: %q there, %q here", name, got[name], result)
		}
	}
	if len(got) != len(want) || len(got) < files {
		t.Errorf("%d results there, %d here", len(got), len(want))
	}
	for i := range files {
		if text, err := os.ReadFile(filepath.Join(dir, fmt.Sprintf("ran%d", i))); string(text) != "\n" {
			t.Errorf("file %d ran otherwise than once: %q %v", i, text, err)
		}
	}
	if out, err := started(there, "resume").CombinedOutput(); err != nil || !strings.Contains(string(out), "nothing goes on at a batch system") {
		t.Errorf("%v %s", err, out)
	}
}

// The interface takes up what went on, shows where it runs, and stops it.
func TestTheInterfaceTakesUpJobs(t *testing.T) {
	conf, there := testtree.Folder(t), testtree.Folder(t)
	testbatch.Start(t, conf)
	dir := testtree.Folder(t)
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), "[place.batch]\nrun = [\"sbatch\"]\n[task.long]\nrun = \"echo fires up; sleep 600\"\nat = \"batch\"\n")
	cmd := withBatch(conf, dir, there, "run", "long")
	lines, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(lines, make([]byte, len("fires up"))); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	s := start(t, dir, 142, 38, "SLURM_CONF="+filepath.Join(conf, "slurm.conf"), "XDG_STATE_HOME="+there)
	s.waitFor("taken up: long", "running on ")
	s.keys("o")
	s.waitFor("fires up")
	s.keys("x")
	s.waitFor("stopped")
	s.keys("q")
	s.waitFor("exit 0")
	if out, err := withBatch(conf, dir, there, "resume").CombinedOutput(); err != nil || !strings.Contains(string(out), "nothing goes on at a batch system") {
		t.Errorf("%v %s", err, out)
	}
}
