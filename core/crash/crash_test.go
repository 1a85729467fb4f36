package crash_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/crash"
)

// A report has the stack and the last keys, and no value of the environment; nobody else can read it.
func TestReports(t *testing.T) {
	state := t.TempDir()
	t.Setenv("XDG_STATE_HOME", state)
	t.Setenv("KILN_PIN", "4711-glaze")
	for range 50 {
		crash.Key("x")
	}
	crash.Key("shift+down")
	fails := func() { panic("the pin is 4711-glaze\x1b[2J") }
	err := crash.Contain("the kiln", fails)
	if err == nil || strings.Contains(err.Error(), "4711") || strings.Contains(err.Error(), "\x1b") || !strings.Contains(err.Error(), "in the kiln: the pin is …") {
		t.Fatalf("got %v", err)
	}
	files, _ := filepath.Glob(filepath.Join(state, "tidytally/reports/*"))
	if len(files) != 1 || !strings.Contains(err.Error(), files[0]) {
		t.Fatalf("reports %v, told: %v", files, err)
	}
	text, readErr := os.ReadFile(files[0])
	if readErr != nil || strings.Contains(string(text), "4711") {
		t.Errorf("%v\n%s", readErr, text)
	}
	for _, want := range []string{"what: the kiln", "TestReports", "crash_test.go:", "x shift+down\n"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	if strings.Count(string(text), "x ") > 60 {
		t.Errorf("more keys than the last ones:\n%s", text)
	}
	info, statErr := os.Stat(files[0])
	folder, folderErr := os.Stat(filepath.Dir(files[0]))
	if statErr != nil || folderErr != nil || info.Mode().Perm() != 0o600 || folder.Mode().Perm() != 0o700 {
		t.Errorf("%v %v", info.Mode(), folder.Mode())
	}
	// The same again is the same report: a page that fails is drawn thirty times a second.
	_ = crash.Contain("the kiln", fails)
	if again, _ := filepath.Glob(filepath.Join(state, "tidytally/reports/*")); len(again) > 2 { // this call stands in another line
		t.Errorf("reports %v", again)
	}
	if err := crash.Contain("nothing", func() {}); err != nil {
		t.Error(err)
	}
}

// Without a place for reports, the fault is told all the same; whoever listens hears of goroutines.
func TestFaultsOfGoroutines(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", filepath.Join(t.TempDir(), "file"))
	if err := os.WriteFile(os.Getenv("XDG_STATE_HOME"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	told := make(chan error, 2)
	crash.Listen(func(err error) { told <- err })
	crash.Go("the wheel", func() {
		var none []int
		_ = none[len(told)]
	}, nil)
	if err := <-told; !strings.Contains(err.Error(), "the wheel: runtime error: index out of range") || strings.Contains(err.Error(), "report") {
		t.Error(err)
	}
	own := make(chan error, 1)
	crash.Go("the rim", func() { panic("cracked") }, func(err error) { own <- err })
	if err := <-own; !strings.Contains(err.Error(), "the rim: cracked") {
		t.Error(err)
	}
}
