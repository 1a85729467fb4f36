package family

import (
	"fmt"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
)

func rule(expression string, repeat bool) sieve.Rule {
	return sieve.Rule{Match: regexp.MustCompile(expression), Repeat: repeat}
}

var kilnsim = sieve.Rules{Name: "kilnsim", Lines: []sieve.Rule{
	rule(`^!! (?P<severity>\w+) in (?P<file>\S+) at (?P<line>\d+)$`, false),
	rule(`^   (?P<message>.+)$`, true),
}, Severities: map[string]string{"odd": "warning"}}

// siftOwn returns the problems of a text, read in pieces of n bytes, as GNU lines
// with the lines of output they came from.
func siftOwn(rules sieve.Rules, text string, n int) (lines []string) {
	var c sieve.Collector
	e := sieve.New(All, sieve.Options{Own: []sieve.Rules{rules}, Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
	for len(text) > 0 {
		k := min(n, len(text))
		e.Write([]byte(text[:k]))
		text = text[k:]
	}
	e.Close()
	for _, p := range c.Problems {
		lines = append(lines, fmt.Sprintf("%s: %s %d-%d", p.GNU(), p.Family, p.Output.FirstLine, p.Output.LastLine))
	}
	return lines
}

func TestOwnSieves(t *testing.T) {
	t.Parallel()
	blocks := sieve.Rules{Name: "blocks", Lines: []sieve.Rule{
		rule(`^(?P<file>\S+\.clay):$`, false),
		rule(`^  at (?P<line>\d+)\.(?P<column>\d+) (?P<code>K\d+) (?P<message>.*)$`, true),
	}}
	cycles := sieve.Rules{
		Name: "watch", Lines: []sieve.Rule{rule(`^(?P<file>\w+\.k):(?P<line>\d+) (?P<message>.*)$`, false)},
		Begin: regexp.MustCompile(`^again$`), End: regexp.MustCompile(`^done$`),
	}
	for _, c := range []struct {
		name, text string
		rules      sieve.Rules
		want       []string
	}{
		{
			"messages are joined", "up\n!! odd in a.c at 12\n   glow\n   on coil 2\nend\n", kilnsim,
			[]string{"a.c:12: warning: glow on coil 2: kilnsim 2-4"},
		},
		{
			"what never came to a message gives way", "!! error in b.c at 3\nb.c:1:2: error: y\n", kilnsim,
			[]string{"b.c:1:2: error: y: gnu 2-2"},
		},
		{
			"one behind the other", "!! error in b.c at 3\n   one\n!! note in b.c at 4\n   two\n", kilnsim,
			[]string{"b.c:3: error: one: kilnsim 1-2", "b.c:4: note: two: kilnsim 3-4"},
		},
		{
			"each repeated line with a place is its own", "mug.clay:\n  at 3.4 K7 thin\n  at 9.1 K8 thick\nbowl.clay:\n  at 1.1 K7 thin\n", blocks,
			[]string{"mug.clay:3:4: error: thin [K7]: blocks 2-2", "mug.clay:9:1: error: thick [K8]: blocks 3-3", "bowl.clay:1:1: error: thin [K7]: blocks 5-5"},
		},
		{
			"a new pass replaces the one before", "a.k:1 old\ndone\nagain\na.k:2 new\ndone\n", cycles,
			[]string{"a.k:2: error: new: watch 4-4"},
		},
		{
			"colours are no part of a line", "\x1b[31m!! error in b.c at 3\x1b[0m\r\n   one\r\n", kilnsim,
			[]string{"b.c:3: error: one: kilnsim 1-2"},
		},
	} {
		for _, n := range []int{1, 7, 1 << 20} {
			if got := siftOwn(c.rules, c.text, n); !reflect.DeepEqual(got, c.want) {
				t.Errorf("%s, in pieces of %d:\ngot  %q\nwant %q", c.name, n, got, c.want)
			}
		}
	}
}

func TestFamiliesCanBeChosen(t *testing.T) {
	t.Parallel()
	var c sieve.Collector
	e := sieve.New(All, sieve.Options{Families: []string{"go"}, Problem: c.Problem, Repeat: c.Repeat})
	e.Write([]byte("a.c:1:2: error: for gnu alone\n# kiln\n./a.go:3:4: undefined: x\n"))
	e.Close()
	if len(c.Problems) != 1 || c.Problems[0].File != "a.go" {
		t.Errorf("%v", c.Problems)
	}
}

func TestTryTellsWhatEachLineWasTakenFor(t *testing.T) {
	t.Parallel()
	lines, problems := sieve.Try(kilnsim, []byte("up\n!! odd in a.c at 12\n   glow\n   on coil 2\nend"))
	var got []string
	for _, l := range lines {
		text := fmt.Sprint(l.Rule)
		for _, g := range l.Groups {
			text += " " + g.Name + "=" + l.Text[g.Start:g.End]
		}
		got = append(got, text)
	}
	want := []string{"0", "1 severity=odd file=a.c line=12", "2 message=glow", "2 message=on coil 2", "0"}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got  %q\nwant %q", got, want)
	}
	if len(problems) != 1 || problems[0].Severity != problem.Warning {
		t.Errorf("%v", problems)
	}
}

func FuzzOwnSieve(f *testing.F) {
	f.Add("!! odd in a.c at 12\n   glow\n   on coil 2\nend", 3)
	f.Add("!! error in b.c at 3\nb.c:1:2: error: y\n!! x in y at 99999999999\n   \n", 1)
	f.Fuzz(func(t *testing.T, text string, n int) {
		whole := siftOwn(kilnsim, text, len(text)+1)
		if got := siftOwn(kilnsim, text, max(1, n%64)); !reflect.DeepEqual(got, whole) {
			t.Errorf("in pieces: %q, as a whole: %q", got, whole)
		}
		lines, _ := sieve.Try(kilnsim, []byte(text))
		if n := strings.Count(strings.TrimSuffix(text, "\n"), "\n") + 1; text != "" && len(lines) != n {
			t.Errorf("%d of %d lines", len(lines), n)
		}
	})
}

// As many sieves as one likes, each with lines of its own: none is left out, and
// they go before what is built in.
func TestManyOwnSieves(t *testing.T) {
	t.Parallel()
	var own []sieve.Rules
	var log strings.Builder
	for i := range 150 {
		own = append(own, sieve.Rules{Name: fmt.Sprint("sieve", i), Lines: []sieve.Rule{{Match: regexp.MustCompile(fmt.Sprintf(`^kiln%d (?P<file>\S+):(?P<line>\d+): (?P<message>.*)$`, i))}}})
		fmt.Fprintf(&log, "kiln%d coil.c:%d: too hot\na.c:%d:2: error: built in\n", i, i+1, i+1)
	}
	var c sieve.Collector
	e := sieve.New(All, sieve.Options{Own: own, Problem: c.Problem, Repeat: c.Repeat})
	e.Write([]byte(log.String()))
	e.Close()
	if len(c.Problems) != 300 {
		t.Fatalf("%d problems", len(c.Problems))
	}
	for i, p := range c.Problems {
		if want := "sieve" + fmt.Sprint(i/2); i%2 == 0 && (p.Family != want || p.Line != i/2+1 || p.Message != "too hot") || i%2 == 1 && p.Family != "gnu" {
			t.Errorf("problem %d: %s by %s", i, p.GNU(), p.Family)
		}
	}
}
