package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"tidytally/demo"
)

// ranJSON is what history --json says of runs.
type ranJSON struct {
	Runs []struct {
		ID                int
		Task, State, Role string
		Args              []string
		Exit, New, Gone   int
	}
}

// history asks for the runs of a workspace.
func history(t *testing.T, dir, state string, args ...string) ranJSON {
	t.Helper()
	cmd := exec.Command(program, append([]string{"history", "--json"}, args...)...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+state)
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("history: %v", err)
	}
	var got ranJSON
	if err := json.Unmarshal(out, &got); err != nil {
		t.Fatalf("%v in %s", err, out)
	}
	return got
}

// Runs with arguments, keeps them under a name, and finds them, the run, its output and its
// problems tomorrow: the balance goes on where it was.
func TestTomorrow(t *testing.T) {
	state := t.TempDir()
	s := start(t, workspace(t), 142, 38, "XDG_STATE_HOME="+state)
	s.waitFor("usual kiln#controller")
	s.find("name:controller")
	s.waitFor("1 of")
	s.keys("a")
	s.typeText("BOARD=mk1")
	s.waitFor("make controller BOARD=mk1")
	s.keys("C-s")
	s.waitFor("keep as")
	s.typeText("first board")
	s.keys("Enter")
	s.waitFor("kept as first board")
	s.keys("Enter")
	s.waitFor("failed (2)", "before 0 · new 3 · gone 0 · now 3")
	s.keys("q")
	s.waitFor("exit 0")
	if err := demo.Fixes[0].Apply(s.dir); err != nil {
		t.Fatal(err)
	}

	s.again("XDG_STATE_HOME=" + state)
	s.waitFor("usual kiln#controller", "failed (2)")
	s.find("name:controller")
	s.waitFor("1 of")
	s.keys("a")
	s.waitFor("arguments", "first board")
	s.keys("C-t")
	seen := s.waitFor("Which arguments?", "first board", "BOARD=mk1")
	l, _ := line(t, seen, "first board")
	s.keys(strings.Fields(l)[0])
	s.waitFor("make controller BOARD=mk1")
	s.keys("Enter")
	s.waitFor("before 3 · new 0 · gone 1 · now 2")
	s.keys("y")
	s.waitFor("tally of kiln#controller", "elapsed") // gone: struck through
	s.keys("H")
	seen = s.waitFor("history", "2 of 2 runs shown", "today", "BOARD=mk1", "+0 -1", "+3 -0", "of 2 runs")
	if l, _ := line(t, seen, "+3 -0"); !strings.Contains(l, "kiln#controller") || !strings.Contains(l, "failed (2)") {
		t.Errorf("the first run reads %q", l)
	}
	s.keys("Down", "Enter")
	s.waitFor("output of kiln#controller", "unused variable", "before 0 · new 3 · gone 0 · now 3")
	s.keys("y")
	s.waitFor("tally of kiln#controller", "23:27", "39:26")
	s.keys("H", "=", "Down")
	s.waitFor("run 2 against run 1", "2, before 3: 0 new, 1 gone", "parts at line")
	s.keys("Escape")
	s.waitFor("of processor time") // no longer compared
	s.keys("/")
	s.typeText("is:ok")
	s.waitFor("find is:ok", "0 of 2 runs shown", "Nothing matches the filter")
	s.keys("Escape")
	s.waitFor("2 of 2 runs shown")
	s.keys("r")
	s.waitFor("3 of 3 runs shown")
	if runs := history(t, s.dir, state).Runs; len(runs) != 3 || strings.Join(runs[0].Args, " ") != "BOARD=mk1" || runs[1].Gone != 1 {
		t.Errorf("on the command line: %+v", runs)
	}
}

// A run shows how much of the usual time is over, and says so when it takes longer; a
// server says since when it is up.
func TestProgress(t *testing.T) {
	state := t.TempDir()
	dir := t.TempDir()
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), `[task.prepare]
run = "sleep $(cat seconds)"
[task.serve]
run = "echo ready; exec sleep 600"
long_running = true
ready = "ready"
`)
	writeWhole(t, filepath.Join(dir, "seconds"), "2")
	for range 3 {
		cmd := exec.Command(program, "run", "prepare")
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+state)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	writeWhole(t, filepath.Join(dir, "seconds"), "600")
	s := start(t, dir, 142, 38, "XDG_STATE_HOME="+state)
	s.waitFor("prepare", "ok", "2.")
	s.find("name:prepare")
	s.waitFor("1 of")
	s.keys("Enter")
	s.waitFor("╌", "to go")
	s.waitFor("━", "over the usual 2.")
	s.keys("x")
	s.waitFor("stopped")
	s.clearFind()
	s.find("name:serve")
	s.keys("Enter")
	s.waitFor("up since")
}

// Killed at any moment, the program loses no run that had ended; the others are listed as
// interrupted, with what they had printed.
func TestNoRunIsLost(t *testing.T) {
	state := t.TempDir()
	dir := t.TempDir()
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), `[workspace]
slots = 8
[task.a]
run = "echo a >> ended"
[task.b]
run = "echo b >> ended"
[task.c]
run = "echo c >> ended"
[task.slow]
run = "echo begun; sleep 60613"
[task.all]
with = ["#a", "#b", "#c", "#slow"]
`)
	const least, most = 6, 40
	for round := range most {
		cmd := exec.Command(program, "run", "all")
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+state)
		cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(50+60*round) * time.Millisecond) // the moment is any
		if err := syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		_ = cmd.Wait() // it was killed
		if round < least {
			continue
		}
		for _, r := range history(t, dir, state, "--steps", "--limit", "0").Runs {
			if r.State == "running" {
				t.Errorf("run %d counts as running", r.ID)
			}
			if r.State != "interrupted" || !strings.HasSuffix(r.Task, "#slow") {
				continue
			}
			cmd := exec.Command(program, "history", "--output", fmt.Sprint(r.ID))
			cmd.Dir = dir
			cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+state)
			if out, _ := cmd.Output(); string(out) == "begun\n" { // that one had come so far
				for deadline := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
					left, err := exec.Command("pgrep", "-fax", "sleep 60613").Output()
					if err != nil {
						return // nothing is left of what it ran
					}
					if time.Now().After(deadline) {
						t.Fatalf("left over:\n%s", left)
					}
				}
			}
		}
	}
	t.Error("no run is kept as interrupted, with its output")
}
