package sieve

import (
	"encoding/binary"
	"math/bits"
)

// spots describes 64 bytes of text, one bit each, the first byte's bit the lowest:
// where lines end, and where there is a hint that a line matters. A hint is a colon
// before a digit or a blank, a bracket before a digit, an escape, a carriage return, a
// backspace, or a bell.
type spots struct{ ends, hints uint64 }

// find returns the spots of a text; it reuses the space of into.
func find(text []byte, into []spots) []spots {
	n := (len(text) + 63) / 64
	if cap(into) < n {
		into = make([]spots, n)
	}
	into = into[:n]
	// A hint depends on the byte behind it, too.
	done := 0
	if len(text) > 64 {
		done = (len(text) - 1) / 64
		findBlocks(text, into[:done])
	}
	for ; done < n; done++ {
		var last [65]byte
		copy(last[:], text[64*done:])
		findInWords(last[:], into[done:done+1])
	}
	return into
}

// nextEnd returns the end of the line that holds pos. The line must end in the text.
func nextEnd(of []spots, pos int) int {
	w := pos >> 6
	ends := of[w].ends >> (pos & 63) << (pos & 63)
	for ends == 0 {
		w++
		ends = of[w].ends
	}
	return w<<6 + bits.TrailingZeros64(ends)
}

// findInWords finds the spots of a text of 64 bytes per element of into, plus one
// byte.
func findInWords(text []byte, into []spots) {
	for i := range into {
		var s spots
		for j := 0; j < 64; j += 8 {
			word := binary.LittleEndian.Uint64(text[64*i+j:])
			ends := equal(word, '\n')
			colons, parens := equal(word, ':'), equal(word, '(')
			hints := equal(word, 0x1b) | equal(word, '\r') | equal(word, '\a') | equal(word, '\b')
			if colons|parens != 0 {
				next := binary.LittleEndian.Uint64(text[64*i+j+1:])
				digits := inRange(next, '0', '9')
				hints |= colons&(digits|equal(next, ' ')) | parens&digits
			}
			s.ends |= gather(ends) << j
			s.hints |= gather(hints) << j
		}
		into[i] = s
	}
}

const (
	lows  = 0x0101010101010101
	highs = 0x8080808080808080
)

// equal sets the highest bit of each byte of word that equals c.
func equal(word uint64, c byte) uint64 {
	x := word ^ lows*uint64(c)
	return ^((x&^highs + (highs - lows)) | x) & highs
}

// inRange sets the highest bit of each byte of word between a and b, both below
// 0x80.
func inRange(word uint64, a, b byte) uint64 {
	x := word &^ highs
	return (x + lows*uint64(0x80-a)) &^ (x + lows*uint64(0x7f-b)) &^ word & highs
}

// gather returns the highest bits of the eight bytes as the lowest eight bits.
func gather(x uint64) uint64 { return (x >> 7) * 0x0102040810204080 >> 56 }
