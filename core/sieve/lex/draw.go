package lex

import (
	"bytes"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"

	"tidytally/core/printable"
)

// Drawing draws one line of output as a terminal would show it, with what it
// overwrites and erases (ECMA-48; xterm's control sequences). Where the cursor goes to
// another row, or back to the start of the line, the text so far is a row of its own:
// a whole screen is never drawn. The zero Drawing is ready to use.
type Drawing struct {
	// Rows are the rows that were drawn, without blank ones. Their text lasts until
	// the next line is drawn.
	Rows []Row

	text  []byte // of all cells, in the order in which they were written
	cells []cell
	col   int // of the cursor
	end   int // behind the last cell written since the row began
	saved int
	out   []byte
	row   Row
	homed bool // the cursor is at the top left, and nothing was written since
	work  int  // columns that were erased and moved
}

// Row is one row of a drawing.
type Row struct {
	Text []byte
	// Down is the number of rows from the one before, or from the row where the line
	// began; up is negative.
	Down int
	// Cleared says that the screen was cleared before the row was drawn.
	Cleared bool
}

// cell is a column of a row: a part of Drawing.text. The second column of a wide
// character is empty.
type cell struct{ from, to int }

const (
	// maxColumns is the length in columns of the longest row. What is behind it is
	// dropped.
	maxColumns = 64 << 10
	// maxMove is the column up to which the cursor moves without text: more than any
	// terminal has.
	maxMove = 1024
	// maxWork is the number of columns that a line erases and moves. A line of nothing
	// but erasing would take quadratic time.
	maxWork = 1 << 20
)

// Moves reports whether a line must be drawn: whether it has more than text, styles,
// and the erasing of what is right of the cursor.
func Moves(raw []byte) bool {
	if bytes.IndexByte(raw, '\b') >= 0 {
		return true
	}
	for i := bytes.IndexByte(raw, 0x1b); i >= 0; {
		n, final, params := printable.Escape(raw[i:])
		switch final {
		case 'A', 'B', 'C', 'D', 'E', 'F', 'G', 'H', 'f', 'd', 'P', '@', 'X', 's', 'u', '`', 'a', 'e', 'M':
			return true
		case '7', '8':
			return true
		case 'K':
			if len(params) > 0 && params[0] != '0' {
				return true
			}
		}
		next := bytes.IndexByte(raw[i+n:], 0x1b)
		if next < 0 {
			return false
		}
		i += n + next
	}
	return false
}

// Draw draws a line, given without its line feed.
func (d *Drawing) Draw(raw []byte) {
	d.Rows, d.text, d.out = d.Rows[:0], d.text[:0], d.out[:0]
	d.cells, d.col, d.end, d.saved, d.row, d.homed, d.work = d.cells[:0], 0, 0, 0, Row{}, false, 0
	for i := 0; i < len(raw); {
		c := raw[i]
		switch {
		case c == 0x1b:
			n, final, params := printable.Escape(raw[i:])
			d.control(final, params, raw[i+1:i+n])
			i += n
			continue
		case c == '\b':
			d.col = max(0, d.col-1)
		case c == '\r':
			d.finish(0)
			d.col = 0
		case c == '\t':
			d.write(raw[i:i+1], max(1, 8-d.col%8))
		case c < 0x20 || c == 0x7f:
		case c < utf8.RuneSelf:
			d.write(raw[i:i+1], 1)
		default:
			r, n := utf8.DecodeRune(raw[i:])
			width := 1
			if r != utf8.RuneError {
				width = runewidth.RuneWidth(r)
			}
			d.write(raw[i:i+n], width)
			i += n
			continue
		}
		i++
	}
	d.finish(0)
}

// write puts a character of so many columns at the cursor.
func (d *Drawing) write(text []byte, width int) {
	d.homed = false
	if width == 0 { // belongs to the character before
		if n := d.col - 1; n >= 0 && n < len(d.cells) {
			for n > 0 && d.cells[n].from == d.cells[n].to {
				n--
			}
			if d.cells[n].to == len(d.text) {
				d.text = append(d.text, text...)
				d.cells[n].to = len(d.text)
			}
		}
		return
	}
	if d.col+width > maxColumns {
		return
	}
	d.reach(d.col + width)
	from := len(d.text)
	d.text = append(d.text, text...)
	d.cells[d.col] = cell{from, len(d.text)}
	for k := 1; k < width; k++ {
		d.cells[d.col+k] = cell{}
	}
	d.col += width
	d.end = max(d.end, d.col)
}

