package demo

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"tidytally/core/survey"
)

func lay(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "emberclay")
	if err := Lay(dir); err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestLayWritesOverNothing(t *testing.T) {
	dir := lay(t)
	file := filepath.Join(dir, "kiln/Makefile")
	if err := os.WriteFile(file, []byte("mine"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := Lay(dir); err == nil || !strings.Contains(err.Error(), "give an empty folder with --dir") {
		t.Errorf("laid out again: %v", err)
	}
	if data, _ := os.ReadFile(file); string(data) != "mine" {
		t.Error("a file was written over")
	}
}

func TestTheWorkspaceIsWhole(t *testing.T) {
	dir := lay(t)
	for _, name := range []string{"tools/kilnsim", "tools/launch", "glazebook/scripts/print_labels.py"} {
		if info, err := os.Stat(filepath.Join(dir, name)); err != nil || info.Mode()&0o111 == 0 {
			t.Errorf("%s should be executable: %v", name, err)
		}
	}
	lock, err := os.ReadFile(filepath.Join(dir, "shopfront/package-lock.json"))
	if err != nil || strings.Contains(string(lock), "resolved") || strings.Contains(string(lock), "http") {
		t.Errorf("the lock file has download addresses (%v)", err)
	}
	s, err := survey.Of(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range s.Faults {
		t.Errorf("fault: %s", f)
	}
	sources := map[string]bool{}
	for _, k := range s.Tasks {
		sources[k.Source] = true
		if strings.Contains(k.File, ".venv") {
			t.Errorf("%s is another's", k.ID())
		}
	}
	for _, source := range []string{"make", "npm", "go", "python", "script", "tally"} {
		if !sources[source] {
			t.Errorf("there is no task of %s", source)
		}
	}
	if s.Usual() == nil {
		t.Error("there is no usual task")
	}
}

// The mistakes are there, and all of them can be mended.
func TestMistakesAndTheirFixes(t *testing.T) {
	dir := lay(t)
	run := func(folder string, argv ...string) string {
		cmd := exec.Command(argv[0], argv[1:]...)
		cmd.Dir = filepath.Join(dir, folder)
		cmd.Env = append(os.Environ(), "GOWORK=off", "GOFLAGS=")
		out, _ := cmd.CombinedOutput() // it fails where there is a mistake
		return string(out)
	}
	if out := run("firing", "go", "vet", "./..."); !strings.Contains(out, "self-assignment of l.Hold") {
		t.Errorf("go vet finds nothing:\n%s", out)
	}
	if out := run("firing", "go", "test", "./..."); !strings.Contains(out, "At(9) = 980, want 940") || strings.Count(out, "--- FAIL") != 2 {
		t.Errorf("the test should fail once:\n%s", out)
	}
	for i, f := range Fixes {
		if err := f.Apply(dir); err != nil {
			t.Fatalf("fix %d: %v", i, err)
		}
		if err := f.Apply(dir); err == nil {
			t.Errorf("fix %d can be applied twice", i)
		}
	}
	if _, err := exec.LookPath("make"); err != nil {
		t.Skip("make is not installed")
	}
	if out := run("kiln", "make", "CFLAGS=-Wall -Wextra -Werror", "all"); !regexp.MustCompile(`ramp: 0 of 3 failed`).MatchString(out) {
		t.Errorf("after all fixes:\n%s", out)
	}
}
