package filter

import (
	"fmt"
	"reflect"
	"testing"
)

type subject struct{ title, kind string }

func (s subject) Field(name string) ([]string, bool) { return []string{s.kind}, name == "kind" }
func (s subject) Title() string                      { return s.title }
func (s subject) Rest() []string                     { return nil }

func TestBetterMatchesScoreHigher(t *testing.T) {
	for _, c := range []struct {
		query  string
		titles []string // from the best to the worst
	}{
		{"build", []string{"build", "build:dev", "pre-build", "rebuild"}},
		{"lnh", []string{"long-name-here", "lion-hatch"}},
		{"tst", []string{"tst", "test"}},
	} {
		last := 1 << 30
		for _, title := range c.titles {
			score, _, ok := Parse(c.query).Match(subject{title: title})
			if !ok || score >= last {
				t.Errorf("%s: %s scores %d (%v), the one before %d", c.query, title, score, ok, last)
			}
			last = score
		}
	}
}

func TestMarks(t *testing.T) {
	for query, want := range map[string][]int{"name": {5, 6, 7, 8}, "lnh": {0, 5, 10}, "-zzz": nil} {
		_, marks, ok := Parse(query).Match(subject{title: "long-name-here"})
		if !ok || !reflect.DeepEqual(marks, want) {
			t.Errorf("%s: marks %v (%v), want %v", query, marks, ok, want)
		}
	}
}

func BenchmarkTenThousandTasks(b *testing.B) {
	var all []subject
	for i := range 10_000 {
		all = append(all, subject{title: fmt.Sprintf("member%d-target-%d", i%97, i), kind: "build"})
	}
	q := Parse("kind:build mt9", "kind")
	for b.Loop() {
		n := 0
		for i := range all {
			if _, _, ok := q.Match(&all[i]); ok {
				n++
			}
		}
		if n == 0 {
			b.Fatal("nothing matches")
		}
	}
}
