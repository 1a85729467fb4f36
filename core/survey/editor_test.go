package survey

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

var update = flag.Bool("update", false, "write what was understood of the editors' files anew")

// understood writes what a survey says of its tasks, a value a line.
func understood(s *Survey) string {
	var b strings.Builder
	for _, t := range s.Tasks {
		for _, v := range Values(t) {
			fmt.Fprintf(&b, "%-14s  %-50s  %s\n", v.Field, v.Text, v.Origin)
		}
		b.WriteByte('\n')
	}
	for _, f := range s.Faults {
		fmt.Fprintln(&b, "fault", f)
	}
	for _, sieve := range s.Tally.Sieves {
		for _, l := range sieve.Lines {
			fmt.Fprintf(&b, "sieve %s: %s\n", sieve.Name, l.Match)
		}
	}
	return b.String()
}

// The task files of twelve editors that do not exist, each of another shape.
// What is understood of each stands beside it; -update writes it anew, and then
// it must be read.
func TestTaskFilesOfEditorsAreUnderstood(t *testing.T) {
	folders, err := filepath.Glob("testdata/editors/*")
	if err != nil || len(folders) < 12 {
		t.Fatalf("%v, %d editors", err, len(folders))
	}
	for _, dir := range folders {
		want := filepath.Join(dir, "understood.txt")
		abs, err := filepath.Abs(dir)
		if err != nil {
			t.Fatal(err)
		}
		s, err := Of(abs)
		if err != nil {
			t.Fatal(err)
		}
		got := understood(s)
		if *update {
			if err := os.WriteFile(want, []byte(got), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		text, err := os.ReadFile(want)
		if err != nil || string(text) != got {
			t.Errorf("%s: %v, understood is\n%s", dir, err, got)
		}
	}
}

func TestFilesOfOtherPurposesGiveNoTask(t *testing.T) {
	abs, err := filepath.Abs("testdata/other")
	if err != nil {
		t.Fatal(err)
	}
	s, err := Of(abs)
	if err != nil {
		t.Fatal(err)
	}
	if s.Files < 22 {
		t.Fatalf("only %d files", s.Files)
	}
	for _, task := range s.Tasks {
		t.Errorf("%s: %s", task.ID(), task.Command)
	}
	for _, f := range s.Faults {
		t.Errorf("fault %s", f)
	}
}

// The expression of an editor's task picks its fields from a line.
func TestExpressionsBecomeSieves(t *testing.T) {
	f := &File{Path: ".quill/jobs.json", Data: []byte(`{"tasks": [
		{"name": "numbered", "command": "x", "regex": "^(\\S+)@(\\d+)! (.*)$"},
		{"name": "told", "command": "x", "regex": {"expression": "^(\\d+) of (\\S+): (.*)$", "lineGroup": 1, "fileGroup": 2, "messageGroup": 3}},
		{"name": "named", "command": "x", "regex": "^(?<fileName>\\S+) (?<row>\\d+) (?<msg>.*)$"},
		{"name": "bad", "command": "x", "regex": "^(?=x)(.*)$"}
	]}`), ws: &files{root: "/w"}}
	found := readEditor(f)
	if len(found.Sieves) != 3 || len(found.Tasks) != 4 {
		t.Fatalf("%d sieves of %d tasks", len(found.Sieves), len(found.Tasks))
	}
	for i, line := range []string{"a.c@12! odd", "12 of a.c: odd", "a.c 12 odd"} {
		re := found.Sieves[i].Lines[0].Match
		m := re.FindStringSubmatch(line)
		get := func(name string) string { return m[re.SubexpIndex(name)] }
		if m == nil || get("file") != "a.c" || get("line") != "12" || get("message") != "odd" {
			t.Errorf("%s: %q gives %q", found.Sieves[i].Name, line, m)
		}
	}
	if got := found.Tasks[0].Sieves; len(got) != 2 || got[1] != tallyfile.AllSieves {
		t.Errorf("sieves %v", got)
	}
	if u := found.Tasks[3].Unread; len(u) != 1 || u[0].Line != 5 || !strings.Contains(u[0].Note, "RE2") {
		t.Errorf("what RE2 does not know is told: %v", u)
	}
}

func FuzzReadEditor(f *testing.F) {
	for _, pattern := range []string{"testdata/editors/*/.*/*", "testdata/other/.*/*"} {
		names, err := filepath.Glob(pattern)
		if err != nil {
			f.Fatal(err)
		}
		for _, name := range names {
			if data, err := os.ReadFile(name); err == nil {
				f.Add(filepath.Ext(name), data)
			}
		}
	}
	f.Fuzz(func(t *testing.T, ext string, data []byte) {
		file := &File{Path: ".x/jobs" + ext, Data: data, ws: &files{root: "/w"}}
		for _, found := range readEditor(file).Tasks {
			if found.Name == "" || found.Command.IsZero() && len(found.Before)+len(found.With) == 0 && len(found.Unread) == 0 {
				t.Errorf("%+v", found)
			}
			_ = task.MakeID(found.File, found.Name)
		}
	})
}
