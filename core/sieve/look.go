package sieve

import (
	"bytes"
	"math/bits"
	"tidytally/core/sieve/lex"
)

// The first look at an output decides which lines somebody wants to see. It is
// what most bytes of a build log ever meet, so it goes over a whole block with
// byte searches alone and leaves the lines that no family asked for uncut.

// Traits are what the first look finds in a line.
type Traits uint8

const (
	marginPlace Traits = 1 << iota // a word, ':' and a digit: foo.c:12
	IndentPlace                    // the same in an indented line
	DigitParen                     // '(' and a digit: foo.ts(12
	FullStop                       // ends in a full stop
	NumberStop                     // ends in a number and a full stop: at x.pl line 2.

	AnyPlace  = marginPlace | IndentPlace
	allTraits = 1<<iota - 1
)

// Bits beside those of the families: the line may be the first of a document, or
// the count with which a tool ends, or the user's own sieves want all lines.
const (
	wantDocument uint64 = 1 << 63
	wantCount    uint64 = 1 << 62
	wantAll      uint64 = 1 << 61

	maxFamilies = 61
)

// A Block is a piece of output and what the first look tells of its lines.
type Block struct {
	text  []byte
	lines int // that end in it
	tail  int // where the line begins that does not
	marks []mark
	bits  []spots
}

// A mark is a line that somebody wants to see.
type mark struct {
	line       int // in the block, from 1
	start, end int // in the block, without the line feed
	traits     Traits
	wants      uint64 // the families, a bit each
	// redo says that the line has to be cleaned, and then looked at anew.
	redo bool
}

// wanted is text that a family looks for in one place of a line.
type wanted struct {
	text string
	by   uint64
}

// firstLook is what the families of an engine look for, by the first byte.
type firstLook struct {
	leads, indented, behind, alone [256][]wanted
	endings                        map[string]uint64
	byTraits                       [allTraits + 1]uint64
	every                          uint64
	// first tells what a line may begin with its first byte.
	first [256]beginning
	// pairs are the pairs of bytes with which these texts begin, and documents,
	// a bit for each pair.
	pairs [3][1 << 16 / 64]uint64
}

type beginning uint8

const (
	beginsNothing beginning = iota
	beginsNumber
	beginsMore // the next byte tells
	beginsAll  // somebody wants all lines
)

// Where a pair stands.
const (
	atMargin = iota
	behindBlanks
	behindColon
)

func newFirstLook(families []Family, all bool) *firstLook {
	f := &firstLook{endings: map[string]uint64{}}
	if all {
		f.every = wantAll
	}
	for i := range families {
		row, by := &families[i], uint64(1)<<i
		for _, c := range []struct {
			texts []string
			into  *[256][]wanted
		}{{row.Leads, &f.leads}, {row.Indented, &f.indented}, {row.Behind, &f.behind}, {row.Alone, &f.alone}} {
			for _, text := range c.texts {
				c.into[text[0]] = append(c.into[text[0]], wanted{text, by})
			}
		}
		for _, ending := range row.Endings {
			f.endings[ending] |= by
		}
		for t := range f.byTraits {
			if row.Traits&Traits(t) != 0 {
				f.byTraits[t] |= by
			}
		}
	}
	for _, text := range [...]string{"Found ", "✖ "} {
		f.leads[text[0]] = append(f.leads[text[0]], wanted{text, wantCount})
	}
	for where, lists := range [...][]*[256][]wanted{atMargin: {&f.leads}, behindBlanks: {&f.indented}, behindColon: {&f.behind, &f.alone}} {
		for _, list := range lists {
			for first := range list {
				for _, w := range list[first] {
					f.pair(where, w.text)
				}
			}
		}
	}
	for _, text := range [...]string{"<?", "<t", "{", `["`, "[{", "[[", "[\n", "[\r"} {
		f.pair(atMargin, text)
		f.pair(behindBlanks, text)
	}
	for c := range f.first {
		switch {
		case f.every != 0:
			f.first[c] = beginsAll
		case len(f.leads[c]) > 0 || c == ' ' || c == '\t' || c == '{' || c == '[' || c == '<':
			f.first[c] = beginsMore
		case lex.IsDigit(byte(c)):
			f.first[c] = beginsNumber
		}
	}
	return f
}

