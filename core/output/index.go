package output

import (
	"bytes"
	"encoding/binary"
	"io"
	"slices"
	"sort"
	"strconv"
)

// Index finds the lines of an output. It takes the bytes in order, once, and
// keeps one to three bytes a line; the text stays in the spool. A program that
// moves the cursor up to draw over earlier lines is followed: those lines get
// further parts. Index is not safe for concurrent use.
type Index struct {
	source io.ReaderAt
	blocks []block // the lines that can no longer be moved to
	opened opened  // the block that was read last
	start  []int64 // where the first part of each line behind the blocks begins
	end    []int64 // and ends, without the line feed
	parts  map[int][]part
	styles []styleChange
	row    int
	offset int64

	style   Style
	state   scanState
	params  []byte
	inParts bool // the current row is written to a further part
}

// part is a range of bytes that belongs to a line.
type part struct{ start, end int64 }

// styleChange is a line that begins in another style than the one before it.
type styleChange struct {
	line  int
	style Style
}

// blockLines is the number of lines of a block.
const blockLines = 256

// block holds where its lines begin and end. Each line is the variable-length number
// length<<1, when it begins one byte behind the end of the line before it, or length<<1|1
// and then the number of bytes between them.
type block struct {
	start int64 // of its first line
	lines []byte
}

// opened is a block that was read.
type opened struct {
	number int // counts from 1; 0 is none
	parts  [blockLines]part
}

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
	return &Index{source: source, start: []int64{0}, end: []int64{0}, parts: map[int][]part{}}
}

// sealed is the number of lines in blocks.
func (x *Index) sealed() int { return len(x.blocks) * blockLines }

// seal makes a block of the oldest lines if no program can move up to them.
func (x *Index) seal() {
	if len(x.start) < maxUp+2*blockLines {
		return
	}
	lines := make([]byte, 0, 4*blockLines)
	previous := x.start[0] - 1
	for i, start := range x.start[:blockLines] {
		length := uint64(x.end[i]-start) << 1
		if start == previous+1 {
			lines = binary.AppendUvarint(lines, length)
		} else {
			lines = binary.AppendUvarint(lines, length|1)
			lines = binary.AppendUvarint(lines, uint64(start-previous))
		}
		previous = x.end[i]
	}
	if n := len(x.blocks); n > 0 && bytes.Equal(lines, x.blocks[n-1].lines) {
		lines = x.blocks[n-1].lines // the same line over and over
	} else {
		lines = bytes.Clone(lines)
	}
	x.blocks = append(x.blocks, block{x.start[0], lines})
	x.start, x.end = slices.Delete(x.start, 0, blockLines), slices.Delete(x.end, 0, blockLines)
}

// first returns the first part of a line.
func (x *Index) first(line int) part {
	if n := line - x.sealed(); n >= 0 {
		return part{x.start[n], x.end[n]}
	}
	x.openBlock(line / blockLines)
	return x.opened.parts[line%blockLines]
}

func (x *Index) openBlock(n int) {
	if x.opened.number == n+1 {
		return
	}
	x.opened.number = n + 1
	b := x.blocks[n]
	end, rest := b.start-1, b.lines
	for i := range x.opened.parts {
		length, size := binary.Uvarint(rest)
		rest = rest[size:]
		gap := uint64(1)
		if length&1 != 0 {
			gap, size = binary.Uvarint(rest)
			rest = rest[size:]
		}
		start := end + int64(gap)
		end = start + int64(length>>1)
		x.opened.parts[i] = part{start, end}
	}
}

// styleAt is the style that is on where a line begins.
func (x *Index) styleAt(line int) Style {
	i := sort.Search(len(x.styles), func(i int) bool { return x.styles[i].line > line })
	if i == 0 {
		return Style{}
	}
	return x.styles[i-1].style
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
	x.end[x.row-x.sealed()] = x.offset
}

// down moves to the next line, which may exist already.
func (x *Index) down() {
	x.row++
	x.open(x.offset)
}

