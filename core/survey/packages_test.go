package survey

import (
	"strings"
	"testing"

	"tidytally/core/plan"
	"tidytally/core/task"
)

// A script that asks for it runs behind those of the packages of the workspace that its
// package depends on, and of theirs; one that is not there is passed over.
func TestPackagesBefore(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"package.json":                `{"name": "studio", "workspaces": ["packages/*"]}`,
		"packages/glaze/package.json": `{"name": "@studio/glaze", "scripts": {"build": "tsc"}}`,
		"packages/clay/package.json":  `{"name": "@studio/clay", "scripts": {"build": "tsc"}, "dependencies": {"@studio/glaze": "*", "elsewhere": "1"}}`,
		"packages/words/package.json": `{"name": "@studio/words", "scripts": {"lint": "eslint"}}`,
		"packages/web/package.json":   `{"name": "@studio/web", "scripts": {"build": "vite build", "test": "vitest"}, "dependencies": {"@studio/clay": "*"}, "devDependencies": {"@studio/words": "*", "@studio/glaze": "*"}}`,
		"round/a/package.json":        `{"name": "a", "scripts": {"build": "true"}, "dependencies": {"b": "*"}}`,
		"round/b/package.json":        `{"name": "b", "scripts": {"build": "true"}, "dependencies": {"a": "*"}}`,
		"tidytally.toml": `
[adjust."packages/web/package.json#build"]
packages_before = "build"
[adjust."packages/web/package.json#test"]
packages_before = "build"
[adjust."round/a/package.json#build"]
packages_before = "build"
`,
	})
	for id, want := range map[string]string{
		"packages/web#build":  "packages/glaze#build; packages/clay#build after packages/glaze#build; packages/web#build after packages/clay#build packages/glaze#build",
		"packages/web#test":   "packages/glaze#build; packages/clay#build after packages/glaze#build; packages/web#test after packages/clay#build packages/glaze#build",
		"packages/clay#build": "packages/clay#build",
		"round/a#build":       "error: packages_before of round/b/package.json#build: cycle: round/a/package.json#build → round/b/package.json#build → round/a/package.json#build",
	} {
		k, err := task.Find(s.Tasks, id)
		if err != nil {
			t.Fatal(err)
		}
		p, err := plan.Of(s.Tasks, k)
		var steps []string
		if err != nil {
			steps = []string{"error: " + err.Error()}
		} else {
			short := func(k *task.Task) string { return k.Folder() + "#" + k.Name }
			for _, step := range p.Steps {
				text := short(step.Task)
				for n, i := range step.After {
					if n == 0 {
						text += " after"
					}
					text += " " + short(p.Steps[i].Task)
				}
				steps = append(steps, text)
			}
		}
		if got := strings.Join(steps, "; "); got != want && !(err != nil && strings.HasPrefix(got, want)) {
			t.Errorf("%s: %s\nwant %s", id, got, want)
		}
	}
	if len(s.Faults) != 1 || !strings.HasPrefix(s.Faults[0].String(), "tidytally.toml") && !strings.HasPrefix(s.Faults[0].String(), "round/b/package.json") {
		t.Errorf("faults: %v", s.Faults)
	}
}
