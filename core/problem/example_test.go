package problem_test

import (
	"fmt"

	"tidytally/core/problem"
)

// Compare says what a run changed. A problem stays the same when lines move.
func ExampleCompare() {
	at := func(line int, message string) problem.Problem {
		return problem.Problem{Place: problem.Place{File: "coil.c", Line: line}, Message: message}
	}
	before := []problem.Problem{at(9, "unused variable"), at(12, "no such member")}
	after := []problem.Problem{at(10, "unused variable"), at(30, "missing return")}
	c := problem.Compare(before, after, problem.Looks{})
	for i := range after {
		fmt.Println(c.States[i], after[i].GNU())
	}
	fmt.Println("gone", c.Gone[0].GNU())
	fmt.Printf("before %d · new %d · gone %d · now %d\n", c.Before, c.New, c.Balance.Gone, c.Now)
	// Output:
	// still coil.c:10: error: unused variable
	// new coil.c:30: error: missing return
	// gone coil.c:12: error: no such member
	// before 2 · new 1 · gone 1 · now 2
}
