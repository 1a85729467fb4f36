package sieve

import (
	"bytes"
	"tidytally/core/sieve/lex"
)

// passes finds the passes of a watching tool that has no words for where one
// begins or ends, and only rests between them: what comes after a rest is a new
// pass when it begins as an earlier one did that had problems. So the log line
// of a server, which follows a rest too, does not take its problems away.
type passes struct {
	rested bool
	burst  uint64          // how the lines since the last rest began
	noted  bool            // burst is in begun
	begun  map[uint64]bool // how those with problems did
}

// maxPasses bounds the beginnings that are known.
const maxPasses = 256

// Rest says that the output rested before what comes next, for longer than a
// tool pauses at work. Only the output of a task that stays up has passes.
func (e *Engine) Rest() { e.passes.rested = true }

// afterRest looks at the first line behind a rest, or of all.
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

// inPass notes that the lines since the last rest have a problem.
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

// blurred gives a hash (FNV-1a) of a line without its digits: times and counts
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
