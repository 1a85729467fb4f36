package run

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tidytally/core/task"
)

const scripts = `{
  "name": "@emberclay/shelf", "version": "1.2.3", "private": true, "config": {"port": "8080"},
  "scripts": {
    "environment": "env -0 > ../env.out; pwd; hello",
    "preorder": "echo pre $npm_lifecycle_event",
    "order": "echo main $npm_lifecycle_event; words",
    "postorder": "echo post $npm_lifecycle_event",
    "prefails": "exit 7",
    "fails": "echo never",
    "exits": "exit 9",
    "args": "words"
  }
}`

// A package script runs without its package manager as it runs with it: in the same
// environment, with the same hooks and arguments, to the same exit code.
func TestPackageScriptsDirectly(t *testing.T) {
	t.Parallel()
	for _, manager := range []string{"npm", "pnpm", "yarn"} {
		t.Run(manager, func(t *testing.T) {
			t.Parallel()
			if _, err := exec.LookPath(manager); err != nil {
				t.Skip(manager + " is not installed")
			}
			if out, _ := exec.Command(manager, "--version").Output(); manager == "yarn" && !strings.HasPrefix(string(out), "1.") {
				t.Skip("this yarn has a shell of its own")
			}
			s := with(t, "[workspace]\nslots = 1\n", Options{})
			s.write("shelf/package.json", scripts)
			s.write("shelf/node_modules/.bin/hello", "#!/bin/sh\necho hello from the shelf\n")
			s.write("shelf/node_modules/.bin/words", "#!/bin/sh\nprintf '<%s>' \"$@\"; echo\n")
			s.write("shelf/.npmrc", "loglevel=warn\n")
			for _, name := range []string{"hello", "words"} {
				if err := os.Chmod(filepath.Join(s.root, "shelf/node_modules/.bin", name), 0o755); err != nil {
					t.Fatal(err)
				}
			}
			text := map[string]string{}
			for _, l := range strings.Split(scripts, "\n") {
				if name, script, ok := strings.Cut(strings.TrimSuffix(strings.TrimSpace(l), ","), "\": \""); ok {
					text[strings.Trim(name, `"`)] = strings.TrimSuffix(script, `"`)
				}
			}
			do := func(name string, direct bool, args ...string) (Snapshot, string) {
				k := &task.Task{
					Name: name, Source: "npm", File: "shelf/package.json", Dir: "shelf", Script: text[name], Direct: direct,
					Command: task.Command{Argv: []string{manager, "run", name}},
				}
				if manager == "npm" {
					k.ArgLead = []string{"--"}
				}
				j, err := s.super.Start([]*task.Task{k}, k, args)
				if err != nil {
					t.Fatal(err)
				}
				snap := s.finish(j)
				return snap, printed(t, snap)
			}
			environment := func() (vars []string) {
				data, err := os.ReadFile(filepath.Join(s.root, "env.out"))
				if err != nil {
					t.Fatal(err)
				}
				for _, v := range strings.Split(strings.TrimSuffix(string(data), "\x00"), "\x00") {
					if name, _, _ := strings.Cut(v, "="); name != "_" && name != "SHLVL" && name != "OLDPWD" {
						if head, rest, _ := strings.Cut(v, ":"); strings.Contains(head, "/yarn--") { // a folder for this one run
							v = "PATH=" + rest
						}
						vars = append(vars, v)
					}
				}
				slices.Sort(vars)
				return vars
			}
			do("environment", false)
			want := environment()
			for range 2 { // asked, and remembered
				snap, out := do("environment", true)
				if got := environment(); !slices.Equal(got, want) {
					for _, v := range got {
						if !slices.Contains(want, v) {
							t.Errorf("only directly: %s", v)
						}
					}
					for _, v := range want {
						if !slices.Contains(got, v) {
							t.Errorf("only by %s: %s", manager, v)
						}
					}
				}
				if out != filepath.Join(s.root, "shelf")+"\nhello from the shelf\n" || snap.Prepared.Display != text["environment"]+"  # directly, without "+manager {
					t.Errorf("%s printed %q", snap.Prepared.Display, out)
				}
			}
			for _, c := range []struct {
				name string
				args []string
			}{
				{"order", []string{"a b", "$HOME", "it's", "", "-x", "--flag", "*"}}, {"fails", nil}, {"exits", nil}, {"args", []string{"one"}},
			} {
				byManager, out := do(c.name, false, c.args...)
				directly, direct := do(c.name, true, c.args...)
				if directly.Code != byManager.Code && !(byManager.Code != 0 && directly.Code != 0 && manager != "npm") {
					t.Errorf("%s: exit %d, by %s %d", c.name, directly.Code, manager, byManager.Code)
				}
				// The package manager says more than the script.
				if !strings.Contains(lastLines(out, direct), strings.TrimRight(direct, "\n")) && direct != "" {
					t.Errorf("%s: directly %q, by %s %q", c.name, direct, manager, out)
				}
			}
			if _, direct := do("order", true, "a b"); direct != "pre preorder\nmain order\n<a b>\npost postorder\n" {
				t.Errorf("with its hooks: %q", direct)
			}
		})
	}
}

// lastLines returns those lines of an output that another one has too.
func lastLines(out, other string) string {
	var kept []string
	lines := strings.Split(other, "\n")
	for _, l := range strings.Split(out, "\n") {
		if l != "" && slices.Contains(lines, l) {
			kept = append(kept, l)
		}
	}
	return strings.Join(kept, "\n")
}
