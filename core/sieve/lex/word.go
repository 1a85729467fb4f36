package lex

import "strings"

// HasWord reports whether a text has a word that is not a part of a longer one.
func HasWord(text, word string) bool {
	inner := func(c byte) bool {
		return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
	}
	for from := 0; word != ""; {
		i := strings.Index(text[from:], word)
		if i < 0 {
			return false
		}
		i += from
		end := i + len(word)
		if (i == 0 || !inner(text[i-1])) && (end == len(text) || !inner(text[end])) {
			return true
		}
		from = i + 1
	}
	return false
}
