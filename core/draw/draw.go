// Package draw makes drawings of plans and runs as SVG and PDF: in the inks of the ledger, on
// light or dark paper, with text that is text.
package draw

import (
	"fmt"
	"io"
	"math"
	"path/filepath"
	"strings"
	"time"

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

// An ink is a colour, as 0xRRGGBB.
type ink uint32

type inks struct{ paper, ink, slate, madder, ochre, verdigris ink }

func (p Paper) inks() inks {
	if p.Dark {
		return inks{0x16181c, 0xd8d4cb, 0x9aa5b1, 0xe07a66, 0xd9a441, 0x7dbba8}
	}
	return inks{0xfbf7ee, 0x2b2b2b, 0x5b6470, 0xa63d2f, 0x8f6410, 0x2f6b5e}
}

// point is a place on a page, in points from its upper left corner.
type point struct{ x, y float64 }

// surface is what a format draws with. Lengths are in points.
type surface interface {
	box(x, y, w, h float64, c ink)
	line(c ink, width float64, dashed bool, points []point)
	text(x, y float64, words string, c ink, size float64, bold bool, align align)
	writeTo(w io.Writer) error
}

// align says which part of a text is at its place.
type align int

const (
	left align = iota
	centre
	right
)

// page is a drawing that is being made.
type page struct {
	inks
	surface
	w, h float64
}

func newPage(p Paper, w, h float64) *page {
	out := &page{inks: p.inks(), w: w, h: h}
	if p.Format == "pdf" {
		out.surface = newPDF(w, h)
	} else {
		out.surface = newSVG(w, h)
	}
	out.box(0, 0, w, h, out.paper)
	return out
}

func (p *page) stroke(c ink, width float64, dashed bool, points ...point) {
	p.line(c, width, dashed, points)
}

func (p *page) put(x, y float64, words string, c ink, size float64, bold bool) {
	p.text(x, y, printable.Text(words), c, size, bold, left)
}

// Bar is a step of a run on its timeline.
type Bar struct {
	Name       string
	Start, End time.Time
	State      string // ok, failed, stopped …
}

func (k inks) of(state string) ink {
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
	margin   = 18.0
	titleAt  = 26.0
	rowTall  = 20.0
	textSize = 10.0
)

// title writes the title of a page.
func (p *page) title(words string) { p.put(margin, margin+10, words, p.ink, 12, true) }

// Timeline draws when each step of a run began and ended.
func Timeline(to io.Writer, on Paper, title string, bars []Bar) error {
	const names, across = 190.0, 460.0
	p := newPage(on, margin*2+names+across+70, margin*2+titleAt+rowTall*float64(len(bars))+16)
	p.title(title)
	if len(bars) == 0 {
		return p.writeTo(to)
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
	at := func(t time.Time) float64 { return margin + names + across*float64(t.Sub(first))/float64(whole) }
	top := margin + titleAt
	bottom := top + rowTall*float64(len(bars))
	for i := range 5 { // hairlines of time
		x := margin + names + across*float64(i)/4
		p.stroke(p.slate, 0.3, true, point{x, top - 4}, point{x, bottom})
		p.text(x, bottom+10, printable.Duration(whole*time.Duration(i)/4), p.slate, 8, false, centre)
	}
	for i, b := range bars {
		y := top + rowTall*float64(i) + rowTall/2
		p.put(margin, y+3.5, short(b.Name, 34), p.ink, textSize, false)
		p.box(at(b.Start), y-5, max(1, at(b.End)-at(b.Start)), 10, p.of(b.State))
		words := printable.Duration(b.End.Sub(b.Start))
		if b.State != "ok" {
			words = b.State + ", " + words
		}
		p.put(at(b.End)+4, y+3, words, p.slate, 9, false)
	}
	return p.writeTo(to)
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
	const wide, tall, gapX, gapY = 150.0, 34.0, 46.0, 16.0
	layer, row := make([]int, len(p.Steps)), make([]int, len(p.Steps))
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
	c := newPage(on, margin*2+float64(len(count))*(wide+gapX)-gapX, margin*2+titleAt+float64(rows)*(tall+gapY))
	c.title(title)
	at := func(i int) (x, y float64) { // the middle of the left side
		return margin + float64(layer[i])*(wide+gapX), margin + titleAt + float64(row[i])*(tall+gapY) + tall/2
	}
	for i := range p.Steps {
		x, y := at(i)
		lead := func(k int, dashed bool) {
			fromX, fromY := at(k)
			if layer[k] >= layer[i] { // beside it
				c.stroke(c.slate, 0.8, dashed, point{fromX + wide/2, fromY}, point{x + wide/2, y})
				return
			}
			middle := x - gapX/2
			c.stroke(c.slate, 0.8, dashed, point{fromX + wide, fromY}, point{middle, fromY}, point{middle, y}, point{x, y})
		}
		for _, k := range p.Steps[i].After {
			lead(k, false)
		}
		for _, k := range p.Steps[i].With {
			lead(k, true)
		}
	}
	for i, s := range steps {
		x, y := at(i)
		c.box(x, y-tall/2, wide, tall, c.paper)
		c.stroke(c.of(s.State), 2, false, point{x, y - tall/2}, point{x, y + tall/2})
		c.stroke(c.slate, 0.4, false, point{x, y + tall/2}, point{x + wide, y + tall/2})
		c.put(x+8, y-3, short(s.Name, 24), c.ink, textSize, i == p.Main)
		c.put(x+8, y+11, short(s.About, 30), c.slate, 8.5, false)
	}
	return c.writeTo(to)
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
	c.title(title)
	if len(points) > 0 {
		c.chart(margin+titleAt+14, 150, 0, "seconds", points, c.verdigris, func(q Point) float64 { return q.Seconds })
		c.chart(margin+titleAt+210, 60, 1, "problems", points, c.ochre, func(q Point) float64 { return float64(q.Problems) })
	}
	return c.writeTo(to)
}

// chart draws a value of runs over time, with its axes: from top, so many points tall, with marks
// at least so far apart.
func (p *page) chart(top, tall, least float64, label string, points []Point, c ink, value func(Point) float64) {
	const axis = margin + 40 // where the values end
	across, bottom := p.w-axis-margin, top+tall
	most := 0.0
	for _, q := range points {
		most = max(most, value(q))
	}
	step := max(least, niceStep(most, tall/25))
	most = max(step, math.Ceil(most/step)*step)
	first, last := points[0].Start, points[0].Start
	for _, q := range points {
		if q.Start.Before(first) {
			first = q.Start
		}
		if q.Start.After(last) {
			last = q.Start
		}
	}
	whole := max(last.Sub(first), time.Second)
	at := func(q Point) point {
		return point{axis + across*float64(q.Start.Sub(first))/float64(whole), bottom - tall*value(q)/most}
	}
	p.put(margin, top-8, label, p.ink, 9, false)
	for v := 0.0; v <= most+step/2; v += step {
		y := bottom - tall*v/most
		p.stroke(p.slate, 0.3, v > 0, point{axis - 3, y}, point{axis + across, y})
		p.text(axis-6, y+3, fmt.Sprintf("%g", math.Round(v*1000)/1000), p.slate, 8, false, right)
	}
	for i := range 5 {
		t := first.Add(whole * time.Duration(i) / 4)
		x := axis + across*float64(i)/4
		where := centre
		if i == 4 {
			where = right
		}
		p.stroke(p.slate, 0.4, false, point{x, bottom}, point{x, bottom + 3})
		p.text(x, bottom+12, t.Format("2 Jan 15:04"), p.slate, 8, false, where)
	}
	all := make([]point, len(points))
	for i, q := range points {
		all[i] = at(q)
	}
	if len(all) > 1 {
		p.line(p.slate, 0.5, false, all)
	}
	for i, q := range points {
		x, y := all[i].x, all[i].y
		if q.Good {
			p.box(x-1.8, y-1.8, 3.6, 3.6, c)
			continue
		}
		p.stroke(p.madder, 1, false, point{x - 2, y - 2}, point{x + 2, y + 2})
		p.stroke(p.madder, 1, false, point{x - 2, y + 2}, point{x + 2, y - 2})
	}
}

// niceStep returns a distance between marks on an axis up to a value, of about so many marks: one,
// two or five times a power of ten.
func niceStep(most, marks float64) float64 {
	if most <= 0 {
		return 1
	}
	rough := most / max(1, marks)
	power := math.Pow(10, math.Floor(math.Log10(rough)))
	for _, n := range []float64{1, 2, 5} {
		if rough <= n*power {
			return n * power
		}
	}
	return 10 * power
}
