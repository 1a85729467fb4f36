package sieve

import "tidytally/core/problem"

// A Collector stores the problems of an engine: those of the newest cycle, in the
// order of the output, and those of the cycle before. Its methods fit the callbacks
// of Options.
type Collector struct {
	Problems []problem.Problem
	// Before holds the problems of the cycle before; Cycle is the number of cycles
	// since the first.
	Before []problem.Problem
	Cycle  int
	at     map[int]int // Seq to index in Problems
	lent   bool        // another goroutine reads Problems
}

// Lend returns the current problems for a reader in another goroutine. The slice is
// not written to again.
func (c *Collector) Lend() []problem.Problem {
	c.lent = true
	return c.Problems[:len(c.Problems):len(c.Problems)]
}

// own copies Problems if it was lent.
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

// Repeat counts one more occurrence of problem seq.
func (c *Collector) Repeat(seq int) {
	if i, ok := c.at[seq]; ok {
		c.own()
		c.Problems[i].Times++
	}
}

// NextCycle starts cycle n.
func (c *Collector) NextCycle(n int) {
	c.Cycle = n
	c.Before, c.Problems = c.Problems, nil
	clear(c.at)
}
