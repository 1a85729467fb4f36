package draw

import (
	"io"

	"codeberg.org/go-pdf/fpdf"
)

// pdf draws as a PDF of one page, with a font that every reader has.
type pdf struct {
	*fpdf.Fpdf
	encode func(string) string
}

func newPDF(w, h float64) *pdf {
	doc := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: w, Ht: h}})
	doc.SetMargins(0, 0, 0)
	doc.SetAutoPageBreak(false, 0)
	doc.AddPage()
	// The fonts of the format know the letters of code page 1252.
	return &pdf{doc, doc.UnicodeTranslatorFromDescriptor("")}
}

func parts(c ink) (r, g, b int) { return int(c >> 16), int(c >> 8 & 0xff), int(c & 0xff) }

func (p *pdf) box(x, y, w, h float64, c ink) {
	p.SetFillColor(parts(c))
	p.Rect(x, y, w, h, "F")
}

func (p *pdf) line(c ink, width float64, dashed bool, points []point) {
	p.SetDrawColor(parts(c))
	p.SetLineWidth(width)
	p.SetDashPattern(nil, 0)
	if dashed {
		p.SetDashPattern([]float64{2, 2}, 0)
	}
	p.MoveTo(points[0].x, points[0].y)
	for _, q := range points[1:] {
		p.LineTo(q.x, q.y)
	}
	p.DrawPath("D")
}

func (p *pdf) text(x, y float64, words string, c ink, size float64, bold bool, where align) {
	style := ""
	if bold {
		style = "B"
	}
	p.SetFont("Helvetica", style, size)
	p.SetTextColor(parts(c))
	words = p.encode(words)
	switch width := p.GetStringWidth(words); where {
	case centre:
		x -= width / 2
	case right:
		x -= width
	}
	p.Text(x, y, words)
}

func (p *pdf) writeTo(w io.Writer) error { return p.Output(w) }
