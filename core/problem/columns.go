package problem

import (
	"strings"
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

// quotes are the marks that tools put around a name in a message, each with the one that ends it.
var quotes = map[rune]rune{'\'': '\'', '"': '"', '`': '`', '‘': '’', '“': '”', '«': '»', '‹': '›'}

// Quoted returns the range of runes of a line that a message speaks of, where its tool named no column: the first text in
// quotes in the message that stands in the line, as a whole word, and only once. ok is false if there is none. `name' is
// in quotes, too.
func Quoted(message, line string) (from, to int, ok bool) {
	runes := []rune(message)
	for i, open := range runes {
		end, quote := quotes[open]
		if !quote || i > 0 && isWord(runes[i-1]) {
			continue
		}
		for j := i + 1; j < len(runes); j++ {
			if runes[j] != end && (open != '`' || runes[j] != '\'') {
				continue
			}
			if name := string(runes[i+1 : j]); strings.TrimSpace(name) != "" {
				if at := onlyWord(line, name); at >= 0 {
					from = utf8.RuneCountInString(line[:at])
					return from, from + j - i - 1, true
				}
			}
			break
		}
	}
	return 0, 0, false
}

// onlyWord returns where a text stands in a line, as a whole word; -1 if it does not, or more than once.
func onlyWord(line, text string) int {
	found := -1
	for from := 0; ; {
		i := strings.Index(line[from:], text)
		if i < 0 {
			return found
		}
		i += from
		before, _ := utf8.DecodeLastRuneInString(line[:i])
		after, _ := utf8.DecodeRuneInString(line[i+len(text):])
		first, _ := utf8.DecodeRuneInString(text)
		last, _ := utf8.DecodeLastRuneInString(text)
		if (i == 0 || !isWord(before) || !isWord(first)) && (i+len(text) == len(line) || !isWord(after) || !isWord(last)) {
			if found >= 0 {
				return -1
			}
			found = i
		}
		from = i + len(text)
	}
}
