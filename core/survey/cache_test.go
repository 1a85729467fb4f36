package survey

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"tidytally/core/task"
	"tidytally/core/workspace"
	"tidytally/internal/pack"
)

// surveyed surveys a workspace from the beginning, with the cache of an earlier survey if there
// is one. It returns all that the survey says, and the surveyor.
func surveyed(t *testing.T, root string) (string, *Surveyor) {
	t.Helper()
	v := NewSurveyor(root)
	s, err := v.Survey(nil)
	if err != nil {
		t.Fatal(err)
	}
	return fmt.Sprint(s.SkippedFiles()) + asJSON(t, s), v
}

// withoutCache is surveyed where there is no cache.
func withoutCache(t *testing.T, root string) string {
	t.Helper()
	file, err := cacheFile(root)
	if err != nil {
		t.Fatal(err)
	}
	_ = os.Rename(file, file+".aside") // there may be none yet
	said, _ := surveyed(t, root)
	_ = os.Rename(file+".aside", file)
	return said
}

// fromCache counts the files that a surveyor has from a cache.
func fromCache(v *Surveyor) (files, all int) {
	for _, state := range v.states {
		if state.record != "" {
			files++
		}
	}
	return files, len(v.states)
}

// After any changes, a survey that has a cache, however old, says what one without says.
func TestACacheChangesNothing(t *testing.T) {
	t.Parallel()
	root := workspaceOf(t, map[string]string{"Makefile": "include rules.mk\nall:\n\ttrue\n", "tool/run": "#!/bin/sh\n", "node_modules/deep/er/x": ""})
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 2))
	var log []string
	files, all := 0, 0
	for step := range 150 {
		_, told := edit(t, root, random)
		log = append(log, told...)
		switch random.IntN(8) { // what no watcher would tell by a name
		case 0:
			mode := []os.FileMode{0o644, 0o755}[random.IntN(2)]
			if err := os.Chmod(filepath.Join(root, "tool/run"), mode); err != nil {
				t.Fatal(err)
			}
			log = append(log, "chmod "+mode.String())
		case 1:
			link := filepath.Join(root, "package.json")
			_ = os.Remove(link)
			if err := os.Symlink([]string{"a/package.json", "p/one/package.json", "tool/run"}[random.IntN(3)], link); err == nil {
				log = append(log, "link")
			}
		case 2:
			if err := os.WriteFile(filepath.Join(root, "node_modules/deep/er", fmt.Sprint(step)), nil, 0o644); err != nil && !os.IsNotExist(err) {
				t.Fatal(err)
			}
		}
		want := withoutCache(t, root)
		got, v := surveyed(t, root)
		if got != want {
			at := 0
			for at < min(len(got), len(want)) && got[at] == want[at] {
				at++
			}
			t.Fatalf("seed %d, step %d, after %q:\nwith a cache …%.300s\nwithout      …%.300s", seed, step, log[max(0, len(log)-8):], got[max(0, at-100):], want[max(0, at-100):])
		}
		f, n := fromCache(v)
		files, all = files+f, all+n
		if err := v.Remember(); err != nil {
			t.Fatal(err)
		}
	}
	t.Logf("%d of %d files came from a cache", files, all)
	if files*4 < all {
		t.Errorf("%d of %d files came from a cache", files, all)
	}
}

