package survey

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tidytally/core/filter"
	"tidytally/core/task"
	"tidytally/internal/testtree"
)

func survey(t *testing.T, files map[string]string) *Survey {
	t.Helper()
	s, err := Of(testtree.Lay(t, files))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// brief words the tasks for comparison.
func brief(s *Survey) string {
	var b strings.Builder
	for _, t := range s.Tasks {
		fmt.Fprintf(&b, "%s:%d in %s: %s\n", t.ID(), t.Line, t.Dir, t.Command)
	}
	return b.String()
}

func TestPackageScripts(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"package.json":       "{\n  \"name\": \"root\",\n  \"workspaces\": [\"p/*\"],\n  \"scripts\": {\n    \"//\": \"a note\",\n    \"build\": \"tsc\",\n    \"prebuild\": \"rm -rf dist\"\n  }\n}\n",
		"package-lock.json":  "{}",
		"p/one/package.json": `{"test":"no script","scripts":{"test":"node --test","watch":"tsc --watch"}}`,
		"pn/package.json":    `{"packageManager":"pnpm@9.1.0","scripts":{"dev":"vite"}}`,
		"ya/package.json":    `{"scripts":{"lint":"eslint ."}}`,
		"ya/yarn.lock":       "",
		"none/package.json":  `{"name":"no scripts"}`,
	})
	want := `package.json#build:6 in .: npm run build
package.json#prebuild:7 in .: npm run prebuild
p/one/package.json#test:1 in p/one: npm run test
p/one/package.json#watch:1 in p/one: npm run watch
pn/package.json#dev:1 in pn: pnpm run dev
ya/package.json#lint:1 in ya: yarn run lint
`
	if got := brief(s); got != want {
		t.Errorf("got\n%swant\n%s", got, want)
	}
	for id, origin := range map[string]string{
		"pn#dev": "pn/package.json:1, declared: field packageManager", "ya#lint": "ya/yarn.lock, inferred: lock file", "one#test": "package-lock.json, inferred: lock file",
	} {
		k, err := task.Find(s.Tasks, id)
		if err != nil {
			t.Fatal(err)
		}
		if got := k.Origin("command").String(); got != origin {
			t.Errorf("%s: command from %s, want %s", id, got, origin)
		}
	}
	build, _ := task.Find(s.Tasks, "package.json#build")
	if !slices.Equal(build.Prerequisites, []string{"prebuild"}) {
		t.Errorf("the hook belongs to its script: %v", build.Prerequisites)
	}
	if got := build.Full([]string{"--x", "a b"}).String(); got != "npm run build -- --x 'a b'" {
		t.Errorf("with arguments: %s", got)
	}
	if watch, _ := task.Find(s.Tasks, "watch"); !watch.LongRunning {
		t.Error("a watcher stays up")
	}
}

// npm itself says which scripts a package has.
func TestPackageScriptsAgainstNpm(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("npm"); err != nil {
		t.Skip("npm is not installed")
	}
	text := `{"name":"x","version":"1.0.0","scripts":{"build":"tsc -p .","test":"node \"a b\"","t:é":"echo \u00e9\t.","pre":"a","a/b":"c"}}`
	root := testtree.Lay(t, map[string]string{"package.json": text})
	cmd := exec.Command("npm", "pkg", "get", "scripts", "--json")
	cmd.Dir = root
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	var want map[string]string
	if err := json.Unmarshal(out, &want); err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	s, err := Of(root)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range s.Tasks {
		got[k.Name] = k.Script
	}
	if len(got) != 5 || fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("got %q\nwant %q", got, want)
	}
}

func faults(s *Survey) string {
	var b strings.Builder
	for _, f := range s.Faults {
		fmt.Fprintln(&b, f)
	}
	return b.String()
}

