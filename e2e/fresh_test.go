package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Runs a program that is older than its sources: is told so, lets the tool build first, always. Then
// runs the plan again, and nothing of the build needs doing; what it printed is still there.
func TestAProgramOlderThanItsSources(t *testing.T) {
	if _, err := exec.LookPath("strace"); err != nil {
		t.Skip(err)
	}
	dir := workspace(t)
	write := func(name, text string) {
		t.Helper()
		full := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("tile/tile.c", "#include <stdio.h>\n#include \"cone.h\"\nint main(void) { printf(\"cone %d\\n\", CONE); return 0; }\n")
	write("tile/cone.h", "#define CONE 6\n")
	write("tile/tidytally.toml", `[task.make-tile]
run = "echo compiling; cc -o tile tile.c; sed s/CONE/6/ tile.c > tile.txt"
kind = "build"
learn = true
skip = "fresh"
[task.fire-tile]
run = ["./tile"]
`)
	s := start(t, dir, 142, 38)
	s.find("make-tile")
	s.waitFor("1 of")
	s.keys("Enter")
	s.waitFor("ok", "learned by watching a run", "fresh")
	s.write("tile/cone.h", "#define CONE 9\n")
	s.waitFor("stale (1)", "tile/cone.h changed")

	// The files, and one that was made beside its source.
	s.keys("M")
	s.waitFor("files of", "stale: tile/cone.h changed", "looked for")
	s.keys("Down", "Enter")
	s.waitFor("tile/tile.txt", "tile/tile.c", "printf(\"cone %d\\n\", 6)")
	s.keys("Enter")
	s.waitFor("looked for")
	s.keys("M")
	s.waitFor("tasks shown")
	s.clearFind()
	s.find("fire-tile")
	s.waitFor("1 of", "fire-tile")
	s.keys("Enter")
	s.waitFor("tile/tile is older than its sources: tile/cone.h changed", "build first, always", "run it as it is")
	s.keys("Enter")
	s.waitFor("written into", "runs before fire-tile", "ok")
	s.keys("o")
	s.waitFor("cone 9")
	if text := s.read("tile/tidytally.toml"); !strings.Contains(text, "before = [\"#make-tile\"]") {
		t.Errorf("the tally file has\n%s", text)
	}
	// Again: the build is fresh, and shows what it printed.
	s.keys("r")
	s.keys("l")
	s.waitFor("plan of", "fresh", "ok")
	s.keys("t")
	s.find("make-tile")
	s.waitFor("1 of", "fresh")
	s.keys("o")
	s.waitFor("compiling", "fresh")
	s.keys("t", "A")
	s.waitFor("ok")
}
