package family

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"tidytally/core/sieve"
)

// In each form pytest tells the same failures; see testdata/pytest/README.md.
func TestEveryFormOfPytestSaysTheSame(t *testing.T) {
	t.Parallel()
	said := func(name string) (all []string) {
		for _, p := range sift(t, read(t, "pytest/"+name+".log")) {
			first, _, _ := strings.Cut(p.Message, "\n")
			all = append(all, fmt.Sprintf("%s:%d %s", strings.TrimPrefix(p.File, "/w/"), p.Line, first))
		}
		slices.Sort(all)
		return all
	}
	want := said("long")
	if len(want) != 9 { // ten that failed, two of them with the same words
		t.Fatalf("long:\n%s", strings.Join(want, "\n"))
	}
	for _, name := range []string{"short", "native", "color", "verbose"} {
		if got := said(name); !slices.Equal(got, want) {
			t.Errorf("%s:\n%s\nwant\n%s", name, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	// The line form does not tell where a fixture failed, and only the summary
	// the line of none.
	for name, n := range map[string]int{"line": 8, "no": 0} {
		got := said(name)
		placed := slices.DeleteFunc(slices.Clone(got), func(s string) bool { return strings.Contains(s, ":0 ") })
		for _, one := range placed {
			if !slices.Contains(want, one) {
				t.Errorf("%s has %s", name, one)
			}
		}
		if len(placed) != n || len(got) < 9 {
			t.Errorf("%s:\n%s", name, strings.Join(got, "\n"))
		}
	}
	for name, want := range map[string]string{
		"collect":  "test_import.py:1: error: ModuleNotFoundError: No module named 'nosuchmodule'\n/w/test_syntax.py:1: error: SyntaxError: invalid syntax\n",
		"doctest":  "/w/kiln.py:7: error: DocTestFailure: Expected: 3 Got: 2\n",
		"warnings": "/w/test_warn.py:4: warning: invalid escape sequence '\\d' [DeprecationWarning]\n/w/test_warn.py:3: warning: old glaze [DeprecationWarning]\n",
	} {
		if got := lines(sift(t, read(t, "pytest/"+name+".log"))); got != want {
			t.Errorf("%s: got\n%swant\n%s", name, got, want)
		}
	}
}

// What pytest counts is compared with what was found, but where Python's own
// form told it.
func TestPytestCounts(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]int{"long": 1, "short": 1, "native": 0} {
		e := sieve.New(All, sieve.Options{Problem: (&sieve.Collector{}).Problem})
		e.Write(read(t, "pytest/"+name+".log"))
		e.Close()
		if s := e.Stats().Summaries; len(s) != want || want > 0 && (s[0].Said != 10 || s[0].Found != 10) {
			t.Errorf("%s: %+v", name, s)
		}
	}
}
