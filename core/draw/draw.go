// Package draw makes drawings of plans and runs as SVG and PDF: in the inks of the ledger, on
// light or dark paper, with text that is text.
package draw

import (
	"fmt"
	"image/color"
	"io"
	"path/filepath"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgpdf"
	"gonum.org/v1/plot/vg/vgsvg"

	"tidytally/core/plan"
	"tidytally/core/printable"
)

// Paper is what is drawn on.
type Paper struct {
	// Format is svg or pdf.
	Format string
	Dark   bool
}

// FormatOf returns the format that a file's name asks for.
func FormatOf(name string) (string, error) {
	switch ext := strings.ToLower(strings.TrimPrefix(filepath.Ext(name), ".")); ext {
	case "svg", "pdf":
		return ext, nil
	}
	return "", fmt.Errorf("%s: the name must end in .svg or .pdf", name)
}

type inks struct{ paper, ink, slate, madder, ochre, verdigris color.Color }

func (p Paper) inks() inks {
	rgb := func(n uint32) color.Color { return color.RGBA{uint8(n >> 16), uint8(n >> 8), uint8(n), 255} }
	if p.Dark {
		return inks{rgb(0x16181c), rgb(0xd8d4cb), rgb(0x9aa5b1), rgb(0xe07a66), rgb(0xd9a441), rgb(0x7dbba8)}
	}
	return inks{rgb(0xfbf7ee), rgb(0x2b2b2b), rgb(0x5b6470), rgb(0xa63d2f), rgb(0x8f6410), rgb(0x2f6b5e)}
}

// page is a drawing that is being made. Lengths are in points; y grows upward.
type page struct {
	inks
	draw.Canvas
	write func(io.Writer) error
	w, h  vg.Length
	bold  bool // the format has bold letters; gonum's PDF does not find those of this typeface
}

func newPage(p Paper, w, h vg.Length) *page {
	out := &page{inks: p.inks(), w: w, h: h, bold: p.Format != "pdf"}
	if p.Format == "pdf" {
		c := vgpdf.New(w, h)
		c.EmbedFonts(true)
		out.Canvas = draw.New(c)
		out.write = func(to io.Writer) error {
			_, err := c.WriteTo(to)
			return err
		}
	} else {
		c := vgsvg.New(w, h)
		out.Canvas = draw.New(c)
		out.write = func(to io.Writer) error {
			_, err := c.WriteTo(to)
			return err
		}
	}
	out.box(0, 0, w, h, out.paper)
	return out
}

func (p *page) box(x, y, w, h vg.Length, c color.Color) {
	p.FillPolygon(c, []vg.Point{{X: x, Y: y}, {X: x + w, Y: y}, {X: x + w, Y: y + h}, {X: x, Y: y + h}})
}

func (p *page) line(c color.Color, width vg.Length, dashes []vg.Length, points ...vg.Point) {
	p.StrokeLines(draw.LineStyle{Color: c, Width: width, Dashes: dashes}, points)
}

// style is that of text of a size.
func style(c color.Color, size vg.Length, bold bool) text.Style {
	f := font.Font{Typeface: "Liberation", Variant: "Sans", Size: size}
	if bold {
		f.Weight = 3 // WeightBold of golang.org/x/image/font
	}
	return text.Style{Color: c, Font: font.From(f, size), Handler: plot.DefaultTextHandler, YAlign: draw.YCenter}
}

// put writes text that begins at a place; right makes it end there.
func (p *page) put(x, y vg.Length, words string, c color.Color, size vg.Length, bold, right bool) {
	s := style(c, size, bold && p.bold)
	if right {
		s.XAlign = draw.XRight
	}
	p.FillText(s, vg.Point{X: x, Y: y}, printable.Text(words))
}

// Bar is a step of a run on its timeline.
type Bar struct {
	Name       string
	Start, End time.Time
	State      string // ok, failed, stopped …
}

func (k inks) of(state string) color.Color {
	switch state {
	case "ok", "fresh", "up":
		return k.verdigris
	case "failed", "timedOut":
		return k.madder
	case "stopped", "interrupted":
		return k.ochre
	}
	return k.slate
}

const (
	margin   = 18
	titleAt  = 26
	rowTall  = 20
	textSize = 10
)

