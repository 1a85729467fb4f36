package family

import (
	"fmt"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
)

// An output that has a new name before each line, and names behind names, makes no more
// engines than there is memory for, and its problems are found all the same.
func TestManyStreams(t *testing.T) {
	t.Parallel()
	for name, line := range map[string]func(i int) string{
		"ever new names": func(i int) string { return fmt.Sprintf("job-%d | src/a%d.c:%d:2: error: x\n", i, i, i+1) },
		"names behind names": func(i int) string {
			return fmt.Sprintf("[a%d] b%d | c%d> src/a%d.c:%d:2: error: x\n", i%70, i/70%70, i%7, i, i+1)
		},
	} {
		var text strings.Builder
		text.WriteString(strings.Repeat("job | start\n", 4) + strings.Repeat("[a0] b0 | c0> start\n", 8))
		const n = 3000
		for i := range n {
			text.WriteString(line(i))
		}
		found := map[string]bool{}
		e := sieve.New(All, sieve.Options{Problem: func(p problem.Problem) { found[p.Place.String()] = true }})
		e.Write([]byte(text.String()))
		e.Close()
		right := 0
		for i := range n {
			if found[fmt.Sprintf("src/a%d.c:%d:2", i, i+1)] {
				right++
			}
		}
		if right < n*99/100 {
			t.Errorf("%s: %d of %d problems are in their place", name, right, n)
		}
		if made := e.Stats().Streams; made > n/4 {
			t.Errorf("%s: %d engines were made for %d lines", name, made, n)
		}
	}
}
