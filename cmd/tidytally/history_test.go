package main

import (
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/history"
)

// past is a workspace with a history of its own.
func past(t *testing.T, toml string) string {
	t.Helper()
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	if err := os.WriteFile(filepath.Join(dir, "tidytally.toml"), []byte(toml), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "a.c"), []byte("int a;\nint b;\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	return dir
}

const kept = `[task.bad]
run = "echo a.c:1:5: error: no glaze; exit 3"
presets = { mk1 = "BOARD=mk1 'two words'" }
[task.good]
run = "echo good"
before = ["#wait"]
[task.wait]
run = "sleep 0.01"
`

// A run of yesterday is told by history, list and show; presets run it again.
func TestWhatWasRunIsTold(t *testing.T) {
	dir := past(t, kept)
	if out, errs, code := call(t, dir, "history"); out != "" || code != 0 || errs != "nothing was run here yet\n" {
		t.Errorf("before the first run: %q %q %d", out, errs, code)
	}
	if _, _, code := call(t, dir, "run", "bad", "--preset", "mk1", "--", "more"); code != 3 {
		t.Errorf("exit %d", code)
	}
	if _, errs, code := call(t, dir, "run", "bad", "--preset", "mk2"); code != exitUsage || !strings.Contains(errs, "tidytally.toml#bad has no preset mk2; it has: mk1") {
		t.Errorf("an unknown preset: %d %q", code, errs)
	}
	for range 3 {
		if _, errs, code := call(t, dir, "run", "good"); code != 0 {
			t.Errorf("exit %d: %s", code, errs)
		}
	}
	out, _, _ := call(t, dir, "history", "bad", "--json")
	var got struct{ Runs []listedRun }
	if err := json.Unmarshal([]byte(out), &got); err != nil || len(got.Runs) != 1 || got.Runs[0].Exit != 3 || got.Runs[0].New != 1 || strings.Join(got.Runs[0].Args, "|") != "BOARD=mk1|two words|more" {
		t.Errorf("history: %v %s", err, out)
	}
	if out, _, _ := call(t, dir, "history", "--output", "1"); out != "a.c:1:5: error: no glaze\n" {
		t.Errorf("output: %q", out)
	}
	if out, _, _ := call(t, dir, "list", "--json"); !strings.Contains(out, `"last":{"run":1,`) || !strings.Contains(out, `"state":"failed","exit":3`) {
		t.Errorf("list: %s", out)
	}
	if out, _, _ := call(t, dir, "show", "bad"); !strings.Contains(out, "failed (3) after") {
		t.Errorf("show: %s", out)
	}
	if out, _, _ := call(t, dir, "plan", "good"); !strings.Contains(out, "at once, about ") && !strings.Contains(out, "about ") || !strings.Contains(out, " in all") {
		t.Errorf("plan: %s", out)
	}
	if out, _, _ := call(t, dir, "history", "--since", "1h", "--limit", "1"); strings.Count(out, "\n") != 1 || !strings.Contains(out, "good") {
		t.Errorf("since: %q", out)
	}
	if _, errs, code := call(t, dir, "history", "--since", "never"); code != exitUsage || !strings.Contains(errs, "how long ago") {
		t.Errorf("a bad time: %d %q", code, errs)
	}
	if _, errs, code := call(t, dir, "history", "--output", "99"); code != exitUsage || !strings.Contains(errs, "there is no run 99") {
		t.Errorf("no such run: %d %q", code, errs)
	}
	if _, _, code := call(t, dir, "run", "bad", "--no-history"); code != 3 {
		t.Errorf("exit %d", code)
	}
	if out, _, _ := call(t, dir, "history", "bad", "--json"); strings.Count(out, `"id"`) != 1 {
		t.Errorf("a run that was not to be kept: %s", out)
	}
}

// A log that is sifted as a task's is compared with the run before, and each problem says since
// when it is known.
func TestSiftAsATask(t *testing.T) {
	dir := past(t, kept)
	for i, c := range []struct{ log, want string }{
		{"a.c:1:5: error: one\na.c:2:5: warning: two [-Wx]\n", "new 1 1, new 1 1"},
		{"a.c:1:5: error: one\n", "still 1 2, gone 1 1"},
		{"", "gone 1 2"},
	} {
		name := filepath.Join(dir, "log")
		if err := os.WriteFile(name, []byte(c.log), 0o644); err != nil {
			t.Fatal(err)
		}
		out, errs, code := call(t, dir, "sift", "--as", "good", "--format", "jsonl", "log")
		var got []string
		dec := json.NewDecoder(strings.NewReader(out))
		for dec.More() {
			var p struct {
				State       string
				First, Seen int
			}
			if err := dec.Decode(&p); err != nil {
				t.Fatal(err)
			}
			got = append(got, strings.Join([]string{p.State, string(rune('0' + p.First)), string(rune('0' + p.Seen))}, " "))
		}
		if text := strings.Join(got, ", "); text != c.want || code != 0 {
			t.Errorf("log %d: %s, want %s; %d %s", i+1, text, c.want, code, errs)
		}
	}
	out, _, _ := call(t, dir, "history", "--problems", "--json")
	if strings.Count(out, `"state": "gone"`) != 2 || !strings.Contains(out, `"gone": {`) {
		t.Errorf("lives: %s", out)
	}
	if _, errs, code := call(t, dir, "sift", "--as", "nobody", "log"); code != exitUsage || !strings.Contains(errs, "no task nobody") {
		t.Errorf("no such task: %d %q", code, errs)
	}
}

// A run is never lost for a history that cannot be written: it runs, and what is not kept is told.
func TestRunsWithoutAHistory(t *testing.T) {
	dir := past(t, kept)
	state := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(state, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("XDG_STATE_HOME", filepath.Join(state, "under-a-file"))
	if out, errs, code := call(t, dir, "run", "bad"); out != "a.c:1:5: error: no glaze\n" || code != 3 || !strings.Contains(errs, "runs are not kept: ") {
		t.Errorf("without a folder: %q %q %d", out, errs, code)
	}
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	call(t, dir, "run", "bad")
	s, err := history.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	path := s.Path()
	s.Close()
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	db.SetMaxOpenConns(1)
	if _, err := db.Exec("BEGIN EXCLUSIVE"); err != nil {
		t.Fatal(err)
	}
	if out, errs, code := call(t, dir, "run", "bad"); out != "a.c:1:5: error: no glaze\n" || code != 3 || !strings.Contains(errs, "is not kept: ") {
		t.Errorf("locked by another program: %q %q %d", out, errs, code)
	}
	if _, err := db.Exec("COMMIT"); err != nil {
		t.Fatal(err)
	}
}
