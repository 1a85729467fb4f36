// Package testtree lays out folders for tests.
package testtree

import (
	"os"
	"path/filepath"
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
