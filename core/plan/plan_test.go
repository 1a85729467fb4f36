package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"tidytally/core/task"
)

// words describes a plan: each step with its role, and what it waits for behind a colon.
func words(p *Plan) string {
	var out []string
	for i, s := range p.Steps {
		w := s.Task.Name
		switch s.Role {
		case Before, After:
			w = string(s.Role) + ":" + w
		case With:
			for _, leader := range p.Steps {
				if slices.Contains(leader.With, i) {
					w = "with-" + leader.Task.Name + ":" + w
				}
			}
		}
		var after []string
		for _, i := range s.After {
			after = append(after, p.Steps[i].Task.Name)
		}
		if len(after) > 0 {
			w += "(" + strings.Join(after, ",") + ")"
		}
		out = append(out, w)
	}
	return strings.Join(out, " ")
}

// declare makes a task from words such as "name before=a,b with=c after=d".
func declare(text string) *task.Task {
	fields := strings.Fields(text)
	t := &task.Task{Name: fields[0], File: "tidytally.toml", Line: 7, Command: task.Command{Shell: "true"}}
	for _, f := range fields[1:] {
		field, list, _ := strings.Cut(f, "=")
		names := strings.Split(list, ",")
		switch field {
		case "before":
			t.Before = names
		case "with":
			t.With = names
		case "after":
			t.After = names
		case "up":
			t.LongRunning = true
		}
	}
	return t
}

func TestOrder(t *testing.T) {
	var tasks []*task.Task
	for _, text := range []string{
		"fetch", "compile before=fetch", "tables before=fetch", "link before=compile,tables", "page", "sweep",
		"all before=link with=page after=sweep",
		"a before=b", "b before=c", "c before=a", "self before=self", "lost before=nothing-like-it", "uses-a with=a",
		"helper up=", "server up= before=helper", "open before=server",
		"partner before=fetch", "leader with=partner before=compile",
		"left with=right", "right with=left", "waits with=slow", "slow before=waits",
		"lay before=sweep after=sweep", "wash before=fetch", "rinse after=wash before=fetch", "tidy after=rinse,sweep",
		"seed with=helper", "test before=seed", "tidies after=tidies",
	} {
		tasks = append(tasks, declare(text))
	}
	for name, want := range map[string]string{
		"fetch":  "fetch",
		"link":   "before:fetch before:compile(fetch) before:tables(fetch) link(compile,tables)",
		"all":    "before:fetch before:compile(fetch) before:tables(fetch) before:link(compile,tables) with-all:page(link) all(link) after:sweep",
		"open":   "before:helper before:server(helper) open(server)",
		"leader": "before:fetch before:compile(fetch) with-leader:partner(compile,fetch) leader(compile)",
		"left":   "with-left:right left",
		"lay":    "before:sweep lay(sweep) after:sweep",
		"rinse":  "before:fetch rinse(fetch) after:wash(fetch)",
		"test":   "with-seed:helper before:seed test(seed)",
		// A step at the end does not bring another end.
		"tidy":   "tidy after:fetch after:rinse(fetch) after:sweep",
		"a":      "error: before of tidytally.toml#c: cycle: tidytally.toml#a → tidytally.toml#b → tidytally.toml#c → tidytally.toml#a; take one of these out",
		"uses-a": "error: before of tidytally.toml#c: cycle: tidytally.toml#a → ",
		"self":   "error: before of tidytally.toml#self: cycle: tidytally.toml#self → tidytally.toml#self",
		"waits":  "error: with of tidytally.toml#waits: cycle: tidytally.toml#slow → tidytally.toml#waits → tidytally.toml#slow",
		"tidies": "error: after of tidytally.toml#tidies: cycle: ",
		"lost":   "error: before of tidytally.toml#lost: no task nothing-like-it",
	} {
		k, err := task.Find(tasks, name)
		if err != nil {
			t.Fatal(err)
		}
		p, err := Of(tasks, k)
		got := ""
		if err != nil {
			got = "error: " + err.Error()
		} else if got = words(p); p.Steps[p.Main].Task != k {
			t.Errorf("%s: step %d is not the task", name, p.Main)
		}
		if got != want && (err == nil || !strings.HasPrefix(got, want)) {
			t.Errorf("%s: %s\nwant %s", name, got, want)
		}
	}
	for name, want := range map[string]bool{"fetch": false, "compile": false, "link": true, "open": true, "left": true, "lay": false, "tidy": true} {
		k, _ := task.Find(tasks, name)
		p, err := Of(tasks, k)
		if err != nil {
			t.Fatal(err)
		}
		if p.Concurrent() != want {
			t.Errorf("%s: concurrent is %v", name, !want)
		}
	}
	// Each cycle once, however many tasks lead to it.
	var closed []string
	for _, f := range Cycles(tasks) {
		closed = append(closed, strings.Split(f.String(), ":")[2])
	}
	if got := strings.Join(closed, ","); got != " before of tidytally.toml#c, before of tidytally.toml#self, with of tidytally.toml#waits, after of tidytally.toml#tidies" {
		t.Errorf("cycles: %s", got)
	}
}

// A plan that would never end is refused, and a long one is not slow.
func TestLargePlans(t *testing.T) {
	var tasks []*task.Task
	for i := range 11_000 {
		text := fmt.Sprintf("t%d", i)
		if i > 0 {
			text += fmt.Sprintf(" before=tidytally.toml#t%d", i-1)
			if i > 1 {
				text += fmt.Sprintf(",tidytally.toml#t%d", i-2)
			}
		}
		tasks = append(tasks, declare(text))
	}
	if p, err := Of(tasks, tasks[1000]); err != nil || len(p.Steps) != 1001 || p.Concurrent() {
		t.Errorf("a chain of 1001: %v", err)
	}
	if _, err := Of(tasks, tasks[10_999]); err == nil || !strings.Contains(err.Error(), "more than 10000 steps") {
		t.Errorf("a chain of 11000: %v", err)
	}
}
