// Package lex reads the small parts that lines of output are made of: numbers,
// places in the forms that tools print them in, file names.
package lex

import (
	"bytes"
	"strings"

	"tidytally/core/printable"
	"tidytally/core/problem"
)

func Indent(t []byte) int {
	for i, c := range t {
		if c != ' ' && c != '\t' {
			return i
		}
	}
	return len(t)
}

// WithoutReturn cuts the carriage return of a line end off.
func WithoutReturn(b []byte) []byte {
	if n := len(b); n > 0 && b[n-1] == '\r' {
		return b[:n-1]
	}
	return b
}

func HasPrefix(b []byte, prefix string) bool {
	return len(b) >= len(prefix) && string(b[:len(prefix)]) == prefix
}

func CutPrefix(b []byte, prefix string) ([]byte, bool) {
	if HasPrefix(b, prefix) {
		return b[len(prefix):], true
	}
	return b, false
}

func IsDigit(c byte) bool { return c >= '0' && c <= '9' }

func IsLetter(c byte) bool { return c|0x20 >= 'a' && c|0x20 <= 'z' }

// StripEscapes appends src to dst without terminal control sequences (ECMA-48 CSI
// and string sequences, charset choices) and without control bytes other than tab
// and carriage return. It reports whether the screen was cleared.
func StripEscapes(dst, src []byte) (out []byte, cleared bool) {
	for i := 0; i < len(src); {
		c := src[i]
		if c != 0x1b {
			if c >= 0x20 && c != 0x7f || c == '\t' || c == '\r' {
				dst = append(dst, c)
			}
			i++
			continue
		}
		n, final, params := printable.Escape(src[i:])
		if final == 'J' && (string(params) == "2" || string(params) == "3") || final == 'c' && n == 2 {
			cleared = true
		}
		i += n
	}
	return dst, cleared
}

// Number reads decimal digits at the start of b. It returns the value and the number
// of digits; more than nine digits are no line or column.
func Number(b []byte) (value, length int) {
	for length < len(b) && IsDigit(b[length]) {
		length++
	}
	if length > 9 {
		return 0, 0
	}
	return decimal(b[:length]), length
}

// numberBefore reads decimal digits at the end of b.
func numberBefore(b []byte) (value, start int) {
	start = len(b)
	for start > 0 && IsDigit(b[start-1]) {
		start--
	}
	if len(b)-start > 9 {
		return 0, len(b)
	}
	return decimal(b[start:]), start
}

func decimal(digits []byte) (value int) {
	for _, c := range digits {
		value = 10*value + int(c-'0')
	}
	return value
}

// PlaceAtEnd reads a place at the end of b, in the forms of the GNU Coding Standards
// (file:line, file:line:column, file:line.column, ranges of them), with brackets
// (file(line), file(line,column)) or with a plus (file +line:column). The text
// before it is the file.
func PlaceAtEnd(b []byte) (p problem.Place, ok bool) {
	p, n, ok := SplitPlace(b)
	p.File = string(b[:n])
	return p, ok
}

// SplitPlace is PlaceAtEnd, but returns the length of the file name instead of the
// name.
func SplitPlace(b []byte) (p problem.Place, n int, ok bool) {
	for len(b) > 0 && b[len(b)-1] == ' ' {
		b = b[:len(b)-1]
	}
	if i := bytes.Index(b, []byte(":{")); i > 0 && b[len(b)-1] == '}' {
		b = b[:i] // ranges of the source (clang -fdiagnostics-print-source-range-info)
	}
	if n := len(b); n > 3 && b[n-1] == ')' {
		return placeInBrackets(b)
	}
	last, i := numberBefore(b)
	if i == len(b) || i < 2 {
		return p, 0, false
	}
	rest := b[:i-1]
	switch b[i-1] {
	case ':':
		if first, j := numberBefore(rest); j < len(rest) && j >= 2 && (rest[j-1] == ':' || rest[j-1] == '+') {
			p.Line, p.Column = first, last
			rest = rest[:j-1]
			// mypy --show-error-end prints line:column:line:column.
			if column, k := numberBefore(rest); k < len(rest) && k >= 2 && rest[k-1] == ':' {
				if line, m := numberBefore(rest[:k-1]); m < k-1 && m >= 2 && rest[m-1] == ':' {
					p = problem.Place{Line: line, Column: column, EndLine: first, EndColumn: last}
					rest = rest[:m-1]
				}
			}
		} else {
			p.Line = last
		}
	case '.':
		first, j := numberBefore(rest)
		if j == len(rest) || j < 2 {
			return p, 0, false
		}
		switch rest[j-1] {
		case ':':
			p.Line, p.Column, rest = first, last, rest[:j-1]
		case '-': // line.column-line.column
			p.EndLine, p.EndColumn = first, last
			if rest, ok = startOfRange(rest[:j-1], &p); !ok {
				return p, 0, false
			}
		default:
			return p, 0, false
		}
	case '-': // line.column-column, line:column-column, line-line
		if rest, ok = startOfRange(rest, &p); !ok {
			return p, 0, false
		}
		if p.Column > 0 {
			p.EndLine, p.EndColumn = p.Line, last
		} else {
			p.EndLine = last
		}
	default:
		return p, 0, false
	}
	if p.EndColumn > 0 {
		p.EndColumn++ // these forms name the last column itself
	}
	n = len(rest)
	for n > 0 && rest[n-1] == ' ' {
		n--
	}
	return p, n, PlausibleFile(rest[:n])
}

