package learn

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tidytally/core/trace"
	"tidytally/internal/testtree"
)

// tree lays out files that are an hour old.
func tree(t *testing.T, names ...string) string {
	t.Helper()
	root := testtree.Folder(t)
	long := time.Now().Add(-time.Hour)
	for _, name := range names {
		testtree.Fill(t, root, map[string]string{name: "of " + name})
		if err := os.Chtimes(filepath.Join(root, name), long, long); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

func edit(t *testing.T, root, name, text string) {
	t.Helper()
	testtree.Fill(t, root, map[string]string{name: text})
}

// What is declared is stamped by its globs, made before read, each file once; files that come, go or change are told.
func TestDeclared(t *testing.T) {
	root := tree(t, "kiln/a.c", "kiln/b.c", "kiln/deep/c.c", "kiln/a.o", "kiln/notes", "shared.h", "other.c")
	outside := filepath.Join(tree(t, "ash"), "ash")
	if err := os.Symlink("/", filepath.Join(root, "kiln/out")); err != nil {
		t.Fatal(err)
	}
	set := Setting{Command: HashOf("make"), Dir: filepath.Join(root, "kiln")}
	reads := []string{"**/*.c", "a.*", "../shared.h", outside, "out/**", "[", filepath.Join(root, "other.c"), "deep"}
	k := OfDeclared(root, reads, []string{"*.o"}, set, time.Now().Add(-time.Minute))
	var got []string
	for _, s := range k.Stamps {
		got = append(got, fmt.Sprint(s.Role, " ", strings.TrimPrefix(s.Path, outside[:len(outside)-len("ash")])))
	}
	slices.Sort(got)
	want := []string{fmt.Sprint(Made, " kiln/a.o")}
	for _, name := range []string{"ash", "kiln/a.c", "kiln/b.c", "kiln/deep/c.c", "other.c", "shared.h"} {
		want = append(want, fmt.Sprint(Read, " ", name))
	}
	slices.Sort(want)
	if !slices.Equal(got, want) || k.Origin != Declared || k.Never != "" {
		t.Errorf("stamped %q, want %q", got, want)
	}
	differs := func(want string) {
		t.Helper()
		reasons, unknown := k.Differs(root, set)
		if got := strings.Join(reasons, "; "); got != want || unknown != "" {
			t.Errorf("%q, %q; want %q", got, unknown, want)
		}
	}
	differs("")
	edit(t, root, "kiln/new.o", "made")
	edit(t, root, "kiln/deep/notes", "of no glob")
	differs("")
	edit(t, root, "kiln/deep/d.c", "new")
	differs("kiln/deep/d.c is new")
	for i := range 30 {
		edit(t, root, fmt.Sprintf("kiln/many%02d.c", i), "new")
	}
	if reasons, _ := k.Differs(root, set); len(reasons) != 31 {
		t.Errorf("%d reasons of 31", len(reasons))
	}
	if names := Matches(root, filepath.Join(root, "kiln"), []string{"a.*", "*.o", "../shared.h", outside}); strings.Join(names, " ") != "kiln/a.c kiln/a.o kiln/new.o shared.h" {
		t.Errorf("matches: %q", names)
	}
	// A file that changes while the run goes on was read before or after: it cannot be known.
	root = tree(t, "a.c", "b.c")
	started := time.Now()
	later := started.Add(time.Second)
	if err := os.Chtimes(filepath.Join(root, "a.c"), later, later); err != nil {
		t.Fatal(err)
	}
	k = OfDeclared(root, []string{"*.c"}, nil, Setting{Dir: root}, started)
	if reasons, _ := k.Differs(root, Setting{Dir: root}); strings.Join(reasons, "; ") != "a.c changed while it ran" {
		t.Errorf("changed meanwhile: %q", reasons)
	}
	// The file is made while the run goes on.
	k = OfDeclared(root, []string{"b.c"}, []string{"a.c"}, Setting{Dir: root}, started)
	if reasons, _ := k.Differs(root, Setting{Dir: root}); len(reasons) > 0 {
		t.Errorf("made meanwhile: %q", reasons)
	}
}

// Globs are relative to a folder, paths to the workspace, and both may be absolute.
func TestTakes(t *testing.T) {
	for _, c := range []struct {
		globs string
		name  string
		want  bool
	}{
		{"*.c", "kiln/a.c", true}, {"*.c", "a.c", false}, {"../*.c", "a.c", true}, {"/w/*.c", "a.c", true}, {"*.c", "/w/kiln/a.c", true}, {"*.c", "/elsewhere/kiln/a.c", false},
		{"*.h *.c", "kiln/a.c", true}, {"**/a.c", "kiln/x/y/a.c", true}, {"[", "kiln/a.c", false}, {"", "kiln/a.c", false},
	} {
		if got := Takes("/w", "/w/kiln", strings.Fields(c.globs), c.name); got != c.want {
			t.Errorf("%q takes %s: %v", c.globs, c.name, got)
		}
	}
}

// The files of a run as they are now: what it made first, each with the source that it is like, and whether it is older.
func TestFilesNow(t *testing.T) {
	root := tree(t, "src/coil.c", "src/deep/coil.c", "src/wire.c", "Makefile", "lib/coil.h", "out/coil.o", "src/deep/coil.o", "out/wire.o", "out/odd", "bin/tool", "list/one")
	k := &Known{Origin: Watched, Stamps: []Stamp{
		{Path: "src/wire.c", Role: Read}, {Path: "src/coil.c", Role: Read}, {Path: "src/deep/coil.c", Role: Read}, {Path: "Makefile", Role: Read}, {Path: "/usr/include/coil.h", Role: Read}, {Path: "list", Role: Read},
		{Path: "out/coil.o", Role: Made}, {Path: "src/deep/coil.o", Role: Made}, {Path: "out/wire.o", Role: Made}, {Path: "out/gone.o", Role: Made}, {Path: "out/odd", Role: Made}, {Path: ".", Role: Listed},
		{Path: "list", Role: Listed}, {Path: "config.mk", Role: Missing, Size: -1}, {Path: "tmp", Role: Removed, Size: -1}, {Path: "bin/tool", Role: Runs},
	}}
	for i := range k.Stamps {
		if s := &k.Stamps[i]; s.Size == 0 {
			s.look(filepath.Join(root, s.Path), true)
		}
		if k.Stamps[i].Path == "out/gone.o" {
			k.Stamps[i].Size, k.Stamps[i].Hash = 5, 5
		}
	}
	newer := time.Now().Add(-time.Minute)
	if err := os.Chtimes(filepath.Join(root, "src/wire.c"), newer, newer); err != nil {
		t.Fatal(err)
	}
	edit(t, root, "Makefile", "all of it new")
	var got []string
	for _, f := range k.FilesNow(root) {
		w := f.Path
		if f.Source != "" {
			w += " of " + f.Source
		}
		for word, is := range map[string]bool{" older": f.Older, " gone": !f.There, " folder": f.Dir} {
			if is {
				w += word
			}
		}
		if f.State != "" {
			w += ": " + f.State
		}
		if f.There && !f.Dir && (f.Size == 0 || f.Time.IsZero()) {
			t.Errorf("%s: %d bytes, %v", f.Path, f.Size, f.Time)
		}
		got = append(got, w)
	}
	want := `out/coil.o of src/coil.c
out/gone.o gone: out/gone.o, which it made, is gone
out/odd
out/wire.o of src/wire.c older
src/deep/coil.o of src/deep/coil.c
Makefile: Makefile changed
src/coil.c
src/deep/coil.c
src/wire.c
bin/tool
list folder
config.mk gone
tmp gone`
	if text := strings.Join(got, "\n"); text != want {
		t.Errorf("got\n%s\nwant\n%s", text, want)
	}
	if paths := k.Files(Made); strings.Join(paths, " ") != "out/coil.o src/deep/coil.o out/wire.o out/gone.o out/odd" {
		t.Errorf("made: %q", paths)
	}
	if paths := k.Files(Read); slices.Contains(paths, "/usr/include/coil.h") {
		t.Errorf("read: %q", paths)
	}
}

// What a watched run did is compared with what is declared, both ways.
func TestUndeclared(t *testing.T) {
	root := tree(t, "a.c", "b.h", "a.o", "log", ".git/index", "sub/x")
	k := &Known{Stamps: []Stamp{
		{Path: "a.c", Role: Read}, {Path: "b.h", Role: Read}, {Path: "a.o", Role: Made}, {Path: "log", Role: Made}, {Path: ".git/index", Role: Read}, {Path: "/usr/x", Role: Read}, {Path: "sub", Role: Read}, {Path: "none", Role: Missing, Size: -1}, {Path: "a.o", Role: Read},
	}}
	read, made, unread, unmade := k.Undeclared(root, root, []string{"*.c", "*.py"}, []string{"*.o", "*.so"})
	if got := fmt.Sprint(read, made, unread, unmade); got != "[b.h] [log] [*.py] [*.so]" {
		t.Error(got)
	}
	read, made, unread, unmade = k.Undeclared(root, root, []string{"*.c", "b.h"}, []string{"*.o", "log"})
	if got := fmt.Sprint(read, made, unread, unmade); got != "[] [] [] []" {
		t.Errorf("all is declared: %s", got)
	}
}

// Each way in which a setting differs, and what says nothing.
func TestSettings(t *testing.T) {
	was := Setting{Command: 1, Dir: "/w", Env: map[string]uint64{"A": 1, "B": 2, "GONE": 0}}
	for want, now := range map[string]Setting{
		"":                                       {Command: 1, Dir: "/w", Env: map[string]uint64{"A": 1, "B": 2, "GONE": 0, "NEW": 0}},
		"the command is another one":             {Command: 2, Dir: "/w", Env: map[string]uint64{"A": 1, "B": 2}},
		"it runs in another folder":              {Command: 1, Dir: "/v", Env: map[string]uint64{"A": 1, "B": 2}},
		"B in the environment is another one":    {Command: 1, Dir: "/w", Env: map[string]uint64{"A": 1, "B": 3}},
		"A in the environment is another one":    {Command: 1, Dir: "/w", Env: map[string]uint64{"B": 2}},
		"NEW in the environment is another one":  {Command: 1, Dir: "/w", Env: map[string]uint64{"A": 1, "B": 2, "NEW": 5}},
		"GONE in the environment is another one": {Command: 1, Dir: "/w", Env: map[string]uint64{"A": 1, "B": 2, "GONE": 5}},
		"A in the environment is another one|NEW in the environment is another one": {Command: 1, Dir: "/w", Env: map[string]uint64{"A": 5, "B": 2, "NEW": 5}},
	} {
		if got := strings.Join(was.differs(now), "|"); got != want {
			t.Errorf("%q, want %q", got, want)
		}
	}
}

// What lies in caches and temporary folders says nothing, unless the workspace is there; what is written elsewhere is
// never fresh.
func TestPlacesThatSayNothing(t *testing.T) {
	root := tree(t, "a.c", "out")
	const home = "/homes/ada"
	t.Setenv("HOME", home)
	t.Setenv("XDG_CACHE_HOME", "")
	t.Setenv("GOCACHE", "/caches/go/")
	t.Setenv("TMPDIR", "/scratch")
	t.Setenv("XDG_CONFIG_HOME", "/settings")
	p := newPlaces("/srv/w", os.Getenv)
	for name, want := range map[string]bool{
		"/srv/w/a.c": false, "/srv/w": false, "/srv": true, "/": false, "/srv/w2/a.c": false, "/caches/go/x": true, "/caches/gone": false, "/tmp/x": true, "/tmpx": false, "/scratch/y": true,
		"/proc/self/stat": true, "/dev/null": true, home + "/.cargo/x": true, home + "/.cargox": false, home + "/.cache/x": true, home + "/go/pkg/mod/x": true, "/settings/go/telemetry/local/x": true, "/settings/goat": false, home + "/.config/go/x": false, "/usr/include/a.h": false,
	} {
		if got := p.ignored(name); got != want && name != "/" {
			t.Errorf("%s is ignored: %v", name, got)
		}
	}
	inTemp := newPlaces("/tmp/w", os.Getenv)
	if inTemp.ignored("/tmp/other") || inTemp.ignored("/tmp/w/a") {
		t.Error("a workspace in a folder of temporary files has nothing beside it")
	}
	for name, want := range map[string]string{"/srv/w/a/b": "a/b", "/srv/w": ".", "/usr/x": "/usr/x", "/srv/wx": "/srv/wx"} {
		if got := p.shown(name); got != want {
			t.Errorf("%s is shown as %s", name, got)
		}
	}
	at := func(name string) string { return filepath.Join(root, name) }
	k := Of(&trace.Trace{
		Read:  map[string]trace.Use{at("a.c"): trace.Content, at("out"): trace.Content | trace.Times},
		Wrote: map[string]bool{at("out"): true, at("gone"): true}, Missing: map[string]bool{at("a.c"): true, at("no.h"): true}, Removed: map[string]bool{at("out"): true, at("tmp"): true},
	}, root, Setting{Dir: root}, time.Now(), os.Getenv)
	var got []string
	for _, s := range k.Stamps {
		got = append(got, fmt.Sprintf("%v %s %v", s.Role, s.Path, s.Times))
	}
	want := []string{fmt.Sprintf("%v out true", Made), fmt.Sprintf("%v a.c false", Read), fmt.Sprintf("%v no.h false", Missing), fmt.Sprintf("%v tmp false", Removed)}
	if !slices.Equal(got, want) || k.Never != "" {
		t.Errorf("stamped %q, want %q; never: %s", got, want, k.Never)
	}
	for name, tr := range map[string]*trace.Trace{"it talked to buildd, a service": {Service: "buildd"}, "it read a clock device": {Clock: true}} {
		if k := Of(tr, root, Setting{}, time.Now(), os.Getenv); k.Never != name {
			t.Errorf("never: %q, want %q", k.Never, name)
		}
	}
}

// How a path has changed, in each role.
func TestStates(t *testing.T) {
	root := tree(t, "f", "list/one")
	full := func(name string) string { return filepath.Join(root, name) }
	stamp := func(name string, role Role, times, content bool) func() *Stamp {
		return func() *Stamp {
			s := &Stamp{Path: name, Role: role, Times: times}
			s.look(full(name), content)
			return s
		}
	}
	long := time.Now().Add(-2 * time.Hour)
	for _, c := range []struct {
		of   func() *Stamp
		do   func()
		want string
	}{
		{stamp("f", Read, false, true), func() { os.Chtimes(full("f"), long, long) }, ""},
		{stamp("f", Read, true, true), func() { os.Chtimes(full("f"), time.Now(), time.Now()) }, "f has another time"},
		{stamp("f", Read, false, false), func() { os.Chtimes(full("f"), long, long) }, "f changed"},
		{stamp("f", Made, false, true), func() { edit(t, root, "f", "others") }, "f, which it made, has changed"},
		{stamp("f", Runs, false, false), func() { os.Remove(full("f")) }, "f, which it runs, is gone"},
		{stamp("f", Read, false, true), func() {}, ""},
		{stamp("none", Missing, false, true), func() { edit(t, root, "none", "") }, "none is new"},
		{stamp("list", Listed, false, true), func() { edit(t, root, "list/two", "") }, "files in list came or went"},
		{stamp("list", Listed, false, true), func() { edit(t, root, "list/one", "other text") }, ""},
	} {
		edit(t, root, "f", "of f")
		s := c.of()
		c.do()
		if got := s.State(root); got != c.want {
			t.Errorf("%v %s: %q, want %q", s.Role, s.Path, got, c.want)
		}
	}
}

// Paths are compared without content too: an empty file that is new, a folder whose entries change, and a file that the run itself makes
// among those that it reads.
func TestWhatIsThereWithoutContent(t *testing.T) {
	root := tree(t, "in/a.c", "folder/x")
	empty := &Stamp{Path: "empty", Role: Missing}
	empty.look(filepath.Join(root, "empty"), true)
	folder := &Stamp{Path: "folder", Role: Read, Times: true}
	folder.look(filepath.Join(root, "folder"), true)
	if got := empty.State(root) + folder.State(root); got != "" {
		t.Fatalf("nothing has changed, but %q", got)
	}
	edit(t, root, "empty", "")
	edit(t, root, "folder/y", "")
	if got := empty.State(root); got != "empty is new" {
		t.Errorf("an empty file: %q", got)
	}
	if got := folder.State(root); got != "" {
		t.Errorf("a folder of which only counts that it is there: %q", got)
	}
	set := Setting{Command: HashOf("make"), Dir: root}
	k := OfDeclared(root, []string{"in/*"}, []string{"in/*.o"}, set, time.Now().Add(-time.Minute))
	edit(t, root, "in/a.o", "made")
	if reasons, unknown := k.Differs(root, set); len(reasons) > 0 || unknown != "" {
		t.Errorf("what it makes is new: %q %s", reasons, unknown)
	}
	for i := range 25 {
		edit(t, root, fmt.Sprintf("in/b%02d.c", i), "")
	}
	if reasons, _ := k.Differs(root, set); len(reasons) != 25 {
		t.Errorf("%d reasons of 25", len(reasons))
	}
}
