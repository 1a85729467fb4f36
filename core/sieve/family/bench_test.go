package family

import (
	"bytes"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/buildlog"
)

// buildLog makes a build log of about n bytes; share of a hundred lines are
// problems.
func buildLog(n, share int) []byte {
	var b bytes.Buffer
	if err := buildlog.Write(&b, n, share); err != nil {
		panic(err)
	}
	return b.Bytes()
}

func benchmarkSift(b *testing.B, log []byte) {
	b.SetBytes(int64(len(log)))
	b.ReportAllocs()
	for b.Loop() {
		n := 0
		e := sieve.New(All, sieve.Options{Problem: func(problem.Problem) { n++ }})
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

// The first look alone, which most lines of a log never get behind.
func BenchmarkFirstLook(b *testing.B) {
	log := buildLog(16<<20, 5)
	b.SetBytes(int64(len(log)))
	e := sieve.New(All, sieve.Options{})
	var block sieve.Block
	for b.Loop() {
		for rest := log; len(rest) > 0; rest = rest[min(len(rest), 256<<10):] {
			e.Look(rest[:min(len(rest), 256<<10)], &block)
		}
	}
}
