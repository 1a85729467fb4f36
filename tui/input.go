package tui

import (
	"unicode"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
)

// input is a line that is being typed.
type input struct {
	text   []rune
	cursor int
}

func newInput(text string) input {
	r := []rune(text)
	return input{text: r, cursor: len(r)}
}

func (i *input) String() string { return string(i.text) }

// key takes a key press; ok is false when the key means nothing to a line.
func (i *input) key(k tea.KeyPressMsg) (ok bool) {
	switch k.String() {
	case "left", "ctrl+b":
		i.cursor = max(0, i.cursor-1)
	case "right", "ctrl+f":
		i.cursor = min(len(i.text), i.cursor+1)
	case "home", "ctrl+a":
		i.cursor = 0
	case "end", "ctrl+e":
		i.cursor = len(i.text)
	case "backspace", "ctrl+h":
		if i.cursor > 0 {
			i.text = append(i.text[:i.cursor-1], i.text[i.cursor:]...)
			i.cursor--
		}
	case "delete", "ctrl+d":
		if i.cursor < len(i.text) {
			i.text = append(i.text[:i.cursor], i.text[i.cursor+1:]...)
		}
	case "ctrl+u":
		i.text, i.cursor = i.text[i.cursor:], 0
	case "ctrl+k":
		i.text = i.text[:i.cursor]
	case "ctrl+w", "alt+backspace":
		from := i.cursor
		for from > 0 && unicode.IsSpace(i.text[from-1]) {
			from--
		}
		for from > 0 && !unicode.IsSpace(i.text[from-1]) {
			from--
		}
		i.text = append(i.text[:from], i.text[i.cursor:]...)
		i.cursor = from
	default:
		if k.Text == "" {
			return false
		}
		i.insert(k.Text)
	}
	return true
}

// insert puts text at the cursor, on one line and without control characters.
func (i *input) insert(text string) {
	var add []rune
	for _, r := range text {
		switch {
		case r == '\n' || r == '\r' || r == '\t':
			add = append(add, ' ')
		case !unicode.IsControl(r):
			add = append(add, r)
		}
	}
	if len(i.text)+len(add) > 4096 {
		return
	}
	i.text = append(i.text[:i.cursor], append(add, i.text[i.cursor:]...)...)
	i.cursor += len(add)
}

// show writes the line into a row, with a cursor, scrolled so that the cursor
// is seen.
func (i *input) show(r *row, columns int) {
	from := 0
	for from < i.cursor && ansi.StringWidth(string(i.text[from:i.cursor])) >= columns {
		from++
	}
	r.put(string(i.text[from:i.cursor]), Plain)
	if i.cursor < len(i.text) {
		r.put(string(i.text[i.cursor]), Reverse)
		r.put(ansi.Truncate(string(i.text[i.cursor+1:]), max(0, columns-1-ansi.StringWidth(string(i.text[from:i.cursor]))), ""), Plain)
	} else {
		r.put(" ", Reverse)
	}
}
