package run

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/internal/testtree"
)

var edits = flag.Int("edits", 0, "how many random edits of each build are tried; 0 for a few")

// kit is a build that edits are tried on.
type kit struct {
	name    string
	command []string
	files   map[string]string
	shadow  map[string]string // files that come before others where they are looked for
	results []string          // what it makes: taken away before a clean run
	few     int               // edits, where nothing else is asked for
	ignore  *regexp.Regexp    // what is never twice the same in what it prints
}

var kits = []kit{
	{
		name: "C", command: []string{"make", "-s"}, few: 16,
		files: map[string]string{
			"Makefile":  "CFLAGS = -O0 -Iinc -Isrc\nprog: a.o b.o\n\t$(CC) -o $@ a.o b.o && ./prog\n%.o: src/%.c inc/one.h src/two.h\n\t$(CC) $(CFLAGS) -c -o $@ $<\n",
			"src/a.c":   "#include <stdio.h>\n#include <one.h>\n#include <two.h>\nint b(void);\nint main(void) { printf(\"%d\\n\", ONE + TWO + b()); return 0; }\n",
			"src/b.c":   "#include <one.h>\nint b(void) { return ONE; }\n",
			"inc/one.h": "#define ONE 1\n", "src/two.h": "#define TWO 2\n", "docs/notes.txt": "nothing of it\n",
		},
		shadow: map[string]string{"inc/two.h": "#define TWO 22\n", "GNUmakefile": "all:\n\t@echo another\n"}, results: []string{"a.o", "b.o", "prog"},
	},
	{
		name: "Go", command: []string{"go", "test", "./..."}, few: 2, ignore: regexp.MustCompile(`\t(\(cached\)|[0-9.]+s)`),
		files: map[string]string{
			"go.mod": "module kiln\n\ngo 1.24\n", "cone.go": "package kiln\n\nfunc Cone() int { return ramp() }\n", "ramp.go": "package kiln\n\nfunc ramp() int { return 6 }\n",
			"cone_test.go":  "package kiln\n\nimport (\n\t\"os\"\n\t\"testing\"\n)\n\nfunc TestCone(t *testing.T) {\n\tif text, err := os.ReadFile(\"testdata/cone\"); err != nil || len(text) != 2 || Cone() < 1 {\n\t\tt.Fatal(err, Cone(), string(text))\n\t}\n}\n",
			"testdata/cone": "6\n", "docs/notes.txt": "nothing of it\n",
		},
		shadow: map[string]string{"ramp_linux.go": "package kiln\n\nfunc init() { panic(\"another\") }\n", "more_test.go": "package kiln\n\nimport \"testing\"\n\nfunc TestMore(t *testing.T) { t.Fatal() }\n"},
	},
	{
		name: "Python", command: []string{"python3", "-B", "-m", "unittest"}, few: 8, ignore: regexp.MustCompile(`in [0-9.]+s`),
		files: map[string]string{
			"glaze/__init__.py": "from .mix import parts\n", "glaze/mix.py": "import json\ndef parts():\n    return json.load(open('data/house.json'))['parts']\n", "data/house.json": "{\"parts\": 3}\n",
			"test_glaze.py": "import unittest, glaze\nclass T(unittest.TestCase):\n    def test(self):\n        print(glaze.parts())\n        self.assertGreater(glaze.parts(), 0)\n", "docs/notes.txt": "nothing of it\n",
		},
		shadow: map[string]string{"json.py": "def load(f): return {'parts': 33}\n", "test_more.py": "import unittest\nclass T(unittest.TestCase):\n    def test(self): print('more')\n", "glaze/mix/__init__.py": "def parts(): return 333\n"},
	},
	{
		name: "JavaScript", command: []string{"node", "build.mjs"}, few: 8,
		files: map[string]string{
			"package.json": "{\"type\": \"module\"}\n", "build.mjs": "import fs from 'node:fs';\nimport { head } from './lib/head.js';\nlet out = head;\nfor (const f of fs.readdirSync('src').sort()) out += fs.readFileSync('src/' + f);\nfs.mkdirSync('dist', { recursive: true });\nfs.writeFileSync('dist/all.js', out);\nconsole.log(out.length, fs.existsSync('shout'));\n",
			"lib/head.js": "export const head = '// glazes\\n';\n", "src/a.js": "a();\n", "src/b.js": "b();\n", "docs/notes.txt": "nothing of it\n",
		},
		shadow: map[string]string{"src/c.js": "c();\n", "shout": "", "lib/package.json": "{\"type\": \"commonjs\"}\n"}, results: []string{"dist"},
	},
}

