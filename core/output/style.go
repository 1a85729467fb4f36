package output

import (
	"math/bits"
	"strconv"
	"strings"
)

// A Style is how a character is drawn: what the SGR sequences (ECMA-48, 8.3.117) before it have
// switched on and not off again. Text that is to blink or to be hidden is drawn like any other.
// The zero value is the terminal's own style.
type Style struct {
	Attributes             Attribute
	Foreground, Background Colour
}

// Attribute is a set of attributes of a style.
type Attribute uint8

// The attributes. Each has its bit.
const (
	Bold Attribute = 1 << iota
	Faint
	Italic
	Underlined
	Reversed
	Struck
	Overlined
)

// sgr has the parameters that switch each attribute on and off, in the order of the bits.
var sgr = [...]struct{ on, off string }{{"1", "22"}, {"2", "22"}, {"3", "23"}, {"4", "24"}, {"7", "27"}, {"9", "29"}, {"53", "55"}}

// Colour is a colour of text or of its background. The zero value is the terminal's own.
type Colour uint32

const (
	paletteColour Colour = 1 << 24 // and the number of the colour, 0 to 255
	directColour  Colour = 2 << 24 // and red, green and blue in a byte each
)

// parameters returns the SGR parameters that set a colour; base is 30 for the foreground
// and 40 for the background.
func (c Colour) parameters(base int) string {
	n := int(c & 0xff)
	switch {
	case c == 0:
		return strconv.Itoa(base + 9)
	case c&directColour != 0:
		return strconv.Itoa(base+8) + ";2;" + strconv.Itoa(int(c>>16&0xff)) + ";" + strconv.Itoa(int(c>>8&0xff)) + ";" + strconv.Itoa(n)
	case n < 8:
		return strconv.Itoa(base + n)
	case n < 16:
		return strconv.Itoa(base + 60 + n - 8)
	}
	return strconv.Itoa(base+8) + ";5;" + strconv.Itoa(n)
}

// String returns the SGR parameters that turn the terminal's own style into s; "" for that one.
func (s Style) String() string {
	on := s.on(s.Attributes)
	if s.Foreground != 0 {
		on = append(on, s.Foreground.parameters(30))
	}
	if s.Background != 0 {
		on = append(on, s.Background.parameters(40))
	}
	return strings.Join(on, ";")
}

// on returns the parameters that switch attributes on.
func (s Style) on(set Attribute) (params []string) {
	for rest := set; rest != 0; rest &= rest - 1 {
		params = append(params, sgr[bits.TrailingZeros8(uint8(rest))].on)
	}
	return params
}

// From returns the shortest SGR sequence that turns style before into s; "" if they are the same.
func (s Style) From(before Style) string {
	if s == before {
		return ""
	}
	whole := s.String()
	if whole == "" {
		return "\x1b[m"
	}
	whole = "0;" + whole
	var parts []string
	gone := before.Attributes &^ s.Attributes
	added := s.Attributes &^ before.Attributes
	if gone&(Bold|Faint) != 0 { // one parameter ends both
		added |= s.Attributes & (Bold | Faint)
	}
	off := ""
	for rest := gone; rest != 0; rest &= rest - 1 {
		if p := sgr[bits.TrailingZeros8(uint8(rest))].off; p != off {
			off = p
			parts = append(parts, p)
		}
	}
	parts = append(parts, s.on(added)...)
	if s.Foreground != before.Foreground {
		parts = append(parts, s.Foreground.parameters(30))
	}
	if s.Background != before.Background {
		parts = append(parts, s.Background.parameters(40))
	}
	if changed := strings.Join(parts, ";"); len(changed) < len(whole) {
		whole = changed
	}
	return "\x1b[" + whole + "m"
}

// maxSGR bounds the parameters of a sequence, in bytes. A longer one changes nothing: no
// program that means a style writes one.
const maxSGR = 512

// apply changes the style by the parameters of an SGR sequence. Parameters that are not a list of
// numbers change nothing, and unknown ones are left out.
func (s *Style) apply(params string) {
	if len(params) > maxSGR {
		return
	}
	for i := 0; i < len(params); i++ {
		if c := params[i]; (c < '0' || c > '9') && c != ';' && c != ':' {
			return
		}
	}
	for {
		var param string
		param, params, _ = strings.Cut(params, ";")
		head, sub, hasSub := strings.Cut(param, ":")
		switch n := number(head); {
		case n == 0:
			*s = Style{}
		case n == 4 && sub == "0":
			s.Attributes &^= Underlined
		case n == 21: // doubly underlined
			s.Attributes |= Underlined
		case n == 38 || n == 48 || n == 58:
			var c Colour
			var ok bool
			if hasSub {
				c, ok = colonColour(sub)
			} else {
				c, params, ok = semicolonColour(params)
			}
			switch {
			case !ok:
			case n == 38:
				s.Foreground = c
			case n == 48:
				s.Background = c
			}
		case n >= 30 && n <= 37:
			s.Foreground = paletteColour | Colour(n-30)
		case n == 39:
			s.Foreground = 0
		case n >= 40 && n <= 47:
			s.Background = paletteColour | Colour(n-40)
		case n == 49:
			s.Background = 0
		case n >= 90 && n <= 97:
			s.Foreground = paletteColour | Colour(n-90+8)
		case n >= 100 && n <= 107:
			s.Background = paletteColour | Colour(n-100+8)
		default:
			head = strconv.Itoa(n) // gcc writes 01
			for bit, p := range sgr {
				switch head {
				case p.on:
					s.Attributes |= 1 << bit
				case p.off:
					s.Attributes &^= 1 << bit
				}
			}
		}
		if params == "" {
			return
		}
	}
}

// number reads a parameter, which is 0 where it is left out.
func number(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil && text != "" {
		return 1 << 20 // too long for a parameter that means something
	}
	return n
}

// colour makes a colour of what follows its kind: 5 and a number, or 2 and red, green and blue.
func colour(kind int, values []string) (Colour, bool) {
	var c Colour
	for _, v := range values {
		n := number(v)
		if n > 255 {
			return 0, false
		}
		c = c<<8 | Colour(n)
	}
	switch {
	case kind == 5 && len(values) == 1:
		return paletteColour | c, true
	case kind == 2 && len(values) == 3:
		return directColour | c, true
	}
	return 0, false
}

// colonColour reads the sub-parameters of a colour (ITU-T T.416, 13.1.8): 5:N, 2:R:G:B, or
// 2:SPACE:R:G:B and what may follow.
func colonColour(sub string) (Colour, bool) {
	fields := strings.Split(sub, ":")
	switch kind := number(fields[0]); {
	case kind == 2 && len(fields) > 4:
		return colour(kind, fields[2:5])
	case kind == 2 && len(fields) == 4:
		return colour(kind, fields[1:])
	case kind == 5 && len(fields) > 1:
		return colour(kind, fields[1:2])
	}
	return 0, false
}

// semicolonColour reads the parameters behind 38, 48 or 58 and returns the rest.
func semicolonColour(params string) (c Colour, rest string, ok bool) {
	head, rest, _ := strings.Cut(params, ";")
	kind := number(head)
	count := map[int]int{2: 3, 5: 1}[kind]
	var values []string
	for range count {
		var v string
		v, rest, _ = strings.Cut(rest, ";")
		values = append(values, v)
	}
	c, ok = colour(kind, values)
	return c, rest, ok
}