// Timeline draws when each step of a run began and ended.
func Timeline(to io.Writer, on Paper, title string, bars []Bar) error {
	const names, across = 190, 460
	p := newPage(on, margin*2+names+across+70, vg.Length(margin*2+titleAt+rowTall*len(bars)+16))
	top := p.h - margin
	p.put(margin, top-6, title, p.ink, 12, true, false)
	if len(bars) == 0 {
		return p.write(to)
	}
	first, last := bars[0].Start, bars[0].End
	for _, b := range bars {
		if b.Start.Before(first) {
			first = b.Start
		}
		if b.End.After(last) {
			last = b.End
		}
	}
	whole := max(last.Sub(first), time.Millisecond)
	at := func(t time.Time) vg.Length {
		return margin + names + vg.Length(across*float64(t.Sub(first))/float64(whole))
	}
	bottom := top - titleAt - vg.Length(rowTall*len(bars))
	for i := range 5 { // hairlines of time
		x := margin + names + vg.Length(across*i/4)
		p.line(p.slate, 0.3, []vg.Length{1, 2}, vg.Point{X: x, Y: top - titleAt + 6}, vg.Point{X: x, Y: bottom + 4})
		p.put(x-8, bottom-6, printable.Duration(whole*time.Duration(i)/4), p.slate, 8, false, false)
	}
	for i, b := range bars {
		y := top - titleAt - vg.Length(rowTall*i) - rowTall/2
		p.put(margin, y, short(b.Name, 34), p.ink, textSize, false, false)
		p.box(at(b.Start), y-5, max(1, at(b.End)-at(b.Start)), 10, p.of(b.State))
		words := printable.Duration(b.End.Sub(b.Start))
		if b.State != "ok" {
			words = b.State + ", " + words
		}
		p.put(at(b.End)+4, y, words, p.slate, 9, false, false)
	}
	return p.write(to)
}

// short cuts a text to so many letters.
func short(s string, letters int) string {
	r := []rune(printable.Text(s))
	if len(r) <= letters {
		return string(r)
	}
	return string(r[:letters-1]) + "…"
}

// PlanStep says how a step of a plan is drawn.
type PlanStep struct {
	Name  string
	About string // how it stands, or how long it takes
	State string
}

// Plan draws the steps of a plan in layers: each stands to the right of all that it waits for.
func Plan(to io.Writer, on Paper, title string, p *plan.Plan, steps []PlanStep) error {
	const wide, tall, gapX, gapY = 150, 34, 46, 16
	layer := make([]int, len(p.Steps))
	row := make([]int, len(p.Steps))
	var count []int
	for i := range p.Steps {
		s := &p.Steps[i]
		for _, k := range s.After {
			layer[i] = max(layer[i], layer[k]+1)
		}
		if s.Role == plan.After {
			layer[i] = max(layer[i], layer[p.Main]+1)
		}
		for len(count) <= layer[i] {
			count = append(count, 0)
		}
		row[i] = count[layer[i]]
		count[layer[i]]++
	}
	rows := 1
	for _, n := range count {
		rows = max(rows, n)
	}
	c := newPage(on, vg.Length(margin*2+len(count)*(wide+gapX)-gapX), vg.Length(margin*2+titleAt+rows*(tall+gapY)))
	top := c.h - margin
	c.put(margin, top-6, title, c.ink, 12, true, false)
	at := func(i int) (x, y vg.Length) {
		return margin + vg.Length(layer[i]*(wide+gapX)), top - titleAt - vg.Length(row[i]*(tall+gapY)) - tall/2
	}
	for i := range p.Steps {
		x, y := at(i)
		lead := func(k int, dashes []vg.Length) {
			fromX, fromY := at(k)
			fromX += wide
			if layer[k] >= layer[i] { // beside it
				fromX -= wide / 2
				c.line(c.slate, 0.8, dashes, vg.Point{X: fromX, Y: fromY}, vg.Point{X: x + wide/2, Y: y})
				return
			}
			middle := x - gapX/2
			c.line(c.slate, 0.8, dashes, vg.Point{X: fromX, Y: fromY}, vg.Point{X: middle, Y: fromY}, vg.Point{X: middle, Y: y}, vg.Point{X: x, Y: y})
		}
		for _, k := range p.Steps[i].After {
			lead(k, nil)
		}
		for _, k := range p.Steps[i].With {
			lead(k, []vg.Length{2, 2})
		}
	}
	for i, s := range steps {
		x, y := at(i)
		c.box(x, y-tall/2, wide, tall, c.paper)
		c.line(c.of(s.State), 2, nil, vg.Point{X: x, Y: y - tall/2}, vg.Point{X: x, Y: y + tall/2})
		c.line(c.slate, 0.4, nil, vg.Point{X: x, Y: y - tall/2}, vg.Point{X: x + wide, Y: y - tall/2})
		c.put(x+8, y+6, short(s.Name, 24), c.ink, textSize, i == p.Main, false)
		c.put(x+8, y-8, short(s.About, 28), c.slate, 8.5, false, false)
	}
	return c.write(to)
}