// After each of many random edits, what is said of a build is compared with what a run of it from clean
// does in a copy: it is never said to be fresh when that prints, writes or exits otherwise than
// the last good run did. It is seldom said to be stale when no source differs from those of that run and the
// build tool would do nothing.
func TestRandomEditsAgainstCleanRuns(t *testing.T) {
	for _, k := range kits {
		t.Run(k.name, func(t *testing.T) {
			if _, err := exec.LookPath(k.command[0]); err != nil {
				t.Skip(err)
			}
			t.Parallel()
			tryEdits(t, &k)
		})
	}
}

func tryEdits(t *testing.T, k *kit) {
	quoted := make([]string, len(k.command))
	for i, w := range k.command {
		quoted[i] = fmt.Sprintf("%q", w)
	}
	s, l := watching(t, "[task.build]\nrun = ["+strings.Join(quoted, ", ")+"]\n")
	s.super.opts.Terminal = false
	testtree.Fill(t, s.root, k.files)
	random := rand.New(rand.NewPCG(7, uint64(len(k.name))))
	n := k.few
	if *edits > 0 {
		n = *edits
	}
	build := func() bool {
		t.Helper()
		snap := s.finish(s.start("build"))
		if l.err != nil {
			t.Fatal(l.err)
		}
		return snap.State == OK
	}
	for range 2 {
		if !build() || l.known == nil || l.known.Never != "" {
			t.Fatalf("the first builds: %+v", l.known)
		}
	}
	good, sources := clean(t, k, s.root), k.sources(s.root)
	var kept []string // edits that are to be put back
	needless, checked := 0, 0
	for i := range n {
		what := editTree(t, k, s.root, random)
		kept = append(kept, what)
		o := plan.OutlookOf(s.tasks[0], learn.Records{learn.Watched: l.known}, s.root, func() (learn.Setting, error) {
			p, err := s.super.ctx.Prepare(s.tasks[0], nil)
			return p.Setting(), err
		})
		now := clean(t, k, s.root)
		checked++
		switch {
		case o.State == plan.Fresh && now != good:
			t.Fatalf("edit %d, %s: said to be fresh, and a clean run does something else:\n%s\nbefore:\n%s\nall edits: %q", i, what, now, good, kept)
		case o.State == plan.Unknown:
			t.Fatalf("edit %d, %s: unknown: %v", i, what, o.Why)
		case o.State == plan.Needed && now == good && k.sources(s.root) == sources && !k.wouldDo(s.root):
			needless++
			t.Logf("edit %d, %s: stale without need: %v", i, what, o.Why)
		}
		if o.State == plan.Needed && build() {
			good, sources = clean(t, k, s.root), k.sources(s.root)
		}
	}
	if needless*20 > checked && needless > 1 {
		t.Errorf("%d of %d said to be stale without need", needless, checked)
	}
	t.Logf("%d edits, %d stale without need", checked, needless)
}

