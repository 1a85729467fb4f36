package sieve

import (
	"bytes"
	"math/bits"

	"tidytally/core/sieve/lex"
)

// The first look decides which lines any family wants to scan. Most bytes of a build
// log never get further, so it searches whole blocks for bytes and leaves lines that
// nobody wants uncut.
// Find marks, in each block, the bytes that may matter (spots): line ends, a colon
// before a digit or a blank, a bracket before a digit. A line gets a mark if its
// start, a spot or its end matches a row of the set: a mark has a bit for each
// family that wants the line, and traits, which say what shape the line has. An
// example: in "kiln/coil.c:12:5: error: no such member" the colon before 12 makes
// the line one with a place (marginPlace), the ending "c" and the trait set the bits
// of the families for C; the colon before "error: " would set the bits of families
// that look for that text behind a colon. The line "cc -c coil.c" has no spot and no
// lead: it is never cut out of the block. Families see none of these bits; they ask
// the Line.

// Traits are properties of a line that the first look finds.
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

// Bits of line.wants beside those of the families.
const (
	wantDocument uint64 = 1 << 63
	wantCount    uint64 = 1 << 62
	wantAll      uint64 = 1 << 61
	wantFolder   uint64 = 1 << 60 // a command that goes to a folder

	maxFamilies = 60
)

// A Block is a piece of output with the result of the first look at it.
type Block struct {
	text  []byte
	lines int // that end in the block
	tail  int // start of the line that does not
	marks []mark
	bits  []spots
}

// A mark is a line that somebody wants.
type mark struct {
	line       int // in the block, from 1
	start, end int // in the block, without the line feed
	wordless   int // no word that could be a file stands before here
	traits     Traits
	wants      uint64 // one bit per family
	// redo: the line must be cleaned, and then looked at again.
	redo bool
}

// wanted is a text that families look for in one place of a line.
type wanted struct {
	text string
	by   uint64
}

// firstLook holds what the families of an engine look for, indexed by first byte.
type firstLook struct {
	leads, indented, behind, alone [256][]wanted
	endings                        map[string]uint64
	byTraits                       [allTraits + 1]uint64
	every                          uint64
	// first says what a line with this first byte may be.
	first [256]beginning
	// pairs holds the first two bytes of all these texts, and of documents, one bit
	// per pair.
	pairs [3][1 << 16 / 64]uint64
}

type beginning uint8

const (
	beginsNothing beginning = iota
	beginsNumber
	beginsMore // the next byte tells
	beginsAll  // somebody wants all lines
)

// Indexes of firstLook.pairs.
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
	for _, w := range [...]wanted{{"Found ", wantCount}, {"✖ ", wantCount}, {"cd ", wantFolder}, {"(cd ", wantFolder}, {"+ cd ", wantFolder}} {
		f.leads[w.text[0]] = append(f.leads[w.text[0]], w)
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

// pair records the first two bytes of a text, or all pairs that start with its only
// byte.
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

// mayBegin reports whether the start of a line can matter. end is its line feed.
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

// block looks at the lines of text and stores the result in b.
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
				continue // most lines
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

// begin checks the start of a line.
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

// hint checks a spot in the line of m.
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
				if !wordBefore(before, max(0, m.wordless-m.start)) {
					m.wordless = i
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

// says checks the text behind a colon and a blank.
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

// end checks the end of a line, and adds the families that want its traits.
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

// ending returns the families that want files with the ending of the name at the end
// of t.
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

// clock reports whether t ends in " 02" or ":30". It is a fast check; wordBefore
// would reject it too.
func clock(t []byte) bool {
	n := len(t) - 3
	return n > 0 && lex.IsDigit(t[n+2]) && lex.IsDigit(t[n+1]) && (t[n] == ':' || t[n] == ' ' && t[0] != ' ' && t[0] != '\t')
}

// wordBefore reports whether the last word of t has a letter, which a clock has not.
// The bytes before from are known to have none.
func wordBefore(t []byte, from int) bool {
	for i := len(t) - 1; i >= max(from, len(t)-maxLookBack); i-- {
		switch c := t[i]; {
		case lex.IsLetter(c), c >= 0x80, c == '_', c == '+': // file +12:3 is a form of clang's
			return true
		case c == ' ' || c == '\t':
			// A place without a file name starts an indented line.
			return i < maxLookBack && lex.Indent(t) > i
		}
	}
	return false
}

// maxLookBack is the number of bytes before a colon that are searched. Without it, a
// line of nothing but colons and digits would take quadratic time.
const maxLookBack = 256
