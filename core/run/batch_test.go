package run

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/internal/testbatch"
	"tidytally/internal/testtree"
)

// TestMain names the batch system that a test starts, for the commands that ask it.
func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "tidytally-batch-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)
		os.Setenv("SLURM_CONF", filepath.Join(dir, "slurm.conf"))
		return m.Run()
	}())
}

func TestBatchSystem(t *testing.T) {
	t.Parallel()
	testbatch.Start(t, filepath.Dir(os.Getenv("SLURM_CONF")))
	t.Run("by its own command", atABatchSystem)
	t.Run("handed over", handedOver)
}

// Steps that run in a batch system, by its own command: their output, exit codes and signals are those of the jobs,
// and a stop leaves no job and no process.
func atABatchSystem(t *testing.T) {
	s := with(t, `
[place.batch]
run = ["srun", "--quiet"]
slots = 2
[task.good]
run = "echo job $SLURM_JOB_ID"
at = "batch"
[task.bad]
run = "exit 3"
at = "batch"
[task.dies]
run = "kill -TERM $$"
at = "batch"
[task.long]
run = "setsid sleep 71236 & echo started; sleep 71236"
at = "batch"
stop = { grace = "300ms" }
`, Options{})
	if snap := s.finish(s.start("good")); snap.State != OK || !strings.HasPrefix(printed(t, snap), "job ") {
		t.Errorf("good: %s %s", snap.Words(), printed(t, snap))
	}
	if snap := s.finish(s.start("bad")); snap.Code != 3 {
		t.Errorf("bad: %s", snap.Words())
	}
	if snap := s.finish(s.start("dies")); snap.Signal != "TERM" {
		t.Errorf("dies: %s", snap.Words())
	}
	job := s.start("long")
	eventually(t, "it has started", func() bool { return strings.Contains(printedSoFar(job), "started") })
	job.Main.Stop()
	<-job.Done()
	eventually(t, "no job and no process is left", func() bool {
		jobs, err := exec.Command("squeue", "-h").Output()
		return err == nil && len(jobs) == 0 && exec.Command("pgrep", "-f", "^sleep 71236$").Run() != nil
	})
}

