package lsp

import (
	"net/url"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"tidytally/core/task"
)

// encoding is the unit in which the client counts the characters of a line.
type encoding string

const (
	utf8Units  encoding = "utf-8"
	utf16Units encoding = "utf-16"
	utf32Units encoding = "utf-32"
)

// units returns how many units a rune of size bytes takes.
func (e encoding) units(r rune, size int) int {
	switch {
	case e == utf8Units:
		return size
	case e == utf16Units && r >= 0x10000:
		return 2
	}
	return 1
}

// ofRune returns the position of a rune of a line, counted from 0.
func (e encoding) ofRune(line string, n int) (units int) {
	for i, r := range line {
		if n == 0 {
			break
		}
		n--
		size := utf8.RuneLen(r)
		if r == utf8.RuneError {
			_, size = utf8.DecodeRuneInString(line[i:])
		}
		units += e.units(r, size)
	}
	return units
}

// byteAt returns the byte of a line at a position; its length for one beyond its end. A position within
// a character is that of the character.
func (e encoding) byteAt(line string, units int) int {
	for i := 0; i < len(line); {
		r, size := utf8.DecodeRuneInString(line[i:])
		u := e.units(r, size)
		if units < u {
			return i
		}
		units -= u
		i += size
	}
	return len(line)
}

// ofByte returns the position of a byte of a line; of a byte within a character, that of the character.
func (e encoding) ofByte(line string, at int) (units int) {
	for i := 0; i < len(line); {
		r, size := utf8.DecodeRuneInString(line[i:])
		if i += size; i > at {
			break
		}
		units += e.units(r, size)
	}
	return units
}

// document is a text that is open in the client.
type document struct {
	uri     string
	path    string // absolute
	version *int
	text    string
	starts  []int                // of the lines
	anchors map[anchorKey]anchor // of the problems that are shown in it

	// Of a tally file.
	parsing bool // it is being read
	again   bool // and has changed since
	edited  bool // it is not as it was saved
	faults  []task.Fault
}

func (d *document) set(text string) {
	d.text = text
	d.starts = append(d.starts[:0], 0)
	for i := 0; i < len(text); i++ {
		if text[i] == '\n' || text[i] == '\r' && (i+1 == len(text) || text[i+1] != '\n') {
			d.starts = append(d.starts, i+1)
		}
	}
}

// line returns a line without its end; "" beyond the last one.
func (d *document) line(n int) string {
	if n < 0 || n >= len(d.starts) {
		return ""
	}
	end := len(d.text)
	if n+1 < len(d.starts) {
		end = d.starts[n+1]
	}
	return strings.TrimRight(d.text[d.starts[n]:end], "\r\n")
}

// lines returns all lines.
func (d *document) lines() []string {
	out := make([]string, len(d.starts))
	for i := range out {
		out[i] = d.line(i)
	}
	return out
}

// offset returns the byte at a position; one beyond the end is the end.
func (d *document) offset(p position, e encoding) int {
	switch {
	case p.Line < 0:
		return 0
	case p.Line >= len(d.starts):
		return len(d.text)
	}
	return d.starts[p.Line] + e.byteAt(d.line(p.Line), p.Character)
}

// position returns the position of a byte.
func (d *document) position(at int, e encoding) position {
	n := 0
	for lo, hi := 0, len(d.starts); lo < hi; {
		if mid := (lo + hi) / 2; d.starts[mid] <= at {
			n, lo = mid, mid+1
		} else {
			hi = mid
		}
	}
	return position{n, e.ofByte(d.line(n), at-d.starts[n])}
}

// change replaces a range of the text, or all of it.
func (d *document) change(r *span, text string, e encoding) {
	if r == nil {
		d.set(text)
		d.anchors = nil
		return
	}
	from, to := d.offset(r.Start, e), d.offset(r.End, e)
	if to < from {
		from, to = to, from
	}
	start, old := d.position(from, e), d.position(to, e)
	d.set(d.text[:from] + text + d.text[to:])
	end := d.position(from+len(text), e)
	for k, a := range d.anchors {
		moved, gone, lost := a.at.replaced(start, old, end)
		if lost {
			delete(d.anchors, k)
			continue
		}
		d.anchors[k] = anchor{moved, a.gone || gone}
	}
}

// pathOf returns the absolute path that a file URI means; "" for another one.
func pathOf(uri string) string {
	u, err := url.Parse(uri)
	if err != nil || u.Scheme != "file" || u.Host != "" && u.Host != "localhost" || !filepath.IsAbs(u.Path) || strings.ContainsRune(u.Path, 0) {
		return ""
	}
	return filepath.Clean(u.Path)
}

// uriOf returns the file URI of an absolute path (RFC 8089).
func uriOf(path string) string {
	u := url.URL{Scheme: "file", Path: filepath.ToSlash(path)}
	return u.String()
}