// pair notes the first two bytes of a text, or all pairs of its only byte.
func (f *firstLook) pair(where int, text string) {
	from, to := 0, 255
	if len(text) > 1 {
		from, to = int(text[1]), int(text[1])
	}
	for second := from; second <= to; second++ {
		pair := int(text[0])<<8 | second
		f.pairs[where][pair>>6] |= 1 << (pair & 63)
	}
}

func (f *firstLook) isPair(where int, first, second byte) bool {
	pair := int(first)<<8 | int(second)
	return f.pairs[where][pair>>6]>>(pair&63)&1 != 0
}

// mayBegin tells whether the beginning of a line, up to its line feed at end,
// can matter.
func (f *firstLook) mayBegin(text []byte, start, end int) bool {
	where := atMargin
	for text[start] == ' ' || text[start] == '\t' { // the line feed stops it
		where = behindBlanks
		start++
	}
	if start == end {
		return false
	}
	first, second := text[start], text[start+1]
	switch {
	case f.isPair(where, first, second):
		return true
	case first == '[':
		return (second == ' ' || second == '\t') && beginsDocument(text[start:end])
	}
	last := text[end-1] // of "2 errors", "1 error"
	return (last == 's' || last == 'r' || last == '\r') && lex.IsDigit(first)
}

// block looks at the lines of a block, which b holds from then on.
func (f *firstLook) block(text []byte, b *Block) {
	b.text, b.lines, b.tail, b.marks = text, 0, 0, b.marks[:0]
	b.bits = find(text, b.bits)
	m := mark{}
	for w, spots := range b.bits {
		for both := spots.ends | spots.hints; both != 0; both &= both - 1 {
			i := w<<6 + bits.TrailingZeros64(both)
			if spots.ends&(both&-both) == 0 {
				if text[i] != ':' || m.traits&AnyPlace != 0 || text[i+1] == ' ' || !clock(text[m.start:i]) {
					f.hint(text, i, &m)
				}
				continue
			}
			b.lines++
			start := m.start
			m.start = i + 1
			if i == start {
				continue
			}
			last := text[i-1]
			begins := false
			switch f.first[text[start]] {
			case beginsNumber: // of "2 errors", "1 error"
				begins = last == 's' || last == 'r' || last == '\r'
			case beginsMore:
				begins = f.mayBegin(text, start, i)
			case beginsAll:
				begins = true
			}
			if !begins && !m.redo && m.traits == 0 && m.wants == 0 && last != '.' && last != '\r' && i-start <= MaxLine {
				continue // the most there are
			}
			if begins {
				f.begin(text[start:i], &m)
			}
			f.end(text[start:i], &m)
			if m.wants != 0 || m.traits != 0 || m.redo {
				m.line, m.start, m.end = b.lines, start, i
				b.marks = append(b.marks, m)
			}
			m = mark{start: i + 1}
		}
	}
	b.tail = m.start
}

// one looks at a single line.
func (f *firstLook) one(text []byte) (Traits, uint64) {
	if len(text) == 0 {
		return 0, 0
	}
	m := mark{}
	f.begin(text, &m)
	for i := range text[:len(text)-1] {
		if c := text[i]; c == ':' || c == '(' {
			f.hint(text, i, &m)
		}
	}
	f.end(text, &m)
	return m.traits, m.wants
}

// begin looks at how a line begins.
func (f *firstLook) begin(t []byte, m *mark) {
	m.wants |= f.every
	leads := &f.leads
	if t[0] == ' ' || t[0] == '\t' {
		first := 1
		for first < len(t) && (t[first] == ' ' || t[first] == '\t') {
			first++
		}
		t, leads = t[first:], &f.indented
		if len(t) == 0 {
			return
		}
	}
	c := t[0]
	for _, w := range leads[c] {
		if lex.HasPrefix(t, w.text) {
			m.wants |= w.by
		}
	}
	switch {
	case c == '{' || c == '[' || c == '<':
		if beginsDocument(t) {
			m.wants |= wantDocument
		}
	case lex.IsDigit(c):
		if endsInCount(t) {
			m.wants |= wantCount
		}
	}
}

