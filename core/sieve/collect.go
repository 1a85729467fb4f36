package sieve

import "tidytally/core/problem"

// Collector keeps the problems that an engine gives: those of the newest
// cycle, in the order of the output, and those of the cycle before.
// Its methods fit the receivers in Options.
type Collector struct {
	Problems []problem.Problem
	// Before holds the problems of the cycle before; Cycle is how many have
	// begun since the first.
	Before []problem.Problem
	Cycle  int
	at     map[int]int // Seq to index in Problems
}

// Problem adds a problem, or replaces the one with its Seq.
func (c *Collector) Problem(p problem.Problem) {
	if i, ok := c.at[p.Seq]; ok {
		p.Times = c.Problems[i].Times
		c.Problems[i] = p
		return
	}
	if c.at == nil {
		c.at = map[int]int{}
	}
	c.at[p.Seq] = len(c.Problems)
	c.Problems = append(c.Problems, p)
}

// Repeat counts problem seq once more.
func (c *Collector) Repeat(seq int) {
	if i, ok := c.at[seq]; ok {
		c.Problems[i].Times++
	}
}

// NextCycle begins the nth cycle.
func (c *Collector) NextCycle(n int) {
	c.Cycle = n
	c.Before, c.Problems = c.Problems, nil
	clear(c.at)
}
