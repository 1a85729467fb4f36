package lex

import (
	"fmt"
	"strings"
	"testing"
)

func TestPlaceAtEnd(t *testing.T) {
	for text, want := range map[string]string{
		"a.c:3":                          "a.c 3",
		"a.c:3:5":                        "a.c 3:5",
		"a.c:3.5":                        "a.c 3:5",
		"a.y:3.5-9":                      "a.y 3:5-3:10",
		"a.y:3:5-9":                      "a.y 3:5-3:10",
		"a.y:3.5-4.9":                    "a.y 3:5-4:10",
		"a.c:3-7":                        "a.c 3-7",
		"a.c(3)":                         "a.c 3",
		"a.c(3,5)":                       "a.c 3:5",
		"a.cs(3,5,4,9)":                  "a.cs 3:5-4:9",
		"a.c +3:5":                       "a.c 3:5",
		"my dir/a b.c:3:5":               "my dir/a b.c 3:5",
		`C:\src\a.c:3:5`:                 `C:\src\a.c 3:5`,
		"C:/src/a.c(3)":                  "C:/src/a.c 3",
		"a:b.c:3:5":                      "a:b.c 3:5",
		"<stdin>:1:2":                    "<stdin> 1:2",
		"dir.1/a.c:3":                    "dir.1/a.c 3",
		"日本.c:3:5":                       "日本.c 3:5",
		"a.c:3 ":                         "a.c 3",
		"":                               "",
		"3":                              "",
		":3":                             "",
		"12:30:45":                       "",
		"2026-11-25 12:30":               "",
		"10.0.0.1:80":                    "",
		"http://x.example/a:80":          "",
		"[::1]:80":                       "",
		"a.c:":                           "",
		"a.c:x":                          "",
		"a.c:1234567890123":              "",
		"f(x)":                           "",
		"f()":                            "",
		"f(1,2,3)":                       "",
		"a\x01.c:3":                      "",
		strings.Repeat("x", 5000) + ":3": "",
	} {
		p, ok := PlaceAtEnd([]byte(text))
		got := ""
		if ok {
			got = fmt.Sprintf("%s %d", p.File, p.Line)
			if p.Column > 0 {
				got += fmt.Sprintf(":%d", p.Column)
			}
			if p.EndLine > 0 {
				got += fmt.Sprintf("-%d", p.EndLine)
				if p.EndColumn > 0 {
					got += fmt.Sprintf(":%d", p.EndColumn)
				}
			}
		}
		if got != want {
			t.Errorf("%q: got %q, want %q", text[:min(40, len(text))], got, want)
		}
	}
}

func TestStripEscapes(t *testing.T) {
	for in, want := range map[string]string{
		"\x1b[01;31m\x1b[Ka\x1b[m\x1b[K":         "a",
		"\x1b]8;;http://x\x07link\x1b]8;;\x1b\\": "link",
		"\x1b(Bcharset":                          "charset", "\x1b[38;2;1;2;3mx": "x", "a\x08\x00\x07b\tc": "ab\tc", "cut \x1b[3": "cut ", "cut \x1b": "cut ", "\x1bPdata\x1b\\x": "x", "\x1b[?25lx": "x",
	} {
		if got, _ := StripEscapes(nil, []byte(in)); string(got) != want {
			t.Errorf("%q: got %q, want %q", in, got, want)
		}
	}
	for in, want := range map[string]bool{"\x1b[2J": true, "\x1b[3J\x1b[H": true, "\x1bc": true, "\x1b[J": false, "\x1b[1J": false, "\x1b[K": false} {
		if _, cleared := StripEscapes(nil, []byte(in)); cleared != want {
			t.Errorf("%q: cleared %v", in, cleared)
		}
	}
}
