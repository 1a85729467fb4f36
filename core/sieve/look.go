package sieve

import "bytes"

// The first look at an output decides which lines somebody wants to see. It is
// what most bytes of a build log ever meet, so it goes over a whole block with
// byte searches alone and leaves the lines that no family asked for uncut.

// traits are what the first look finds in a line.
type traits uint8

const (
	marginPlace traits = 1 << iota // a word, ':' and a digit: foo.c:12
	indentPlace                    // the same in an indented line
	digitParen                     // '(' and a digit: foo.ts(12
	fullStop                       // ends in a full stop
	numberStop                     // ends in a number and a full stop: at x.pl line 2.

	anyPlace  = marginPlace | indentPlace
	allTraits = 1<<iota - 1
)

// Two bits beside those of the families: the line may be the first of a
// document, or the count with which a tool ends.
const (
	wantDocument uint64 = 1 << 63
	wantCount    uint64 = 1 << 62
)

// A Block is a piece of output and what the first look tells of its lines.
type Block struct {
	text  []byte
	lines int // that end in it
	tail  int // where the line begins that does not
	marks []mark
}

// A mark is a line that somebody wants to see.
type mark struct {
	line       int // in the block, from 1
	start, end int // in the block, without the line end
	traits     traits
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
	leads, indented, behind [256][]wanted
	endings                 map[string]uint64
	byTraits                [allTraits + 1]uint64
	every                   uint64
}

func newFirstLook(families []family) *firstLook {
	f := &firstLook{endings: map[string]uint64{}}
	for i := range families {
		row, by := &families[i], uint64(1)<<i
		for _, c := range []struct {
			texts []string
			into  *[256][]wanted
		}{{row.leads, &f.leads}, {row.indented, &f.indented}, {row.behind, &f.behind}} {
			for _, text := range c.texts {
				c.into[text[0]] = append(c.into[text[0]], wanted{text, by})
			}
		}
		for _, ending := range row.endings {
			f.endings[ending] |= by
		}
		for t := range f.byTraits {
			if row.traits&traits(t) != 0 {
				f.byTraits[t] |= by
			}
		}
		if row.every {
			f.every |= by
		}
	}
	for _, text := range [...]string{"Found ", "✖ "} {
		f.leads[text[0]] = append(f.leads[text[0]], wanted{text, wantCount})
	}
	return f
}

// from moves a cursor to the next c at or behind i; it stays behind all of the
// text where there is none.
func from(text []byte, c byte, i int) int {
	if n := bytes.IndexByte(text[i:], c); n >= 0 {
		return i + n
	}
	return len(text)
}

// block looks at the lines of a block, which b holds from then on.
func (f *firstLook) block(text []byte, b *Block) {
	b.text, b.lines, b.tail, b.marks = text, 0, 0, b.marks[:0]
	at := cursors{from(text, ':', 0), from(text, '(', 0)}
	escape, redraw := from(text, 0x1b, 0), from(text, '\r', 0)
	for start := 0; ; {
		n := bytes.IndexByte(text[start:], '\n')
		if n < 0 {
			break
		}
		b.lines++
		next := start + n + 1
		end := next - 1
		if n > 0 && text[end-1] == '\r' {
			end--
		}
		m := mark{line: b.lines, start: start, end: end}
		if end > start {
			m.traits, m.wants = f.line(text, start, end, &at)
		}
		for escape < start {
			escape = from(text, 0x1b, start)
		}
		for redraw < start {
			redraw = from(text, '\r', start)
		}
		m.redo = escape < end || redraw < end || end-start > MaxLine
		if m.redo || m.wants != 0 || m.traits != 0 {
			b.marks = append(b.marks, m)
		}
		start = next
		b.tail = next
	}
}

// one looks at a single line.
func (f *firstLook) one(text []byte) (traits, uint64) {
	if len(text) == 0 {
		return 0, 0
	}
	return f.line(text, 0, len(text), &cursors{from(text, ':', 0), from(text, '(', 0)})
}

// cursors are where the next of some bytes stand in a block.
type cursors struct{ colon, paren int }

// line looks at text[start:end], which is not empty.
func (f *firstLook) line(text []byte, start, end int, at *cursors) (has traits, by uint64) {
	by = f.every
	t := text[:end]
	first, kind := start, marginPlace
	leads := &f.leads
	if c := t[first]; c == ' ' || c == '\t' {
		for first++; first < end && (t[first] == ' ' || t[first] == '\t'); first++ {
		}
		kind, leads = indentPlace, &f.indented
	}
	if first < end {
		c := t[first]
		for _, w := range leads[c] {
			if hasPrefix(t[first:], w.text) {
				by |= w.by
			}
		}
		switch {
		case c == '{' || c == '[' || c == '<':
			if beginsDocument(t[first:]) {
				by |= wantDocument
			}
		case isDigit(c):
			if endsInCount(t[start:]) {
				by |= wantCount
			}
		}
	}
	for at.colon < start {
		at.colon = from(text, ':', start)
	}
	for ; at.colon < end; at.colon = from(text, ':', at.colon+1) {
		i := at.colon + 1
		if i == end {
			continue
		}
		switch c := t[i]; {
		case c == ' ':
			if i+1 < end {
				for _, w := range f.behind[t[i+1]] {
					if hasPrefix(t[i+1:], w.text) {
						by |= w.by
					}
				}
			}
		case isDigit(c):
			if has&kind == 0 && wordBefore(t[start:i-1]) {
				has |= kind
			}
			if has&kind != 0 {
				by |= f.ending(t[start : i-1])
			}
		}
	}
	for at.paren < start {
		at.paren = from(text, '(', start)
	}
	for ; at.paren < end; at.paren = from(text, '(', at.paren+1) {
		if i := at.paren + 1; i < end && isDigit(t[i]) {
			has |= digitParen
			by |= f.ending(bytes.TrimSuffix(t[start:i-1], []byte(":")))
		}
	}
	if t[end-1] == '.' {
		has |= fullStop
		if end-start > 1 && isDigit(t[end-2]) {
			has |= numberStop
		}
	}
	return has, by | f.byTraits[has]
}

// ending gives the families that want the files of an ending, for a text that
// ends in a file's name.
func (f *firstLook) ending(t []byte) uint64 {
	var small [8]byte // in small letters, from the end
	n := 0
	for i := len(t) - 1; i >= 0; i-- {
		c := t[i]
		if c == '.' {
			return f.endings[string(small[len(small)-n:])]
		}
		if n == len(small) || !isLetter(c) && !isDigit(c) {
			break
		}
		n++
		small[len(small)-n] = c | 0x20 // digits have that bit
	}
	return 0
}

// wordBefore tells whether the word that a text ends with has a letter: a
// clock is no place.
func wordBefore(t []byte) bool {
	for i := len(t) - 1; i >= 0; i-- {
		switch c := t[i]; {
		case isLetter(c), c >= 0x80, c == '_', c == '+': // file +12:3 is a form of clang's
			return true
		case c == ' ' || c == '\t':
			// A place without a name stands first on an indented line.
			return len(bytes.TrimLeft(t[:i+1], " \t")) == 0
		}
	}
	return false
}
