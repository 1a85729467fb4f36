package sieve

import (
	"encoding/binary"
	"math/bits"
)

// spots are 64 bytes of text, a bit each, the first byte's the lowest: where
// lines end, and where there is a hint that a line matters. A hint is a colon
// before a digit or a space, a bracket before a digit, an escape, or a carriage
// return.
type spots struct{ ends, hints uint64 }

// find gives the spots of a text in the space of those given.
func find(text []byte, into []spots) []spots {
	n := (len(text) + 63) / 64
	if cap(into) < n {
		into = make([]spots, n)
	}
	into = into[:n]
	// The byte behind is looked at too.
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

// nextEnd gives where the line ends that pos is in, which is not the last.
func nextEnd(of []spots, pos int) int {
	w := pos >> 6
	ends := of[w].ends >> (pos & 63) << (pos & 63)
	for ends == 0 {
		w++
		ends = of[w].ends
	}
	return w<<6 + bits.TrailingZeros64(ends)
}

// findInWords finds the spots of a text of 64 bytes for each, and one more.
func findInWords(text []byte, into []spots) {
	for i := range into {
		var s spots
		for j := 0; j < 64; j += 8 {
			word := binary.LittleEndian.Uint64(text[64*i+j:])
			ends := equal(word, '\n')
			colons, parens := equal(word, ':'), equal(word, '(')
			hints := equal(word, 0x1b) | equal(word, '\r')
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

// equal gives the highest bit of each byte of a word that is c.
func equal(word uint64, c byte) uint64 {
	x := word ^ lows*uint64(c)
	return ^((x&^highs + (highs - lows)) | x) & highs
}

// inRange gives the highest bit of each byte of a word from a to b, both below 0x80.
func inRange(word uint64, a, b byte) uint64 {
	x := word &^ highs
	return (x + lows*uint64(0x80-a)) &^ (x + lows*uint64(0x7f-b)) &^ word & highs
}

// gather gives the highest bits of the eight bytes as the lowest eight bits.
func gather(x uint64) uint64 { return (x >> 7) * 0x0102040810204080 >> 56 }
