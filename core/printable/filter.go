package printable

import (
	"bytes"
	"fmt"
	"io"
	"sync"
	"unicode/utf16"
	"unicode/utf8"
)

// Lines writes text to a terminal or a file, each line as Text returns it; only line
// feeds and tabs pass unchanged. The caller need not know which texts come from a
// workspace or a process. It is safe for concurrent use: each Write stands together.
type Lines struct {
	To io.Writer
	mu sync.Mutex
	// cut is the beginning of a character whose rest has not come yet.
	cut []byte
}

// Write takes the next bytes of the text. Errors are those of the writer behind.
func (l *Lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	text := append(l.cut, p...)
	l.cut = nil
	if n := unfinished(text); n > 0 {
		l.cut = bytes.Clone(text[len(text)-n:])
		text = text[:len(text)-n]
	}
	if _, err := l.To.Write(cleanLines(text)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// unfinished returns how many bytes at the end of text begin a character that
// is not complete.
func unfinished(text []byte) int {
	for n := 1; n < utf8.UTFMax && n <= len(text); n++ {
		if tail := text[len(text)-n:]; utf8.RuneStart(tail[0]) {
			if !utf8.FullRune(tail) {
				return n
			}
			break
		}
	}
	return 0
}

func cleanLines(text []byte) []byte {
	if plain(text) {
		return text
	}
	var out []byte
	for line := range bytes.Lines(text) {
		line, ended := bytes.CutSuffix(line, []byte("\n"))
		for i, part := range bytes.Split(line, []byte("\t")) {
			if i > 0 {
				out = append(out, '\t')
			}
			out = append(out, Text(string(part))...)
		}
		if ended {
			out = append(out, '\n')
		}
	}
	return out
}

// plain reports whether text has only ASCII characters that need no cleaning.
func plain(text []byte) bool {
	for _, c := range text {
		if c < 0x20 && c != '\n' && c != '\t' || c >= 0x7f {
			return false
		}
	}
	return true
}

// JSON writes JSON (RFC 8259) with escapes for characters that a terminal would
// obey. JSON allows these in strings only, so the value stays the same. Each Write
// must be given whole characters.
type JSON struct{ To io.Writer }

// Write takes the next bytes of the JSON. Errors are those of the writer behind.
func (j JSON) Write(p []byte) (int, error) {
	if _, err := j.To.Write(EscapeJSON(p)); err != nil {
		return 0, err
	}
	return len(p), nil
}

// EscapeJSON returns a JSON text with escapes for the characters that a terminal
// would obey. It returns text itself if there are none.
func EscapeJSON(text []byte) []byte {
	if plain(text) {
		return text
	}
	var out []byte
	at := 0
	for i := 0; i < len(text); {
		r, n := utf8.DecodeRune(text[i:])
		if r == 0x7f || r >= 0x80 && Harmful(r) {
			out = append(out, text[at:i]...)
			for _, unit := range utf16.AppendRune(nil, r) {
				out = fmt.Appendf(out, `\u%04x`, unit)
			}
			at = i + n
		}
		i += n
	}
	if out == nil {
		return text
	}
	return append(out, text[at:]...)
}
