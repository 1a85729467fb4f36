package problem

import (
	"unicode/utf8"

	"github.com/clipperhouse/displaywidth"
)

// Columns is how a tool counts the columns of a line.
type Columns uint8

const (
	// Characters are Unicode code points, a tab being one.
	Characters Columns = iota
	// Bytes are those of UTF-8.
	Bytes
	// UTF16 are the units of UTF-16.
	UTF16
	// Tabbed are characters, a tab leading to the next multiple of eight.
	Tabbed
	// Guessed columns are cells of a terminal with tabs of eight, as gcc counts
	// (-fdiagnostics-column-unit=display), or bytes, as clang does: the one that is
	// the start of a word counts.
	Guessed
)

// Rune returns the index of the character at a column. Columns count from 1,
// characters from 0. Behind the end of the line, it returns the number of
// characters.
func (c Columns) Rune(line string, column int) int {
	if c != Guessed {
		n, _ := runeAt(line, column-1, c.width)
		return n
	}
	cells, inCells := runeAt(line, column-1, cellsOf)
	bytes, inBytes := runeAt(line, column-1, Bytes.width)
	switch {
	case !inCells: // within a tab, or half of a wide character
		return bytes
	case inBytes && beginsWord(line, bytes) && !beginsWord(line, cells):
		return bytes
	}
	return cells
}

// width returns by how much a character at a column advances.
func (c Columns) width(r rune, size, at int) int {
	switch {
	case c == Bytes:
		return size
	case c == UTF16 && r > 0xffff:
		return 2
	case c == Tabbed && r == '\t':
		return 8 - at%8
	}
	return 1
}

func cellsOf(r rune, _, at int) int {
	if r == '\t' {
		return 8 - at%8
	}
	return displaywidth.Rune(r)
}

// runeAt returns the number of characters before a column. exact reports whether a
// character begins at it.
func runeAt(line string, column int, width func(r rune, size, at int) int) (n int, exact bool) {
	at := 0
	for line != "" && at < column {
		r, size := utf8.DecodeRuneInString(line)
		at += width(r, size, at)
		line = line[size:]
		n++
	}
	return n, at == column
}

// beginsWord reports whether a word or a sign begins at a character of a line.
func beginsWord(line string, n int) bool {
	runes := []rune(line)
	if n >= len(runes) || isBlank(runes[n]) {
		return false
	}
	return n == 0 || !isWord(runes[n]) || !isWord(runes[n-1])
}

func isBlank(r rune) bool { return r == ' ' || r == '\t' }

func isWord(r rune) bool {
	return r == '_' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= 0x80
}

// Runes returns the range of runes of a line that a place means: from and to count from 0, and to is
// behind the last one. It is the place's range where the tool said one, else the word at its column.
func (p Place) Runes(line string, columns Columns) (from, to int) {
	runes := []rune(line)
	from = columns.Rune(line, p.Column)
	if from >= len(runes) {
		return max(0, len(runes)-1), len(runes)
	}
	if p.EndColumn > p.Column && (p.EndLine == p.Line || p.EndLine == 0) {
		return from, min(len(runes), columns.Rune(line, p.EndColumn))
	}
	to = from
	for to < len(runes) && isWord(runes[to]) {
		to++
	}
	if to == from {
		to++
	}
	return from, to
}
