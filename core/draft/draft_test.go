package draft

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tidytally/core/survey"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/internal/testtree"
)

// fakePath returns a folder with programs of some names, as a path.
func fakePath(t *testing.T, programs ...string) string {
	t.Helper()
	dir := t.TempDir()
	for _, p := range programs {
		if err := os.WriteFile(filepath.Join(dir, p), []byte("#!/bin/sh\nexit 1\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return dir
}

// surveyOf writes a tally file into a workspace and surveys it.
func surveyOf(t *testing.T, files map[string]string, tally string) *survey.Survey {
	t.Helper()
	dir := testtree.Folder(t)
	testtree.Fill(t, dir, files)
	if err := os.WriteFile(filepath.Join(dir, "tidytally.toml"), []byte(tally), 0o644); err != nil {
		t.Fatal(err)
	}
	s, err := survey.Of(dir)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// Every starting point gives tables that a tally file takes without a fault, whatever the names of
// files and the answers.
func TestEveryPointIsGoodTOML(t *testing.T) {
	points, err := Points("")
	if err != nil {
		t.Fatal(err)
	}
	path := fakePath(t, "gcc", "clang", "python3", "node", "rustc", "cargo", "go", "podman", "ssh", "tsc")
	seen := map[string]bool{}
	for _, file := range []string{"coil.c", `src/it's a "coil" {x} \n.c`, "a b/run.py", "web/app.ts", "lib.rs", "curve/c.go", ""} {
		for _, o := range Offers(points, file, "kiln", path) {
			answers := map[string]string{}
			for _, a := range o.Asks {
				answers[a.Name] = `it's "80" \`
			}
			d, err := o.Draft(answers)
			if err != nil {
				t.Errorf("%s for %q: %v", o.Name, file, err)
				continue
			}
			seen[o.Name] = true
			data, err := d.Write([]byte("[workspace]\nname = \"x\"\n"))
			if err != nil {
				t.Errorf("%s for %q: %v\n%s", o.Name, file, err, d.Lines())
				continue
			}
			files := map[string]string{"kiln/x": "", "coil.c": "", "lib.rs": "", "curve/c.go": "", "a b/run.py": "", "web/app.ts": "", "src/x": "", `src/it's a "coil" {x} \n.c`: ""}
			for _, f := range surveyOf(t, files, string(data)).Faults {
				if !strings.Contains(f.Message, "unknown placeholder") { // of the answer
					t.Errorf("%s for %q: %s\n%s", o.Name, file, f, data)
				}
			}
		}
	}
	for _, name := range []string{"compile coil.c with gcc", "watch and compile with clang", "run run.py with python3", "test this package", "serve this folder", "in a container", "on a remote host", "any command line"} {
		if !seen[name] {
			t.Errorf("%s was not offered", name)
		}
	}
}

// The user's own starting points come first; one with a mistake is told, and the others stay.
func TestOwnPoints(t *testing.T) {
	file := filepath.Join(t.TempDir(), UserPoints)
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("[[point]]\nname = \"glaze\"\nabout = \"mix <what>\"\nask = [{ name = \"what\", default = \"tenmoku\" }]\ntext = '''\n[task.\"glaze <what>\"]\nrun = [\"mix\", \"<what>\"]\n'''\n")
	points, err := Points(file)
	if err != nil || points[0].Name != "glaze" {
		t.Fatalf("%v, %+v", err, points)
	}
	d, err := Offers(points, "", ".", "")[0].Draft(nil)
	if want := "[task.\"glaze tenmoku\"]\nrun = [\"mix\", \"tenmoku\"]\n"; err != nil || d.Lines() != want {
		t.Errorf("%v\n%s", err, d.Lines())
	}
	for text, want := range map[string]string{
		"[[point]]\nname = \"x\"\n":               "number 1 needs name and text",
		"[[point]]\nname = \"x\"\ntxet = \"y\"\n": UserPoints,
		"[[point]\n": UserPoints,
	} {
		write(text)
		points, err := Points(file)
		if err == nil || !strings.Contains(err.Error(), want) || len(points) < 5 {
			t.Errorf("%q: %v, %d points", text, err, len(points))
		}
	}
}

const found = `{"scripts": {"build": "tsc -p .", "watch": "tsc --watch"}}`

// A copy does the same as the task that was found: it has the command, the folder and what else is
// not the same without it. What is changed in it is checked at once.
func TestACopyOfAFoundTask(t *testing.T) {
	s := surveyOf(t, map[string]string{"shop/package.json": found, "Makefile": "all: ## Everything\n\ttrue\n"}, "")
	build, err := task.Find(s.Tasks, "shop#build")
	if err != nil {
		t.Fatal(err)
	}
	d := Copy(build, ".")
	if want := "[task.build]\nrun = [\"npm\", \"run\", \"build\"]\nin = \"shop\"\n"; d.Lines() != want {
		t.Errorf("got\n%swant\n%s", d.Lines(), want)
	}
	if err := d.Set("key", "q"); err == nil || d.Values["key"] != "" {
		t.Errorf("a key of a page: %v", err)
	}
	if err := d.Set("kind", "bulid"); err == nil {
		t.Error("a kind that there is not")
	}
	d.Table[1] = "build here"
	for key, typed := range map[string]string{"key": "f7", "run": "tsc -p . | tee log", "env": "TZ=UTC 'A=b c'", "reads": "'src/**/*.ts' tsconfig.json"} {
		if err := d.Set(key, typed); err != nil {
			t.Errorf("%s: %v", key, err)
		}
	}
	want := "[task.\"build here\"]\nrun = \"tsc -p . | tee log\"\nin = \"shop\"\nenv = { TZ = \"UTC\", A = \"b c\" }\nreads = [\"src/**/*.ts\", \"tsconfig.json\"]\nkey = \"f7\"\n"
	if d.Lines() != want {
		t.Errorf("got\n%swant\n%s", d.Lines(), want)
	}
	data, err := d.Write([]byte("# mine\n"))
	if err != nil || string(data) != "# mine\n\n"+want {
		t.Errorf("%v\n%s", err, data)
	}
}

// Of a found task that is changed, only what differs is written; of one of a tally file, the value
// changes where it stands.
func TestAChange(t *testing.T) {
	const tally = "[task.fire]\nrun = \"echo fire\" # hot\nin = \"shop\"\n# why\nkey = \"f6\"\nargs = [{ name = \"CONE\" }]\n"
	s := surveyOf(t, map[string]string{"shop/package.json": found}, tally)
	change := func(id string, values map[string]string) *Draft {
		t.Helper()
		of, err := task.Find(s.Tasks, id)
		if err != nil {
			t.Fatal(err)
		}
		d := Change(of)
		if d.Lines() != "" {
			t.Errorf("unchanged, it would write\n%s", d.Lines())
		}
		for key, typed := range values {
			if err := d.Set(key, typed); err != nil {
				t.Error(err)
			}
		}
		return d
	}
	d := change("shop#build", map[string]string{"via": "box", "key": "f7"})
	data, err := d.Write([]byte(tally))
	if want := tally + "\n[adjust.\"shop/package.json#build\"]\nkey = \"f7\"\nvia = \"box\"\n"; err != nil || string(data) != want {
		t.Errorf("%v\n%s", err, data)
	}
	d = change("fire", map[string]string{"run": "echo hotter", "key": "", "timeout": "5m"})
	data, err = d.Write([]byte(tally))
	want := "[task.fire]\nrun = [\"echo\", \"hotter\"] # hot\nin = \"shop\"\n# why\nargs = [{ name = \"CONE\" }]\ntimeout = \"5m\"\n"
	if err != nil || string(data) != want {
		t.Errorf("%v\n%s", err, data)
	}
	will, err := d.Task("tidytally.toml")
	if err != nil || will.Command.String() != "echo hotter" || will.Dir != "shop" || len(will.Args) != 1 {
		t.Errorf("%v, it would be %+v", err, will)
	}
}

// What is typed for any key comes back as it was typed.
func TestTypedThereAndBack(t *testing.T) {
	for key, typed := range map[string]string{
		"run": "make -j2 'a b'", "about": `say "it"`, "env": "A=1 B='c d'", "for": "'*.c' '*.h'", "long_running": "true", "timeout": "90s",
		"stop": "signal=TERM grace=1s", "args": `[{ name = "A", choices = ["x", "y"] }]`, "presets": "one='A=1'", "debug": "build/x --port 7",
	} {
		d := &Draft{Table: tallyfile.Table{"task", "x"}, Values: map[string]string{}, Before: map[string]string{}}
		if err := d.Set(key, typed); err != nil {
			t.Errorf("%s: %v", key, err)
			continue
		}
		if key != "run" {
			d.Values["run"] = "true"
		}
		again, err := parse(d.Lines())
		if err != nil || again.Values[key] != typed {
			t.Errorf("%s: typed %q, read %q, %v", key, typed, again.Values[key], err)
		}
	}
	keys := tallyfile.TaskKeys()
	if !slices.ContainsFunc(keys, func(k tallyfile.Key) bool { return k.Name == "via" }) {
		t.Errorf("%d keys", len(keys))
	}
}

func FuzzSet(f *testing.F) {
	f.Add("run", "make 'a")
	f.Add("env", "A=\x00")
	f.Add("args", "[{ name = ")
	f.Add("stop", "signal")
	f.Fuzz(func(t *testing.T, key, typed string) {
		d := &Draft{Table: tallyfile.Table{"task", "x"}, Values: map[string]string{"run": "true"}, Before: map[string]string{}}
		if d.Set(key, typed) != nil || strings.ToValidUTF8(typed, "") != typed {
			return
		}
		if _, err := d.Write(nil); err != nil {
			t.Errorf("%s = %q was taken, and cannot be written: %v\n%s", key, typed, err, d.Lines())
		}
	})
}
