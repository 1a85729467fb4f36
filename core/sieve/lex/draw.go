package lex

import (
	"bytes"
	"slices"
	"unicode/utf8"

	"github.com/clipperhouse/displaywidth"

	"tidytally/core/printable"
)

// Drawing draws one line of output as a terminal would show it in the end: without what
// it overwrites and erases (ECMA-48; xterm's control sequences). The zero Drawing is
// ready to use.
// Only the rows that the line itself draws are known, never a whole screen. Rows below
// the one where the line ends are left out: the next lines are drawn over them.
type Drawing struct {
	// Rows are the rows that were drawn, from above, without blank ones. Their text
	// lasts until the next line is drawn.
	Rows []Row

	text  []byte // of all cells, in the order in which they were written
	out   []byte
	rows  []drawnRow // the first n are in use
	n     int
	row   *drawnRow // of the cursor
	at    int       // the number of that row, from the one where the line begins
	col   int
	saved int
	homed bool // the cursor is at the top left, and nothing was written since
	work  int  // columns that were erased and moved

	down    int // rows from the last of Rows to the first that is not in it
	cleared bool
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

type drawnRow struct {
	at    int
	cells []cell
	// end is behind the last cell written since the cursor went back to the start of
	// the row. The text behind it is the rest of a longer text.
	end int
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
	// maxDrawnRows is the number of rows that one line draws. Those before are taken as
	// they are.
	maxDrawnRows = 64
)

// Moves reports whether a line must be drawn: whether it has more than text, styles,
// and the erasing of what is right of the cursor.
func Moves(raw []byte) bool {
	if bytes.IndexByte(raw, '\b') >= 0 || bytes.IndexByte(raw, '\r') >= 0 {
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

// Draw draws a line, given without its line end.
func (d *Drawing) Draw(raw []byte) {
	d.Rows, d.text, d.out = d.Rows[:0], d.text[:0], d.out[:0]
	d.col, d.saved, d.homed, d.work, d.down, d.cleared = 0, 0, false, 0, 0, false
	d.restart()
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
			d.col, d.row.end = 0, 0
		case c == '\t':
			d.write(raw[i:i+1], max(1, 8-d.col%8))
		case c < 0x20 || c == 0x7f:
		case c < utf8.RuneSelf:
			d.write(raw[i:i+1], 1)
		default:
			r, n := utf8.DecodeRune(raw[i:])
			width := 1
			if r != utf8.RuneError {
				width = displaywidth.Rune(r)
			}
			d.write(raw[i:i+n], width)
			i += n
			continue
		}
		i++
	}
	at := d.at
	d.finish(at)
	d.down += at
}

// restart begins with one empty row, that of the cursor.
func (d *Drawing) restart() {
	d.n, d.at = 0, 0
	d.goTo(0)
}

// goTo puts the cursor into a row.
func (d *Drawing) goTo(at int) {
	d.at = at
	for i := range d.rows[:d.n] {
		if d.rows[i].at == at {
			d.row = &d.rows[i]
			return
		}
	}
	if d.n == maxDrawnRows {
		d.finish(at)
		d.down += at
		d.n, d.at, at = 0, 0, 0
	}
	if d.n == len(d.rows) {
		d.rows = append(d.rows, drawnRow{})
	}
	d.row = &d.rows[d.n]
	d.row.at, d.row.cells, d.row.end = at, d.row.cells[:0], 0
	d.n++
}

// write puts a character of so many columns at the cursor.
func (d *Drawing) write(text []byte, width int) {
	d.homed = false
	r := d.row
	if width == 0 { // belongs to the character before
		if n := d.col - 1; n >= 0 && n < len(r.cells) {
			for n > 0 && r.cells[n].from == r.cells[n].to {
				n--
			}
			if r.cells[n].to == len(d.text) {
				d.text = append(d.text, text...)
				r.cells[n].to = len(d.text)
			}
		}
		return
	}
	if d.col+width > maxColumns {
		return
	}
	r.reach(d.col + width)
	from := len(d.text)
	d.text = append(d.text, text...)
	r.cells[d.col] = cell{from, len(d.text)}
	for k := 1; k < width; k++ {
		r.cells[d.col+k] = cell{}
	}
	d.col += width
	r.end = max(r.end, d.col)
}

// reach makes the row n columns wide.
func (r *drawnRow) reach(n int) {
	for len(r.cells) < n {
		r.cells = append(r.cells, blank)
	}
}

// blank is a column that nothing was written to, or that was erased.
var blank = cell{-1, -1}

// control follows a control sequence.
func (d *Drawing) control(final byte, params, whole []byte) {
	n, given := Number(params)
	count := max(1, n)
	r := d.row
	switch final {
	case 'C', 'a':
		d.move(d.col + count)
	case 'D':
		d.move(d.col - count)
	case 'G', '`':
		d.move(count - 1)
	case 'A':
		d.goTo(d.at - count)
	case 'F':
		d.goTo(d.at - count)
		d.col = 0
	case 'B', 'e':
		d.goTo(d.at + count)
	case 'E':
		d.goTo(d.at + count)
		d.col = 0
	case 'M':
		if len(whole) == 1 { // reverse index; with "[" it deletes lines
			d.goTo(d.at - 1)
		}
	case 'H', 'f':
		_, column, _ := bytes.Cut(params, []byte(";"))
		k, _ := Number(column)
		d.elsewhere()
		d.move(k - 1)
		d.homed = n <= 1 && k <= 1
	case 'd':
		d.elsewhere()
	case 'K':
		switch {
		case n == 0 || given == 0:
			d.erase(d.col, len(r.cells))
		case n == 1:
			d.erase(0, d.col+1)
		default:
			d.erase(0, len(r.cells))
		}
	case 'X':
		d.erase(d.col, d.col+count)
	case 'P':
		if d.col < len(r.cells) && d.works(len(r.cells)) {
			r.cells = append(r.cells[:d.col], r.cells[min(len(r.cells), d.col+count):]...)
			r.end = min(r.end, len(r.cells))
		}
	case '@':
		count = min(count, maxMove)
		if d.col < len(r.cells) && len(r.cells)+count <= maxColumns && d.works(len(r.cells)) {
			rest := append([]cell(nil), r.cells[d.col:]...)
			r.cells = r.cells[:d.col]
			r.reach(d.col + count)
			r.cells = append(r.cells, rest...)
			r.end += count
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
			d.erase(d.col, len(r.cells))
			for i := range d.rows[:d.n] {
				if d.rows[i].at > d.at {
					d.rows[i].cells = d.rows[i].cells[:0]
				}
			}
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

// elsewhere takes the rows as they are, because the cursor goes to a row of which nobody
// knows where it is.
func (d *Drawing) elsewhere() {
	d.finish(d.at)
	d.restart()
}

// clear notes that the screen was cleared.
func (d *Drawing) clear() {
	d.restart()
	d.cleared = true
}

// erase blanks columns.
func (d *Drawing) erase(from, to int) {
	r := d.row
	if to >= r.end {
		r.end = min(r.end, from)
	}
	if to = min(to, len(r.cells)); from >= to || !d.works(to-from) {
		return
	}
	for i := from; i < to; i++ {
		r.cells[i] = blank
	}
	if to == len(r.cells) {
		r.cells = r.cells[:from]
	}
}

// finish takes the rows down to one of them, if anything is on them. down becomes the
// number of rows from the last one taken to the one where the rows began.
func (d *Drawing) finish(last int) {
	slices.SortFunc(d.rows[:d.n], func(a, b drawnRow) int { return a.at - b.at })
	for i := range d.rows[:d.n] {
		r := &d.rows[i]
		if r.at > last {
			break
		}
		from := len(d.out)
		d.out = r.appendTo(d.out, d.text)
		if text := d.out[from:]; len(bytes.TrimSpace(text)) > 0 {
			d.Rows = append(d.Rows, Row{Text: text, Down: d.down + r.at, Cleared: d.cleared})
			d.down, d.cleared = -r.at, false
		}
	}
}

// appendTo appends what is seen of the row.
func (r *drawnRow) appendTo(out, text []byte) []byte {
	cells := r.cells
	if r.end > 0 {
		cells = cells[:min(r.end, len(cells))]
	}
	for len(cells) > 0 && cells[len(cells)-1] == blank {
		cells = cells[:len(cells)-1]
	}
	for _, c := range cells {
		if c == blank {
			out = append(out, ' ')
		} else {
			out = append(out, text[c.from:c.to]...)
		}
	}
	return out
}

// Left is what follows the last row: where the cursor is, and whether the screen was
// cleared behind it.
func (d *Drawing) Left() Row { return Row{Down: d.down, Cleared: d.cleared} }
