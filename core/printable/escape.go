package printable

// Escape returns the length in bytes of the escape sequence (ECMA-48) at the start
// of b, which begins with ESC. For a CSI sequence and a two-byte sequence it also
// returns the final byte.
func Escape(b []byte) (n int, final byte, params []byte) {
	if len(b) < 2 {
		return 1, 0, nil
	}
	switch c := b[1]; {
	case c == '[':
		for i := 2; i < len(b); i++ {
			if b[i] >= 0x40 && b[i] <= 0x7e {
				return i + 1, b[i], b[2:i]
			}
			if b[i] < 0x20 || b[i] > 0x7e {
				return i, 0, nil
			}
		}
		return len(b), 0, nil
	case c == ']' || c == 'P' || c == '^' || c == '_' || c == 'X':
		for i := 2; i < len(b); i++ {
			if b[i] == 0x07 {
				return i + 1, 0, nil
			}
			if b[i] == 0x1b && i+1 < len(b) { // the end of the string, or a sequence of its own
				if b[i+1] == '\\' {
					return i + 2, 0, nil
				}
				return i, 0, nil
			}
		}
		return len(b), 0, nil
	case c >= 0x20 && c <= 0x2f:
		for i := 2; i < len(b); i++ {
			if b[i] >= 0x30 && b[i] <= 0x7e {
				return i + 1, 0, nil
			}
			if b[i] < 0x20 || b[i] > 0x2f {
				return i, 0, nil
			}
		}
		return len(b), 0, nil
	case c >= 0x30 && c <= 0x7e:
		return 2, c, nil
	}
	return 1, 0, nil
}
