package workspace

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"tidytally/internal/testtree"
)

func walk(t *testing.T, root string, change ...func(*Walk)) *Seen {
	t.Helper()
	w := Walk{Root: root, Wants: func(_, name string) bool { return name != ".gitignore" }}
	for _, c := range change {
		c(&w)
	}
	tree := w.Prepare()
	if err := tree.Run(); err != nil {
		t.Fatal(err)
	}
	return tree.Seen()
}

// Which files are ignored by ignore files is what git says.
func TestIgnoreAgainstGit(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is not installed")
	}
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	root := testtree.Lay(t, map[string]string{
		".gitignore": "# comment\n*.log\n!keep.log\n/top\nfolder/\na/**/z\n\\#odd\n*.t[mx]p\nq?x\nspace \\ \n{brace}\ndoc/*.txt\n**/deep\nx/**\n!x/y\n",
		"b.log":      "", "keep.log": "", "top": "", "sub/top": "", "folder/in": "", "sub/folder/in": "", "notfolder/folder": "",
		"a/z": "", "a/1/z": "", "a/1/2/z": "", "#odd": "", "f.tmp": "", "f.txp": "", "f.tap": "", "qax": "", "qx": "", "{brace}": "", "brace": "",
		"doc/a.txt": "", "doc/sub/a.txt": "", "s/t/deep/f": "", "x/y": "", "x/z/w": "",
		"inner/.gitignore": "!*.log\nlocal\n/only\n", "inner/c.log": "", "inner/local": "", "inner/only": "", "inner/more/only": "", "inner/more/local": "",
	})
	git := func(args ...string) string {
		cmd := exec.Command("git", args...)
		cmd.Dir = root
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("git %v: %v", args, err)
		}
		return string(out)
	}
	git("init", "-q")
	want := strings.Split(strings.TrimSuffix(git("ls-files", "-z", "--others", "--exclude-standard"), "\x00"), "\x00")
	want = slices.DeleteFunc(want, func(f string) bool { return filepath.Base(f) == ".gitignore" })
	slices.Sort(want)
	got := walk(t, root).Files
	if !slices.Equal(got, want) {
		t.Errorf("got  %v\nwant %v", got, want)
	}
}

