package workspace

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tidytally/internal/testtree"
)

// Each kind of rule can be switched off by the name that it is shown by.
func TestRulesCanBeSwitchedOff(t *testing.T) {
	root := testtree.Lay(t, map[string]string{
		".git/info/exclude": "private/\n", ".gitignore": "*.log\n", "a/.gitignore": "gen/\n",
		"node_modules/x/f": "", "venv/pyvenv.cfg": "", "private/f": "", "x.log": "", "a/gen/f": "", "src/f": "",
	})
	for off, back := range map[string]string{
		"":                     "",
		"dependency folders":   "node_modules/x/f",
		"virtual environments": "venv/pyvenv.cfg",
		".git/info/exclude":    "private/f",
		".gitignore":           "x.log",
		"a/.gitignore":         "a/gen/f",
	} {
		seen := walk(t, root, func(w *Walk) { w.Off = map[string]bool{off: true} })
		want := []string{"src/f"}
		if back != "" {
			want = append(want, back)
		}
		slices.Sort(want)
		if !slices.Equal(seen.Files, want) {
			t.Errorf("without %q: %v, want %v", off, seen.Files, want)
		}
	}
}

// The user's own ignore file is the one that git's configuration names.
func TestTheUsersIgnoreFileIsGits(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is not installed")
	}
	for name, c := range map[string]struct{ config, value string }{
		"a path":        {"[core]\n\texcludesFile = %h/mine\n", "mine"},
		"in quotes":     {"# mine\n[user]\nname = x\n[CORE]\n  excludesfile = \"%h/my ignores\" ; that\n", "my ignores"},
		"below home":    {"[core] excludesFile = ~/mine\n", "mine"},
		"not set":       {"[core]\n\teditor = vi\n", ".config/git/ignore"},
		"another one's": {"[corex]\nexcludesFile = %h/no\n", ".config/git/ignore"},
	} {
		t.Run(name, func(t *testing.T) {
			home := t.TempDir()
			t.Setenv("HOME", home)
			t.Setenv("XDG_CONFIG_HOME", "")
			t.Setenv("GIT_CONFIG_NOSYSTEM", "1")
			for file, text := range map[string]string{".gitconfig": strings.ReplaceAll(c.config, "%h", home), c.value: "*.secret\n"} {
				full := filepath.Join(home, file)
				if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
					t.Fatal(err)
				}
				if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			root := testtree.Lay(t, map[string]string{"a.secret": "", "b": ""})
			out, err := exec.Command("git", "-C", root, "init", "-q").CombinedOutput()
			if err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			out, err = exec.Command("git", "-C", root, "ls-files", "--others", "--exclude-standard").Output()
			if err != nil {
				t.Fatal(err)
			}
			if got, want := walk(t, root).Files, strings.Fields(string(out)); !slices.Equal(got, want) {
				t.Errorf("got %v, git says %v", got, want)
			}
		})
	}
}

// An update looks only where it is told to, and finds what came, went and
// changed its rules there.
func TestATreeIsUpdatedWhereItChanged(t *testing.T) {
	root := testtree.Lay(t, map[string]string{"a/f": "", "a/b/f": "", "c/f": "", "node_modules/x": ""})
	tree := Walk{Root: root, Wants: func(_, name string) bool { return name != ".gitignore" }}.Prepare()
	if err := tree.Run(); err != nil {
		t.Fatal(err)
	}
	seen := tree.Seen()
	if again := tree.Seen(); again != seen {
		t.Error("nothing has changed, and all is gathered anew")
	}
	step := func(what string, do func() error, changed []string, want ...string) {
		t.Helper()
		if err := do(); err != nil {
			t.Fatal(err)
		}
		if err := tree.Update(changed); err != nil {
			t.Fatal(err)
		}
		slices.Sort(want)
		if got := tree.Seen().Files; !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", what, got, want)
		}
	}
	at := func(name string) string { return filepath.Join(root, name) }
	step("a file's content", func() error { return os.WriteFile(at("a/f"), []byte("x"), 0o644) }, []string{"a/f"}, "a/f", "a/b/f", "c/f")
	if again := tree.Seen(); again != seen {
		t.Error("a file's content is nothing that a walk sees")
	}
	step("a new folder", func() error {
		if err := os.MkdirAll(at("c/d/e"), 0o755); err != nil {
			return err
		}
		return os.WriteFile(at("c/d/e/f"), nil, 0o644)
	}, []string{"c/d"}, "a/f", "a/b/f", "c/f", "c/d/e/f")
	step("an ignore file", func() error { return os.WriteFile(at("a/.gitignore"), []byte("b/\n"), 0o644) }, []string{"a/.gitignore"}, "a/f", "c/f", "c/d/e/f")
	step("which goes again", func() error { return os.Remove(at("a/.gitignore")) }, []string{"a/.gitignore"}, "a/f", "a/b/f", "c/f", "c/d/e/f")
	step("a folder that goes", func() error { return os.RemoveAll(at("c")) }, []string{"c"}, "a/f", "a/b/f")
	step("one that is not told", func() error { return os.WriteFile(at("late"), nil, 0o644) }, []string{"a"}, "a/f", "a/b/f", "late")
	step("a folder that becomes a virtual environment", func() error { return os.WriteFile(at("a/pyvenv.cfg"), nil, 0o644) }, []string{"a/pyvenv.cfg"}, "late")
	if skipped := tree.Seen().Skipped; len(skipped) != 2 || skipped[0].Path != "a" || skipped[0].Files != 3 {
		t.Errorf("kept out: %v", skipped)
	}
}

// A folder that goes and comes again without its ignore file: what that ignored further down
// is found by an update too.
func TestAnIgnoreFileThatWentWithItsFolder(t *testing.T) {
	root := t.TempDir()
	testtree.Fill(t, root, map[string]string{"a/.gitignore": "*.sh\n", "a/p/run.sh": "x", "a/p/Makefile": "x"})
	walk := Walk{Root: root, Wants: func(_, name string) bool { return true }}
	tree := walk.Prepare()
	if err := tree.Run(); err != nil {
		t.Fatal(err)
	}
	if err := os.RemoveAll(filepath.Join(root, "a")); err != nil {
		t.Fatal(err)
	}
	testtree.Fill(t, root, map[string]string{"a/p/run.sh": "x", "a/p/Makefile": "x"})
	for _, changed := range [][]string{{"a"}, {"a/p", "a"}, {"a/p/run.sh"}} {
		if err := tree.Update(changed); err != nil {
			t.Fatal(err)
		}
	}
	if got := tree.Seen().Files; !slices.Equal(got, []string{"a/p/Makefile", "a/p/run.sh"}) {
		t.Errorf("seen %v", got)
	}
}
