package tui

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/commit"
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
	write("b.c", "one\n")
	write("c.c", "one\n")
	write(".gitattributes", "*.c filter=trap diff=trap merge=trap\nb.c filter=a=b\nc.c filter=white\u00a0space\n")
	git("add", ".")
	git("commit", "-qm", "Wind the coil")
	write("a.c", "one\ntwo\nthree\n")
	config, err := os.OpenFile(filepath.Join(dir, ".git/config"), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	// The ways in which a configuration names programs.
	config.WriteString(strings.ReplaceAll(`[filter "trap"]
	clean = TRAP
	smudge = TRAP
	process = TRAP
	required = true
[filter "a=b"]
	clean = TRAP
	process = TRAP
[filter "white space"]
	clean = TRAP
[diff "trap"]
	textconv = TRAP
	command = TRAP
[diff]
	external = TRAP
[merge "trap"]
	driver = TRAP
[core]
	fsmonitor = TRAP
	pager = TRAP
	editor = TRAP
	sshCommand = TRAP
	askPass = TRAP
	gitProxy = TRAP
	alternateRefsCommand = TRAP
	hooksPath = HOOKS
[alias]
	blame = !TRAP
	cat-file = !TRAP
[pager]
	blame = TRAP
[credential]
	helper = !TRAP
[gpg]
	program = TRAP
[log]
	showSignature = true
[sequence]
	editor = TRAP
[interactive]
	diffFilter = TRAP
[remote "origin"]
	url = ext::TRAP
	uploadpack = TRAP
	promisor = true
	partialclonefilter = blob:none
[extensions]
	partialClone = origin
[core]
	repositoryFormatVersion = 1
`, "TRAP", "touch "+trap))
	config.Close()
	// All that git starts is noted.
	var noted string
	if strace, err := exec.LookPath("strace"); err == nil && exec.Command(strace, "-o", os.DevNull, "true").Run() == nil {
		real, err := exec.LookPath("git")
		if err != nil {
			t.Fatal(err)
		}
		noted = filepath.Join(t.TempDir(), "noted")
		bin := t.TempDir()
		if err := os.WriteFile(filepath.Join(bin, "git"), []byte("#!/bin/sh\nexec "+strace+" -f -A -o "+noted+" -e trace=execve "+real+" \"$@\"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
		t.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	}
	m := open(t, map[string]string{})
	got := blame(filepath.Join(dir, "a.c"), 2)
	m.say(false, "%s", got)
	if shown := m.footing(); !strings.Contains(shown, "line 2: Ada ") || !strings.Contains(shown, " on 2 March 2026 in ") || !strings.Contains(shown, ": Wind the coil") || strings.Contains(shown, "\x1b[31m") {
		t.Errorf("the footing: %q", shown)
	}
	if got := blame(filepath.Join(dir, "a.c"), 3); got != "line 3 was changed and is not committed yet" {
		t.Errorf("a new line: %s", got)
	}
	write("a.c", "zero\nhalf\none\r\nnew\ntwo\n")
	for line, want := range map[int]string{1: "not committed yet", 3: ": Wind the coil", 4: "not committed yet", 5: ": Wind the coil"} {
		if got := blame(filepath.Join(dir, "a.c"), line); !strings.HasSuffix(got, want) {
			t.Errorf("line %d: %s, want %s", line, got, want)
		}
	}
	for _, other := range []string{"b.c", "c.c"} {
		write(other, "one\ntwo\n")
		if got := blame(filepath.Join(dir, other), 1); !strings.HasSuffix(got, ": Wind the coil") {
			t.Errorf("%s: %s", other, got)
		}
	}
	if since, err := commit.Compare(t.Context(), dir, "HEAD"); err != nil || since.Of("b.c") != "b.c changed" {
		t.Errorf("what differs from the commit: %v", err)
	}
	// An object that is missing is not fetched.
	if err := os.RemoveAll(filepath.Join(dir, ".git/objects")); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(dir, ".git/objects"), 0o755); err != nil {
		t.Fatal(err)
	}
	if got := blame(filepath.Join(dir, "a.c"), 1); !strings.HasPrefix(got, "git: ") {
		t.Errorf("without objects: %s", got)
	}
	if noted != "" {
		text, err := os.ReadFile(noted)
		calls := strings.Count(string(text), "execve(")
		if err != nil || calls < 6 || calls != strings.Count(string(text), "git\", [\"") {
			t.Errorf("%v; git started:\n%s", err, text)
		}
	}
	if got := blame(filepath.Join(dir, "a.c"), 99); !strings.HasPrefix(got, "the file has only") {
		t.Errorf("no such line: %s", got)
	}
	if got := blame(filepath.Join(t.TempDir(), "a.c"), 1); !strings.Contains(got, "no such file") {
		t.Errorf("no repository: %s", got)
	}
	if _, err := os.Stat(trap); err == nil {
		t.Error("something that the configuration names was executed")
	}
}
