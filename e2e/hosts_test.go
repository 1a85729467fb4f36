package e2e

import (
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"
)

// One run has one verdict: on the pages, on the command line and in the history, whoever ran the one before it. What
// runs in one program is seen in the others.
func TestThreeHostsOneAnswer(t *testing.T) {
	dir := t.TempDir()
	writeWhole(t, filepath.Join(dir, "log"), "a.c:1:5: error: too hot\n")
	writeWhole(t, filepath.Join(dir, "a.c"), "int a;\n")
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), "[task.look]\nrun = \"cat log\"\n[task.serve]\nrun = \"echo a.c:1:5: warning: still warm; exec sleep 600\"\n")
	newest := func() string {
		out, _, _ := call(t, dir, "", "history", "--json", "--limit", "1")
		return out
	}
	balance := func() (b struct{ New, Still, Gone int }) {
		var all struct {
			Runs []struct {
				Task             string
				New, Still, Gone int
			}
		}
		if err := json.Unmarshal([]byte(newest()), &all); err != nil || len(all.Runs) != 1 {
			t.Fatalf("%v: %+v", err, all)
		}
		b.New, b.Still, b.Gone = all.Runs[0].New, all.Runs[0].Still, all.Runs[0].Gone
		return b
	}
	s := start(t, dir, 142, 38)
	s.find("name:look")
	s.waitFor("1 of")
	s.keys("Enter", "y")
	s.waitFor("tally of look", "too hot", "before 0 · new 1 · gone 0 · now 1")
	writeWhole(t, filepath.Join(dir, "log"), "")
	call(t, dir, "", "run", "look")
	if b := balance(); b.Gone != 1 || b.New != 0 {
		t.Errorf("silent, by the command line: %+v", b)
	}
	writeWhole(t, filepath.Join(dir, "log"), "a.c:1:5: error: too hot\n")
	s.keys("r")
	s.waitUntil("the run in the history", func(string) bool { return balance().New == 1 })
	s.waitFor("tally of look", "too hot", "before 0 · new 1 · gone 0 · now 1")

	// A run of the pages in another program's pages.
	s.keys("t")
	s.waitFor("1 of 2")
	s.find("name:serve")
	s.waitFor("1 of")
	s.keys("Enter")
	s.waitFor("running")
	other := startOn(t, socketOf(t)+"-other", dir, 142, 38, program)
	other.find("name:serve")
	other.waitFor("running elsewhere")
	other.keys("y")
	other.waitFor("tally of serve", "still warm", "new 1")
	other.keys("x")
	other.waitFor("runs in another Tidy Tally: stop it there")
	if runs := newest(); !strings.Contains(runs, `"running"`) {
		t.Errorf("the history has\n%s", runs)
	}
	s.keys("x")
	other.waitFor("stopped after")
	s.keys("q")
	other.keys("q")
	other.waitFor("exit 0")
}
