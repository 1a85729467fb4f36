package survey

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tidytally/core/filter"
)

// asJSON is all that a survey says.
func asJSON(t *testing.T, s *Survey) string {
	t.Helper()
	var shown []Shown
	for _, x := range s.Tasks {
		shown = append(shown, s.Show(x))
	}
	for i := range s.Skipped {
		s.Skipped[i].Files = 0 // what is kept out is not watched, nor counted again
	}
	data, err := json.Marshal([]any{s.Listing(s.Select(filter.Query{}, true, nil)), shown, s.Read, s.Folders, s.Files})
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}

// The texts of files that decide on each other's tasks.
var editTexts = map[string][]string{
	"Makefile":            {"all:\n\ttrue\n", "$(wildcard src/*.rs *.sh):\n\ttrue\n", "include rules.mk\nall: x\nx:\n\ttrue\n", "broken\n"},
	"rules.mk":            {"helper:\n\ttrue\n", "other:\n\ttrue\n"},
	"package.json":        {`{"scripts":{"build":"tsc","a":"npm run build"}}`, `{"scripts":{"test":"x"},"workspaces":["p/*"]}`, `{`},
	"pnpm-lock.yaml":      {""},
	"yarn.lock":           {""},
	"tsconfig.json":       {`{"compilerOptions":{}}`, `{"references":[{"path":"./a"}]}`},
	"go.mod":              {"module x\n"},
	"main.go":             {"package main\nfunc main() {}\n", "package x\n"},
	"x_test.go":           {"package x\n"},
	"run.sh":              {"#!/bin/sh\n# runs\necho\n"},
	"tidytally.toml":      {"[task.t]\nrun = \"true\"\nbefore = [\"Makefile#all\"]\n", "[workspace]\nignore = [\"b/**\"]\n", "[teach.x]\nfiles = [\"*.tasks\"]\nformat = \"lines\"\neach = '^(?P<name>\\w+)=(?P<run>.+)$'\n"},
	"CMakeLists.txt":      {"file(GLOB g *.go)\nforeach(x ${g})\nget_filename_component(n ${x} NAME_WE)\nadd_custom_target(do_${n})\nendforeach()\n", "add_subdirectory(a)\n"},
	"my.tasks":            {"a=true\n", "b=false\n"},
	".quill/jobs.json":    {`{"tasks":[{"name":"q","command":"true","cwd":"."}]}`, `[]`},
	".gitignore":          {"b/\n", "*.sh\n", ""},
	"Cargo.toml":          {"[package]\nname = \"c\"\n", "[workspace]\nmembers = [\"a\", \"b\"]\n"},
	"src/main.rs":         {"fn main() {}\n"},
	"vitest.config.js":    {"export default { test: {} }\n"},
	"node_modules/x/a.js": {""},
	"kiln.test.js":        {"test()\n"},
}

// edit makes one to three changes in a workspace at random. It returns the paths that a watcher
// would name, and what it did.
func edit(t *testing.T, root string, random *rand.Rand) (changed, told []string) {
	t.Helper()
	names := slices.Sorted(maps.Keys(editTexts))
	for range 1 + random.IntN(3) {
		dir := []string{"", "a", "b", "a/p", "p/one"}[random.IntN(5)]
		name := filepath.Join(dir, names[random.IntN(len(names))])
		full := filepath.Join(root, name)
		switch random.IntN(8) {
		case 0:
			if err := os.RemoveAll(full); err != nil {
				t.Fatal(err)
			}
			told = append(told, "rm "+name)
		case 1:
			if dir == "" {
				continue
			}
			if err := os.RemoveAll(filepath.Join(root, dir)); err != nil {
				t.Fatal(err)
			}
			told = append(told, "rm -r "+dir)
			name = dir
		default:
			all := editTexts[filepath.ToSlash(name[len(dir):])]
			if dir != "" {
				all = editTexts[filepath.ToSlash(name[len(dir)+1:])]
			}
			if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
				t.Fatal(err)
			}
			text := all[random.IntN(len(all))]
			err := os.WriteFile(full, []byte(text), 0o644)
			if errors.Is(err, fs.ErrNotExist) && os.Remove(full) == nil { // it was a link that leads nowhere
				err = os.WriteFile(full, []byte(text), 0o644)
			}
			if err != nil {
				t.Fatal(err)
			}
			told = append(told, fmt.Sprintf("%s = %.20q", name, text))
		}
		changed = append(changed, filepath.ToSlash(name))
		// A watcher also names the folders that came and went.
		for d := filepath.Dir(name); d != "."; d = filepath.Dir(d) {
			changed = append(changed, filepath.ToSlash(d))
		}
	}
	return changed, told
}

