package plan

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"tidytally/core/task"
)

func TestStaleNamesWhatChangedSince(t *testing.T) {
	root := t.TempDir()
	run := time.Now().Add(-time.Minute)
	for name, age := range map[string]time.Duration{"kiln/Makefile": time.Hour, "kiln/src/a.c": time.Second, "kiln/src/deep/b.c": 2 * time.Second, "kiln/src/old.c": time.Hour, "kiln/notes": time.Second, "other/x.c": time.Second} {
		full := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, nil, 0o644); err != nil {
			t.Fatal(err)
		}
		at := time.Now().Add(-age)
		if err := os.Chtimes(full, at, at); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink(filepath.Join(root, "other"), filepath.Join(root, "kiln/src/link")); err != nil {
		t.Fatal(err)
	}
	x := &task.Task{Dir: "kiln", Reads: []string{"src/**/*.c", "./Makefile", "src/*.c", "[", "gone/**"}}
	got := Stale(root, x, run)
	slices.Sort(got)
	if want := []string{"src/a.c", "src/deep/b.c"}; !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
	if got := Stale(root, x, time.Now()); len(got) > 0 {
		t.Errorf("after a run just now: %v", got)
	}
	if got := Stale(root, x, time.Time{}); got != nil {
		t.Errorf("never run is not stale: %v", got)
	}
	if got := Stale(root, &task.Task{Dir: "kiln"}, run); got != nil {
		t.Errorf("what reads nothing is not stale: %v", got)
	}
}
