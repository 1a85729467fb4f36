package sieve

import (
	"bytes"
	"fmt"

	"tidytally/core/sieve/lex"
)

// The parts of an engine that tests in package sieve_test use.

const MaxSeen = maxSeen

// ShowAll makes an engine show every line to every family.
func ShowAll(e *Engine) {
	e.look = newFirstLook(e.families, false)
	for i := range e.families {
		e.look.every |= 1 << i
	}
	for first := range e.look.first {
		e.look.first[first] = beginsAll
	}
}

// Kept returns the bytes kept of an unfinished line, and the entries for
// problems seen.
func Kept(e *Engine) (part, seen int) {
	return cap(e.part), len(e.out.seen.newer) + len(e.out.seen.older)
}

// LookFault compares the first look at a block with that at each of its lines
// alone, and returns the first difference, or "".
func LookFault(e *Engine, text []byte) string {
	var b Block
	e.Look(text, &b)
	if want := bytes.Count(text, []byte("\n")); b.lines != want {
		return fmt.Sprintf("%d lines for %d", b.lines, want)
	}
	marks, at, number := b.marks, 0, 0
	for raw := range bytes.Lines(text) {
		raw, ended := bytes.CutSuffix(raw, []byte("\n"))
		if !ended {
			break
		}
		start := at
		at += len(raw) + 1
		number++
		var m mark
		if len(marks) > 0 && marks[0].start == start {
			if m, marks = marks[0], marks[1:]; m.line != number || m.end != start+len(raw) {
				return fmt.Sprintf("line %d from %d to %d is marked as %+v", number, start, start+len(raw), m)
			}
		}
		raw = lex.WithoutReturn(raw)
		if redo := bytes.ContainsAny(raw, "\x1b\r\a\b") || len(raw) > MaxLine; m.redo != redo {
			return fmt.Sprintf("%q is to be cleaned: %v", raw, m.redo)
		} else if redo || len(raw) == 0 {
			continue
		}
		if has, wants := e.look.one(raw); has != m.traits || wants != m.wants {
			return fmt.Sprintf("%q has traits %b and is wanted by %b alone, %b and %b in the block", raw, has, wants, m.traits, m.wants)
		}
	}
	if len(marks) > 0 {
		return fmt.Sprintf("marks of lines that are not there: %+v", marks)
	}
	return ""
}