// startOfRange reads line, line.column or line:column at the end of b.
func startOfRange(b []byte, p *problem.Place) (rest []byte, ok bool) {
	second, i := numberBefore(b)
	if i == len(b) || i < 2 {
		return b, false
	}
	rest = b[:i-1]
	if b[i-1] == '.' || b[i-1] == ':' {
		if first, j := numberBefore(rest); j < len(rest) && j >= 2 && rest[j-1] == ':' {
			p.Line, p.Column = first, second
			return rest[:j-1], true
		}
	}
	if b[i-1] != ':' {
		return b, false
	}
	p.Line = second
	return rest, true
}

// placeInBrackets reads file(line) and file(line,column).
func placeInBrackets(b []byte) (p problem.Place, length int, ok bool) {
	open := bytes.LastIndexByte(b, '(')
	if open < 1 {
		return p, 0, false
	}
	in := b[open+1 : len(b)-1]
	var n int
	if p.Line, n = Number(in); n == 0 {
		return p, 0, false
	}
	if n < len(in) {
		if in[n] != ',' {
			return p, 0, false
		}
		column, m := Number(in[n+1:])
		if m == 0 {
			return p, 0, false
		}
		p.Column = column
		in = in[n+1:]
		if m < len(in) { // (line,column,line,column) of the .NET compilers
			if in[m] != ',' {
				return p, 0, false
			}
			endLine, k := Number(in[m+1:])
			if k == 0 || m+1+k >= len(in) || in[m+1+k] != ',' {
				return p, 0, false
			}
			endColumn, q := Number(in[m+2+k:])
			if q == 0 || m+2+k+q != len(in) {
				return p, 0, false
			}
			p.EndLine, p.EndColumn = endLine, endColumn
		}
	}
	return p, open, PlausibleFile(b[:open])
}

// PlausibleFile reports whether f may be a file name rather than a clock, a host or
// a sentence.
func PlausibleFile[T string | []byte](f T) bool {
	if len(f) == 0 || len(f) > 4096 || f[0] == ' ' || f[0] == '\t' {
		return false
	}
	if f[0] == '[' { // a name in brackets may stand before the file
		i := strings.Index(string(f[:min(len(f), 80)]), "] ")
		return i > 0 && PlausibleFile(f[i+2:])
	}
	var has byteKind
	for i := 0; i < len(f); i++ {
		has |= byteKinds[f[i]]
	}
	if has&colonByte != 0 {
		for i := 0; i+2 < len(f); i++ {
			if f[i] == ':' && f[i+1] == '/' && f[i+2] == '/' && string(f[:i]) != "file" {
				return false
			}
		}
	}
	return has&(letterByte|controlByte) == letterByte
}

type byteKind uint8

const (
	letterByte byteKind = 1 << iota // or one of a letter
	controlByte
	colonByte
	codeByte // may stand in the code of a problem
)

var byteKinds = func() (kinds [256]byteKind) {
	for i := range kinds {
		c := byte(i)
		if IsLetter(c) || c >= 0x80 || c == '_' {
			kinds[i] |= letterByte
		}
		if c < ' ' || c == 0x7f {
			kinds[i] |= controlByte
		}
		if c == ':' {
			kinds[i] |= colonByte
		}
		if IsLetter(c) || IsDigit(c) || strings.IndexByte("-_.,=+/@:*", c) >= 0 {
			kinds[i] |= codeByte
		}
	}
	return kinds
}()

// Plain returns a line of output as text, without control sequences.
func Plain(line []byte) string {
	out, _ := StripEscapes(nil, line)
	return strings.TrimRight(string(out), "\r")
}

// IsCodeByte reports whether c may stand in the code of a problem.
func IsCodeByte(c byte) bool { return byteKinds[c]&codeByte != 0 }

// IsSourceEnding reports whether an ending, in small letters and without the
// full stop, is that of a source file.
func IsSourceEnding(ending string) bool { return sourceEndings[ending] }

var sourceEndings = func() map[string]bool {
	m := map[string]bool{}
	for _, s := range strings.Fields(`c h i ii cc cp cxx cpp c++ hh hpp hxx h++ inc ipp tcc m mm s sx asm f for f90 f95 f03
		f08 go rs ts tsx js jsx mjs cjs java kt py pyi rb pl pm php lua hs ml mli swift zig nim d v sv vhd vhdl y yy l ll
		proto thrift g4 cu cl glsl vert frag hlsl tex md rst txt json yaml yml toml xml html css scss sass less sh bash
		cmake mk def map rc idl td cs fs vb scala groovy gradle erl ex exs clj el lisp scm r jl ada adb ads pas sql vala`) {
		m[s] = true
	}
	return m
}()