// sources returns all that a build could depend on.
func (k *kit) sources(root string) string {
	var b strings.Builder
	for _, files := range []map[string]string{k.files, k.shadow} {
		for name := range files {
			if text, err := os.ReadFile(filepath.Join(root, filepath.FromSlash(name))); err == nil && !strings.HasPrefix(name, "docs/") {
				fmt.Fprintf(&b, "%s %q\n", name, text)
			}
		}
	}
	lines := strings.Split(b.String(), "\n")
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// wouldDo reports whether the build itself would do something: make goes by time stamps.
func (k *kit) wouldDo(root string) bool {
	if k.command[0] != "make" {
		return false
	}
	cmd := exec.Command("make", "-q")
	cmd.Dir = root
	return cmd.Run() != nil
}

// editTree changes something of a tree at random, and says what.
func editTree(t *testing.T, k *kit, root string, random *rand.Rand) string {
	t.Helper()
	names := slices.Sorted(func(yield func(string) bool) {
		for name := range k.files {
			if !yield(name) {
				return
			}
		}
	})
	shadows := slices.Sorted(func(yield func(string) bool) {
		for name := range k.shadow {
			if !yield(name) {
				return
			}
		}
	})
	name := names[random.IntN(len(names))]
	at := func(name string) string { return filepath.Join(root, filepath.FromSlash(name)) }
	write := func(name, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(at(name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at(name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	takeAway := func(name string) { // with its folder, if that came with it
		os.Remove(at(name))
		if !slices.ContainsFunc(names, func(own string) bool { return path.Dir(own) == path.Dir(name) }) {
			os.Remove(filepath.Dir(at(name)))
		}
	}
	there := func(name string) bool { _, err := os.Stat(at(name)); return err == nil }
	switch random.IntN(8) {
	case 0:
		if there(name) {
			now := time.Now()
			if err := os.Chtimes(at(name), now, now); err != nil {
				t.Fatal(err)
			}
		}
		return "touch " + name
	case 1:
		write(name, k.files[name]+comment(name))
		return "a comment in " + name
	case 2:
		text := k.files[name]
		write(name, text+"x")
		write(name, text)
		return "edit and put back " + name
	case 3: // a number is another one
		write(name, regexp.MustCompile(`[0-9]+`).ReplaceAllStringFunc(k.files[name], func(n string) string { return n + fmt.Sprint(random.IntN(3)) }))
		return "numbers in " + name
	case 4:
		if err := os.Remove(at(name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			t.Fatal(err)
		}
		return "remove " + name
	case 5:
		name = shadows[random.IntN(len(shadows))]
		write(name, k.shadow[name])
		return "new " + name
	case 6:
		name = shadows[random.IntN(len(shadows))]
		takeAway(name)
		return "no " + name
	}
	for _, name := range names { // all as at first: builds are good more often than not
		if text, err := os.ReadFile(at(name)); err != nil || string(text) != k.files[name] {
			write(name, k.files[name])
		}
	}
	for _, name := range shadows {
		takeAway(name)
	}
	return "all put back"
}

// comment is a line that means nothing in a file.
func comment(name string) string {
	switch filepath.Ext(name) {
	case ".c", ".h", ".go", ".js", ".mjs", ".mod":
		return "// nothing\n"
	case ".json":
		return "\n"
	}
	return "# nothing\n"
}

// clean runs the build from clean in a copy of the tree, and returns all that it did: what it printed, how
// it ended, and what it made.
func clean(t *testing.T, k *kit, root string) string {
	t.Helper()
	work := filepath.Join(testtree.Folder(t), "tree")
	if out, err := exec.Command("cp", "-a", root, work).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	defer os.RemoveAll(work)
	for _, name := range k.results {
		if err := os.RemoveAll(filepath.Join(work, name)); err != nil {
			t.Fatal(err)
		}
	}
	cmd := exec.Command(k.command[0], k.command[1:]...)
	cmd.Dir = work
	out, _ := cmd.CombinedOutput()
	if k.ignore != nil {
		out = k.ignore.ReplaceAll(out, nil)
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s\nexit %d\n", bytes.ReplaceAll(out, []byte(work), []byte("TREE")), cmd.ProcessState.ExitCode())
	for _, name := range k.results {
		_ = filepath.WalkDir(filepath.Join(work, name), func(path string, d fs.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				text, _ := os.ReadFile(path)
				rel, _ := filepath.Rel(work, path)
				fmt.Fprintf(&b, "%s %x\n", rel, learn.HashOf(string(text)))
			}
			return nil
		})
	}
	return b.String()
}
