package sieve_test

import (
	"fmt"
	"regexp"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/family"
)

// An engine takes an output as it comes, cut anywhere, and calls back with each problem
// as soon as it is complete.
func Example() {
	e := sieve.New(family.All, sieve.Options{
		Dir:     "kiln",
		Problem: func(p problem.Problem) { fmt.Println(p.GNU()) },
	})
	fmt.Fprint(e, "cc -c coil.c\ncoil.c:12:5: err")
	fmt.Fprint(e, "or: no such member\ncoil.h:3:1: note: declared here\n")
	e.Close()
	// Output: kiln/coil.c:12:5: error: no such member
}

// A sieve of the user's own is tried on a sample, line by line.
func ExampleTry() {
	lines, problems := sieve.Try(sieve.Rules{Name: "kilnsim", Lines: []sieve.Rule{{
		Match: regexp.MustCompile(`^!! (?P<message>.+) in (?P<file>\S+)$`),
	}}}, []byte("up\n!! too hot in coil.c\n"))
	for _, l := range lines {
		fmt.Println(l.Rule, l.Text)
	}
	fmt.Println(problems[0].GNU())
	// Output:
	// 0 up
	// 1 !! too hot in coil.c
	// coil.c: error: too hot
}
