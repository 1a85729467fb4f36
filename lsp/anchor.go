package lsp

import (
	"tidytally/core/history"
	"tidytally/core/problem"
)

// The place of a problem in an open document moves with what is edited there, from where it was when it was shown first.

// anchor is the range of a problem in an open document, as that is now.
type anchor struct {
	at   span
	gone bool // its line was deleted
}

// anchorKey names a problem as one run reported it.
type anchorKey struct {
	run     int64
	seq     int
	place   problem.Place
	message string
}

func keyOf(l *history.Lived) anchorKey {
	return anchorKey{l.Last, l.Problem.Seq, l.Problem.Place, l.Problem.Message}
}

// replaced returns where the range is after the text from one position to another was replaced by one that ends at end. gone says
// that its line was deleted; lost, that another text stands there, in which the place must be looked for again.
func (s span) replaced(from, to, end position) (moved span, gone, lost bool) {
	shift := func(p position) position {
		if p.Line == to.Line {
			p.Character += end.Character - to.Character
		}
		p.Line += end.Line - to.Line
		return p
	}
	switch {
	case !before(s.Start, to): // it follows the edit
		return span{shift(s.Start), shift(s.End)}, false, false
	case !before(from, s.End): // before it
		return s, false, false
	case !before(s.Start, from) && !before(to, s.End): // all of it is replaced
		if from.Line < s.Start.Line || to.Line > s.End.Line {
			return s, from == end, from != end
		}
		return span{from, end}, false, false
	}
	if before(from, s.Start) {
		s.Start = end
	}
	if before(to, s.End) {
		s.End = shift(s.End)
	} else {
		s.End = end
	}
	return s, false, false
}

// before reports whether a position is before another one.
func before(a, b position) bool {
	return a.Line < b.Line || a.Line == b.Line && a.Character < b.Character
}