// What a batch system has is the run's: its output, exit code and signal, its problems, what waits for it, and what it says when it ends a job by
// itself or takes none.
func handedOver(t *testing.T) {
	gate := testtree.Lay(t, map[string]string{"sbatch": "#!/bin/sh\n[ -e ${0%/*}/open ] || { echo 'sbatch: error: the gate is shut' >&2; exit 1; }\nexec sbatch \"$@\"\n"})
	if err := os.Chmod(filepath.Join(gate, "sbatch"), 0o755); err != nil {
		t.Fatal(err)
	}
	s := with(t, `
[place.batch]
run = ["sbatch"]
env = ["GLAZE"]
slots = 4
[place.shut]
run = ["sbatch", "--partition=nowhere"]
[place.away]
run = ["`+gate+`/sbatch"]
away = "wait"
[task.good]
run = "echo job $SLURM_JOB_ID; echo $PWD; echo a.c:3:5: error: odd >&2"
at = "batch"
[task.bad]
run = "printf 'no end'; exit 3"
at = "batch"
[task.dies]
run = "kill -KILL $$"
at = "batch"
[task.chain]
run = "cat made"
before = ["#one", "#two"]
at = "batch"
[task.one]
run = "until [ -e seen ]; do sleep 0.1; done; echo one >> made"
at = "batch"
[task.two]
run = "echo two >> made"
at = "batch"
[task.broken]
run = "echo never > never"
before = ["#bad"]
at = "batch"
[task.long]
run = "trap '' TERM; setsid sleep 71238 & echo started; sleep 71238"
at = "batch"
[task.behind]
run = "echo never > never"
before = ["#long"]
at = "batch"
[task.shut]
run = "echo never > never"
at = "shut"
[task.patient]
run = "echo at last"
at = "away"
[task.late]
run = "sleep 71239"
timeout = "1s"
at = "batch"
`, Options{})
	good := s.finish(s.start("good"))
	if text := printed(t, good); good.State != OK || !strings.HasPrefix(text, "job ") || !strings.Contains(text, "\n"+s.root+"\n") || len(good.Problems) != 1 || good.Problems[0].Line != 3 {
		t.Errorf("good: %s %q %v", good.Words(), text, good.Problems)
	}
	if snap := s.finish(s.start("bad")); snap.Code != 3 || printed(t, snap) != "no end" {
		t.Errorf("bad: %s %q", snap.Words(), printed(t, snap))
	}
	if snap := s.finish(s.start("dies")); snap.Signal != "KILL" || snap.Code != 137 {
		t.Errorf("dies: %s", snap.Words())
	}
	chain := s.start("chain")
	eventually(t, "that the engine waits", func() bool { return strings.Contains(chain.Main.Snapshot().WaitsFor, "Dependency") })
	testtree.Fill(t, s.root, map[string]string{"seen": ""})
	if snap := s.finish(chain); snap.State != OK || printed(t, snap) != "two\none\n" {
		t.Errorf("chain: %s %q", snap.Words(), printed(t, snap))
	}
	if snap := s.finish(s.start("broken")); snap.State != Skipped || snap.Blamed != "tidytally.toml#bad failed (3)" {
		t.Errorf("broken: %s %s", snap.Words(), snap.Blamed)
	}
	if snap := s.finish(s.start("shut")); snap.State != Failed || !strings.Contains(snap.Fault, "shut: ") || !strings.Contains(snap.Fault, "nvalid partition") {
		t.Errorf("shut: %s %q", snap.Words(), snap.Fault)
	}
	if snap := s.finish(s.start("late")); snap.State != Failed || !snap.TimedOut {
		t.Errorf("late: %s %q", snap.Words(), snap.Fault)
	}
	patient := s.start("patient")
	eventually(t, "the engine's words", func() bool { return patient.Main.Snapshot().WaitsFor == "away: the gate is shut" })
	testtree.Fill(t, gate, map[string]string{"open": ""})
	if snap := s.finish(patient); snap.State != OK || printed(t, snap) != "at last\n" {
		t.Errorf("patient: %s %q", snap.Words(), printed(t, snap))
	}
	behind := s.start("behind")
	eventually(t, "it has started", func() bool { return strings.Contains(printedBy(behind.Steps[0]), "started") })
	eventually(t, "its node", func() bool { return strings.HasPrefix(behind.Steps[0].words(), "running on ") })
	behind.Main.Stop()
	<-behind.Done()
	if first, last := behind.Steps[0].Snapshot(), behind.Main.Snapshot(); first.State != Stopped || first.Code == 0 || last.State != Stopped || last.Fault != "" {
		t.Errorf("stopped: %s %d, %s %s", first.Words(), first.Code, last.Words(), last.Fault)
	}
	long := s.start("long")
	eventually(t, "it has started", func() bool { return strings.Contains(printedBy(long.Main), "started") })
	if out, err := exec.Command("scancel", "--user=root").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if snap := s.finish(long); snap.State != Failed || !strings.Contains(snap.Fault, "CANCELLED") {
		t.Errorf("cancelled by hand: %s %q", snap.Words(), snap.Fault)
	}
	eventually(t, "no job and no process is left", func() bool {
		jobs, err := exec.Command("squeue", "-h").Output()
		return err == nil && len(jobs) == 0 && exec.Command("pgrep", "-f", "^sleep 7123[89]$").Run() != nil
	})
	if _, err := os.Stat(filepath.Join(s.root, "never")); err == nil {
		t.Error("what was not to run has run")
	}
	if left, err := filepath.Glob(filepath.Join(s.super.spools.Path(), "job-*")); err != nil || len(left) > 0 {
		t.Errorf("files are left: %q %v", left, err)
	}
}

func (r *Run) words() string {
	snap := r.Snapshot()
	return snap.Words()
}

// An answer of the engine is read as it is documented; what is none, or too large, is left out.
func TestQueueAnswers(t *testing.T) {
	all := readQueue("12|[3-9:3,20%4]|PENDING|Priority|\n12|2|RUNNING|None|kiln-7\n13|N/A|RUNNING|None|kiln-7\nnonsense\n14|0-99999999999|PENDING|\x1b[31mbad\x1b[0m|\n")
	for _, i := range []int{3, 6, 9, 20} {
		if all[element{"12", i}].why != "Priority" {
			t.Errorf("12_%d: %v", i, all[element{"12", i}])
		}
	}
	if s := all[element{"12", 2}]; s.state != "RUNNING" || s.node != "kiln-7" {
		t.Errorf("12_2: %v", s)
	}
	if s := all[element{"14", 5}]; strings.ContainsRune(s.why, '\x1b') {
		t.Errorf("%q", s.why)
	}
	if len(all) != 5+largestArray {
		t.Errorf("%d jobs", len(all))
	}
}

func FuzzQueueAnswers(f *testing.F) {
	f.Add("12|[3-9:3,20%4]|PENDING|Priority|\n12|2|RUNNING|None|kiln-7\n")
	f.Add("1|0-0,-1,5-|x|y|z")
	f.Fuzz(func(t *testing.T, out string) {
		for e, s := range readQueue(out) {
			if e.index < 0 || e.index >= largestArray {
				t.Errorf("index %d", e.index)
			}
			if strings.ContainsAny(s.state+s.why+s.node, "\x1b\x07\r") {
				t.Errorf("%q", s)
			}
		}
	})
}
