package survey

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// workspaceOf lays out files in a new folder.
func workspaceOf(t *testing.T, files map[string]string) string {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		full := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return root
}

const taughtTally = `
[teach.inkpot]
files  = [".inkpot/*.json"]
format = "jsonc"
each   = "$.jobs[?@.skip != true]"
name   = "$.title"
run    = "$.do"
in     = "$.where"
before = "$.first[*]"

[teach.notes]
files  = ["NOTES"]
format = "lines"
each   = '^\* (?P<name>\w+): (?P<run>.+)$'
`

func TestTaughtFilesAreRead(t *testing.T) {
	t.Parallel()
	root := workspaceOf(t, map[string]string{
		"tidytally.toml": taughtTally,
		".inkpot/studio.json": `{
  // two jobs, and one that is skipped
  "jobs": [
    {"title": "Sweep", "do": "make clean", "where": "kiln"},
    {"title": "Report", "do": ["go", "run", "./cmd/curve"], "where": "firing", "first": ["Sweep"]},
    {"title": "Never", "do": "false", "skip": true},
  ],
}`,
		"NOTES": "things to do\n* glaze: mix --all\r\n* nothing\n",
	})
	s, err := Of(root)
	if err != nil {
		t.Fatal(err)
	}
	if len(s.Faults) > 0 {
		t.Error(s.Faults)
	}
	got := map[string]string{}
	for _, x := range s.Tasks {
		if x.Source != "taught" {
			t.Errorf("%s is from %s", x.ID(), x.Source)
		}
		got[x.ID()] = x.Command.String() + " in " + x.Dir + ", line " + string(rune('0'+x.Line)) + " " + strings.Join(x.Before, "")
	}
	want := map[string]string{
		".inkpot/studio.json#Sweep":  "make clean in kiln, line 4 ",
		".inkpot/studio.json#Report": "go run ./cmd/curve in firing, line 5 .inkpot/studio.json#Sweep",
		"NOTES#glaze":                "mix --all in ., line 2 ",
	}
	for id, text := range want {
		if got[id] != text {
			t.Errorf("%s: got %q, want %q", id, got[id], text)
		}
	}
	if len(got) != len(want) {
		t.Errorf("got %v", got)
	}
}

func TestMistakesInTeachTablesAreLocated(t *testing.T) {
	t.Parallel()
	root := workspaceOf(t, map[string]string{"tidytally.toml": `
[teach.a]
files = ["a.json"]
format = "jsonc"
each = "$.jobs[*"
name = "$.n"
run = "$.r"
[teach.b]
files = ["gone/*.yaml"]
format = "yaml"
each = "$[*]"
name = "$.n"
run = "$.r"
[teach.c]
format = "lines"
each = "("
`})
	s, err := Of(root)
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, f := range s.Faults {
		all = append(all, f.String())
	}
	text := strings.Join(all, "\n")
	for _, want := range []string{"tidytally.toml:5:8: teach.a: each", "tidytally.toml:8:8: teach.b: no file is called gone/*.yaml", "tidytally.toml:14:8: [teach.c] needs files"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
}

// What the user has for every workspace is offered, and runs in the workspace.
func TestPersonalTasks(t *testing.T) {
	config := workspaceOf(t, map[string]string{
		"tidytally/tidytally.toml": "[task.scratch]\nrun = \"ls\"\nin = \"kiln\"\n[teach.jot]\nfiles = [\"JOT\"]\nformat = \"lines\"\neach = '^(?P<name>\\w+) = (?P<run>.*)$'\n",
		"quill/jobs.json":          `{"tasks": [{"label": "tidy", "command": "gofmt -l ${projectFolder}"}]}`,
		"quill/prefs.json":         `{"tasks": [{"label": "no", "command": "no task file by its name"}]}`,
	})
	t.Setenv("XDG_CONFIG_HOME", config)
	root := workspaceOf(t, map[string]string{"JOT": "fire = kilnsim\n", "Makefile": "all:\n\ttrue\n"})
	v := NewSurveyor(root)
	s, err := v.Survey(nil)
	if err != nil {
		t.Fatal(err)
	}
	names := func() string {
		var names []string
		for _, x := range s.Tasks {
			names = append(names, x.Name+" in "+x.Dir)
		}
		return strings.Join(names, ", ")
	}
	if got, want := names(), "tidy in ., fire in ., scratch in kiln, all in ."; got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	// A file of the workspace that a table of the user own looks for.
	if err := os.WriteFile(filepath.Join(root, "JOT"), []byte("cool = kilnsim --off\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if s, err = v.Update([]string{"JOT"}); err != nil {
		t.Fatal(err)
	}
	if got := names(); got != "tidy in ., cool in ., scratch in kiln, all in ." {
		t.Errorf("after a change of what is taught: %s", got)
	}
	if err := os.WriteFile(PersonalFile(), []byte("[task.other]\nrun = \"ls\"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if s, err = v.Update([]string{PersonalFile()}); err != nil {
		t.Fatal(err)
	}
	if got := names(); got != "tidy in ., other in ., all in ." {
		t.Errorf("after a change: %s", got)
	}
}

// Sieves hold for an output by the tally files above the folder where it was
// made, the nearest first, and the search ends wherever it begins.
func TestSievesForAFolder(t *testing.T) {
	one := func(name string) string {
		return "[sieve." + name + "]\n[[sieve." + name + ".lines]]\nmatch = '^(?P<message>.*)$'\n"
	}
	config := workspaceOf(t, map[string]string{"tidytally/tidytally.toml": one("mine")})
	t.Setenv("XDG_CONFIG_HOME", config)
	root := workspaceOf(t, map[string]string{
		".git/x": "", "tidytally.toml": "[workspace]\n" + one("top"), "a/tidytally.toml": one("near"), "a/b/x": "", "c/tidytally.toml": one("other"),
	})
	for dir, want := range map[string]string{"a/b": "near top mine", "a": "near top mine", ".": "top mine", "c": "other top mine"} {
		var got []string
		for _, s := range SievesFor(filepath.Join(root, dir)) {
			got = append(got, s.Name)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %v, want %s", dir, got, want)
		}
	}
	for _, dir := range []string{"/", filepath.Join(root, "gone"), t.TempDir()} {
		for _, s := range SievesFor(dir) {
			if s.Name != "mine" {
				t.Errorf("%s has %s", dir, s.Name)
			}
		}
	}
}

// A name of a sieve that there is not is told where it stands.
func TestUnknownSievesAreTold(t *testing.T) {
	t.Parallel()
	root := workspaceOf(t, map[string]string{"tidytally.toml": "[task.a]\nrun = \"x\"\nsieves = [\"gnuu\", \"all\"]\n[adjust.\"Makefile#all\"]\nsieves = [\"tcs\"]\n", "Makefile": "all:\n\ttrue\n"})
	s, err := Of(root)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, f := range s.Faults {
		got = append(got, f.String())
	}
	want := "tidytally.toml:3:1: task a: there is no sieve gnuu; did you mean gnu?\ntidytally.toml:5:1: task all: there is no sieve tcs; did you mean tsc?"
	if strings.Join(got, "\n") != want {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), want)
	}
}
