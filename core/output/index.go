package output

import (
	"bytes"
	"io"
	"sort"
	"strconv"
)

// Index finds the lines of an output. It takes the bytes in order, once, and
// keeps 16 bytes a line; the text stays in the spool. A program that moves the
// cursor up to draw over earlier lines is followed: those lines get further
// parts. Index is not safe for concurrent use.
type Index struct {
	source io.ReaderAt
	start  []int64 // where each line's first part begins
	end    []int64 // and ends, without the line feed
	parts  map[int][]part
	styles map[int]string // the style that is on where a line begins
	row    int
	offset int64

	style   string
	state   scanState
	params  []byte
	inParts bool // the current row is written to a further part
}

// part is a range of bytes that belongs to a line.
type part struct{ start, end int64 }

type scanState int

const (
	inText scanState = iota
	inEscape
	inControl // CSI
	inString  // OSC and the like
	inStringEscape
	inCharset
)

// maxUp bounds how far back a program may draw.
const maxUp = 1000

// NewIndex makes the index of an empty output.
func NewIndex(source io.ReaderAt) *Index {
	return &Index{source: source, start: []int64{0}, end: []int64{0}, parts: map[int][]part{}, styles: map[int]string{}}
}

// Write takes the next bytes of the output. It never fails.
func (x *Index) Write(p []byte) (int, error) {
	for i := 0; i < len(p); {
		if x.state == inText {
			j := bytes.IndexAny(p[i:], "\n\x1b")
			if j < 0 {
				x.offset += int64(len(p) - i)
				break
			}
			x.offset += int64(j)
			i += j
			if p[i] == '\n' {
				x.close()
				x.offset++
				x.down()
			} else {
				x.offset++
				x.state = inEscape
			}
			i++
			continue
		}
		if p[i] == '\n' {
			// No sequence goes over a line: its end may be lost, and the lines behind
			// would be lost with it.
			x.state = inText
			continue
		}
		x.escape(p[i])
		x.offset++
		i++
	}
	x.close()
	return len(p), nil
}

// close ends the current part at the current offset.
func (x *Index) close() {
	if x.inParts {
		ps := x.parts[x.row]
		ps[len(ps)-1].end = x.offset
		return
	}
	x.end[x.row] = x.offset
}

// down moves to the next line, which may exist already.
func (x *Index) down() {
	x.row++
	x.open(x.offset)
}

// open begins to write to the current row, at a byte of the output.
func (x *Index) open(at int64) {
	if x.row >= len(x.start) {
		x.row = len(x.start)
		x.start, x.end = append(x.start, at), append(x.end, at)
		x.inParts = false
		if x.style != "" {
			x.styles[x.row] = x.style
		}
		return
	}
	x.inParts = true
	x.parts[x.row] = append(x.parts[x.row], part{at, at})
}

func (x *Index) escape(c byte) {
	switch x.state {
	case inEscape:
		switch {
		case c == '[':
			x.state, x.params = inControl, x.params[:0]
		case c == ']' || c == 'P' || c == '^' || c == '_' || c == 'X':
			x.state = inString
		case c >= 0x20 && c <= 0x2f:
			x.state = inCharset
		case c != 0x1b:
			x.state = inText
		}
	case inCharset:
		if c == 0x1b {
			x.state = inEscape
		} else if c < 0x20 || c > 0x2f {
			x.state = inText
		}
	case inControl:
		if c == 0x1b {
			x.state = inEscape
		} else if c >= 0x40 && c <= 0x7e {
			x.state = inText
			x.control(c)
		} else if len(x.params) < 64 {
			x.params = append(x.params, c)
		}
	case inString:
		switch c {
		case 0x07:
			x.state = inText
		case 0x1b:
			x.state = inStringEscape
		}
	case inStringEscape: // "\" ends the string; anything else begins a sequence of its own
		x.state = inEscape
		if c == '\\' {
			x.state = inText
		} else {
			x.escape(c)
		}
	}
}

