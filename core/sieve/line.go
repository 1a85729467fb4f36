package sieve

import (
	"tidytally/core/problem"
	"tidytally/core/sieve/lex"
)

// Line is one line of output without escapes and line end.
type Line struct {
	Text       []byte
	Number     int // from 1
	start, end int64
	traits     Traits
	wants      uint64 // the families that the line is offered to
}

// Kept is the line without its text, which does not last.
func (l *Line) Kept() Line {
	k := *l
	k.Text = nil
	return k
}

// SpanOf is the part of an output from one line to another.
func SpanOf(first, last *Line) problem.Span {
	return problem.Span{FirstLine: first.Number, LastLine: last.Number, StartByte: first.start, EndByte: last.end}
}

// Placed reports whether the line may hold a place with a colon: foo.c:12.
func (l *Line) Placed() bool { return l.traits&AnyPlace != 0 }

// MayPlace reports whether the line may hold a place, with a colon or in
// brackets: foo.ts(12.
func (l *Line) MayPlace() bool { return l.traits&(AnyPlace|DigitParen) != 0 }

// Wanted reports whether any family looks for what is in the line.
func (l *Line) Wanted() bool { return l.wants != 0 }

// Extend makes a span reach to the end of the line.
func (l *Line) Extend(s *problem.Span) { s.LastLine, s.EndByte = l.Number, l.end }

// Indent is the number of leading spaces and tabs.
func (l *Line) Indent() int { return lex.Indent(l.Text) }

func (l *Line) Has(prefix string) bool { return lex.HasPrefix(l.Text, prefix) }
