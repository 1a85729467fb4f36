package printable

import (
	"bytes"
	"testing"
)

// Sequences of ECMA-48 are measured whole; those that are cut, or broken off by a byte
// that cannot be part of them, as far as they go.
func TestEscape(t *testing.T) {
	for in, want := range map[string]struct {
		n      int
		final  byte
		params string
	}{
		"\x1b":                  {1, 0, ""},
		"\x1b[":                 {2, 0, ""},
		"\x1b[m":                {3, 'm', ""},
		"\x1b[1;31mred":         {7, 'm', "1;31"},
		"\x1b[?25l":             {6, 'l', "?25"},
		"\x1b[@x":               {3, '@', ""},
		"\x1b[~x":               {3, '~', ""},
		"\x1b[12":               {4, 0, ""},
		"\x1b[1\nx":             {3, 0, ""},
		"\x1b[1\x7fx":           {3, 0, ""},
		"\x1b[ qx":              {4, 'q', " "},
		"\x1b[\x1fx":            {2, 0, ""},
		"\x1b]0;title\x07rest":  {10, 0, ""},
		"\x1b]0;a\x1b\\rest":    {7, 0, ""},
		"\x1b]0;a\x1bxb\x07r":   {5, 0, ""},
		"\x1b]0;cut":            {7, 0, ""},
		"\x1b]0;cut\x1b":        {8, 0, ""},
		"\x1bPdevice\x1b\\rest": {10, 0, ""},
		"\x1b^privacy\x07rest":  {10, 0, ""},
		"\x1b_app\x07rest":      {6, 0, ""},
		"\x1bXstart\x07rest":    {8, 0, ""},
		"\x1b(Brest":            {3, 0, ""},
		"\x1b (0rest":           {4, 0, ""},
		"\x1b(":                 {2, 0, ""},
		"\x1b(~x":               {3, 0, ""},
		"\x1b(/0x":              {4, 0, ""},
		"\x1b(\nx":              {2, 0, ""},
		"\x1b(\x7fx":            {2, 0, ""},
		"\x1bcrest":             {2, 'c', ""},
		"\x1b0rest":             {2, '0', ""},
		"\x1b~rest":             {2, '~', ""},
		"\x1b\nrest":            {1, 0, ""},
		"\x1b\x7frest":          {1, 0, ""},
	} {
		n, final, params := Escape([]byte(in))
		if n != want.n || final != want.final || string(params) != want.params {
			t.Errorf("%q: %d bytes, final %q, parameters %q; want %d, %q, %q", in, n, final, params, want.n, want.final, want.params)
		}
	}
}

// The characters at the borders of what is harmful.
func TestHarmful(t *testing.T) {
	for r, want := range map[rune]bool{
		'a': false, 0x7f: false, 0x80: true, 0x9f: true, 0xa0: false, 0xac: false, 0xad: true, 0xae: false, 0x200a: false, 0x200b: true, 0x200d: true, 0x200e: true,
		0x2010: false, 0x2027: false, 0x2028: true, 0x2029: true, 0x202a: true, 0x202e: true, 0x202f: false, 0x205f: false, 0x2060: true, 0x2064: true, 0x2065: false, 0x2066: true, 0x2069: true,
		0xfeff: true, 0xfefe: false, 0xdffff: false, 0xe0000: true, 0xe007f: true, 0xe0080: false, '日': false, '🙂': false,
	} {
		if Harmful(r) != want {
			t.Errorf("%U: %v", r, !want)
		}
	}
}

// A stream passes the text between sequences byte for byte, at each of their borders.
func TestStreamAtTheBorders(t *testing.T) {
	for in, want := range map[string]string{
		"a\x1b[mb": "a\x1b[mb", "a\x1b[@b": "ab", "a\x1b[~b": "ab", "a\x1b[38:2::1:2:3mb": "a\x1b[38:2::1:2:3mb", "a\x1b[?1mb": "ab", "a\x1b[1/mb": "ab",
		"a\x1b[;mb": "a\x1b[;mb", "a\x1b[<1mb": "ab",
		"a\x1b b": "a", "a\x1b (0b": "ab", "a\x1b/0b": "ab", "a\x1b0b": "ab", "a\x1bXs\x1b\\b": "ab", "a\x1b^s\x07b": "ab", "a\x1b_s\x07b": "ab", "a\x1b]s\x1bxb\x07c": "abc",
		" ~\x7f\x1f\x00": " ~", "\n\r\t\b\x0b\x0c": "\n\r\t\b",
		"\xc3a": "\ufffda", "\xc3\xc3\xa4": "\ufffdä", "\xe6\x97": "", "é\xa9": "é\ufffd", "\xf0\x9f\x99\x82": "🙂", "\u00a0": "\u00a0",
	} {
		var b bytes.Buffer
		s := Stream{To: &b}
		for i := range len(in) {
			s.Write([]byte{in[i]})
		}
		if b.String() != want {
			t.Errorf("%q: %q, want %q", in, b.String(), want)
		}
	}
	// The longest sequence that is kept.
	for length, passes := range map[int]bool{maxHeld - 1: true, maxHeld: false} {
		in := "\x1b[" + string(bytes.Repeat([]byte("1"), length-3)) + "m"
		var b bytes.Buffer
		(&Stream{To: &b}).Write([]byte(in))
		if (b.Len() > 0) != passes {
			t.Errorf("a sequence of %d bytes passes: %v", length, !passes)
		}
	}
}

// Text leaves plain text alone, and what is at its borders.
func TestTextAtTheBorders(t *testing.T) {
	for in, want := range map[string]string{" ~": " ~", "\x1f": "␟", "\x00": "␀", "\x7f": "␡", "\u00a0é": "\u00a0é", "\xff": "\ufffd", "\ufffd": "\ufffd"} {
		if got := Text(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}
