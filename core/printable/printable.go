// Package printable makes text from a workspace or a process fit for a
// terminal: control characters are shown, not sent.
package printable

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Text returns s on one line without anything that a terminal would obey: control
// characters appear as their pictures (U+2400 block), bytes that are no UTF-8 and
// characters that change the direction of text as U+FFFD.
func Text(s string) string {
	clean := true
	for i := 0; i < len(s) && clean; i++ {
		clean = s[i] >= 0x20 && s[i] < 0x7f
	}
	if clean {
		return s
	}
	var b strings.Builder
	b.Grow(len(s))
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		i += n
		switch {
		case r == utf8.RuneError && n == 1, Harmful(r):
			b.WriteRune(utf8.RuneError)
		case r == '\t':
			b.WriteByte(' ')
		case r < 0x20:
			b.WriteRune(0x2400 + r)
		case r == 0x7f:
			b.WriteRune(0x2421)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// Harmful reports whether a character would reorder or hide text: C1 controls,
// separators of lines, the format characters of bidirectional text, characters
// of no width, and tags.
func Harmful(r rune) bool {
	switch {
	case r < 0x80:
		return false
	case r < 0xa0, r == 0x00ad, r >= 0x200b && r <= 0x200d, r == 0x2028, r == 0x2029, r >= 0x2060 && r <= 0x2064, r == 0xfeff, r >= 0xe0000 && r <= 0xe007f:
		return true
	}
	return unicode.Is(unicode.Bidi_Control, r)
}
