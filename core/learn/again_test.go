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
)

// watched records what a run did: words such as "read a.c" of the workspace, whose files are as the run left them.
func watched(t *testing.T, root, did string) *Known {
	t.Helper()
	tr := &trace.Trace{Read: map[string]trace.Use{}, Wrote: map[string]bool{}, Listed: map[string]bool{}, Missing: map[string]bool{}, Removed: map[string]bool{}, Executed: map[string]bool{}}
	words := strings.Fields(did)
	for i := 0; i < len(words); i += 2 {
		name := filepath.Join(root, words[i+1])
		switch words[i] {
		case "read":
			tr.Read[name] = trace.Opened
		case "times": // it was only looked at
			tr.Read[name] = trace.Times
		case "made":
			tr.Wrote[name] = true
		case "listed":
			tr.Listed[name] = true
		case "missed":
			tr.Missing[name] = true
		case "runs":
			tr.Executed[name] = true
		}
	}
	return Of(tr, root, Setting{Dir: root}, time.Now().Add(-time.Minute), func(string) string { return "" })
}

// uses returns what is known of a task's paths, in order.
func uses(k *Known) (all []string) {
	names := map[Role]string{Read: "read", Made: "made", Listed: "listed", Missing: "missed", Runs: "runs", Removed: "removed"}
	for _, s := range k.Stamps {
		all = append(all, names[s.Role]+" "+s.Path)
	}
	slices.Sort(all)
	return all
}

// A watched run that did a part of the work adds to what was known; one that made all anew replaces it.
func TestWatchedRunsAddUp(t *testing.T) {
	root := tree(t, "a.c", "b.c", "h.h", "old.h", "a.o", "b.o", "CMakeCache.txt", "tool")
	first := "read a.c read b.c read h.h read old.h made a.o made b.o made CMakeCache.txt missed x.h runs tool"
	for _, c := range []struct{ name, then, want string }{
		{"a part", "read a.c read h.h made a.o", "made CMakeCache.txt, made a.o, made b.o, missed x.h, read a.c, read b.c, read h.h, read old.h, runs tool"},
		{"all, but for what the build notes", "read a.c read b.c made a.o made b.o", "made a.o, made b.o, read a.c, read b.c"},
		{"nothing to do", "times a.o times b.o read a.c", "made CMakeCache.txt, made a.o, made b.o, missed x.h, read a.c, read b.c, read h.h, read old.h, runs tool"},
		{"what was read is made", "made h.h", "made CMakeCache.txt, made a.o, made b.o, made h.h, missed x.h, read a.c, read b.c, read old.h, runs tool"},
	} {
		before := watched(t, root, first)
		if got := strings.Join(uses(watched(t, root, c.then).Including(before, root)), ", "); got != c.want {
			t.Errorf("%s: %s\nwant %s", c.name, got, c.want)
		}
	}
	before, other := watched(t, root, first), watched(t, root, "read a.c made a.o")
	other.Setting.Command = HashOf("make other")
	if got := uses(other.Including(before, root)); len(got) != 2 {
		t.Errorf("with another command: %q", got)
	}
	if got := uses(other.Including(nil, root)); len(got) != 2 {
		t.Errorf("with nothing before: %q", got)
	}
}