func TestBadInputCostsOnlyItself(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"ok/Makefile":           "all:\n\ttrue\n",
		"broken/package.json":   "{\n  \"scripts\": {\n    \"good\": \"x\",\n    \"bad\": 7,\n    \"twice\": \"a\",\n    \"twice\": \"b\",\n    \"cut\": \"y\n",
		"empty/package.json":    "",
		"list/package.json":     "[]",
		"bom/package.json":      "\ufeff{\"scripts\":{\"x\":\"y\"}}",
		"escape/package.json":   `{"scripts":{"red\u001b[31m":"x"}}`,
		"binary/Makefile":       "all:\x00\xff\n\ttrue\n",
		"tidytally.toml":        "[task.one]\nrun = \"x\"\nabuot = \"y\"\n\n[task.two]\nrun = 3\n\n[tsak.x]\n\n[task.three]\nrun = \"{fil}\"\n\n[task.broken\nrun = \"x\"\n\n[task.four]\nrun = [\"a\", \"b\"]\nkind = \"biuld\"\ntimeout = \"soon\"\nready = \"(\"\nbefore = [\"#noe\"]\n",
		"deep/package.json":     strings.Repeat("[", 100000),
		"other/tidytally.toml":  "[adjust.\"ok/Makefile#al\"]\nabout = \"x\"\n[task.v]\nrun = \"x\"\nvia = \"w\"\n",
		"unended/package.json":  `{"scripts":{"a":"b"},`,
		"notutf8/package.json":  "{\"scripts\":{\"a\":\"\xff\xfe\"}}",
		"comments/package.json": "{ // no\n}",
	})
	got := faults(s)
	for _, want := range []string{
		`broken/package.json:4:12: the script "bad" is a number where a string should stand`,
		`broken/package.json:6:5: the script "twice" stands twice; this one, the last, counts`,
		`broken/package.json:7:12: the string that begins here is not closed`,
		"empty/package.json:1:1: the file is empty",
		"list/package.json:1:1: is an array where an object should stand",
		"tidytally.toml:3:1: unknown key of [task]: abuot; did you mean about?",
		"tidytally.toml:6:7: run is an integer where a string or a list of strings should stand",
		"tidytally.toml:8:2: unknown table tsak; did you mean task?",
		"tidytally.toml:11:7: unknown placeholder {fil}; did you mean {file}?",
		"tidytally.toml:13:",
		`tidytally.toml:18:8: kind is "biuld"; it may be: build, check`,
		`tidytally.toml:19:11: timeout is "soon", no duration`,
		"tidytally.toml:20:9: ready: missing closing )",
		"tidytally.toml:21:1: task four: no task tidytally.toml#noe; the nearest are:",
		"other/tidytally.toml:1:9: adjust: no task ok/Makefile#al; the nearest are: ok/Makefile#all",
		"other/tidytally.toml:5:1: task v: there is no [via.w]",
		"deep/package.json:1:514: nested more than 512 deep",
	} {
		if !strings.Contains(got, want) {
			t.Errorf("no fault %q in\n%s", want, got)
		}
	}
	for _, id := range []string{"ok#all", "broken#good", "broken#twice", "bom#x", "binary#all", "one", "four", "unended#a", "notutf8#a"} {
		if _, err := task.Find(s.Tasks, id); err != nil {
			t.Errorf("%s is lost: %v", id, err)
		}
	}
}

func TestAdjustOverridesSingleValues(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"kiln/Makefile":  "all: ## Everything\n\ttrue\nclean:\n\ttrue\n",
		"tidytally.toml": "[workspace]\nname = \"studio\"\nusual = \"kiln#all\"\n\n[adjust.\"kiln/Makefile#all\"]\nabout = \"The lot\"\nbefore = [\"kiln/Makefile#clean\"]\n",
	})
	all, err := task.Find(s.Tasks, "all")
	if err != nil {
		t.Fatal(err)
	}
	if all.About != "The lot" || all.Command.String() != "make all" || s.Name != "studio" || s.Usual() != all {
		t.Errorf("%+v in %s, usual %v", all, s.Name, s.Usual())
	}
	if got := all.Origin("about").String(); got != "tidytally.toml:6, adjusted" {
		t.Errorf("about comes from %s", got)
	}
	if got := all.Origin("command").String(); got != "kiln/Makefile:1, declared" {
		t.Errorf("command comes from %s", got)
	}
	if got := List(all).Declared; got != task.Adjusted {
		t.Errorf("declared: %s", got)
	}
	if len(s.Faults) > 0 {
		t.Errorf("faults: %v", s.Faults)
	}
}

