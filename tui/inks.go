package tui

import (
	"fmt"
	"os"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/problem"
	"tidytally/core/run"
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

// inkwell turns inks into what the terminal understands.
type inkwell struct {
	dark  bool
	plain bool // no colours: NO_COLOR, or a terminal without
	// strike tells whether text can be struck through.
	strike bool
}

func newInkwell() inkwell {
	term := os.Getenv("TERM")
	plain := os.Getenv("NO_COLOR") != "" || term == "dumb"
	return inkwell{dark: true, plain: plain, strike: !plain && term != "linux"}
}

var palette = map[Ink][2]string{ // on light paper, on dark paper
	Madder:    {"166;61;47", "224;122;102"},
	Ochre:     {"143;100;16", "217;164;65"},
	Verdigris: {"47;107;94", "125;187;168"},
	Slate:     {"91;100;112", "154;165;177"},
}

// write gives text in an ink.
func (w *inkwell) write(text string, ink Ink) string {
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
	if ink&Strike != 0 && w.strike {
		on = append(on, "9")
	}
	if c := ink & colours; c != Plain && !w.plain && ink&Reverse == 0 {
		i := 0
		if w.dark {
			i = 1
		}
		on = append(on, "38;2;"+palette[c][i])
	}
	if len(on) == 0 {
		return text
	}
	return "\x1b[" + strings.Join(on, ";") + "m" + text + "\x1b[m"
}

func severityInk(s problem.Severity) Ink {
	switch s {
	case problem.Error:
		return Madder
	case problem.Warning:
		return Ochre
	}
	return Slate
}

func stateInk(s run.State) Ink {
	switch s {
	case run.OK, run.Up:
		return Verdigris
	case run.Failed:
		return Madder
	case run.Stopped, run.Skipped:
		return Ochre
	}
	return Plain
}

// A row is a line of the page that is being written from left to right.
type row struct {
	w     *inkwell
	b     strings.Builder
	at    int // columns written
	limit int
}

func (w *inkwell) row(limit int) *row { return &row{w: w, limit: limit} }

// put writes text, as far as the row reaches.
func (r *row) put(text string, ink Ink) *row {
	if r.at >= r.limit || text == "" {
		return r
	}
	n := ansi.StringWidth(text)
	if r.at+n > r.limit {
		text = ansi.Truncate(text, r.limit-r.at, "…")
		n = ansi.StringWidth(text)
	}
	r.b.WriteString(r.w.write(text, ink))
	r.at += n
	return r
}

// to goes to a column; what is there already stays, with one blank behind it.
func (r *row) to(column int) *row {
	if r.at >= column && r.at > 0 && column > 0 {
		column = r.at + 1
	}
	if n := min(column, r.limit) - r.at; n > 0 {
		r.b.WriteString(strings.Repeat(" ", n))
		r.at += n
	}
	return r
}

// fit writes text into a field of so many columns, cut where it is longer.
func (r *row) fit(text string, columns int, ink Ink) *row {
	columns = min(columns, r.limit-r.at)
	if columns <= 0 {
		return r
	}
	text = ansi.Truncate(text, columns, "…")
	pad := strings.Repeat(" ", columns-ansi.StringWidth(text))
	if ink&Reverse != 0 {
		text, pad = text+pad, ""
	}
	r.b.WriteString(r.w.write(text, ink) + pad)
	r.at += columns
	return r
}

// right writes text so that it ends at a column.
func (r *row) right(text string, end int, ink Ink) *row {
	return r.to(end-ansi.StringWidth(text)).put(text, ink)
}

func (r *row) String() string { return r.b.String() }

// strokes draws a count as tally strokes, five as four bars struck through.
// Above fifteen, where there is no room, or where nothing can be struck
// through, the number stands alone.
func (w *inkwell) strokes(n, columns int, ink Ink) (text string, width int) {
	if n == 0 {
		return "", 0
	}
	fives, ones := n/5, n%5
	width = fives*5 - 1
	if ones > 0 {
		width = fives*5 + ones
	}
	if n > 15 || width > columns || !w.strike {
		t := fmt.Sprint(n)
		return w.write(t, ink), len(t)
	}
	var parts []string
	for range fives {
		parts = append(parts, w.write("||||", ink|Strike))
	}
	if ones > 0 {
		parts = append(parts, w.write(strings.Repeat("|", ones), ink))
	}
	return strings.Join(parts, " "), width
}

// shortPath cuts a path in its middle, never in the file's name.
func shortPath(path string, columns int) string {
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