// What has changed between two watched runs, and the second one did not look at, is as the first one saw it: it is told.
func TestWhatChangedBetweenWatchedRuns(t *testing.T) {
	for _, c := range []struct {
		name   string
		change func(root string)
		want   string
	}{
		{"nothing", func(string) {}, ""},
		{"a source", func(root string) { edit(t, root, "b.c", "another text") }, "b.c changed"},
		{"its time alone", func(root string) { edit(t, root, "b.c", "of b.c") }, ""},
		{"a source that is gone", func(root string) { os.Remove(filepath.Join(root, "b.c")) }, ""},
		{"what it made is gone", func(root string) { os.Remove(filepath.Join(root, "b.o")) }, ""},
		{"what it made is another", func(root string) { edit(t, root, "b.o", "made by another") }, ""},
		{"what it missed has come", func(root string) { edit(t, root, "x.h", "new") }, ""},
		{"a folder that it listed", func(root string) { edit(t, root, "sub/new", "new") }, ""},
	} {
		root := tree(t, "a.c", "b.c", "a.o", "b.o", "sub/one")
		before := watched(t, root, "read a.c read b.c made a.o made b.o missed x.h listed sub")
		c.change(root)
		k := watched(t, root, "read a.c made a.o").Including(before, root)
		reasons, unknown := k.Differs(root, Setting{Dir: root})
		if got := strings.Join(reasons, "; "); got != c.want || unknown != "" {
			t.Errorf("%s: %q, %q; want %q", c.name, got, unknown, c.want)
		}
	}
}

// What a build system notes for itself gives no reason of its own.
func TestWhatABuildNotesForItself(t *testing.T) {
	for name, want := range map[string]bool{
		"out/CMakeFiles/prog.dir/a.c.o.d": true, "out/CMakeFiles/prog.dir/a.c.o": false, "CMakeFiles/Makefile2": true, "src/CMakeFilesOf": false, ".ninja_deps": true, "out/.ninja_log": true,
		"CMakeCache.txt": true, "src/CMakeCache.txt.in": false, "web/tsconfig.tsbuildinfo": true, "lib/.deps/a.Po": true, "deps/a.c": false, "target/debug/.fingerprint/x": true, "out/meson-private/x": true, "a.c": false,
	} {
		if got := keptByBuild(name); got != want {
			t.Errorf("%s: %v", name, got)
		}
	}
	root := tree(t, "a.c", "CMakeFiles/x")
	k := watched(t, root, "read a.c read CMakeFiles/x")
	edit(t, root, "CMakeFiles/x", "noted")
	if reasons, _ := k.Differs(root, k.Setting); fmt.Sprint(reasons) != "[what the build keeps for itself in CMakeFiles changed]" {
		t.Errorf("alone: %q", reasons)
	}
	edit(t, root, "a.c", "changed, too")
	if reasons, _ := k.Differs(root, k.Setting); fmt.Sprint(reasons) != "[a.c changed]" {
		t.Errorf("beside a source: %q", reasons)
	}
}

// A file that has another name, or became a folder of the same name, is seen in the list of what is there.
func TestAListKnowsFilesFromFolders(t *testing.T) {
	root := tree(t, "sub/one", "sub/two")
	k := watched(t, root, "listed sub")
	if err := os.Rename(filepath.Join(root, "sub/one"), filepath.Join(root, "sub/six")); err != nil {
		t.Fatal(err)
	}
	if reasons, _ := k.Differs(root, k.Setting); fmt.Sprint(reasons) != "[files in sub came or went]" {
		t.Errorf("another name: %q", reasons)
	}
	k = watched(t, root, "listed sub")
	if err := os.Remove(filepath.Join(root, "sub/two")); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(root, "sub/two"), 0o755); err != nil {
		t.Fatal(err)
	}
	if reasons, _ := k.Differs(root, k.Setting); fmt.Sprint(reasons) != "[files in sub came or went]" {
		t.Errorf("%q", reasons)
	}
}

