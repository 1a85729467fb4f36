package plan

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"tidytally/core/task"
)

// suite makes a suite of files f0, f1, … with tasks that it needs.
func suite(files int) (tasks []*task.Task, t *task.Task) {
	t = declare("test before=seed with=server after=sweep")
	tasks = append(tasks, t, declare("seed"), declare("server up="), declare("sweep"), declare("test-other"))
	for i := range files {
		part := declare(fmt.Sprintf("f%d", i))
		part.PartOf, part.Hidden = "test", true
		tasks = append(tasks, part)
	}
	return tasks, t
}

func TestSplitSuite(t *testing.T) {
	tasks, s := suite(3)
	p, err := OfSuite(tasks, s, Split{AtOnce: 2, Took: func(id string) float64 { return map[string]float64{"tidytally.toml#f1": 9, "tidytally.toml#f2": 1}[id] }})
	if err != nil {
		t.Fatal(err)
	}
	// The slowest is first; what the suite needs comes once, before all.
	want := "before:seed with-f2:with-f0:with-f1:server(seed) before:f1(seed) before:f0(seed) before:f2(seed) test(f1,f0,f2) after:sweep"
	if got := words(p); got != want || !p.KeepGoing || p.AtOnce != 2 {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	if len(s.Before) != 1 || s.Command.IsZero() {
		t.Error("the suite itself was changed")
	}
	if p, err = OfSuite(tasks, s, Split{Only: []string{"tidytally.toml#f2", "tidytally.toml#gone"}}); err != nil || !strings.Contains(words(p), "test(f2)") {
		t.Errorf("only one: %v, %v", err, words(p))
	}
	if _, err = OfSuite(tasks, s, Split{Only: []string{"tidytally.toml#gone"}}); err == nil {
		t.Error("a file that is gone is run")
	}
	if _, err = OfSuite(tasks, tasks[1], Split{}); err == nil {
		t.Error("no suite is split")
	}
}

// Shards have each file once, and take about as long each.
func TestShards(t *testing.T) {
	tasks, s := suite(50)
	took := func(id string) float64 {
		var n int
		fmt.Sscanf(id, "tidytally.toml#f%d", &n)
		if n%7 == 0 {
			return 0 // not known
		}
		return float64(n)
	}
	var all []string
	for shard := 1; shard <= 4; shard++ {
		how := Split{Shard: shard, Shards: 4, Took: took}
		p, err := OfSuite(tasks, s, how)
		if err != nil {
			t.Fatal(err)
		}
		seconds := 0.0
		for _, step := range p.Steps {
			if step.Task.PartOf != "" {
				all = append(all, step.Task.Name)
				seconds += took(step.Task.ID())
			}
		}
		if seconds < 200 || seconds > 320 { // of 1050 in all
			t.Errorf("shard %d takes %g s", shard, seconds)
		}
	}
	slices.Sort(all)
	if len(all) != 50 || len(slices.Compact(all)) != 50 {
		t.Errorf("%d files in all", len(all))
	}
	a, b := Split{Took: took}, Split{Took: func(string) float64 { return 0 }}
	if parts := Parts(tasks, s); a.Digest(parts) == b.Digest(parts) {
		t.Error("digests do not tell the measures apart")
	}
	if p, err := OfSuite(tasks[:6], s, Split{Shard: 3, Shards: 4}); err != nil || words(p) != "test after:sweep" {
		t.Errorf("an empty shard: %v %v", err, p)
	}
}