// laidOut makes a workspace whose time stamps are settled.
func laidOut(t *testing.T) string {
	t.Helper()
	files := map[string]string{".gitignore": "out/\n"}
	for i := range 60 {
		dir := fmt.Sprintf("g%d/p%d", i%7, i)
		files[dir+"/Makefile"] = fmt.Sprintf("all: lib%d\nlib%d:\n\ttrue\n", i, i)
		files[dir+"/package.json"] = `{"name": "p", "scripts": {"build": "tsc"}}`
		files[dir+"/out/made/x.o"] = ""
		files[dir+"/Cargo.toml"] = "[package]\nname = \"c\"\n"
		files[dir+"/src/main.rs"] = "fn main() {}\n"
	}
	root := workspaceOf(t, files)
	var last time.Time
	err := filepath.WalkDir(root, func(name string, _ os.DirEntry, err error) error {
		if _, changed := workspace.FileStamp(name); changed.After(last) {
			last = changed
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	mark := filepath.Join(t.TempDir(), "mark")
	for { // until the clock of the file system is past what cannot be told apart
		if err := os.WriteFile(mark, []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, now := workspace.FileStamp(mark); workspace.Settled(last, now) {
			return root
		}
	}
}

// A second survey of an unchanged tree reads no file and lists no folder again, and one after a
// change only what hangs on it.
func TestASecondStartReadsWhatHasChanged(t *testing.T) {
	t.Parallel()
	root := laidOut(t)
	want, v := surveyed(t, root)
	if err := v.Remember(); err != nil {
		t.Fatal(err)
	}
	got, v := surveyed(t, root)
	if got != want {
		t.Error("a second survey says something else")
	}
	if files, all := fromCache(v); files != all || all < 180 {
		t.Errorf("%d of %d files came from the cache", files, all)
	}
	folders, anew := v.tree.Anew()
	if folders < 240 || anew > 0 {
		t.Errorf("%d of %d folders were listed again", anew, folders)
	}
	if err := os.WriteFile(filepath.Join(root, "g3/p3/Makefile"), []byte("other:\n\ttrue\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	got, v = surveyed(t, root)
	if !strings.Contains(got, `"g3/p3/Makefile#other"`) || strings.Contains(got, `"g3/p3/Makefile#lib3"`) {
		t.Error("the changed file was not read again")
	}
	if files, all := fromCache(v); files != all-1 {
		t.Errorf("%d of %d files came from the cache after a change of one", files, all)
	}
}

// The tasks that a survey gives away may be changed: the next survey has them as they were read.
func TestTasksOfACacheAreGivenOnce(t *testing.T) {
	t.Parallel()
	root := laidOut(t)
	want, v := surveyed(t, root)
	if err := v.Remember(); err != nil {
		t.Fatal(err)
	}
	v = NewSurveyor(root)
	for range 3 {
		s, err := v.Survey(nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range s.Tasks {
			x.Name, x.About = "spoilt", "spoilt"
		}
		if s, err = v.Update([]string{"g1"}); err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(s.SkippedFiles()) + asJSON(t, s); got != want {
			t.Error("what was done to the tasks of one survey is in the next")
		}
	}
}

// A cache that is cut short, damaged, or of another program or workspace is as if there were none.
func TestADamagedCacheIsNotUsed(t *testing.T) {
	t.Parallel()
	root := laidOut(t)
	want, v := surveyed(t, root)
	if err := v.Remember(); err != nil {
		t.Fatal(err)
	}
	file, err := cacheFile(root)
	if err != nil {
		t.Fatal(err)
	}
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("others may read it: %v, %v", info.Mode(), err)
	}
	body := bytes.IndexByte(whole, '\n') + 1
	damage := map[string][]byte{
		"empty": {}, "cut": whole[:len(whole)/2], "only its head": whole[:body], "longer": append(bytes.Clone(whole), 'x'),
		"of another program": append([]byte("tidytally survey 0000000000000000"), whole[33:]...),
	}
	for _, at := range []int{body, len(whole) / 3, len(whole) - 1} {
		other := bytes.Clone(whole)
		other[at] ^= 0x10
		damage[fmt.Sprintf("another byte %d", at)] = other
	}
	for what, data := range damage {
		if err := os.WriteFile(file, data, 0o600); err != nil {
			t.Fatal(err)
		}
		got, v := surveyed(t, root)
		if files, _ := fromCache(v); files != 0 || got != want {
			t.Errorf("%s: %d files came from it", what, files)
		}
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(file, 0o700); err != nil {
		t.Fatal(err)
	}
	if got, _ := surveyed(t, root); got != want {
		t.Error("a folder in its place changes the survey")
	}
}

// fill sets every exported field of a value to something of its own.
func fill(v reflect.Value, n *int) {
	*n++
	switch v.Kind() {
	case reflect.String:
		v.SetString(fmt.Sprintf("text %d\x00ä", *n))
	case reflect.Bool:
		v.SetBool(true)
	case reflect.Int:
		v.SetInt(int64(*n) - 30)
	case reflect.Slice:
		v.Set(reflect.MakeSlice(v.Type(), 2, 2))
		for i := range 2 {
			fill(v.Index(i), n)
		}
	case reflect.Map:
		v.Set(reflect.MakeMap(v.Type()))
		key, value := reflect.New(v.Type().Key()).Elem(), reflect.New(v.Type().Elem()).Elem()
		fill(key, n)
		fill(value, n)
		v.SetMapIndex(key, value)
	case reflect.Struct:
		for i := range v.NumField() {
			fill(v.Field(i), n) // panics for one that is not exported: a cache would lose it
		}
	}
}

// A task comes out of a cache with every value that it has.
func TestEveryValueOfATaskIsKept(t *testing.T) {
	t.Parallel()
	var full, got task.Task
	n := 0
	fill(reflect.ValueOf(&full).Elem(), &n)
	if err := pack.Read(string(pack.Append(nil, &full)), &got); err != nil || !reflect.DeepEqual(full, got) {
		t.Errorf("%v\n%+v\n%+v", err, full, got)
	}
	if n < 100 {
		t.Errorf("only %d values", n)
	}
}

// No bytes make the reader of caches fail in another way than by an error.
func FuzzCache(f *testing.F) {
	root := f.TempDir()
	if err := os.WriteFile(filepath.Join(root, "Makefile"), []byte("all:\n\ttrue\n"), 0o644); err != nil {
		f.Fatal(err)
	}
	v := NewSurveyor(root)
	if _, err := v.Survey(nil); err != nil {
		f.Fatal(err)
	}
	p := packedCache{Memory: string(v.tree.Remember(v.began.Add(1e12)))}
	for name, state := range v.states {
		p.States = append(p.States, packedState{name, string(pack.Append(nil, &state.kept))})
	}
	f.Add(string(pack.Append(nil, &p)))
	f.Add("")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := parseCache(text)
		if err != nil {
			return
		}
		v := NewSurveyor(root)
		v.cache = c
		if _, err := v.Survey(nil); err != nil {
			t.Error(err)
		}
	})
}
