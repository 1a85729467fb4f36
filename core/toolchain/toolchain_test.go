package toolchain

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Programs that only say what they are: the way to ask is each tool's own.
func TestToolsOnThePathAreOfferedAndAskedOnce(t *testing.T) {
	bin := t.TempDir()
	log := filepath.Join(bin, "log")
	for _, name := range []string{"gcc", "clang", "node"} {
		script := "#!/bin/sh\necho \"$0 $*\" >> " + log + "\necho\necho " + name + " 7.1\necho more\n"
		if err := os.WriteFile(filepath.Join(bin, name), []byte(script), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(bin, "tcc"), []byte("not executable"), 0o644); err != nil {
		t.Fatal(err)
	}
	tasks := Tasks("kiln/my {odd}.c", bin)
	if len(tasks) != 2 {
		t.Fatalf("%d tasks", len(tasks))
	}
	x := tasks[1]
	if x.Name != "compile my {odd}.c with clang" || x.Dir != "kiln" || strings.Join(x.Command.Argv, "|") != "clang|-Wall|-g|-o|my {{odd}}|my {{odd}}.c" {
		t.Errorf("%+v", x)
	}
	if _, err := os.Stat(log); err == nil {
		t.Error("something was executed before it was asked for")
	}
	if v := Version(x); v != "clang 7.1" {
		t.Errorf("version %q", v)
	}
	Version(x)
	said, _ := os.ReadFile(log)
	if n := strings.Count(string(said), "\n"); n != 1 || !strings.Contains(string(said), "clang --version") {
		t.Errorf("asked %d times: %s", n, said)
	}
	if len(Tasks("notes.txt", bin)) > 0 || IsSource("notes.txt") || !IsSource("A.C") {
		t.Error("what is a source file, and what is not")
	}
}

// The real compiler takes the command as it is offered.
func TestTheCompilerTakesIt(t *testing.T) {
	if _, err := exec.LookPath("gcc"); err != nil {
		t.Skip("gcc is not installed")
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "one.c"), []byte("int main(void) { return 0; }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	x := Tasks("one.c", os.Getenv("PATH"))[0]
	cmd := exec.Command(x.Command.Argv[0], x.Command.Argv[1:]...)
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	if out, err := exec.Command(filepath.Join(dir, "one")).CombinedOutput(); err != nil {
		t.Errorf("%v: %s", err, out)
	}
	if v := Version(x); !strings.Contains(strings.ToLower(v), "gcc") {
		t.Errorf("version %q", v)
	}
}