// control applies a control sequence to the row and the style.
func (x *Index) control(final byte) {
	n := 1
	if v, err := strconv.Atoi(string(x.params)); err == nil && v > 0 {
		n = min(v, maxUp)
	}
	switch final {
	case 'm':
		x.style = addStyle(x.style, string(x.params))
	case 'A', 'F': // up
		x.move(max(0, x.row-n, len(x.start)-maxUp))
	case 'B', 'E': // down
		x.move(min(len(x.start)-1, x.row+n))
	case 'J':
		if s := string(x.params); s == "2" || s == "3" {
			// The screen was cleared: earlier lines stay above.
			if x.row != len(x.start)-1 || x.end[x.row] > x.start[x.row] || x.offset-int64(len("\x1b[")+len(s)) > x.start[x.row] {
				x.close()
				x.row = len(x.start)
				x.open(x.offset + 1)
			}
		}
	}
}

func (x *Index) move(row int) {
	if row == x.row {
		return
	}
	x.close()
	x.row = row
	x.open(x.offset + 1)
}

// Lines is the number of lines; the last one is empty when the output ends in
// a line feed.
func (x *Index) Lines() int { return len(x.start) }

// LineAt finds the line that holds a byte of the output.
func (x *Index) LineAt(offset int64) int {
	i := sort.Search(len(x.start), func(i int) bool { return x.start[i] > offset })
	return max(0, i-1)
}

// StartOf returns the offset of a line in the output, in bytes.
func (x *Index) StartOf(line int) int64 { return x.start[line] }

// maxShown is how many bytes of one line are looked at for showing it.
const maxShown = 16 << 10

// raw reads the bytes of the parts of a line.
func (x *Index) raw(line int) (chunks [][]byte, cut bool) {
	read := func(p part) {
		n := p.end - p.start
		if n > maxShown {
			n, cut = maxShown, true
		}
		if n <= 0 {
			return
		}
		buf := make([]byte, n)
		got, _ := x.source.ReadAt(buf, p.start) // a short read is a disk that was full
		chunks = append(chunks, buf[:got])
	}
	read(part{x.start[line], x.end[line]})
	ps := x.parts[line]
	if len(ps) > 32 { // a progress display: only the newest drawings matter
		ps = ps[len(ps)-32:]
	}
	for _, p := range ps {
		read(p)
	}
	return chunks, cut
}

// Line returns a line as a terminal would show it.
func (x *Index) Line(line int) Text {
	chunks, cut := x.raw(line)
	var d drawing
	d.style = x.styles[line]
	for i, c := range chunks {
		if i > 0 {
			d.column = 0
		}
		d.write(c)
	}
	t := d.text()
	t.Cut = cut
	return t
}

// Find searches for a text from a line on, forward or backward, and wraps around.
// Small letters match capital ones too. It returns -1 if there is no hit.
func (x *Index) Find(text string, from int, forward bool) int {
	n := x.Lines()
	if text == "" || n == 0 {
		return -1
	}
	fold := bytes.Equal([]byte(text), bytes.ToLower([]byte(text)))
	want := []byte(text)
	buf := make([]byte, 0, 256<<10)
	var base int64 = -1
	for k := 0; k < n; k++ {
		i := from + k
		if !forward {
			i = from - k
		}
		i = ((i % n) + n) % n
		lo, hi := x.start[i], min(x.end[i], x.start[i]+maxShown)
		if base < 0 || lo < base || hi > base+int64(len(buf)) {
			base = lo
			if !forward {
				base = max(0, hi-int64(cap(buf)))
			}
			buf = buf[:cap(buf)]
			got, _ := x.source.ReadAt(buf, base)
			buf = buf[:got]
		}
		if lo < base || hi > base+int64(len(buf)) || hi <= lo {
			continue
		}
		hay := buf[lo-base : hi-base]
		if bytes.IndexByte(hay, 0x1b) >= 0 || len(x.parts[i]) > 0 {
			hay = []byte(x.Line(i).Plain)
		}
		if fold {
			hay = bytes.ToLower(hay)
		}
		if bytes.Contains(hay, want) {
			return i
		}
	}
	return -1
}
