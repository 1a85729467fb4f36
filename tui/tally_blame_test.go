package tui

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Git says who changed a line; nothing that the workspace's configuration names is executed, and
// nothing hostile of a commit reaches the terminal.
func TestWhoChangedALine(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is not installed")
	}
	dir := t.TempDir()
	trap := filepath.Join(dir, "executed")
	git := func(args ...string) {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=Ada \x1b[31mClay", "-c", "user.email=a@b", "-c", "commit.gpgsign=false"}, args...)...)
		cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null", "GIT_AUTHOR_DATE=2026-03-02T10:00:00Z", "GIT_COMMITTER_DATE=2026-03-02T10:00:00Z")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v %s", args, err, out)
		}
	}
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	git("init", "-q")
	write("a.c", "one\ntwo\n")
	write(".gitattributes", "*.c filter=trap diff=trap\n")
	git("add", ".")
	git("commit", "-qm", "Wind the coil")
	write("a.c", "one\ntwo\nthree\n")
	config, err := os.OpenFile(filepath.Join(dir, ".git/config"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	config.WriteString("[filter \"trap\"]\n\tclean = touch " + trap + "\n\tsmudge = touch " + trap + "\n\trequired = true\n[diff \"trap\"]\n\ttextconv = touch " + trap + "\n[core]\n\tfsmonitor = touch " + trap + "\n\tpager = touch " + trap + "\n[alias]\n\tblame = !touch " + trap + "\n")
	config.Close()
	m := open(t, map[string]string{})
	got := blame(filepath.Join(dir, "a.c"), 2)
	m.say(false, "%s", got)
	if shown := m.footing(); !strings.Contains(shown, "line 2: Ada ") || !strings.Contains(shown, " on 2 March 2026 in ") || !strings.Contains(shown, ": Wind the coil") || strings.Contains(shown, "\x1b[31m") {
		t.Errorf("the footing: %q", shown)
	}
	if got := blame(filepath.Join(dir, "a.c"), 3); got != "line 3 was changed and is not committed yet" {
		t.Errorf("a new line: %s", got)
	}
	if got := blame(filepath.Join(dir, "a.c"), 99); !strings.HasPrefix(got, "git: ") {
		t.Errorf("no such line: %s", got)
	}
	if got := blame(filepath.Join(t.TempDir(), "a.c"), 1); !strings.HasPrefix(got, "git: ") {
		t.Errorf("no repository: %s", got)
	}
	if _, err := os.Stat(trap); err == nil {
		t.Error("something that the configuration names was executed")
	}
}
