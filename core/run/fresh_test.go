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
	"tidytally/core/task"
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
		name: "C", command: []string{"make", "-s"}, few: 6,
		files: map[string]string{
			"Makefile":  "CFLAGS = -O0 -Iinc -Isrc\nprog: a.o b.o\n\t$(CC) -o $@ a.o b.o && ./prog\n%.o: src/%.c inc/one.h src/two.h\n\t$(CC) $(CFLAGS) -c -o $@ $<\n",
			"src/a.c":   "#include <stdio.h>\n#include <one.h>\n#include <two.h>\nint b(void);\nint main(void) { printf(\"%d\\n\", ONE + TWO + b()); return 0; }\n",
			"src/b.c":   "#include <one.h>\nint b(void) { return ONE; }\n",
			"inc/one.h": "#define ONE 1\n", "src/two.h": "#define TWO 2\n", "docs/notes.txt": "nothing of it\n",
		},
		shadow: map[string]string{"inc/two.h": "#define TWO 22\n", "GNUmakefile": "all:\n\t@echo another\n"}, results: []string{"a.o", "b.o", "prog"},
	},
	{
		name: "Go", command: []string{"go", "test", "./..."}, few: 1, ignore: regexp.MustCompile(`\t(\(cached\)|[0-9.]+s)`),
		files: map[string]string{
			"go.mod": "module kiln\n\ngo 1.24\n", "cone.go": "package kiln\n\nfunc Cone() int { return ramp() }\n", "ramp.go": "package kiln\n\nfunc ramp() int { return 6 }\n",
			"cone_test.go":  "package kiln\n\nimport (\n\t\"os\"\n\t\"testing\"\n)\n\nfunc TestCone(t *testing.T) {\n\tif text, err := os.ReadFile(\"testdata/cone\"); err != nil || len(text) != 2 || Cone() < 1 {\n\t\tt.Fatal(err, Cone(), string(text))\n\t}\n}\n",
			"testdata/cone": "6\n", "docs/notes.txt": "nothing of it\n",
		},
		shadow: map[string]string{"ramp_linux.go": "package kiln\n\nfunc init() { panic(\"another\") }\n", "more_test.go": "package kiln\n\nimport \"testing\"\n\nfunc TestMore(t *testing.T) { t.Fatal() }\n"},
	},
	{
		name: "Python", command: []string{"python3", "-B", "-m", "unittest"}, few: 3, ignore: regexp.MustCompile(`in [0-9.]+s`),
		files: map[string]string{
			"glaze/__init__.py": "from .mix import parts\n", "glaze/mix.py": "import json\ndef parts():\n    return json.load(open('data/house.json'))['parts']\n", "data/house.json": "{\"parts\": 3}\n",
			"test_glaze.py": "import unittest, glaze\nclass T(unittest.TestCase):\n    def test(self):\n        print(glaze.parts())\n        self.assertGreater(glaze.parts(), 0)\n", "docs/notes.txt": "nothing of it\n",
		},
		shadow: map[string]string{"json.py": "def load(f): return {'parts': 33}\n", "test_more.py": "import unittest\nclass T(unittest.TestCase):\n    def test(self): print('more')\n", "glaze/mix/__init__.py": "def parts(): return 333\n"},
	},
	{
		name: "JavaScript", command: []string{"node", "build.mjs"}, few: 3,
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
	s := takingUp(t, "[task.build]\nrun = ["+strings.Join(quoted, ", ")+"]\n", k.files)
	s.super.opts.Terminal = false
	random := rand.New(rand.NewPCG(7, uint64(len(k.name))))
	n := k.few
	if *edits > 0 {
		n = *edits
	}
	build := func(watched bool) bool {
		t.Helper()
		s.super.opts.Learn = watched
		return s.finish(s.start("build")).State == OK
	}
	for range 2 {
		if !build(true) || s.known == nil || s.known.Never != "" {
			t.Fatalf("the first builds: %+v", s.known)
		}
	}
	good, sources := clean(t, k, s.root), k.sources(s.root)
	var kept []string // edits that are to be put back
	needless, unknown, checked := 0, 0, 0
	for i := range n {
		what := editTree(t, k, s.root, random)
		kept = append(kept, what)
		o := plan.OutlookOf(s.tasks[0], learn.Records{learn.Watched: s.known}, s.root, s.super.ctx.SettingOf(s.tasks[0]))
		now := clean(t, k, s.root)
		checked++
		switch {
		case o.State == plan.Fresh && now != good:
			t.Fatalf("edit %d, %s: said to be fresh, and a clean run does something else:\n%s\nbefore:\n%s\nall edits: %q", i, what, now, good, kept)
		case o.State == plan.Unknown && s.known.Unsure == "":
			t.Fatalf("edit %d, %s: unknown: %v", i, what, o.Why)
		case o.State == plan.Unknown:
			unknown++
			for _, name := range k.results {
				if err := os.RemoveAll(filepath.Join(s.root, name)); err != nil {
					t.Fatal(err)
				}
			}
			if build(true) {
				good, sources = clean(t, k, s.root), k.sources(s.root)
			}
			continue
		case o.State == plan.Needed && now == good && k.sources(s.root) == sources && !k.wouldDo(s.root):
			needless++
			t.Logf("edit %d, %s: stale without need: %v", i, what, o.Why)
		}
		if o.State != plan.Needed {
			continue
		}
		if build(random.IntN(2) == 0) {
			good, sources = clean(t, k, s.root), k.sources(s.root)
		}
	}
	if needless*20 > checked && needless > 1 {
		t.Errorf("%d of %d said to be stale without need", needless, checked)
	}
	t.Logf("%d edits, %d stale without need, %d unknown after a run that was not watched", checked, needless, unknown)
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

// takesUp tries what is known of a task after good runs that are not watched: the first one is.
type takesUp struct {
	*setting
	t     *testing.T
	known *learn.Known
}

func takingUp(t *testing.T, toml string, files map[string]string) *takesUp {
	t.Helper()
	if _, err := tracer(); err != nil {
		t.Skip(err)
	}
	x := &takesUp{t: t}
	x.setting = with(t, toml, Options{
		Learned: func(_ *Run, k *learn.Known, err error) {
			if x.known = k; err != nil {
				t.Error(err)
			}
		},
		Known: func(*task.Task) learn.Records { return learn.Records{learn.Watched: x.known} },
	})
	testtree.Fill(t, x.root, files)
	return x
}

// run runs the task and ends the test unless that goes well.
func (x *takesUp) run(watched bool) {
	x.t.Helper()
	x.super.opts.Learn = watched
	if snap := x.finish(x.start("build")); snap.State != OK || x.known == nil {
		x.t.Fatalf("%s, known %v\n%s", snap.Words(), x.known, printed(x.t, snap))
	}
}

func (x *takesUp) look() string {
	x.t.Helper()
	p, err := x.super.ctx.Prepare(x.tasks[0], nil)
	if err != nil {
		x.t.Fatal(err)
	}
	o := plan.OutlookOf(x.tasks[0], learn.Records{learn.Watched: x.known}, x.root, p.Now)
	return strings.TrimSpace(string(o.State) + " " + strings.Join(o.Why, ", "))
}

// After a good run that nobody watched a build is fresh, or it is said why that is not known: never stale, and never
// fresh when it reads something else than the watched run did.
func TestAGoodRunThatIsNotWatched(t *testing.T) {
	t.Parallel()
	const rules = "CFLAGS = -O0 -Iinc\nprog: a.o b.o\n\t$(CC) -o $@ a.o b.o\n%.o: src/%.c inc/one.h\n\t$(CC) $(CFLAGS) -c -o $@ $<\n"
	files := map[string]string{
		"Makefile": rules, "inc/one.h": "#define ONE 1\n", "inc/two.h": "#define TWO 2\n", "inc/other.h": "#define OTHER 3\n", // which the makefile does not know
		"src/a.c": "#include <one.h>\n#include <two.h>\nint b(void);\nint main(void) { return ONE + TWO + b(); }\n", "src/b.c": "#include <one.h>\nint b(void) { return ONE; }\n",
	}
	for _, c := range []struct{ name, file, text, want string }{
		{"nothing", "", "", "fresh"},
		{"a body", "src/b.c", "#include <one.h>\nint b(void) { return ONE + 1; }\n", "fresh"},
		{"the same once more", "src/b.c", files["src/b.c"], "fresh"},
		{"a header that make looks at", "inc/one.h", "#define ONE 11\n", "unknown inc/one.h changed before"}, // a macro may be what is included
		{"a header that make does not look at", "inc/two.h", "\n#define TWO 2\n", "unknown inc/two.h changed, and its last good run, which was not watched, may have left out"},
		{"another include", "src/b.c", "#include <one.h>\n#include <other.h>\nint b(void) { return ONE; }\n", "unknown src/b.c changed before its last good run, which was not watched; watch one"},
		{"an include that is in a comment now", "src/a.c", "/*\n#include <one.h>\n*/\n#include <two.h>\nint b(void);\nint main(void) { return TWO + b(); }\n", "unknown src/a.c changed before"},
		{"a comment", "src/a.c", "/*\n#include <other.h>\n*/\n" + files["src/a.c"], "fresh"},
		{"the rules", "Makefile", rules + "# other\n", "unknown Makefile changed before"},
		{"a file in a folder that make listed", "src/one.h", "", "unknown files in src came or went before"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			x := takingUp(t, "[task.build]\nrun = [\"make\"]\n", files)
			x.run(true)
			if c.file != "" {
				testtree.Fill(t, x.root, map[string]string{c.file: c.text})
			}
			x.run(false)
			if got := x.look(); !strings.HasPrefix(got, c.want) || c.want == "fresh" && got != c.want {
				t.Errorf("%q, want %q", got, c.want)
			}
			// Whatever it was, a change after it is seen, and so is a change that is taken back.
			if testtree.Fill(t, x.root, map[string]string{"src/a.c": files["src/a.c"] + "int c;\n"}); c.want == "fresh" {
				if got := x.look(); got != "run src/a.c changed" {
					t.Errorf("then %q", got)
				}
			} else if got := x.look(); !strings.HasPrefix(got, "unknown") {
				t.Errorf("then %q", got)
			}
		})
	}
	t.Run("what runs what it makes", func(t *testing.T) {
		t.Parallel()
		x := takingUp(t, "[task.build]\nrun = \"cc -o prog prog.c && ./prog\"\n", map[string]string{"prog.c": "int main(void) { return 0; }\n"})
		x.run(true)
		testtree.Fill(t, x.root, map[string]string{"prog.c": "int main(void) { return 0 ; }\n"})
		if x.run(false); !strings.Contains(x.look(), "executes what it makes") {
			t.Error(x.look())
		}
		if x.run(true); x.look() != "fresh" {
			t.Errorf("watched again: %s", x.look())
		}
	})
	t.Run("after one that failed", func(t *testing.T) {
		t.Parallel()
		x := takingUp(t, "[task.build]\nrun = [\"make\", \"-k\"]\n", files)
		x.run(true)
		testtree.Fill(t, x.root, map[string]string{"src/a.c": files["src/a.c"] + "int c;\n", "src/b.c": "#include <one.h>\nint b(void) { return TWO; }\n"})
		x.super.opts.Learn = false
		if snap := x.finish(x.start("build")); snap.State != Failed {
			t.Fatal(snap.Words())
		}
		if got := x.look(); !strings.HasPrefix(got, "run src/a.c changed, src/b.c changed") {
			t.Error(got)
		}
		testtree.Fill(t, x.root, map[string]string{"src/b.c": files["src/b.c"]})
		if x.run(false); x.look() != "fresh" { // of which the one that failed did a part
			t.Error(x.look())
		}
	})
	t.Run("after one with another setting", func(t *testing.T) {
		t.Parallel()
		x := takingUp(t, "[task.build]\nrun = [\"make\"]\n", files)
		x.run(true)
		testtree.Fill(t, x.root, map[string]string{"src/b.c": files["src/b.c"] + "int c;\n"})
		x.super.opts.Learn = false
		j, err := x.super.Start(x.tasks, x.tasks[0], []string{"CFLAGS=-O1 -Iinc"})
		if err != nil {
			t.Fatal(err)
		}
		if snap := x.finish(j); snap.State != OK {
			t.Fatal(snap.Words())
		}
		if x.run(false); !strings.HasPrefix(x.look(), "unknown b.o, which it made, has changed before") { // make finds nothing to do
			t.Error(x.look())
		}
	})
	t.Run("what a depfile names", func(t *testing.T) {
		t.Parallel()
		x := takingUp(t, "[task.build]\nrun = [\"make\"]\n", map[string]string{
			"Makefile": "prog: a.o b.o\n\t$(CC) -o $@ a.o b.o\n%.o: %.c\n\t$(CC) -MMD -c -o $@ $<\n-include a.d b.d\n",
			"a.h":      "int a(void);\n", "b.h": "int b(void);\n", "a.c": "#include \"a.h\"\nint main(void) { return 0; }\n", "b.c": "#include \"b.h\"\n",
		})
		x.run(true)
		testtree.Fill(t, x.root, map[string]string{"a.h": "int a(void); int aa(void);\n"})
		if x.run(false); x.look() != "fresh" {
			t.Error(x.look())
		}
		testtree.Fill(t, x.root, map[string]string{"a.h": "int a(void);\n#define A\n"})
		if x.run(false); !strings.HasPrefix(x.look(), "unknown a.h changed") {
			t.Error(x.look())
		}
		testtree.Fill(t, x.root, map[string]string{"a.h": "int a(void);\n"})
		if x.run(true); x.look() != "fresh" { // what was in doubt was compiled
			t.Error(x.look())
		}
	})
	t.Run("what the go command makes", func(t *testing.T) {
		t.Parallel()
		x := takingUp(t, "[task.build]\nrun = \"go build -o prog .\"\nenv = { XDG_CONFIG_HOME = \""+testtree.Folder(t)+"\", GOFLAGS = \"-buildvcs=false\" }\n", map[string]string{
			"go.mod": "module kiln\n\ngo 1.24\n", "main.go": "package main\n\nfunc main() { println(cone()) }\n", "cone.go": "package main\n\nfunc cone() int { return 6 }\n",
		})
		if x.run(true); x.look() != "fresh" {
			t.Fatal(x.look())
		}
		testtree.Fill(t, x.root, map[string]string{"cone.go": "package main\n\nfunc cone() int { return 7 }\n"})
		if x.run(false); x.look() != "fresh" {
			t.Error(x.look())
		}
		testtree.Fill(t, x.root, map[string]string{"cone.go": "package main\n\nimport _ \"embed\"\n\nfunc cone() int { return 7 }\n"})
		if x.run(false); !strings.HasPrefix(x.look(), "unknown cone.go changed before") {
			t.Error(x.look())
		}
	})
}

