package sieve

import (
	"bytes"
	"tidytally/core/sieve/lex"
)

// marginLine finds the last line that stands at the margin before the one at hand:
// it may be the file that the indented lines behind it are about. It is looked
// for when somebody asks, and at the end of each block, which is soon gone.
type marginLine struct {
	text []byte // the block
	at   int    // where the line at hand begins in it
	from int    // where the lines begin that were not searched yet
	line []byte
}

// maxMarginLine is how many bytes of it are kept.
const maxMarginLine = 1024

func (h *marginLine) in(block []byte) { h.text, h.at, h.from = block, 0, 0 }

// whole takes a line that began in the block before and ends at next.
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

// take keeps a line that is at the margin, as it looks when all is drawn.
func (h *marginLine) take(raw []byte) bool {
	raw = lex.WithoutReturn(raw)
	raw = raw[bytes.LastIndexByte(raw, '\r')+1:]
	if bytes.IndexByte(raw, 0x1b) >= 0 {
		raw, _ = lex.StripEscapes(nil, raw[:min(len(raw), MaxLine)])
	}
	if len(raw) == 0 || raw[0] == ' ' || raw[0] == '\t' {
		return false
	}
	h.line = append(h.line[:0], raw[:min(len(raw), maxMarginLine)]...)
	return true
}
