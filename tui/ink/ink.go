// Package ink writes rows of a page: text in a few inks, in columns, cut to fit.
// Whatever is written is cleaned of control characters on the way, so that
// callers need not know which texts come from a workspace or a process.
package ink

import (
	"fmt"
	"os"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/printable"
)

// Ink is a colour or a style of writing. The terminal's own foreground and
// background are the base; nothing is ever painted over.
type Ink uint16

// The inks. Styles combine with a colour by |.
const (
	Plain     Ink = 0
	Madder    Ink = 1 // errors and failure
	Ochre     Ink = 2 // warnings and stale
	Verdigris Ink = 3 // good and struck
	Slate     Ink = 4 // what is secondary
	colours   Ink = 0xf

	Bold    Ink = 1 << 4
	Under   Ink = 1 << 5
	Strike  Ink = 1 << 6
	Reverse Ink = 1 << 7
)

// A Well turns inks into what the terminal understands.
type Well struct {
	// Dark says that the paper is dark.
	Dark bool
	// NoColour leaves colours out: NO_COLOR is set, or the terminal has none.
	NoColour bool
	// CanStrike says that the terminal can strike text through.
	CanStrike bool
}

// NewWell returns a well for the terminal that the environment names, on dark
// paper until the terminal says otherwise.
func NewWell() Well {
	term := os.Getenv("TERM")
	plain := os.Getenv("NO_COLOR") != "" || term == "dumb"
	return Well{Dark: true, NoColour: plain, CanStrike: !plain && term != "linux"}
}

var palette = map[Ink][2]string{ // on light paper, on dark paper
	Madder:    {"166;61;47", "224;122;102"},
	Ochre:     {"143;100;16", "217;164;65"},
	Verdigris: {"47;107;94", "125;187;168"},
	Slate:     {"91;100;112", "154;165;177"},
}

// Write returns text in an ink.
func (w *Well) Write(text string, ink Ink) string { return w.style(printable.Text(text), ink) }

// style is Write for text that is clean.
func (w *Well) style(text string, ink Ink) string {
	if text == "" {
		return ""
	}
	var on []string
	if ink&Bold != 0 {
		on = append(on, "1")
	}
	if ink&Under != 0 {
		on = append(on, "4")
	}
	if ink&Reverse != 0 {
		on = append(on, "7")
	}
	if ink&Strike != 0 && w.CanStrike {
		on = append(on, "9")
	}
	if c := ink & colours; c != Plain && !w.NoColour && ink&Reverse == 0 {
		i := 0
		if w.Dark {
			i = 1
		}
		on = append(on, "38;2;"+palette[c][i])
	}
	if len(on) == 0 {
		return text
	}
	return "\x1b[" + strings.Join(on, ";") + "m" + text + "\x1b[m"
}

// A Row is a line of the page that is being written from left to right. Columns
// are cells of the terminal, counted from 0.
type Row struct {
	w  *Well
	b  strings.Builder
	at int
	// Limit is the column that the row must not reach.
	Limit int
}

// Row begins a row.
func (w *Well) Row(limit int) *Row { return &Row{w: w, Limit: limit} }

// At returns the column of the next cell.
func (r *Row) At() int { return r.at }

// Put writes text, as far as the row reaches.
func (r *Row) Put(text string, ink Ink) *Row {
	if r.at >= r.Limit || text == "" {
		return r
	}
	text = printable.Text(text)
	n := ansi.StringWidth(text)
	if r.at+n > r.Limit {
		text = ansi.Truncate(text, r.Limit-r.at, "…")
		n = ansi.StringWidth(text)
	}
	r.b.WriteString(r.w.style(text, ink))
	r.at += n
	return r
}

// Styled writes text that has styles already and is clean; width is its number
// of cells. It is the only way past the cleaning.
func (r *Row) Styled(text string, width int) *Row {
	r.b.WriteString(text)
	r.at += width
	return r
}

// To pads the row to a column; past it, it adds one blank.
func (r *Row) To(column int) *Row {
	if r.at >= column && r.at > 0 && column > 0 {
		column = r.at + 1
	}
	if n := min(column, r.Limit) - r.at; n > 0 {
		r.b.WriteString(strings.Repeat(" ", n))
		r.at += n
	}
	return r
}

// Fit writes text into a field of so many columns, cut where it is longer.
func (r *Row) Fit(text string, columns int, ink Ink) *Row {
	columns = min(columns, r.Limit-r.at)
	if columns <= 0 {
		return r
	}
	text = ansi.Truncate(printable.Text(text), columns, "…")
	pad := strings.Repeat(" ", columns-ansi.StringWidth(text))
	if ink&Reverse != 0 {
		text, pad = text+pad, ""
	}
	r.b.WriteString(r.w.style(text, ink) + pad)
	r.at += columns
	return r
}

// Right writes text so that it ends at a column.
func (r *Row) Right(text string, end int, ink Ink) *Row {
	return r.To(end-ansi.StringWidth(printable.Text(text))).Put(text, ink)
}

// Strokes writes a count as tally strokes that end at a column, as Well.Strokes
// draws them in the cells from the current one.
func (r *Row) Strokes(n, end int, ink Ink) *Row {
	text, width := r.w.Strokes(n, end-r.at, ink)
	return r.To(end-width).Styled(text, width)
}

// String returns the row with its styles.
func (r *Row) String() string { return r.b.String() }

// maxStrokes is the count above which the number stands alone: nobody counts
// more than three groups at a glance.
const maxStrokes = 15

// Strokes draws a count as tally strokes, five as four bars struck through. Above
// maxStrokes, if there is no room, or if nothing can be struck through, the number
// stands alone.
func (w *Well) Strokes(n, columns int, ink Ink) (text string, width int) {
	if n == 0 {
		return "", 0
	}
	fives, ones := n/5, n%5
	width = fives*5 - 1
	if ones > 0 {
		width = fives*5 + ones
	}
	if n > maxStrokes || width > columns || !w.CanStrike {
		t := fmt.Sprint(n)
		return w.style(t, ink), len(t)
	}
	var parts []string
	for range fives {
		parts = append(parts, w.style("||||", ink|Strike))
	}
	if ones > 0 {
		parts = append(parts, w.style(strings.Repeat("|", ones), ink))
	}
	return strings.Join(parts, " "), width
}

// ShortPath cuts a path in its middle, never in the file's name.
func ShortPath(path string, columns int) string {
	if ansi.StringWidth(path) <= columns {
		return path
	}
	i := strings.LastIndexByte(path, '/')
	if i < 0 {
		return path
	}
	name := path[i:]
	room := columns - ansi.StringWidth(name) - 1
	if room < 1 {
		return "…" + name
	}
	return ansi.Truncate(path[:i], room, "") + "…" + name
}
