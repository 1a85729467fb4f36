package output

import (
	"bytes"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/printable"
)

// Text is a line that is ready to be shown.
type Text struct {
	Plain string // without any control sequence
	Cells []Cell
	Cut   bool // the line is longer than what is looked at
}

// Cell is a character with the style it is drawn in. Width is in columns, 1 or 2.
type Cell struct {
	Text  string
	Style Style
	Width int
}

// maxColumns bounds how wide a line may become by moving the cursor.
const maxColumns = 8 << 10

// drawing is a line under the hands of a program: text, carriage returns,
// backspaces, tabs, and the control sequences that stay on the line.
type drawing struct {
	cells  []Cell // by column; the second column of a wide one is empty
	column int
	style  Style
}

func (d *drawing) write(b []byte) {
	for len(b) > 0 {
		switch c := b[0]; {
		case c == 0x1b:
			b = b[d.escape(b):]
			continue
		case c == '\r':
			d.column = 0
		case c == '\b':
			d.column = max(0, d.column-1)
		case c == '\t':
			d.column = min(maxColumns, (d.column/8+1)*8)
		case c < 0x20 || c == 0x7f:
			if c != 0 && c != 0x07 && c != 0x0f && c != 0x0e {
				d.put(printable.Text(string(c)), 1)
			}
		case c < utf8.RuneSelf && (len(b) == 1 || b[1] < utf8.RuneSelf):
			d.put(string(c), 1)
		default:
			cluster, width := ansi.FirstGraphemeCluster(b, ansi.GraphemeWidth)
			text := string(cluster)
			if len(text) == 0 {
				return
			}
			n := len(text)
			switch r, first := utf8.DecodeRune(cluster); {
			case r == utf8.RuneError || printable.Harmful(r):
				text, width, n = "\ufffd", 1, first
			case bytes.ContainsFunc(cluster, printable.Harmful) || !utf8.Valid(cluster): // behind the first one
				text, n = text[:first], first
				width = ansi.StringWidth(text)
			}
			if width > 0 {
				d.put(text, min(width, 2))
			} else if k := d.column - 1; k >= 0 && k < len(d.cells) && len(d.cells[k].Text) < 32 && d.cells[k].Text != "" {
				d.cells[k].Text += text
			}
			b = b[n:]
			continue
		}
		b = b[1:]
	}
}

func (d *drawing) put(text string, width int) {
	if d.column+width > maxColumns {
		return
	}
	for len(d.cells) < d.column+width {
		d.cells = append(d.cells, Cell{Text: " ", Width: 1})
	}
	// Half of a wide character that is written over becomes a blank.
	if d.cells[d.column].Width == 0 && d.column > 0 {
		d.cells[d.column-1] = Cell{Text: " ", Width: 1}
	}
	if last := d.column + width; last < len(d.cells) && d.cells[last].Width == 0 {
		d.cells[last] = Cell{Text: " ", Width: 1}
	}
	d.cells[d.column] = Cell{text, d.style, width}
	if width == 2 {
		d.cells[d.column+1] = Cell{}
	}
	d.column += width
}

// escape executes or drops the sequence at the start of b, and returns its length.
func (d *drawing) escape(b []byte) int {
	length, final, raw := printable.Escape(b)
	if len(b) < 2 || b[1] != '[' {
		return length
	}
	params := string(raw)
	n := 1
	if v, err := strconv.Atoi(params); err == nil && v > 0 {
		n = min(v, maxColumns)
	}
	switch final {
	case 'm':
		d.style.apply(params)
	case 'C':
		d.column = min(maxColumns, d.column+n)
	case 'D':
		d.column = max(0, d.column-n)
	case 'G':
		d.column = n - 1
	case 'K':
		switch params {
		case "", "0":
			d.cells = d.cells[:min(len(d.cells), d.column)]
		case "1":
			for k := 0; k < min(d.column+1, len(d.cells)); k++ {
				d.cells[k] = Cell{Text: " ", Width: 1}
			}
		case "2":
			d.cells = d.cells[:0]
		}
	case 'P':
		if d.column < len(d.cells) {
			d.cells = append(d.cells[:d.column], d.cells[min(len(d.cells), d.column+n):]...)
		}
	}
	return length
}

func (d *drawing) text() Text {
	t := Text{Cells: make([]Cell, 0, len(d.cells))}
	var plain bytes.Buffer
	for _, c := range d.cells {
		if c.Width == 0 {
			continue
		}
		plain.WriteString(c.Text)
		t.Cells = append(t.Cells, c)
	}
	t.Plain = strings.TrimRight(plain.String(), " ")
	for n := len(t.Cells); n > 0 && t.Cells[n-1].Text == " " && t.Cells[n-1].Style == (Style{}); n = len(t.Cells) {
		t.Cells = t.Cells[:n-1]
	}
	return t
}
