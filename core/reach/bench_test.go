package reach

import (
	"fmt"
	"strings"
	"testing"

	"tidytally/core/problem"
)

// A long build: half of its lines are commands.
func BenchmarkCommands(b *testing.B) {
	var text strings.Builder
	for i := range 2000 {
		fmt.Fprintf(&text, "gcc -DHAVE_CONFIG_H -I. -I.. -I../include -Wall -Wextra -O2 -g -std=c11 -MT src/f%d.o -MD -MP -MF .deps/f%d.Tpo -c -o src/f%d.o src/f%d.c\n", i, i, i, i)
		fmt.Fprintf(&text, "src/f%d.c:%d:5: warning: unused variable ‘x%d’ [-Wunused-variable]\n", i, i, i)
	}
	b.SetBytes(int64(text.Len()))
	for b.Loop() {
		x := of("/w", "make", text.String(), nil)
		x.Report(at("gnu", "src/f1.c", problem.Warning))
	}
}

// A long output that has nothing to do with it.
func BenchmarkProse(b *testing.B) {
	text := strings.Repeat("  building things in the usual way, nothing to see here at all, step of many\nsrc/a.c:7:5: warning: unused variable\n", 4000)
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		x := of("/w", "make", text, nil)
		x.Report(at("gnu", "src/f1.c", problem.Warning))
	}
}
