package draw

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
)

// svg draws as Scalable Vector Graphics (SVG 1.1).
type svg struct{ b bytes.Buffer }

func newSVG(w, h float64) *svg {
	s := &svg{}
	fmt.Fprintf(&s.b, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"%gpt\" height=\"%gpt\" viewBox=\"0 0 %g %g\" font-family=\"Liberation Sans, Arial, Helvetica, sans-serif\">\n", w, h, w, h)
	return s
}

func (s *svg) box(x, y, w, h float64, c ink) {
	fmt.Fprintf(&s.b, "<rect x=\"%.2f\" y=\"%.2f\" width=\"%.2f\" height=\"%.2f\" fill=\"#%06x\"/>\n", x, y, w, h, uint32(c))
}

func (s *svg) line(c ink, width float64, dashed bool, points []point) {
	var at []string
	for _, p := range points {
		at = append(at, fmt.Sprintf("%.2f,%.2f", p.x, p.y))
	}
	dashes := ""
	if dashed {
		dashes = " stroke-dasharray=\"2 2\""
	}
	fmt.Fprintf(&s.b, "<polyline points=\"%s\" fill=\"none\" stroke=\"#%06x\" stroke-width=\"%g\"%s/>\n", strings.Join(at, " "), uint32(c), width, dashes)
}

func (s *svg) text(x, y float64, words string, c ink, size float64, bold bool, where align) {
	weight := ""
	if bold {
		weight = " font-weight=\"bold\""
	}
	fmt.Fprintf(&s.b, "<text x=\"%.2f\" y=\"%.2f\" fill=\"#%06x\" font-size=\"%g\" text-anchor=\"%s\"%s>", x, y, uint32(c), size, [...]string{left: "start", centre: "middle", right: "end"}[where], weight)
	_ = xml.EscapeText(&s.b, []byte(words)) // into memory
	s.b.WriteString("</text>\n")
}

func (s *svg) writeTo(w io.Writer) error {
	s.b.WriteString("</svg>\n")
	_, err := w.Write(s.b.Bytes())
	return err
}
