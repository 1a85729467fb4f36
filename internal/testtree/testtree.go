// Package testtree lays out folders for tests.
package testtree

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
)

// Folder returns a new folder without links in its path; it is removed after the test.
func Folder(t testing.TB) string {
	t.Helper()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	return dir
}

// Lay returns a new folder with files of these contents, by path below the folder.
func Lay(t testing.TB, files map[string]string) string {
	t.Helper()
	dir := Folder(t)
	Fill(t, dir, files)
	return dir
}

// Fill writes files into a folder, and makes the folders that they are in.
func Fill(t testing.TB, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// Git runs git in dir without the user's configuration, and returns what it prints. It skips the test where git is missing.
func Git(t testing.TB, dir string, args ...string) string {
	t.Helper()
	Needs(t, "git")
	cmd := exec.Command("git", append([]string{
		"-C", dir, "-c", "user.name=x", "-c", "user.email=x@x", "-c", "commit.gpgsign=false", "-c", "init.defaultBranch=main", "-c", "protocol.file.allow=always",
	}, args...)...)
	cmd.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("git %v: %v %s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// Needs skips a test that needs tools which are not on the path, or do not work: a launcher of versions may stand there
// alone, and knows of no version under this HOME.
func Needs(t testing.TB, tools ...string) {
	t.Helper()
	for _, tool := range tools {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed", tool)
		}
		if tool == "rustc" || tool == "cargo" {
			if out, err := exec.Command(tool, "--version").CombinedOutput(); err != nil {
				t.Skipf("%s does not work: %s", tool, out)
			}
		}
	}
}

// Seeds returns the first and the last number of a range, given as FIRST-LAST or as one number.
func Seeds(t testing.TB, text string) (first, last uint64) {
	t.Helper()
	from, to, ranged := strings.Cut(text, "-")
	if !ranged {
		to = from
	}
	first, err := strconv.ParseUint(from, 10, 64)
	if err == nil {
		last, err = strconv.ParseUint(to, 10, 64)
	}
	if err != nil {
		t.Fatalf("seeds %s: %v", text, err)
	}
	return first, last
}