// A watched run that does a part of the work adds to what is known; one that does all of it says anew what it reads.
func TestWhatIsKnownIsAddedTo(t *testing.T) {
	t.Parallel()
	files := map[string]string{
		"Makefile": "prog: a.o b.o\n\t$(CC) -o $@ a.o b.o\n%.o: %.c\n\t$(CC) -c -o $@ $<\n",
		"a.h":      "", "b.h": "", "a.c": "#include \"a.h\"\nint main(void) { return 0; }\n", "b.c": "#include \"b.h\"\nint b;\n",
	}
	x := takingUp(t, "[task.build]\nrun = [\"make\"]\n", files)
	x.run(true)
	testtree.Fill(t, x.root, map[string]string{"b.c": files["b.c"] + "\n"})
	if x.run(true); x.look() != "fresh" {
		t.Error(x.look())
	}
	testtree.Fill(t, x.root, map[string]string{"a.h": "\n"}) // which the second run did not read
	if got := x.look(); got != "run a.h changed" {
		t.Errorf("a header of the part that was not done: %s", got)
	}
	if x.run(true); x.look() != "run a.h changed" { // make knows nothing of it: prog is not what the sources say
		t.Error(x.look())
	}
	testtree.Fill(t, x.root, map[string]string{"a.c": "int main(void) { return 1; }\n", "b.c": files["b.c"]})
	if x.run(true); x.look() != "fresh" {
		t.Errorf("all made anew: %s", x.look())
	}
	testtree.Fill(t, x.root, map[string]string{"a.h": "\n\n"})
	if got := x.look(); got != "fresh" {
		t.Errorf("what nothing reads any longer: %s", got)
	}
}
