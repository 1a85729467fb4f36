package editorfile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/reader/declare"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// The expression of an editor's task picks its fields from a line.
func TestExpressionsBecomeSieves(t *testing.T) {
	f := declare.NewWorkspace("/w", nil).File(".quill/jobs.json", []byte(`{"tasks": [
		{"name": "numbered", "command": "x", "regex": "^(\\S+)@(\\d+)! (.*)$"},
		{"name": "told", "command": "x", "regex": {"expression": "^(\\d+) of (\\S+): (.*)$", "lineGroup": 1, "fileGroup": 2, "messageGroup": 3}},
		{"name": "named", "command": "x", "regex": "^(?<fileName>\\S+) (?<row>\\d+) (?<msg>.*)$"},
		{"name": "bad", "command": "x", "regex": "^(?=x)(.*)$"}
	]}`))
	found := Read(f)
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
		file := declare.NewWorkspace("/w", nil).File(".x/jobs"+ext, data)
		for _, found := range Read(file).Tasks {
			if found.Name == "" || found.Command.IsZero() && len(found.Before)+len(found.With) == 0 && len(found.Unread) == 0 {
				t.Errorf("%+v", found)
			}
			_ = task.MakeID(found.File, found.Name)
		}
	})
}