func TestSelect(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"kiln/Makefile":     "all: ## Build it\n\ttrue\nclean:\n\ttrue\nx.o:\n\ttrue\nlong-name-here:\n\ttrue\n",
		"shop/package.json": `{"scripts":{"build":"tsc","build:watch":"tsc --watch","lint":"eslint"}}`,
	})
	for query, want := range map[string]string{
		"":                  "all clean long-name-here build build:watch lint",
		"kind:build":        "all build build:watch",
		"in:kiln -clean":    "all long-name-here",
		"from:npm tsc":      "build build:watch",
		"is:long-running":   "build:watch",
		"lnh":               "long-name-here",
		`"Build it"`:        "all",
		"runs:eslint":       "lint",
		"name:build -watch": "build",
		"build":             "all build build:watch", // not what only its command says
		"nothing-like-it":   "",
	} {
		var got []string
		for _, k := range s.Select(filter.Parse(query, task.FilterFields...), false, nil) {
			got = append(got, k.Name)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q: got %v, want %s", query, got, want)
		}
	}
	if n := len(s.Select(filter.Query{}, true, nil)); n != 7 {
		t.Errorf("with all: %d", n)
	}
}

// What configure makes is what one builds with, although version control ignores it:
// at the root it is read and marked. Elsewhere it is ignored, and an empty survey says
// so.
func TestGeneratedBuildFiles(t *testing.T) {
	t.Parallel()
	root := testtree.Lay(t, map[string]string{
		".gitignore": "Makefile\n*.o\n", "Makefile": "all: ; true\ncheck: ; true\n", "configure": "#!/bin/sh\n", "sub/Makefile": "inner: ; true\n",
	})
	if err := os.Mkdir(filepath.Join(root, ".git"), 0o755); err != nil {
		t.Fatal(err)
	}
	s, err := Of(root)
	if err != nil {
		t.Fatal(err)
	}
	var ids []string
	for _, k := range s.Tasks {
		ids = append(ids, k.ID())
	}
	if got := strings.Join(ids, " "); got != "Makefile#all Makefile#check configure#configure" {
		t.Errorf("tasks: %s", got)
	}
	if note := s.Tasks[0].Origin("name").Note; note != "generated: ignored by .gitignore:1: Makefile" {
		t.Errorf("marked as %q", note)
	}
	if s.WhyEmpty() != "" {
		t.Errorf("empty: %s", s.WhyEmpty())
	}
	for _, name := range []string{"Makefile", "configure"} {
		if err := os.Remove(filepath.Join(root, name)); err != nil {
			t.Fatal(err)
		}
	}
	if s, err = Of(root); err != nil {
		t.Fatal(err)
	}
	if why := s.WhyEmpty(); !strings.HasSuffix(why, `: sub/Makefile is ignored by .gitignore:1: Makefile; rules_off = [".gitignore"] in the [workspace] of a tidytally.toml reads it`) {
		t.Errorf("why: %s", why)
	}
	testtree.Fill(t, root, map[string]string{"tidytally.toml": "[workspace]\nrules_off = [\".gitignore\"]\n"})
	if s, err = Of(root); err != nil || len(s.Tasks) != 1 {
		t.Errorf("with the rule off: %d tasks, %v", len(s.Tasks), err)
	}
}
