package makefile

import (
	"bufio"
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// makefile lays a file out as the Makefile of a folder of its own.
func makefile(t testing.TB, text string, more map[string]string) (root string, found declare.Found) {
	t.Helper()
	root = t.TempDir()
	for name, content := range more {
		path := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(root, "Makefile"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return root, Read(declare.NewWorkspace(root, nil).File("Makefile", []byte(text)))
}

type makeTruth struct {
	recipeAt map[string]place // where the recipe begins
	targets  []string
}

var recipeLine = regexp.MustCompile(`\(from '([^']*)', line (\d+)\)`)

// askMake reads the data base that make itself prints.
func askMake(t *testing.T, dir string) makeTruth {
	t.Helper()
	if _, err := exec.LookPath("make"); err != nil {
		t.Skip("make is not installed")
	}
	cmd := exec.Command("make", "-pnrR", "-f", "Makefile")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "LC_ALL=C", "MAKEFLAGS=")
	out, _ := cmd.Output() // it fails where there is nothing to compile
	truth := makeTruth{recipeAt: map[string]place{}}
	inFiles, notTarget := false, false
	last := ""
	for s := bufio.NewScanner(bytes.NewReader(out)); s.Scan(); {
		line := s.Text()
		switch {
		case strings.HasPrefix(line, "# Files"):
			inFiles = true
		case strings.HasPrefix(line, "# files hash-table"), strings.HasPrefix(line, "# VPATH"):
			inFiles = false
		case !inFiles:
		case line == "# Not a target:":
			notTarget = true
		case line == "":
			notTarget, last = false, ""
		case strings.HasPrefix(line, "#"), strings.HasPrefix(line, "\t"):
			if m := recipeLine.FindStringSubmatch(line); m != nil && last != "" {
				n, _ := strconv.Atoi(m[2])
				if _, double := truth.recipeAt[last]; !double {
					truth.recipeAt[last] = place{m[1], n}
				}
			}
		case !notTarget:
			// The colon behind the names is followed by a space, a colon or nothing.
			if i := regexp.MustCompile(`:(:| |$)`).FindStringIndex(line); i != nil && i[0] > 0 && !strings.Contains(line[:i[0]], "=") {
				line = line[:i[0]]
				name := strings.NewReplacer(`\:`, ":", `\ `, " ").Replace(line)
				last = name
				if !specialTarget(name) && !strings.HasSuffix(name, "Makefile") && !strings.HasSuffix(name, ".inc") && name != "missing.mk" {
					truth.targets = append(truth.targets, name)
				}
			}
		}
	}
	slices.Sort(truth.targets)
	truth.targets = slices.Compact(truth.targets)
	return truth
}

// The targets, and the places of their recipes, are those of make's own data
// base.
func TestMakeAgainstMake(t *testing.T) {
	read := func(name string) string {
		data, err := os.ReadFile(filepath.Join("testdata/make", name))
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	more := map[string]string{"part.inc": read("part.inc"), "sub/g.inc": read("sub/g.inc"), "a.c": "", "b.c": ""}
	for _, name := range []string{"plain.mk", "functions.mk", "includes.mk", "prefix.mk"} {
		text := read(name)
		root, found := makefile(t, text, more)
		truth := askMake(t, root)
		var got []string
		for _, k := range found.Tasks {
			got = append(got, k.Name)
		}
		slices.Sort(got)
		if !slices.Equal(got, truth.targets) || len(got) == 0 {
			t.Errorf("%s:\ngot  %q\nwant %q", name, got, truth.targets)
		}
		for _, f := range found.Faults {
			t.Errorf("%s: fault: %s", name, f)
		}
		for _, k := range found.Tasks {
			at := k.Origin("name")
			want, ok := truth.recipeAt[k.Name]
			if !ok || want.file != at.File {
				continue
			}
			lines := strings.Split(text, "\n")
			if at.File != "Makefile" {
				lines = strings.Split(more[at.File], "\n")
			}
			// Between the rule and its recipe stand only the lines it continues on.
			end := at.Line
			for end < len(lines) && strings.HasSuffix(lines[end-1], `\`) {
				end++
			}
			if strings.Contains(lines[end-1], ";") || strings.Contains(lines[end-1], "eval") {
				end--
			}
			if end+1 != want.line {
				t.Errorf("%s: %s is at %d, its recipe is at %d by make, by that line at %d", name, k.Name, at.Line, want.line, end+1)
			}
		}
	}
}

func find(t *testing.T, found declare.Found, name string) *task.Task {
	t.Helper()
	for _, k := range found.Tasks {
		if k.Name == name {
			return k
		}
	}
	t.Fatalf("no target %s", name)
	return nil
}

func TestMakeTells(t *testing.T) {
	_, found := makefile(t, `BOARD ?= mk2
FLAGS = -O2
NOW := $(shell date)
# Link the image
#
# of one board
image: main.o other ## Link it
	cc $(FLAGS) $(NOW) -D$(BOARD) main.o
other:
	true
main.o: main.c
	cc -c main.c
.PHONY: other
ifeq ($(shell date +%u),7)
sunday: ; true
else
weekday: ; true
endif
include rules.mk
`, map[string]string{"rules.mk": "# Sweeps\nsweep:\n\trm -f *.o\n"})
	image := find(t, found, "image")
	if image.About != "Link it" || image.Line != 7 || !slices.Equal(image.Prerequisites, []string{"other"}) || !image.Default || image.Hidden {
		t.Errorf("image: %+v", image)
	}
	if !slices.EqualFunc(image.Args, []task.Arg{{Name: "BOARD", Default: "mk2"}, {Name: "FLAGS", Default: "-O2"}, {Name: "NOW", About: "its default is known only when make runs"}},
		func(a, b task.Arg) bool { return a.Name == b.Name && a.Default == b.Default && a.About == b.About }) {
		t.Errorf("its arguments: %+v", image.Args)
	}
	if !find(t, found, "main.o").Hidden {
		t.Error("an object file is no goal")
	}
	// It is not known which of these there is.
	for name, want := range map[string]string{"sunday": "depends on ifeq ($(shell date +%u),7)", "weekday": "depends on the else of ifeq ($(shell date +%u),7)"} {
		if note := find(t, found, name).Origin("name").Note; note != want {
			t.Errorf("%s: note %q, want %q", name, note, want)
		}
	}
	sweep := find(t, found, "sweep")
	if o := sweep.Origin("name"); sweep.File != "Makefile" || sweep.Line != 19 || o.File != "rules.mk" || o.Line != 2 || sweep.About != "Sweeps" {
		t.Errorf("sweep: %+v, origin %+v", sweep, o)
	}
}

// Nothing is run by reading: neither shell functions nor != assignments.
func TestMakeRunsNothing(t *testing.T) {
	root, _ := makefile(t, "A := $(shell touch ran1)\nB != touch ran2\n$(eval C := $(shell touch ran3))\nall: $(shell touch ran4)\n\techo $(shell touch ran5)\n", nil)
	entries, err := os.ReadDir(root)
	if err != nil || len(entries) != 1 {
		t.Errorf("reading left %v behind (%v)", entries, err)
	}
}

func TestMakeFaultsHaveTheirPlace(t *testing.T) {
	for _, c := range []struct{ name, text, want string }{
		{"include cycle", "a: ; true\ninclude rules.mk\n", "rules.mk:1: include cycle through Makefile; the rest of the file was read"},
		{"missing include", "a: ; true\ninclude nothere.mk\nb: ; true\n", "Makefile:2: include nothere.mk: there is no such file; the rest of the file was read"},
		{"separator", "a: ; true\nthis is no rule\nb: ; true\n", "Makefile:2: missing separator; the rest of the file was read"},
		{"outside", "a: ; true\ninclude /etc/passwd\nb: ; true\n", "Makefile:2: include /etc/passwd: lies outside the workspace; it was not read"},
		{"unset", "a: ; true\ninclude $(TOP)/rules.mk\nb: ; true\n", "Makefile:2: include $(TOP)/rules.mk: $(TOP) is not set here; it was not read"},
		{"define", "a: ; true\nb: ; true\ndefine x\ny\n", "Makefile:3: missing endef: the definition of x is not closed"},
		{"recursion", "X = $(Y)\nY = $(X)\n$(X)a: ; true\nb: ; true\n", "Makefile:3: variable X refers to itself"},
	} {
		_, found := makefile(t, c.text, map[string]string{"rules.mk": "include Makefile\nb: ; true\n"})
		if len(found.Faults) != 1 || found.Faults[0].String() != c.want {
			t.Errorf("%s: faults %v, want %s", c.name, found.Faults, c.want)
		} else if guess := c.name == "outside" || c.name == "unset"; found.Faults[0].Limit != guess { // make itself may find it
			t.Errorf("%s: a limit of the reader: %v", c.name, found.Faults[0].Limit)
		}
		find(t, found, "b")
		find(t, found, "a")
	}
}

func FuzzMake(f *testing.F) {
	names, _ := filepath.Glob("testdata/make/*.mk")
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data)
	}
	f.Add([]byte("A=$(A)$(A)\n$(A):"))
	f.Add([]byte("define x\n$(eval $(call x))\nendef\n$(call x)"))
	f.Add([]byte("X=$(foreach a,1 2 3 4,$(foreach b,1 2 3 4,$(X)))\n$(X):;"))
	ws := declare.NewWorkspace(f.TempDir(), nil)
	f.Fuzz(func(t *testing.T, data []byte) {
		found := Read(ws.File("Makefile", data))
		for _, k := range found.Tasks {
			if k.Name == "" || strings.Contains(k.Name, declare.Unknown) || k.Line < 1 {
				t.Errorf("impossible: %+v", k)
			}
		}
	})
}

// What hangs on a condition that nobody can decide without running something is read
// with all that make may find: the targets are those that make has on one side, and
// those of the other.
func TestBothSidesAgainstMake(t *testing.T) {
	for name, text := range map[string]string{
		"a name that grows an ending": "B=tool\nT=$(shell cat side)\nifneq (,$(findstring left,$(T)))\nB:=$(B:=.exe)\nendif\nall: $(B)\n$(B): ; true\n",
		"a variable that is set":      "ifeq ($(shell cat side),left)\nNO_PY=1\nendif\nifndef NO_PY\npy: ; true\nendif\nafter: ; true\n",
		"a list that grows":           "L=one\nifeq ($(shell cat side),left)\nL+=two\nelse\nL+=three\nendif\nall: $(L)\n$(L): ; true\n",
		"decided again":               "X=a\nifeq ($(shell cat side),left)\nX=b\nendif\nX=c\n$(X): ; true\n",
		"a condition on a condition":  "ifeq ($(shell cat side),left)\nA=on\nendif\nifeq ($(A),on)\nB=x\nelse\nB=y\nendif\n$(B).o $(B): ; true\n",
		"a recipe below":              "ifeq ($(shell cat side),left)\nA=l\nelse\nA=r\nendif\n$(A):\n\ttrue\n\techo\n",
	} {
		root, found := makefile(t, text, map[string]string{"side": "left"})
		var got, want []string
		for _, k := range found.Tasks {
			got = append(got, k.Name)
		}
		for _, side := range []string{"left", "right"} {
			if err := os.WriteFile(filepath.Join(root, "side"), []byte(side), 0o644); err != nil {
				t.Fatal(err)
			}
			want = append(want, askMake(t, root).targets...)
		}
		slices.Sort(got)
		slices.Sort(want)
		if want = slices.Compact(want); !slices.Equal(got, want) {
			t.Errorf("%s: got %q, make has %q", name, got, want)
		}
		for _, f := range found.Faults {
			t.Errorf("%s: %s", name, f)
		}
	}
}

func TestFoldersOfAWildcard(t *testing.T) {
	root, found := makefile(t, "D := $(wildcard */)\n$(D): ; true\n", map[string]string{"aa/x": "", "bb/y": "", "file": ""})
	var got []string
	for _, k := range found.Tasks {
		got = append(got, k.Name)
	}
	slices.Sort(got)
	if want := askMake(t, root).targets; !slices.Equal(got, want) || len(got) != 2 {
		t.Errorf("got %q, make has %q", got, want)
	}
}
