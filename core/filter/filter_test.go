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

func TestLanguage(t *testing.T) {
	for query, want := range map[string]map[string]bool{
		"":                  {"build": true, "test": true},
		"build":             {"build": true, "rebuild": true, "test": false},
		"-build":            {"build": false, "test": true},
		"BUILD":             {"build": true},
		"kind:serve":        {"build": false},
		"kind:bui":          {"build": true},
		"-kind:build":       {"build": false},
		`"run x"`:           {"run x": true, "run y x": false, "runx": false},
		"run x":             {"run x": true, "x run": true, "run": false},
		"other:build":       {"build": false, "other:build": true},
		`kind:"build"`:      {"build": true},
		"-":                 {"build": false, "a-b": true},
		"bd":                {"build": true, "b-d": true, "db": false},
		`"bd"`:              {"build": false, "abd": true},
		"ünd":               {"gründe": true},
		"   build   test  ": {"build": false, "build test": true},
	} {
		q := Parse(query, "kind")
		for title, pass := range want {
			if _, _, ok := q.Match(subject{title: title, kind: "build"}); ok != pass {
				t.Errorf("%q on %q: %v", query, title, ok)
			}
		}
	}
	if !Parse("  ").Empty() || Parse("x").Empty() {
		t.Error("only nothing is empty")
	}
}

func FuzzMatch(f *testing.F) {
	f.Add("a \"b c\" -kind:x", "some title")
	f.Fuzz(func(t *testing.T, query, title string) {
		_, marks, _ := Parse(query, "kind").Match(subject{title: title})
		for _, m := range marks {
			if m < 0 || m >= len(title) {
				t.Errorf("%q on %q: mark %d", query, title, m)
			}
		}
	})
}

// What passes is what matches, for any words.
func FuzzPasses(f *testing.F) {
	for _, s := range []string{"kind:build -clean", `"a b" x`, "-is:x -name:y", "ab", "-", `"`} {
		f.Add(s, "clean all", "build")
	}
	f.Fuzz(func(t *testing.T, text, title, field string) {
		q := Parse(text, "kind", "is", "name")
		s := subject{title, field}
		if _, _, ok := q.Match(s); ok != q.Passes(s) {
			t.Errorf("%q on %q: matches %v", text, title, ok)
		}
	})
}
