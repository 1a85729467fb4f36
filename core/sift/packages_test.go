package sift_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sift"
	"tidytally/core/workspace"
	"tidytally/internal/testtree"
)

// A package manager runs a task of several packages: the paths start in the folder of
// each, whether it is named before each line, above the output, or drawn in a terminal.
func TestPackages(t *testing.T) {
	files := map[string]string{
		"package.json":        `{"name": "emberclay", "private": true, "workspaces": ["packages/*"]}`,
		"pnpm-workspace.yaml": "packages:\n  - packages/*\n",
	}
	for _, name := range []string{"core", "web"} {
		files["packages/"+name+"/package.json"] = `{"name": "@emberclay/` + name + `", "version": "1.2.0"}`
		files["packages/"+name+"/src/index.ts"] = ""
	}
	files["packages/core/lib/old.js"], files["packages/core/test/a.test.js"] = "", ""
	files["packages/web/lib/page.js"], files["packages/web/test/b.test.js"] = "", ""
	want := map[string][]string{
		"build": {"packages/core/src/index.ts:4:34 TS2339", "packages/core/src/index.ts:5:3 TS2322", "packages/web/src/index.ts:1:7 TS2322", "packages/web/src/index.ts:2:22 TS7006"},
		"lint":  {"packages/core/lib/old.js:2:9 no-unused-vars", "packages/core/lib/old.js:3:10 no-undef", "packages/web/lib/page.js:2:18 no-undef"},
		"test":  {"packages/core/test/a.test.js:4:10 adds", "packages/web/test/b.test.js:5:12 inner"},
	}
	want["pretty"] = want["build"]
	logs, err := filepath.Glob("testdata/packages/*.log")
	if err != nil || len(logs) < 10 {
		t.Fatalf("%d logs, %v", len(logs), err)
	}
	root := testtree.Lay(t, files)
	for _, log := range logs {
		data, err := os.ReadFile(log)
		if err != nil {
			t.Fatal(err)
		}
		output := strings.ReplaceAll(string(data), "/w/", root+"/")
		var got []string
		e := sift.New(sift.Output{Root: root, Dir: root, Search: workspace.NewFinder(root).Find}, &problem.Sources{}, sift.Receiver{
			Problem: func(p problem.Problem) { got = append(got, p.Place.String()+" "+p.Code) },
		})
		e.Write([]byte(output))
		e.Close()
		slices.Sort(got)
		task := strings.Split(filepath.Base(log), "-")[1]
		if task = strings.TrimSuffix(task, ".log"); !slices.Equal(got, want[task]) {
			t.Errorf("%s: got\n%s\nwant\n%s", log, strings.Join(got, "\n"), strings.Join(want[task], "\n"))
		}
	}
}

// Names that package managers have for packages, and those that nobody has.
func TestNamesOfPackages(t *testing.T) {
	root := testtree.Lay(t, map[string]string{
		"package.json":                  `{"name": "emberclay", "workspaces": {"packages": ["apps/*", "libs/**", "!libs/old"]}}`,
		"apps/web/package.json":         `{"name": "@emberclay/web"}`,
		"apps/twice/package.json":       `{"name": "@a/twice"}`,
		"libs/deep/er/package.json":     `{"name": "@b/twice"}`,
		"libs/old/package.json":         `{"name": "old"}`,
		"apps/broken/package.json":      `{"name": `,
		"apps/web/node_modules/x/a.txt": "",
	})
	p := workspace.NewPackages(root)
	for name, want := range map[string]string{
		"@emberclay/web": "apps/web", "web": "apps/web", "emberclay": "", "apps/web": "apps/web", "./apps/web/": "apps/web", "@b/twice": "libs/deep/er", "libs": "libs",
		"twice": "-", "old": "-", "nobody": "-", "../x": "-", "/": "-", "": "-", "apps/web/node_modules/x/a.txt": "-",
	} {
		dir, ok := p.Folder(name)
		if !ok {
			dir = "-"
		}
		if dir != want {
			t.Errorf("%q: %q, want %q", name, dir, want)
		}
	}
}
