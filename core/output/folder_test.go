package output

import (
	"os"
	"path/filepath"
	"sync"
	"testing"
)

// A folder that a killed program left behind goes; that of a living one stays, and so does
// what only has its name.
func TestFoldersLeftBehindAreRemoved(t *testing.T) {
	tmp := t.TempDir()
	t.Setenv("TMPDIR", tmp)
	living, err := NewFolder(Spools)
	if err != nil {
		t.Fatal(err)
	}
	killed, err := NewFolder(Spools)
	if err != nil {
		t.Fatal(err)
	}
	if s, err := NewSpool(killed.Path(), "run-1"); err != nil {
		t.Fatal(err)
	} else if _, err := s.Write([]byte("left")); err != nil {
		t.Fatal(err)
	}
	killed.lock.Close() // as the kernel does
	mine := filepath.Join(tmp, "mine")
	file, link := filepath.Join(tmp, Spools+"file"), filepath.Join(tmp, Spools+"link")
	if err := os.Mkdir(mine, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(mine, link); err != nil {
		t.Fatal(err)
	}
	next, err := NewFolder(Spools)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Lstat(killed.Path()); err == nil {
		t.Error("the folder of a killed program is still there")
	}
	for _, path := range []string{living.Path(), next.Path(), mine, file, link} {
		if _, err := os.Lstat(path); err != nil {
			t.Error(err)
		}
	}
	for _, f := range []*Folder{living, next} {
		if err := f.Remove(); err != nil {
			t.Error(err)
		}
	}
}

// Programs that start at the same time do not take each other's folders.
func TestFoldersOfManyPrograms(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	var all sync.WaitGroup
	for range 16 {
		all.Go(func() {
			for range 20 {
				f, err := NewFolder(Spools)
				if err != nil {
					t.Error(err)
					return
				}
				if _, err := NewSpool(f.Path(), "run"); err != nil {
					t.Error(err)
				}
				if err := f.Remove(); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	if left, _ := filepath.Glob(filepath.Join(os.TempDir(), "*")); len(left) > 0 {
		t.Errorf("left behind: %q", left)
	}
}

// Spools that are still to be stored outlive a killed program, for as long as there is something
// to store them in.
func TestSpoolsThatAreAwaited(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	store := filepath.Join(t.TempDir(), "store")
	if err := os.WriteFile(store, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := NewFolder(Spools)
	if err != nil {
		t.Fatal(err)
	}
	if err := Await(f.Path(), store); err != nil {
		t.Fatal(err)
	}
	f.lock.Close() // as when its program is killed
	there := func() bool {
		t.Helper()
		other, err := NewFolder(Spools)
		if err != nil {
			t.Fatal(err)
		}
		defer other.Remove()
		_, err = os.Stat(f.Path())
		return err == nil
	}
	if !there() {
		t.Fatal("awaited spools were removed")
	}
	if err := os.Remove(store); err != nil {
		t.Fatal(err)
	}
	if there() {
		t.Error("spools for a store that is gone were kept")
	}
}
