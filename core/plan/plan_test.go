package plan

import (
	"strings"
	"testing"

	"tidytally/core/task"
)

func TestOrder(t *testing.T) {
	make := func(name string, before ...string) *task.Task {
		return &task.Task{Name: name, File: "tidytally.toml", Before: before, Command: task.Command{Shell: "true"}}
	}
	tasks := []*task.Task{
		make("fetch"), make("compile", "fetch"), make("tables", "fetch"), make("link", "compile", "tables"), make("page"), make("sweep"),
		make("a", "b"), make("b", "c"), make("c", "a"), make("self", "self"), make("lost", "nothing-like-it"),
	}
	all := make("all", "link")
	all.With, all.After = []string{"page"}, []string{"sweep"}
	tasks = append(tasks, all)
	for name, want := range map[string]string{
		"fetch": "fetch", "link": "before:fetch before:compile before:tables link",
		"all":  "before:fetch before:compile before:tables before:link with:page all after:sweep",
		"a":    "error: cycle: tidytally.toml#a → tidytally.toml#b → tidytally.toml#c → tidytally.toml#a; take one of these out of before",
		"self": "error: cycle: tidytally.toml#self → tidytally.toml#self",
		"lost": "error: before of tidytally.toml#lost: no task nothing-like-it",
	} {
		k, err := task.Find(tasks, name)
		if err != nil {
			t.Fatal(err)
		}
		steps, err := Of(tasks, k)
		var words []string
		for _, s := range steps {
			w := s.Task.Name
			if s.Role != Main {
				w = string(s.Role) + ":" + w
			}
			words = append(words, w)
		}
		got := strings.Join(words, " ")
		if err != nil {
			got = "error: " + err.Error()
		}
		if !strings.HasPrefix(got, want) {
			t.Errorf("%s: %s\nwant %s", name, got, want)
		}
	}
}