// Point is a run of a task on its trend.
type Point struct {
	Start    time.Time
	Seconds  float64
	Problems int
	Good     bool
}

// Trend draws how long the runs of a task took, and how many problems they had, the oldest first.
func Trend(to io.Writer, on Paper, title string, points []Point) error {
	c := newPage(on, 640, 360)
	c.put(margin, c.h-margin-6, title, c.ink, 12, true, false)
	chart := func(area draw.Canvas, label string, value func(Point) float64, ink color.Color) error {
		p := plot.New()
		p.BackgroundColor = c.paper
		p.Y.Label.Text, p.Y.Min = label, 0
		p.X.Tick.Marker = plot.TimeTicks{Format: "2 Jan\n15:04", Ticker: fewTicks{}}
		for _, a := range []*plot.Axis{&p.X, &p.Y} {
			a.Color, a.LineStyle.Color, a.Tick.Color, a.Tick.Label.Color, a.Label.TextStyle.Color = c.slate, c.slate, c.slate, c.slate, c.ink
			a.LineStyle.Width, a.Tick.LineStyle.Width = 0.4, 0.4
			a.Label.TextStyle.Font.Variant, a.Tick.Label.Font.Variant = "Sans", "Sans"
			a.Label.TextStyle.Font.Size, a.Tick.Label.Font.Size = textSize, 8
		}
		var all, good, bad plotter.XYs
		for _, q := range points {
			xy := plotter.XY{X: float64(q.Start.Unix()), Y: value(q)}
			all = append(all, xy)
			if q.Good {
				good = append(good, xy)
			} else {
				bad = append(bad, xy)
			}
		}
		line, err := plotter.NewLine(all)
		if err != nil {
			return err
		}
		line.Color, line.Width = c.slate, 0.6
		p.Add(line)
		for _, of := range []struct {
			xys plotter.XYs
			ink color.Color
			how draw.GlyphDrawer
		}{{good, ink, draw.CircleGlyph{}}, {bad, c.madder, draw.CrossGlyph{}}} {
			if len(of.xys) == 0 {
				continue
			}
			dots, err := plotter.NewScatter(of.xys)
			if err != nil {
				return err
			}
			dots.GlyphStyle = draw.GlyphStyle{Color: of.ink, Radius: 2, Shape: of.how}
			p.Add(dots)
		}
		p.Draw(area)
		return nil
	}
	if len(points) > 0 {
		upper := draw.Crop(c.Canvas, margin, -margin, 140, -titleAt-margin)
		if err := chart(upper, "seconds", func(q Point) float64 { return q.Seconds }, c.verdigris); err != nil {
			return err
		}
		lower := draw.Crop(c.Canvas, margin, -margin, margin, -(c.h - 130))
		if err := chart(lower, "problems", func(q Point) float64 { return float64(q.Problems) }, c.ochre); err != nil {
			return err
		}
	}
	return c.write(to)
}

// fewTicks marks five times between the first and the last.
type fewTicks struct{}

// Ticks implements plot.Ticker.
func (fewTicks) Ticks(from, to float64) []plot.Tick {
	var ticks []plot.Tick
	for i := range 5 {
		ticks = append(ticks, plot.Tick{Value: from + (to-from)*float64(i)/4, Label: "x"})
	}
	return ticks
}
