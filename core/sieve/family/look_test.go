package family

import (
	"os"
	"slices"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
)

// A task may name the families that look at its output: those that have a log
// for themselves find the same in it when they are alone.
func TestAFamilyAlone(t *testing.T) {
	t.Parallel()
	alone := 0
	for _, name := range logs(t) {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		all := sift(t, data)
		if len(all) == 0 || slices.ContainsFunc(all, func(p problem.Problem) bool { return p.Family != all[0].Family }) {
			continue
		}
		family := all[0].Family
		if !slices.Contains(All.Families(), family) {
			continue // a document
		}
		alone++
		var c sieve.Collector
		e := sieve.New(All, sieve.Options{Families: []string{family}, Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
		for rest := data; len(rest) > 0; rest = rest[min(len(rest), 777):] {
			e.Write(rest[:min(len(rest), 777)])
		}
		e.Close()
		if got, want := lines(c.Problems), lines(all); got != want {
			t.Errorf("%s, %s alone:\n%s\namong all:\n%s", name, family, got, want)
		}
		// And none of them finds it when it is left out.
		var others []string
		for _, f := range All.Families() {
			if f != family {
				others = append(others, f)
			}
		}
		e = sieve.New(All, sieve.Options{Families: others, Problem: func(p problem.Problem) {
			if p.Family == family {
				t.Errorf("%s: %s was left out, and found %s", name, family, p.GNU())
			}
		}})
		e.Write(data)
		e.Close()
	}
	if alone < 20 {
		t.Errorf("only %d logs are of one family", alone)
	}
}