// After a good run that nobody watched, what is known is as it is now where that is sure, and else it is said why not.
func TestAfterARunThatIsNotWatched(t *testing.T) {
	const includes = "#include \"h.h\"\nint a;\n"
	lay := func(did string) (root string, k *Known) {
		root = tree(t, "a.c", "b.c", "h.h", "a.o", "b.o", "a.d", "prog", "data")
		long := time.Now().Add(-time.Hour)
		for name, text := range map[string]string{"a.c": includes, "a.d": "a.o: a.c h.h\n"} {
			edit(t, root, name, text)
			if err := os.Chtimes(filepath.Join(root, name), long, long); err != nil {
				t.Fatal(err)
			}
		}
		return root, watched(t, root, did)
	}
	for _, c := range []struct {
		name, did string
		edit      func(root string) // before the run
		run       func(root string)
		unknown   string
	}{
		{"nothing changed", "read a.c made a.o", nil, nil, ""},
		{"all is made anew", "read a.c made a.o", func(root string) { edit(t, root, "a.c", includes+"int b;\n") }, func(root string) { edit(t, root, "a.o", "new") }, ""},
		{"it refers to another file", "read a.c made a.o", func(root string) { edit(t, root, "a.c", "#include \"x.h\"\n") }, func(root string) { edit(t, root, "a.o", "new") }, "a.c changed before its last good run, which was not watched"},
		{"it is no source of a compiler", "read data made a.o", func(root string) { edit(t, root, "data", "x") }, func(root string) { edit(t, root, "a.o", "new") }, "data changed before its last good run, which was not watched"},
		{"a part is made anew, and the build knows what hangs on it", "read a.c made a.o made b.o made a.d", func(root string) { edit(t, root, "a.c", includes+"int b;\n") }, func(root string) { edit(t, root, "a.o", "new") }, ""},
		{"a part is made anew, and it may not", "read a.c made a.o made b.o", func(root string) { edit(t, root, "a.c", includes+"int b;\n") }, func(root string) { edit(t, root, "a.o", "new") }, "a.c changed, and its last good run, which was not watched, may have left out what hangs on it"},
		{"another name in the list", "read a.c made a.o made b.o made a.d", func(root string) {
			edit(t, root, "a.d", "a.o: xa.c a.cc\n")
			edit(t, root, "a.c", includes+"int b;\n")
		}, func(root string) { edit(t, root, "a.o", "new"); edit(t, root, "a.d", "a.o: xa.c a.cc\n") }, "a.c changed, and its last good run, which was not watched, may have left out what hangs on it"},
		{"nothing is made anew", "read a.c made a.o", func(root string) { edit(t, root, "a.c", includes+"int b;\n") }, nil, "a.c changed, and its last good run, which was not watched, may have left out what hangs on it"},
		{"it executes what it makes", "read a.c made prog runs prog", func(root string) { edit(t, root, "a.c", includes+"int b;\n") }, nil, "a.c changed before its last good run, which was not watched and executes what it makes"},
	} {
		root, k := lay(c.did)
		if c.edit != nil {
			c.edit(root)
		}
		later := time.Now()
		for later.Sub(k.Ended) < 3*grain { // the files of the run are newer than what was changed before it
			time.Sleep(grain)
			later = time.Now()
		}
		if c.run != nil {
			c.run(root)
		}
		after := k.After(root, k.Setting, later)
		reasons, unknown := after.Differs(root, k.Setting)
		if len(reasons) > 0 || !strings.HasPrefix(unknown, c.unknown) || (c.unknown == "") != (unknown == "") {
			t.Errorf("%s: %q, %q; want %q", c.name, reasons, unknown, c.unknown)
		}
	}
	// What a failed run made counts as made by the task; what somebody else made does not.
	root, k := lay("read a.c made a.o")
	started := time.Now()
	edit(t, root, "a.o", "of the failed run")
	failed := k.AfterFailed(k.Setting, started)
	time.Sleep(3 * grain)
	if reasons, unknown := failed.After(root, k.Setting, time.Now()).Differs(root, k.Setting); len(reasons) > 0 || unknown != "" {
		t.Errorf("after a run that failed: %q, %q", reasons, unknown)
	}
	if _, unknown := k.After(root, k.Setting, time.Now()).Differs(root, k.Setting); unknown == "" {
		t.Error("what nobody knows who made counts")
	}
	other := Setting{Dir: root, Command: HashOf("other")}
	if k.After(root, other, time.Now()) != k || k.AfterFailed(other, time.Now()) != k {
		t.Error("a run with another setting changes what is known")
	}
}
