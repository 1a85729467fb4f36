package output

import (
	"bytes"
	"io"
	"strings"
	"sync"
	"time"
)

// Weaver weaves the outputs of several runs into one, line by line, with the name of each
// line's origin before it. It is safe for concurrent use.
type Weaver struct {
	mu    sync.Mutex // guards the fields below and those of all strands
	to    io.Writer
	end   string  // of a line
	width int     // of the longest name, in bytes
	open  *strand // has written a part of a line; nil for none
	err   error
}

// NewWeaver returns a weaver that writes to a writer. end ends its lines: "\n", or "\r\n" for
// a terminal that does not add the return.
func NewWeaver(to io.Writer, end string) *Weaver { return &Weaver{to: to, end: end} }

// partAfter is how long the beginning of a line waits for its end: a question does not end
// its line.
const partAfter = 200 * time.Millisecond

// maxPart bounds in bytes how much of a line waits for its end.
const maxPart = 64 << 10

// strand is one of the outputs.
type strand struct {
	weaver *Weaver
	name   string
	part   []byte // of a line that has not ended
	timer  *time.Timer
	begun  bool // a part of the line was written
}

// Strand returns the writer for an output. Its errors are those of the weaver's writer.
func (w *Weaver) Strand(name string) io.Writer {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.width = max(w.width, len(name))
	s := &strand{weaver: w, name: name}
	s.timer = time.AfterFunc(time.Hour, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		s.put(s.part, false)
		s.part = s.part[:0]
	})
	s.timer.Stop()
	return s
}

// Flush writes what waits for the end of its line, and ends the line.
func (w *Weaver) Flush() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.open != nil {
		w.write([]byte(w.end))
		w.open.begun, w.open = false, nil
	}
}

// Write takes a piece of the output.
func (s *strand) Write(b []byte) (int, error) {
	w := s.weaver
	w.mu.Lock()
	defer w.mu.Unlock()
	s.timer.Stop()
	n := len(b)
	for {
		i := bytes.IndexByte(b, '\n')
		if i < 0 {
			break
		}
		s.part = append(s.part, b[:i]...)
		s.put(s.part, true)
		s.part, b = s.part[:0], b[i+1:]
	}
	if s.part = append(s.part, b...); len(s.part) > maxPart {
		s.put(s.part, false)
		s.part = s.part[:0]
	}
	if len(s.part) > 0 {
		s.timer.Reset(partAfter)
	}
	return n, w.err
}

// put writes a line or a part of one. The lock is held.
func (s *strand) put(text []byte, whole bool) {
	if len(text) == 0 && !whole {
		return
	}
	w := s.weaver
	text = bytes.TrimSuffix(text, []byte("\r"))
	text = text[bytes.LastIndexByte(text, '\r')+1:] // a line that was drawn again and again
	if w.open != nil && w.open != s {
		w.write([]byte(w.end))
		w.open.begun = false
	}
	var line []byte
	if !s.begun {
		line = append(line, s.name...)
		line = append(line, strings.Repeat(" ", w.width-len(s.name))...)
		line = append(line, " ¦ "...)
	}
	line = append(line, text...)
	s.begun, w.open = !whole, s
	if whole {
		line = append(line, w.end...)
		w.open = nil
	}
	w.write(line)
}

func (w *Weaver) write(b []byte) {
	if w.err == nil {
		_, w.err = w.to.Write(b)
	}
}
