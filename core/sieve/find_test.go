package sieve

import (
	"bytes"
	"testing"

	"tidytally/core/sieve/lex"
)

// However the bits are found, they are those that the words say.
func FuzzFind(f *testing.F) {
	f.Add([]byte("a.c:1: x\n(2 (x : :\n\x1b[1m\r\n\a\b"), 3)
	f.Add(bytes.Repeat([]byte("x:9\n:("), 50), 0)
	f.Add([]byte("\xba\xba:\x80:\xb0(\xb9\x8a:/::(;"), 60)
	f.Fuzz(func(t *testing.T, text []byte, shift int) {
		text = append(bytes.Repeat([]byte("y"), int(uint(shift)%64)), text...)
		for name, got := range map[string][]spots{"": find(text, nil), "in words ": findInAllWords(text)} {
			for i, c := range text {
				next := byte(0)
				if i+1 < len(text) {
					next = text[i+1]
				}
				hint := c == 0x1b || c == '\r' || c == '\a' || c == '\b' || c == ':' && (lex.IsDigit(next) || next == ' ') || c == '(' && lex.IsDigit(next)
				s := got[i/64]
				if ends := s.ends>>(i%64)&1 == 1; ends != (c == '\n') {
					t.Fatalf("%q at %d of %q: found %sas an end: %v", c, i, text, name, ends)
				}
				if hints := s.hints>>(i%64)&1 == 1; hints != hint {
					t.Fatalf("%q at %d of %q: found %sas a hint: %v", c, i, text, name, hints)
				}
			}
		}
	})
}

func findInAllWords(text []byte) []spots {
	padded := append(bytes.Clone(text), make([]byte, 129)...)
	into := make([]spots, len(text)/64+1)
	findInWords(padded, into)
	return into
}