// hint looks at a byte in the line that m is of.
func (f *firstLook) hint(text []byte, i int, m *mark) {
	next := byte('\n')
	if i+1 < len(text) {
		next = text[i+1]
	}
	switch text[i] {
	case ':':
		if next == ' ' {
			if i+2 < len(text) {
				second := byte('\n')
				if i+3 < len(text) {
					second = text[i+3]
				}
				if f.isPair(behindColon, text[i+2], second) {
					f.says(text[i+2:], m)
				}
			}
		} else if lex.IsDigit(next) {
			before := text[m.start:i]
			if m.traits&AnyPlace == 0 {
				if !wordBefore(before) {
					return
				}
				if m.traits |= marginPlace; before[0] == ' ' || before[0] == '\t' {
					m.traits ^= AnyPlace
				}
			}
			m.wants |= f.ending(before)
		}
	case '(':
		if lex.IsDigit(next) {
			m.traits |= DigitParen
			m.wants |= f.ending(bytes.TrimSuffix(text[m.start:i], []byte(":")))
		}
	case '\r':
		m.redo = m.redo || next != '\n'
	default:
		m.redo = true
	}
}

// says looks at what stands behind a colon and a space.
func (f *firstLook) says(t []byte, m *mark) {
	for _, w := range f.behind[t[0]] {
		if lex.HasPrefix(t, w.text) {
			m.wants |= w.by
		}
	}
	if m.traits&AnyPlace != 0 {
		return
	}
	for _, w := range f.alone[t[0]] {
		if lex.HasPrefix(t, w.text) {
			m.wants |= w.by
		}
	}
}

// end looks at how a line ends, and adds what follows from its traits.
func (f *firstLook) end(t []byte, m *mark) {
	m.redo = m.redo || len(t) > MaxLine
	n := len(t) - 1
	if t[n] == '\r' && n > 0 {
		n--
	}
	if t[n] == '.' {
		m.traits |= FullStop
		if n > 0 && lex.IsDigit(t[n-1]) {
			m.traits |= NumberStop
		}
	}
	m.wants |= f.byTraits[m.traits]
}

// ending gives the families that want the files of an ending, or of a name
// without one, for a text that ends in a file's name.
func (f *firstLook) ending(t []byte) uint64 {
	var small [12]byte // in small letters, from the end
	n := 0
	for i := len(t) - 1; i >= 0; i-- {
		c := t[i]
		if !lex.IsLetter(c) && !lex.IsDigit(c) {
			if c != '.' && c != '/' {
				return 0
			}
			break
		}
		if n == len(small) {
			return 0
		}
		n++
		small[len(small)-n] = c | 0x20 // digits have that bit
	}
	return f.endings[string(small[len(small)-n:])]
}

// clock tells a text that ends in " 02" or ":30", of which wordBefore would say
// no after a longer look.
func clock(t []byte) bool {
	n := len(t) - 3
	return n > 0 && lex.IsDigit(t[n+2]) && lex.IsDigit(t[n+1]) && (t[n] == ':' || t[n] == ' ' && t[0] != ' ' && t[0] != '\t')
}

// wordBefore tells whether the word that a text ends with has a letter: a
// clock is no place.
func wordBefore(t []byte) bool {
	for i := len(t) - 1; i >= max(0, len(t)-maxLookBack); i-- {
		switch c := t[i]; {
		case lex.IsLetter(c), c >= 0x80, c == '_', c == '+': // file +12:3 is a form of clang's
			return true
		case c == ' ' || c == '\t':
			// A place without a name stands first on an indented line.
			return i < maxLookBack && lex.Indent(t) > i
		}
	}
	return false
}

// maxLookBack is how many bytes before a colon are looked at; a line may have
// nothing but colons and digits.
const maxLookBack = 256
