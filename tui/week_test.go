package tui

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tidytally/core/history"
	"tidytally/core/learn"
	"tidytally/core/task"
	"tidytally/demo"
	"tidytally/internal/testtree"
)

// weekScreens are what is typed after a week of runs, as perform has it, and the screen that it leads to.
var weekScreens = []struct{ name, keys string }{
	{"history", "H"},
	{"history, a few down", "H down down down"},
	{"history, the end", "H end"},
	{"history, the end and up", "H end pgup up"},
	{"history by task", "H g"},
	{"history by task, further down", "H g pgdown down"},
	{"history of failed runs", "H / i s : f a i l e d enter"},
	{"history of one task", "H / t e s t"},
	{"history, nothing found", "H / z z z enter"},
	{"two runs compared", "H down = down down ="},
	{"two runs of one task compared", "H / t e s t enter = down down ="},
	{"a comparison left", "H down = down = esc"},
	{"an earlier run's output", "H enter"},
	{"an earlier run's problems", "H / i s : f a i l e d enter enter y"},
	{"history closed", "H H"},
	{"a run of history clicked", "H CLICK:8"},
	{"a heading of history clicked", "H CLICK:4"},
	{"the wheel in history", "H WHEELDOWN WHEELDOWN WHEEL"},
	{"tasks with earlier runs", ""},
	{"a task with earlier runs", "/ t e s t enter"},
	{"the last run of a task", "/ t e s t enter o"},
	{"the problems of the last run", "/ t e s t enter y"},
	{"a plan with earlier runs", "/ c h e c k - a l l enter l"},
	{"a suite to split", "/ t e s t enter S"},
	{"what a task lacks", "/ g l a z e b o o k enter I"},
	{"files of a run", "/ c o n t r o l l e r enter M"},
	{"files of a run, the last", "/ c o n t r o l l e r enter M end"},
	{"changed files of a run", "/ c o n t r o l l e r enter M c"},
	{"a made file beside its source", "/ c o n t r o l l e r enter M end enter"},
	{"a drawing to write", "H / t e s t enter d"},
}

// madeByCoil is what a run of an hour ago read and made. One of its files has changed since, one is gone.
func madeByCoil(t *testing.T, m *Model, now time.Time) *learn.Known {
	t.Helper()
	root, at := m.root, now.Add(-time.Hour)
	if err := os.WriteFile(filepath.Join(root, "kiln/coil.o"), []byte("made of coil\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	k := &learn.Known{Origin: learn.Watched, Started: at, Ended: at.Add(2 * time.Second), Setting: settingOf(t, m, "kiln/Makefile#controller")}
	for name, role := range map[string]learn.Role{
		"kiln/src/coil.c": learn.Read, "kiln/src/coil.h": learn.Read, "kiln/rules.mk": learn.Read, "kiln/coil.o": learn.Made, "kiln/gone.o": learn.Made, "kiln/config.mk": learn.Missing,
	} {
		stamp := learn.Stamp{Path: name, Role: role, Size: -1}
		full := filepath.Join(root, filepath.FromSlash(name))
		written := at.Add(-24 * time.Hour)
		if name == "kiln/rules.mk" {
			written = at.Add(20 * time.Minute)
		}
		if os.Chtimes(full, written, written) == nil {
			info, err := os.Stat(full)
			if err != nil {
				t.Fatal(err)
			}
			stamp.Size, stamp.Time = info.Size(), at.Add(-24*time.Hour).UnixNano()
		} else if role == learn.Made {
			stamp.Size = 100
		}
		k.Stamps = append(k.Stamps, stamp)
	}
	slices.SortFunc(k.Stamps, func(a, b learn.Stamp) int { return strings.Compare(a.Path, b.Path) })
	return k
}

// settingOf is what a run of a task would be given now.
func settingOf(t *testing.T, m *Model, id string) learn.Setting {
	t.Helper()
	x, err := task.Find(m.snap.Survey.Tasks, id)
	if err != nil {
		t.Fatal(err)
	}
	ctx := m.session.Context()
	set, err := ctx.SettingOf(x)()
	if err != nil {
		t.Fatal(err)
	}
	return set
}

// historyAsIn opens the history of the workspace at root as a copy of that of another. A copy is quicker than to
// fill it.
func historyAsIn(t *testing.T, other, root string) *history.Store {
	t.Helper()
	var paths []string
	for _, of := range []string{other, root} {
		store, err := history.Open(of)
		if err != nil {
			t.Fatal(err)
		}
		paths = append(paths, store.Path())
		store.Close()
	}
	data, err := os.ReadFile(paths[0])
	if err == nil {
		err = os.WriteFile(paths[1], data, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	store, err := history.Open(root)
	if err != nil {
		t.Fatal(err)
	}
	return store
}

// After a week of runs the pages show golden text. go test ./tui -run TestWeekScreens -update writes it; read
// the difference before it is kept.
func TestWeekScreens(t *testing.T) {
	t.Setenv("PATH", t.TempDir()) // what is not ready is the same on all machines
	t.Setenv("EDITOR", "true")
	now := time.Date(2026, 3, 6, 17, 20, 0, 0, time.Local)
	week := filepath.Join(testtree.Folder(t), "emberclay")
	store, err := history.Open(week)
	if err == nil {
		err = demo.Week(store, "/home/ada/emberclay", now)
	}
	if err == nil {
		err = store.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Run("each", func(t *testing.T) {
		for i, s := range weekScreens {
			t.Run(s.name, func(t *testing.T) {
				t.Parallel()
				root := layWorkspace(t, nil)
				store := historyAsIn(t, week, root)
				m := openOn(t, root, true)
				m.clock = func() time.Time { return now } // nothing runs in these screens
				m.snap.Survey.Tally.Workspace.Slots = 2   // as on a machine with two processors
				if err := store.PutLearned("kiln/Makefile#controller", madeByCoil(t, m, now)); err != nil {
					t.Fatal(err)
				}
				m.perform(t, "SYNC", false)
				m.perform(t, s.keys, true)
				text := m.shownAt(m.shownOfWeek, [2]int{140, 38}, [2]int{80, 24}, [3][2]int{{200, 30}, {60, 16}, {100, 31}}[i%3])
				m.session.Close()
				store.Close()
				compareScreen(t, "week", s.name, text)
			})
		}
	})
	entries, err := os.ReadDir("testdata/week")
	if err != nil || len(entries) != len(weekScreens) {
		t.Errorf("%d golden screens for %d: %v", len(entries), len(weekScreens), err)
	}
}
