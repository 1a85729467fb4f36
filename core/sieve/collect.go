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
	lent   bool        // somebody else reads Problems: it must not be written to
}

// Lend gives the problems as they stand, for a reader in another goroutine.
func (c *Collector) Lend() []problem.Problem {
	c.lent = true
	return c.Problems[:len(c.Problems):len(c.Problems)]
}

// own makes Problems safe to write to.
func (c *Collector) own() {
	if c.lent {
		c.Problems = append([]problem.Problem(nil), c.Problems...)
		c.lent = false
	}
}

// Problem adds a problem, or replaces the one with its Seq.
func (c *Collector) Problem(p problem.Problem) {
	if i, ok := c.at[p.Seq]; ok {
		c.own()
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
		c.own()
		c.Problems[i].Times++
	}
}

// NextCycle begins the nth cycle.
func (c *Collector) NextCycle(n int) {
	c.Cycle = n
	c.Before, c.Problems = c.Problems, nil
	clear(c.at)
}
