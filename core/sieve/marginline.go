package sieve

import (
	"bytes"

	"tidytally/core/sieve/lex"
)

// marginLine finds the last line at the margin before the current one: it may name
// the file that indented lines below it are about. It is searched on demand, and
// also at the end of each block, because the buffer is reused.
type marginLine struct {
	text []byte // the block
	at   int    // start of the current line in it
	from int    // start of what was not searched yet
	line []byte

	drawing lex.Drawing
}

// maxMarginLine is the number of bytes kept of it: more than any file name.
const maxMarginLine = 1024

func (h *marginLine) in(block []byte) { h.text, h.at, h.from = block, 0, 0 }

// whole takes a line that started in an earlier block. next is the start of the line
// behind it.
func (h *marginLine) whole(line []byte, next int) {
	h.take(line)
	h.from = next
}

func (h *marginLine) get() []byte {
	for end := h.at; end > h.from; {
		start := bytes.LastIndexByte(h.text[:end-1], '\n') + 1
		if h.take(h.text[start : end-1]) {
			break
		}
		end = start
	}
	h.from = max(h.from, h.at)
	return h.line
}

// take keeps a line if it is at the margin, as it looks when all redrawing is done.
func (h *marginLine) take(raw []byte) bool {
	raw = lex.WithoutReturn(raw)
	if lex.Moves(raw) {
		h.drawing.Draw(raw[:min(len(raw), MaxLine)])
		taken := false
		for _, row := range h.drawing.Rows {
			taken = h.takePlain(row.Text) || taken
		}
		return taken
	}
	if bytes.IndexByte(raw, 0x1b) >= 0 || bytes.IndexByte(raw, '\a') >= 0 {
		raw, _ = lex.StripEscapes(nil, raw[:min(len(raw), MaxLine)])
	}
	return h.takePlain(raw)
}

// takePlain is take for a line without control characters.
func (h *marginLine) takePlain(raw []byte) bool {
	if len(raw) == 0 || raw[0] == ' ' || raw[0] == '\t' {
		return false
	}
	h.line = append(h.line[:0], raw[:min(len(raw), maxMarginLine)]...)
	return true
}
