package family

import (
	"fmt"
	"testing"

	"tidytally/core/sieve"
)

// A watching tool without words for its passes is followed by its rests: what
// begins as an earlier pass with problems did is another one. A server's log
// line after a rest is none.
func TestPassesAreToldByTheirBeginning(t *testing.T) {
	t.Parallel()
	type burst struct {
		output   string
		problems int // when it is over
		cycle    int
	}
	for name, bursts := range map[string][]burst{
		"watching": {
			{"> rebuilding (pass 1, 10:02:01)\nkiln.c:3:1: error: a\nkiln.c:4:1: error: b\n1.2 s\n", 2, 0},
			{"> rebuilding (pass 2, 10:02:44)\nkiln.c:4:1: error: b\n0.9 s\n", 1, 1},
			{"\n> rebuilding (pass 3, 10:03:09)\n0.8 s\n", 0, 2},
			{"> rebuilding (pass 4, 10:04:00)\nglaze.c:1: error: c\n0.9 s\n", 1, 3},
		},
		"a banner first": {
			{"watching 12 files\nkiln.c:3:1: error: a\n", 1, 0},
			{"change in kiln.c\nkiln.c:3:1: error: a\nkiln.c:9:1: error: b\n", 2, 0},
			{"change in kiln.c\nkiln.c:9:1: error: b\n", 1, 1},
		},
		"a server": {
			{"listening on 8080\n  File \"kiln.py\", line 3\n    x = (\n        ^\nSyntaxError: '(' was never closed\n", 1, 0},
			{"10:00:01 GET /glazes 200\n", 1, 0},
			{"10:00:09 GET /glazes 200\n", 1, 0},
			{"listening on 8080\n", 0, 1}, // it was started anew
		},
	} {
		var c sieve.Collector
		e := sieve.New(All, sieve.Options{Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
		for i, b := range bursts {
			if i > 0 {
				e.Rest()
			}
			fmt.Fprint(e, b.output)
			e.Pause()
			if len(c.Problems) != b.problems || c.Cycle != b.cycle {
				t.Errorf("%s: after burst %d there are %d problems in cycle %d, want %d in %d:\n%s", name, i+1, len(c.Problems), c.Cycle, b.problems, b.cycle, lines(c.Problems))
			}
		}
	}
}

// Without a rest the same line twice begins nothing: make says it for each folder.
func TestAPlainBuildHasNoPasses(t *testing.T) {
	t.Parallel()
	got := sift(t, []byte("make -C a\na.c:1:1: error: a\nmake -C a\na.c:2:1: error: b\n"))
	if len(got) != 2 {
		t.Errorf("got\n%s", lines(got))
	}
}