// After any changes, what was read again only where it changed is what a survey
// from the beginning gives.
func TestAnUpdateEqualsANewSurvey(t *testing.T) {
	t.Parallel()
	root := workspaceOf(t, map[string]string{"Makefile": "include rules.mk\nall:\n\ttrue\n"})
	v := NewSurveyor(root)
	if _, err := v.Survey(nil); err != nil {
		t.Fatal(err)
	}
	seed := rand.Uint64()
	random := rand.New(rand.NewPCG(seed, 1))
	var log []string
	for step := range 250 {
		changed, told := edit(t, root, random)
		log = append(log, told...)
		if len(changed) == 0 {
			continue
		}
		updated, err := v.Update(changed)
		if err != nil {
			t.Fatal(err)
		}
		fresh, err := Of(root)
		if err != nil {
			t.Fatal(err)
		}
		if got, want := asJSON(t, updated), asJSON(t, fresh); got != want {
			at := 0
			for at < min(len(got), len(want)) && got[at] == want[at] {
				at++
			}
			t.Fatalf("seed %d, step %d, after %v (of %q):\nupdated …%.300s\nfresh   …%.300s", seed, step, changed, log[max(0, len(log)-6):], got[max(0, at-100):], want[max(0, at-100):])
		}
	}
}

// What changed after the survey had read it, and before anybody watched, is
// found by its time stamp.
func TestWhatChangedBeforeItWasWatched(t *testing.T) {
	t.Parallel()
	root := workspaceOf(t, map[string]string{"Makefile": "all:\n\ttrue\n", "a/Makefile": "one:\n\ttrue\n", "b/x": ""})
	old := time.Now().Add(-time.Hour)
	for _, name := range []string{"Makefile", "a/Makefile", "b/x", "b", "a", ""} {
		if err := os.Chtimes(filepath.Join(root, name), old, old); err != nil {
			t.Fatal(err)
		}
	}
	v := NewSurveyor(root)
	if v.Newer() != nil {
		t.Error("nothing was surveyed yet")
	}
	if _, err := v.Survey(nil); err != nil {
		t.Fatal(err)
	}
	if got := v.Newer(); len(got) != 0 {
		t.Errorf("nothing has changed: %v", got)
	}
	for name, text := range map[string]string{"a/Makefile": "two:\n\ttrue\n", "b/Makefile": "three:\n\ttrue\n"} {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Remove(filepath.Join(root, "Makefile")); err != nil {
		t.Fatal(err)
	}
	s, err := v.Update(v.Newer())
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, x := range s.Tasks {
		names = append(names, x.Name)
	}
	if strings.Join(names, " ") != "two three" {
		t.Errorf("found: %v", names)
	}
}

// While a survey lasts, what it has so far is shown, and only at its end is it
// whole.
func TestASurveyShowsWhatItHasSoFar(t *testing.T) {
	t.Parallel()
	files := map[string]string{}
	for i := range 3000 {
		files[fmt.Sprintf("g%d/p%d/Makefile", i%30, i)] = "all: a b c\na b c:\n\ttrue\n"
	}
	v := NewSurveyor(workspaceOf(t, files))
	shown, last := 0, 0
	s, err := v.Survey(func(s *Survey) {
		shown++
		if !s.Partial || len(s.Tasks) < last {
			t.Errorf("partial %v, %d tasks after %d", s.Partial, len(s.Tasks), last)
		}
		last = len(s.Tasks)
	})
	if err != nil || s.Partial || len(s.Tasks) != 12000 {
		t.Errorf("%v, partial %v, %d tasks", err, s.Partial, len(s.Tasks))
	}
	t.Logf("shown %d times before the end", shown)
}
