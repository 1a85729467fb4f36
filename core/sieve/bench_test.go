package sieve

import (
	"bytes"
	"fmt"
	"math/rand"
	"testing"

	"tidytally/core/problem"
)

// buildLog makes a build log of about n bytes, the same each time; share of a
// hundred lines are problems.
func buildLog(n, share int) []byte {
	random := rand.New(rand.NewSource(7))
	var b bytes.Buffer
	for i := 0; b.Len() < n; i++ {
		if random.Intn(100) < share {
			fmt.Fprintf(&b, "src/mod%d/file%d.c:%d:%d: warning: unused variable 'x%d' [-Wunused-variable]\n", i%991, i, random.Intn(3000)+1, random.Intn(90)+1, random.Intn(9999))
			continue
		}
		switch i % 4 {
		case 0:
			fmt.Fprintf(&b, "gcc -O2 -Wall -Iinclude -c -o build/obj/file%d.o src/mod/file%d.c\n", i, i)
		case 1:
			fmt.Fprintf(&b, "[%3d%%] Building C object CMakeFiles/app.dir/src/file%d.c.o\n", i%100, i)
		case 2:
			fmt.Fprintf(&b, "  CC      drivers/net/ethernet/file%d.o\n", i)
		default:
			fmt.Fprintf(&b, "2026-11-25 02:00:%02d INFO worker %d: processed %d items in %d ms\n", i%60, i%7, i%1000, i%333)
		}
	}
	return b.Bytes()
}

func benchmarkSift(b *testing.B, log []byte) {
	b.SetBytes(int64(len(log)))
	b.ReportAllocs()
	for b.Loop() {
		n := 0
		e := New(Options{Problem: func(problem.Problem) { n++ }})
		for rest := log; len(rest) > 0; rest = rest[min(len(rest), 256<<10):] {
			e.Write(rest[:min(len(rest), 256<<10)])
		}
		e.Close()
		if n == 0 {
			b.Fatal("no problems were found")
		}
	}
}

// A build log in which one line of twenty is a problem.
func BenchmarkBuildLog(b *testing.B) { benchmarkSift(b, buildLog(16<<20, 5)) }

// A log of nothing but problems.
func BenchmarkNothingButProblems(b *testing.B) { benchmarkSift(b, buildLog(16<<20, 100)) }