// reach makes the row n columns wide.
func (d *Drawing) reach(n int) {
	for len(d.cells) < n {
		d.cells = append(d.cells, blank)
	}
}

// blank is a column that nothing was written to, or that was erased.
var blank = cell{-1, -1}

// control follows a control sequence.
func (d *Drawing) control(final byte, params, whole []byte) {
	n, given := Number(params)
	count := max(1, n)
	switch final {
	case 'C', 'a':
		d.move(d.col + count)
	case 'D':
		d.move(d.col - count)
	case 'G', '`':
		d.move(count - 1)
	case 'A':
		d.finish(-count)
	case 'F':
		d.finish(-count)
		d.col = 0
	case 'B', 'e':
		d.finish(count)
	case 'E':
		d.finish(count)
		d.col = 0
	case 'M':
		if len(whole) == 1 { // reverse index; with "[" it deletes lines
			d.finish(-1)
		}
	case 'H', 'f':
		_, column, _ := bytes.Cut(params, []byte(";"))
		k, _ := Number(column)
		d.finish(0)
		d.move(k - 1)
		d.homed = n <= 1 && k <= 1
	case 'd':
		d.finish(0)
	case 'K':
		switch {
		case n == 0 || given == 0:
			d.erase(d.col, len(d.cells))
		case n == 1:
			d.erase(0, d.col+1)
		default:
			d.erase(0, len(d.cells))
		}
	case 'X':
		d.erase(d.col, d.col+count)
	case 'P':
		if d.col < len(d.cells) && d.works(len(d.cells)) {
			d.cells = append(d.cells[:d.col], d.cells[min(len(d.cells), d.col+count):]...)
			d.end = min(d.end, len(d.cells))
		}
	case '@':
		count = min(count, maxMove)
		if d.col < len(d.cells) && len(d.cells)+count <= maxColumns && d.works(len(d.cells)) {
			rest := append([]cell(nil), d.cells[d.col:]...)
			d.cells = d.cells[:d.col]
			d.reach(d.col + count)
			d.cells = append(d.cells, rest...)
			d.end += count
		}
	case 's', '7':
		d.saved = d.col
	case 'u', '8':
		d.col = d.saved
	case 'J':
		switch {
		case n >= 2, d.homed:
			d.clear()
		case n == 1:
			d.erase(0, d.col+1)
		default:
			d.erase(d.col, len(d.cells))
		}
	case 'c':
		if len(whole) == 1 {
			d.clear()
		}
	}
}

// move puts the cursor into a column.
func (d *Drawing) move(col int) {
	d.col = min(max(0, col), max(d.col, maxMove-1))
}

// works reports whether the line may still erase or move n columns.
func (d *Drawing) works(n int) bool {
	d.work += n
	return d.work <= maxWork
}

// clear notes that the screen was cleared.
func (d *Drawing) clear() {
	d.finish(0)
	d.row.Cleared = true
}

// erase blanks columns.
func (d *Drawing) erase(from, to int) {
	if to = min(to, len(d.cells)); from >= to || !d.works(to-from) {
		return
	}
	for i := from; i < to; i++ {
		d.cells[i] = blank
	}
	if to >= d.end {
		d.end = min(d.end, from)
	}
}

// finish ends the row, if anything is on it, and begins another one so many rows
// further down, at the same column.
func (d *Drawing) finish(down int) {
	last := min(d.end, len(d.cells))
	for last > 0 && d.cells[last-1] == blank {
		last--
	}
	from := len(d.out)
	for _, c := range d.cells[:last] {
		if c == blank {
			d.out = append(d.out, ' ')
		} else {
			d.out = append(d.out, d.text[c.from:c.to]...)
		}
	}
	if text := d.out[from:]; len(bytes.TrimSpace(text)) > 0 {
		d.row.Text = text
		d.Rows = append(d.Rows, d.row)
		d.row = Row{}
	}
	d.cells, d.end = d.cells[:0], 0
	d.row.Down += down
}

// Left is what follows the last row: where the cursor is, and whether the screen was
// cleared behind it.
func (d *Drawing) Left() Row { return d.row }
