package sieve

import (
	"bytes"

	"tidytally/core/sieve/lex"
)

// passes finds the passes of a watching tool that does not announce them and only
// rests in between. What follows a rest is a new pass if it starts as an earlier
// pass with problems did. So the log line of a server, which follows a rest too,
// does not remove its problems.
type passes struct {
	rested bool
	burst  uint64          // hash of the first line since the last rest
	noted  bool            // burst is in begun
	begun  map[uint64]bool // hashes of first lines of passes with problems
}

// maxPasses is the number of first lines that are remembered; later ones start no
// pass.
const maxPasses = 256

// Rest says that the output paused for longer than a tool pauses while it works. It
// is called for long-running tasks only.
func (e *Engine) Rest() {
	for _, x := range e.out.engines {
		x.passes.rested = true
	}
}

// afterRest checks the first line behind a rest, or of the output.
func (e *Engine) afterRest(l *Line) {
	text := bytes.TrimSpace(l.Text)
	if len(text) == 0 {
		return
	}
	e.passes.rested = false
	e.passes.burst, e.passes.noted = blurred(text), false
	if e.passes.begun[e.passes.burst] {
		e.newCycle()
	}
}

// inPass records that the lines since the last rest have a problem.
func (p *passes) inPass() {
	if p.noted {
		return
	}
	p.noted = true
	if p.begun == nil {
		p.begun = map[uint64]bool{}
	}
	if len(p.begun) < maxPasses {
		p.begun[p.burst] = true
	}
}

// blurred returns a hash (FNV-1a) of a line without its digits: times and counts
// differ between passes.
func blurred(text []byte) uint64 {
	h := uint64(14695981039346656037)
	for _, c := range text[:min(len(text), 1024)] {
		if !lex.IsDigit(c) {
			h = (h ^ uint64(c)) * 1099511628211
		}
	}
	return h
}
