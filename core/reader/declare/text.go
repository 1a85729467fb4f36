package declare

import "strings"

// Unknown stands in a text for what cannot be known without running something.
const Unknown = "\x00"

// maxAbout is the number of characters to which Shorten cuts.
const maxAbout = 200

// Shorten makes one line of a description, and cuts it.
func Shorten(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > maxAbout {
		return string(r[:maxAbout-1]) + "…"
	}
	return s
}

// CutLine returns the first line of a text without its end, the rest, and the
// number of the line behind it.
func CutLine(text string, line int) (first, rest string, next int) {
	i := strings.IndexByte(text, '\n')
	if i < 0 {
		return strings.TrimSuffix(text, "\r"), "", line + 1
	}
	return strings.TrimSuffix(text[:i], "\r"), text[i+1:], line + 1
}

// CutWord returns the first word of a text and the rest. A word ends at a blank,
// which is dropped, or before a bracket.
func CutWord(s string) (word, rest string) {
	i := strings.IndexAny(s, " \t(")
	if i < 0 {
		return s, ""
	}
	if s[i] == '(' {
		return s[:i], s[i:]
	}
	return s[:i], strings.TrimLeft(s[i:], " \t")
}

// PlainNumber returns the value of a text of decimal digits, 0 for any other text.
func PlainNumber(s string) int {
	n := 0
	for _, c := range strings.TrimSpace(s) {
		if c < '0' || c > '9' || n > 1<<20 {
			return 0
		}
		n = n*10 + int(c-'0')
	}
	return n
}
