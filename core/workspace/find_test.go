package workspace

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tidytally/internal/testtree"
)

func TestFinder(t *testing.T) {
	root := testtree.Lay(t, map[string]string{
		"kiln/src/main.c": "", "app/src/main.c": "", "kiln/src/coil.c": "", "README": "", "node_modules/x/coil.c": "",
	})
	f := NewFinder(root)
	for tail, want := range map[string][]string{
		"coil.c": {"kiln/src/coil.c"}, "./src/coil.c": {"kiln/src/coil.c"}, "main.c": {"app/src/main.c", "kiln/src/main.c"}, "kiln/src/main.c": {"kiln/src/main.c"},
		"oil.c": nil, "rc/coil.c": nil, "README": {"README"}, "gone": nil,
	} {
		if got := f.Find(tail); !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", tail, got, want)
		}
	}
}

func TestReadingIsBounded(t *testing.T) {
	root := testtree.Lay(t, map[string]string{"small": "0123456789", "dir/x": ""})
	big := filepath.Join(root, "big")
	if err := os.WriteFile(big, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Truncate(big, MaxDeclaration+1); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadDeclaration(root, "big"); err == nil || !strings.Contains(err.Error(), "8388609 bytes, more than the 8388608 that are read") {
		t.Errorf("a large file: %v", err)
	}
	if data, err := ReadHead(root, "big", 100, true); err != nil || len(data) != 100 {
		t.Errorf("its beginning: %d bytes, %v", len(data), err)
	}
	if data, err := ReadHead(root, "small", 4, true); err != nil || string(data) != "0123" {
		t.Errorf("%q, %v", data, err)
	}
	if data, err := ReadHead(root, "small", 0, true); err != nil || string(data) != "0123456789" {
		t.Errorf("%q, %v", data, err)
	}
	for rel, want := range map[string]string{"gone": "does not exist", "dir": "is a folder", "../x": "outside the workspace", "/etc/passwd": "outside the workspace", "a/../../b": "outside the workspace"} {
		if _, err := ReadDeclaration(root, rel); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", rel, err, want)
		}
		if want != "is a folder" && Exists(root, rel) {
			t.Errorf("%s is said to exist", rel)
		}
	}
}

// Many files in one folder, and many folders, are walked the same each time.
func TestWalkIsCompleteAndOrdered(t *testing.T) {
	files := map[string]string{}
	for i := range 3000 {
		files[fmt.Sprintf("flat/f%04d", i)] = ""
	}
	for i := range 400 {
		files[fmt.Sprintf("d%03d/e/f/Makefile", i)] = ""
	}
	root := testtree.Lay(t, files)
	first := walk(t, root)
	if len(first.Files) != 3400 || first.Count != 3400 || !slices.IsSorted(first.Files) || len(first.Folders) != 1+1+3*400 {
		t.Errorf("%d files, %d counted, %d folders", len(first.Files), first.Count, len(first.Folders))
	}
	for range 3 {
		if again := walk(t, root); !slices.Equal(first.Files, again.Files) || !slices.Equal(first.Folders, again.Folders) {
			t.Fatal("another walk gives another order")
		}
	}
}

func TestWalkOfWhatIsNotThere(t *testing.T) {
	if err := (Walk{Root: filepath.Join(t.TempDir(), "gone"), Wants: func(_, _ string) bool { return true }}).Prepare().Run(); err == nil {
		t.Error("a root that is gone should be an error")
	}
}

func TestIgnorePatterns(t *testing.T) {
	for _, c := range []struct {
		lines, path string
		folder      bool
		ignored     bool
	}{
		{"*.o", "a/b.o", false, true},
		{"*.o\n!keep.o", "keep.o", false, false},
		{"/a", "a", true, true},
		{"/a", "b/a", true, false},
		{"a/", "a", false, false},
		{"a/", "x/a", true, true},
		{"a/b", "a/b", false, true},
		{"a/b", "x/a/b", false, false},
		{"**/b", "x/y/b", false, true},
		{"a/**", "a", true, false},
		{"a/**", "a/x", false, true},
		{"a/**/z", "a/z", false, true},
		{"\\!x", "!x", false, true},
		{"#x", "#x", false, false},
		{"", "x", false, false},
		{"x ", "x", false, true},
		{"x\\ ", "x ", false, true},
		{"[ab].c", "b.c", false, true},
		{"[!a].c", "a.c", false, false},
		{"{a,b}", "a", false, false},
		{"{a,b}", "{a,b}", false, true},
		{"x\r", "x", false, true},
		{"a?c", "abc", false, true},
		{"a?c", "a/c", false, false},
		{"[", "[", false, false},
	} {
		list := parseIgnore([]byte(c.lines), ".gitignore", "", nil)
		name := c.path[strings.LastIndexByte(c.path, '/')+1:]
		if _, got := list.match(c.path, name, c.folder); got != c.ignored {
			t.Errorf("%q on %s: %v", c.lines, c.path, got)
		}
	}
}