// open begins to write to the current row, at a byte of the output.
func (x *Index) open(at int64) {
	if x.row >= x.Lines() {
		x.row = x.Lines()
		x.start, x.end = append(x.start, at), append(x.end, at)
		x.inParts = false
		begins := Style{}
		if n := len(x.styles); n > 0 {
			begins = x.styles[n-1].style
		}
		if x.style != begins {
			x.styles = append(x.styles, styleChange{x.row, x.style})
		}
		x.seal()
		return
	}
	x.inParts = true
	ps := x.parts[x.row]
	if len(ps) >= 2*maxParts {
		ps = slices.Delete(ps, 0, len(ps)-maxParts)
	}
	x.parts[x.row] = append(ps, part{at, at})
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
		} else if len(x.params) <= maxSGR {
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
		x.style.apply(string(x.params))
	case 'A', 'F': // up
		x.move(max(0, x.row-n, x.Lines()-maxUp))
	case 'B', 'E': // down
		x.move(min(x.Lines()-1, x.row+n))
	case 'J':
		if s := string(x.params); s == "2" || s == "3" {
			// The screen was cleared: earlier lines stay above.
			if p := x.first(x.row); x.row != x.Lines()-1 || p.end > p.start || x.offset-int64(len("\x1b[")+len(s)) > p.start {
				x.close()
				x.row = x.Lines()
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
func (x *Index) Lines() int { return x.sealed() + len(x.start) }

// Printed is the number of lines without the empty one behind the last line feed: what a person
// counts.
func (x *Index) Printed() int {
	n := x.Lines()
	if n > 0 && x.Line(n-1).Plain == "" {
		n--
	}
	return n
}

// LineAt finds the line that holds a byte of the output.
func (x *Index) LineAt(offset int64) int {
	if offset < x.start[0] {
		n := sort.Search(len(x.blocks), func(i int) bool { return x.blocks[i].start > offset }) - 1
		if n < 0 {
			return 0
		}
		x.openBlock(n)
		return n*blockLines + sort.Search(blockLines, func(i int) bool { return x.opened.parts[i].start > offset }) - 1
	}
	return x.sealed() + sort.Search(len(x.start), func(i int) bool { return x.start[i] > offset }) - 1
}

// StartOf returns the offset of a line in the output, in bytes.
func (x *Index) StartOf(line int) int64 { return x.first(line).start }

// Bounds of what is looked at for showing a line.
const (
	maxShown = 16 << 10 // bytes of each part
	maxParts = 32       // of a progress display, only the newest drawings matter
)

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
	read(x.first(line))
	ps := x.parts[line]
	for _, p := range ps[max(0, len(ps)-maxParts):] {
		read(p)
	}
	return chunks, cut
}

// Line returns a line as a terminal would show it.
func (x *Index) Line(line int) Text {
	chunks, cut := x.raw(line)
	var d drawing
	d.style = x.styleAt(line)
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
	f := x.finder(text, forward)
	for k := 0; k < n; k++ {
		i := from + k
		if !forward {
			i = from - k
		}
		if i = ((i % n) + n) % n; f.hit(i) {
			return i
		}
	}
	return -1
}

// maxCounted is the number of lines that Count looks at: more take longer than a key may.
const maxCounted = 300_000

// Count returns how many lines have a text, and how many of them stand before or at a line.
// more says that there are lines that it did not look at.
func (x *Index) Count(text string, at int) (all, before int, more bool) {
	n := x.Lines()
	if text == "" {
		return 0, 0, false
	}
	f := x.finder(text, true)
	for i := range min(n, maxCounted) {
		if f.hit(i) {
			all++
			if i <= at {
				before++
			}
		}
	}
	return all, before, n > maxCounted
}

// finder looks for a text in lines, which it reads many at a time.
type finder struct {
	x       *Index
	want    []byte
	fold    bool
	forward bool
	buf     []byte
	base    int64 // where buf begins, -1 while it is empty
}

func (x *Index) finder(text string, forward bool) *finder {
	want := []byte(text)
	return &finder{x: x, want: want, fold: bytes.Equal(want, bytes.ToLower(want)), forward: forward, buf: make([]byte, 0, 256<<10), base: -1}
}

// hit reports whether a line has the text.
func (f *finder) hit(i int) bool {
	p := f.x.first(i)
	lo, hi := p.start, min(p.end, p.start+maxShown)
	if f.base < 0 || lo < f.base || hi > f.base+int64(len(f.buf)) {
		f.base = lo
		if !f.forward {
			f.base = max(0, hi-int64(cap(f.buf)))
		}
		f.buf = f.buf[:cap(f.buf)]
		got, _ := f.x.source.ReadAt(f.buf, f.base)
		f.buf = f.buf[:got]
	}
	if lo < f.base || hi > f.base+int64(len(f.buf)) || hi <= lo {
		return false
	}
	hay := f.buf[lo-f.base : hi-f.base]
	if bytes.IndexByte(hay, 0x1b) >= 0 || len(f.x.parts[i]) > 0 {
		hay = []byte(f.x.Line(i).Plain)
	}
	if f.fold {
		hay = bytes.ToLower(hay)
	}
	return bytes.Contains(hay, f.want)
}
