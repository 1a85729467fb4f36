package printable

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"
)

// Stream passes output on to a terminal without the control sequences and the
// harmful characters in it, but for colour and style (SGR) and the movements within
// a line: carriage return, backspace and tab. A byte that is no UTF-8, which some
// terminals take for a control character, becomes U+FFFD. Sequences and characters
// may be cut anywhere between writes.
type Stream struct {
	To    io.Writer
	state byte // 0 in text, else the byte that tells what is being read
	held  []byte
	char  []byte // the beginning of a character whose rest has not come yet
	out   []byte
}

// maxHeld is the number of bytes of a sequence that are kept: no sequence for
// colours is longer.
const maxHeld = 128

// Write takes the next bytes. Errors are those of the writer behind.
func (s *Stream) Write(p []byte) (int, error) {
	s.out = s.out[:0]
	for _, c := range p {
		switch s.state {
		case 0:
			if c >= utf8.RuneSelf || len(s.char) > 0 {
				if s.character(c) {
					continue
				}
			}
			switch {
			case c == 0x1b:
				s.state, s.held = 0x1b, append(s.held[:0], c)
			case c >= 0x20 && c < 0x7f || c == '\n' || c == '\r' || c == '\t' || c == '\b':
				s.out = append(s.out, c)
			}
		case 0x1b:
			switch {
			case c == '[':
				s.state, s.held = '[', append(s.held, c)
			case c == ']' || c == 'P' || c == '^' || c == '_' || c == 'X':
				s.state = ']'
			case c >= 0x20 && c <= 0x2f:
				// an intermediate byte: the final one is still to come
			default:
				s.state = 0
			}
		case '[':
			if len(s.held) < maxHeld {
				s.held = append(s.held, c)
			}
			if c >= 0x40 && c <= 0x7e {
				s.state = 0
				if c == 'm' && len(s.held) < maxHeld && plainParams(s.held[2:len(s.held)-1]) {
					s.out = append(s.out, s.held...)
				}
			}
		case ']':
			switch c {
			case 0x07:
				s.state = 0
			case 0x1b:
				s.state = '\\'
			}
		case '\\':
			s.state = 0
		}
	}
	if _, err := s.To.Write(s.out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// character takes a byte of a character beyond ASCII. It returns false if the byte
// stands for itself.
func (s *Stream) character(c byte) bool {
	if c < utf8.RuneSelf || utf8.RuneStart(c) && len(s.char) > 0 {
		s.out = append(s.out, strings.Repeat("\ufffd", min(1, len(s.char)))...)
		s.char = s.char[:0]
		if c < utf8.RuneSelf {
			return false
		}
	}
	s.char = append(s.char, c)
	if !utf8.FullRune(s.char) {
		return true
	}
	if r, n := utf8.DecodeRune(s.char); r == utf8.RuneError && n == 1 {
		s.out = append(s.out, "\ufffd"...)
	} else if !Harmful(r) {
		s.out = append(s.out, s.char...)
	}
	s.char = s.char[:0]
	return true
}

func plainParams(p []byte) bool {
	for _, c := range p {
		if (c < '0' || c > '9') && c != ';' && c != ':' {
			return false
		}
	}
	return true
}

// Duration words a duration: "0.8 s", "12 s", "1 min 12 s", "2 h 5 min".
func Duration(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

// Moment writes a time as seen from now: 10:02 of the same day, else 2 Mar 10:02, with the year of another.
func Moment(t, now time.Time) string {
	switch {
	case t.Format(time.DateOnly) == now.Format(time.DateOnly):
		return t.Format("15:04")
	case t.Year() == now.Year():
		return t.Format("2 Jan 15:04")
	}
	return t.Format("2 Jan 2006 15:04")
}
