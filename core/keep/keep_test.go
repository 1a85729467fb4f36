package keep

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
)

func TestWhatIsKeptComesBack(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	k, err := Load("/w/emberclay")
	if err != nil {
		t.Fatal(err)
	}
	if !k.Pin("a#b") || !k.Pin("c#d") || k.Pin("a#b") {
		t.Error("pinning says what it did")
	}
	for i := range 20 {
		k.Ran(fmt.Sprint(i % 15))
	}
	k.Usual = "a#b"
	if err := k.Save(); err != nil {
		t.Fatal(err)
	}
	again, err := Load("/w/emberclay")
	if err != nil || !again.Pinned("c#d") || again.Pinned("a#b") || again.Usual != "a#b" {
		t.Errorf("%v, %+v", err, again)
	}
	if len(again.Recent) != maxRecent || again.Recent[0] != "4" || slices.Index(again.Recent, "0") != 4 {
		t.Errorf("recent %v", again.Recent)
	}
	if other, err := Load("/v/emberclay"); err != nil || len(other.Pins) > 0 {
		t.Errorf("another workspace of the same name: %v, %+v", err, other)
	}
}

// A file that cannot be read is told, and is not written over.
func TestABrokenFileIsLeftAlone(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", dir)
	k, _ := Load("/w/x")
	k.Pin("a")
	if err := k.Save(); err != nil {
		t.Fatal(err)
	}
	files, _ := filepath.Glob(filepath.Join(dir, "tidytally/*.json"))
	if len(files) != 1 {
		t.Fatal(files)
	}
	if err := os.WriteFile(files[0], []byte("{broken"), 0o600); err != nil {
		t.Fatal(err)
	}
	k, err := Load("/w/x")
	if err == nil || !strings.Contains(err.Error(), files[0]) {
		t.Errorf("%v", err)
	}
	k.Pin("b")
	if err := k.Save(); err != nil {
		t.Error(err)
	}
	if data, _ := os.ReadFile(files[0]); string(data) != "{broken" {
		t.Errorf("it became %s", data)
	}
}

// A relative path in XDG_STATE_HOME counts as none (XDG Base Directory Specification,
// "Basics").
func TestARelativeStateFolderIsIgnored(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("XDG_STATE_HOME", "state")
	t.Chdir(t.TempDir())
	k, err := Load("/w/emberclay")
	if err != nil {
		t.Fatal(err)
	}
	k.Usual = "a#b"
	if err := k.Save(); err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(filepath.Join(home, ".local/state/tidytally/emberclay-*.json"))
	if err != nil || len(files) != 1 {
		t.Errorf("kept in %v: %v", files, err)
	}
	if entries, err := os.ReadDir("."); err != nil || len(entries) > 0 {
		t.Errorf("the current folder has %v: %v", entries, err)
	}
}

// A pipe where the file of states should be is refused: opening it would never end.
func TestAPipeIsNotRead(t *testing.T) {
	state := t.TempDir()
	t.Setenv("XDG_STATE_HOME", state)
	k, err := Load("/w/emberclay")
	if err != nil || k.Save() != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(filepath.Join(state, "tidytally", "*"))
	if err != nil || len(files) != 1 {
		t.Fatalf("%q, %v", files, err)
	}
	if err := os.Remove(files[0]); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mkfifo(files[0], 0o600); err != nil {
		t.Skip(err)
	}
	if _, err := Load("/w/emberclay"); err == nil || !strings.HasSuffix(err.Error(), "is no regular file") {
		t.Errorf("%v", err)
	}
}

// Two programs on one workspace keep what the other one pinned, unpinned, ran and chose.
func TestTwoProgramsKeepEachOthersChanges(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	load := func() *Kept {
		t.Helper()
		k, err := Load("/w/emberclay")
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	save := func(k *Kept) {
		t.Helper()
		if err := k.Save(); err != nil {
			t.Fatal(err)
		}
	}
	first := load()
	first.Pin("old")
	first.Ran("old")
	save(first)
	second := load()
	second.Pin("old")
	second.Pin("second")
	second.Ran("second")
	second.Usual = "second"
	first.Pin("first")
	first.Ran("first")
	first.Ran("old")
	save(second)
	save(first)
	save(second)
	for _, k := range []*Kept{first, second, load()} {
		if slices.Sort(k.Pins); !slices.Equal(k.Pins, []string{"first", "second"}) || k.Usual != "second" {
			t.Errorf("pins %q, usual %q", k.Pins, k.Usual)
		}
		if !slices.Equal(k.Recent, []string{"old", "first", "second"}) {
			t.Errorf("recent %q", k.Recent)
		}
	}
	first.Usual = ""
	save(first)
	save(second)
	if second.Usual != "" {
		t.Errorf("what the other took back is usual: %q", second.Usual)
	}
}

// Many programs that save at the same time lose nothing.
func TestSavingAtTheSameTime(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	var all sync.WaitGroup
	for i := range 20 {
		all.Go(func() {
			k, err := Load("/w/emberclay")
			if err != nil {
				t.Error(err)
				return
			}
			k.Pin(fmt.Sprint(i))
			if err := k.Save(); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if k, err := Load("/w/emberclay"); err != nil || len(k.Pins) != 20 {
		t.Errorf("%v, pins %q", err, k.Pins)
	}
}

// The user's key is made once, for all programs, and nobody else can read it.
func TestTheKey(t *testing.T) {
	key := Key()
	folder, err := Folder()
	if err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(folder, "key")
	kept, err := os.ReadFile(name)
	if err != nil {
		t.Skip(err) // an earlier test has asked for it, with another folder of states
	}
	if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o600 || string(kept) != string(key) || len(key) != keyBytes {
		t.Errorf("%v, %v, %d bytes", info.Mode(), err, len(kept))
	}
}