func TestBuiltInRulesAreCounted(t *testing.T) {
	root := testtree.Lay(t, map[string]string{
		"node_modules/x/package.json": "{}", "node_modules/y.js": "", "venv/pyvenv.cfg": "", "venv/bin/a": "", "venv/bin/b": "",
		"out/CMakeCache.txt": "", "out/Makefile": "", "rust/Cargo.toml": "", "rust/target/Makefile": "", "target/Makefile": "", "src/Makefile": "",
		".pc/.quilt_patches": "debian/patches\n", ".pc/a.patch/src/Makefile": "",
	})
	seen := walk(t, root)
	if want := []string{"rust/Cargo.toml", "src/Makefile", "target/Makefile"}; !slices.Equal(seen.Files, want) {
		t.Errorf("files %v, want %v", seen.Files, want)
	}
	var got []string
	for _, s := range seen.Skipped {
		got = append(got, fmt.Sprintf("%s %s %d", s.Path, s.Rule, s.Files))
	}
	want := []string{".pc built-in: version control 2", "node_modules built-in: dependency folders 2", "out built-in: build outputs 2", "rust/target built-in: build outputs 1", "venv built-in: virtual environments 3"}
	if !slices.Equal(got, want) {
		t.Errorf("skipped\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	off := walk(t, root, func(w *Walk) { w.Off = map[string]bool{"virtual environments": true} })
	if !slices.Contains(off.Files, "venv/bin/a") {
		t.Error("a rule that is off still keeps files out")
	}
	user := walk(t, root, func(w *Walk) { w.Ignore = []string{"**/Makefile"} })
	if slices.Contains(user.Files, "src/Makefile") {
		t.Error("the user's pattern is not heeded")
	}
}

// Links out of the workspace, loops, FIFOs and unreadable folders are told,
// and nothing else is lost.
func TestHostileTrees(t *testing.T) {
	outside := t.TempDir()
	if err := os.WriteFile(filepath.Join(outside, "secret"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	root := testtree.Lay(t, map[string]string{"good/Makefile": "", "bad\x1b[31m\n\xff/Makefile": ""})
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(os.Symlink(filepath.Join(outside, "secret"), filepath.Join(root, "link")))
	must(os.Symlink(root, filepath.Join(root, "good", "loop")))
	must(os.Symlink("nowhere", filepath.Join(root, "dangling")))
	must(syscall.Mkfifo(filepath.Join(root, "fifo"), 0o644))
	deep := root
	for range maxDepth + 10 {
		deep = filepath.Join(deep, "d")
	}
	must(os.MkdirAll(deep, 0o755))
	if os.Getuid() != 0 {
		must(os.Mkdir(filepath.Join(root, "locked"), 0))
	}
	seen := walk(t, root)
	if want := []string{"bad\x1b[31m\n\xff/Makefile", "good/Makefile"}; !slices.Equal(seen.Files, want) {
		t.Errorf("files %q", seen.Files)
	}
	told := map[string]string{}
	for _, f := range seen.Faults {
		told[f.File] = f.Message
	}
	for file, word := range map[string]string{"link": "out of the workspace", "fifo": "FIFO", "dangling": "does not exist"} {
		if !strings.Contains(told[file], word) {
			t.Errorf("%s: %q should say %q", file, told[file], word)
		}
	}
	if len(seen.Faults) < 4 {
		t.Errorf("the depth limit should be told too: %v", seen.Faults)
	}
	for _, rel := range []string{"link", "../" + filepath.Base(outside) + "/secret", "/etc/hostname", "fifo", "good/loop"} {
		if data, err := ReadDeclaration(root, rel); err == nil {
			t.Errorf("%s was read: %q", rel, data)
		}
	}
}

func TestRoot(t *testing.T) {
	root := testtree.Lay(t, map[string]string{
		"git/.git/HEAD": "", "git/a/b/x": "", "tally/tidytally.toml": "[workspace]\n", "tally/in/tidytally.toml": "[task.x]\n", "tally/in/y": "",
		"npm/package.json": `{"workspaces": ["p/*"]}`, "npm/p/one/package.json": "{}", "alone/z": "",
	})
	for in, want := range map[string]string{"git/a/b": "git", "tally/in": "tally", "npm/p/one": "npm", "alone": "alone"} {
		if got, err := Root(filepath.Join(root, in)); err != nil || got != filepath.Join(root, want) {
			t.Errorf("%s: got %s (%v), want %s", in, got, err, want)
		}
	}
	if _, err := Root(filepath.Join(root, "alone/z")); err == nil || !strings.Contains(err.Error(), "not a folder") {
		t.Errorf("a file is no workspace: %v", err)
	}
}

func TestWatcherTellsChanges(t *testing.T) {
	root := testtree.Lay(t, map[string]string{"a/Makefile": "", "b/x": ""})
	w, err := NewWatcher(root, func(name string) bool { return name == "Makefile" })
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	changed, ended := make(chan []string, 10), make(chan struct{})
	go func() {
		w.Run(ctx, func(paths []string) { changed <- paths }, nil)
		close(ended)
	}()
	w.Follow([]string{".", "a", "b"})
	expect := func(what string, do func() error) {
		t.Helper()
		// The folders are taken over by the watcher's own goroutine: the change
		// is made until it is seen.
		for range 50 {
			if err := do(); err != nil {
				t.Fatal(err)
			}
			select {
			case paths := <-changed:
				if len(paths) == 0 {
					t.Errorf("%s: it is not told what changed", what)
				}
				for _, p := range paths {
					if p != "a/Makefile" && !strings.HasPrefix(p, "new") {
						t.Errorf("%s: told is %s", what, p)
					}
				}
				return
			case <-time.After(200 * time.Millisecond):
			}
		}
		t.Fatalf("%s was not told", what)
	}
	n := 0
	expect("a changed Makefile", func() error {
		n++
		return os.WriteFile(filepath.Join(root, "a/Makefile"), []byte(fmt.Sprint(n)), 0o644)
	})
	expect("a new folder", func() error {
		n++
		return os.Mkdir(filepath.Join(root, fmt.Sprintf("new%d", n)), 0o755)
	})
	cancel()
	<-ended
}
