package lsp

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"
	"time"
)

// stream reads and writes the messages of the base protocol (LSP 3.17, "Base Protocol"): headers, an empty
// line, JSON. A message that is no JSON is answered with an error and left out; a length that is missing or too
// large ends the stream, as nobody knows where the next message begins.
type stream struct {
	in  *bufio.Reader
	out io.Writer

	wrote chan struct{} // closed when nothing is written any more

	mu   sync.Mutex // guards the fields below
	more sync.Cond  // signals changes of them
	// waiting are messages to be written, in their order; later are the diagnostics of files, by
	// URI, which wait until nothing else does: a newer message about a file takes the place of the one that waits.
	waiting [][]byte
	later   map[string][]byte
	order   []string // of later
	closed  bool     // no more will come
	failed  error    // of writing
}

const (
	// maxMessage bounds a message in bytes: a document of 50 MB with every byte escaped.
	maxMessage = 320 << 20
	// maxHeader bounds a line of a header in bytes.
	maxHeader = 4 << 10
	// maxHeaders bounds their number.
	maxHeaders = 32
)

// newStream begins to write what it is given to out, beside all else: whoever sends something never waits for
// the client to read it.
func newStream(in io.Reader, out io.Writer) *stream {
	s := &stream{in: bufio.NewReaderSize(in, 64<<10), out: out, wrote: make(chan struct{}), later: map[string][]byte{}}
	s.more.L = &s.mu
	go s.write()
	return s
}

// write writes messages until the stream is closed and all are written, or out fails.
func (s *stream) write() {
	defer close(s.wrote)
	for {
		s.mu.Lock()
		for len(s.waiting)+len(s.order) == 0 && !s.closed {
			s.more.Wait()
		}
		var data []byte
		switch {
		case len(s.waiting) > 0:
			data, s.waiting = s.waiting[0], s.waiting[1:]
		case len(s.order) > 0 && !s.closed:
			uri := s.order[0]
			data, s.order = s.later[uri], s.order[1:]
			delete(s.later, uri)
		default:
			s.mu.Unlock()
			return
		}
		s.mu.Unlock()
		frame := fmt.Appendf(make([]byte, 0, len(data)+40), "Content-Length: %d\r\n\r\n", len(data))
		if _, err := s.out.Write(append(frame, data...)); err != nil {
			s.mu.Lock()
			s.failed = err
			s.mu.Unlock()
			return
		}
	}
}

// diagnose sends the diagnostics of a file, whose message is JSON already, when nothing else waits.
func (s *stream) diagnose(uri string, message []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.later[uri] == nil {
		s.order = append(s.order, uri)
	}
	s.later[uri] = message
	s.more.Signal()
}

// finish waits until what was sent is written, diagnostics left out, for so long at most.
func (s *stream) finish(within time.Duration) {
	s.mu.Lock()
	s.closed = true
	s.more.Signal()
	s.mu.Unlock()
	select {
	case <-s.wrote:
	case <-time.After(within):
	}
}

// WriteObject implements jsonrpc2.ObjectStream.
func (s *stream) WriteObject(v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.waiting = append(s.waiting, data)
	s.more.Signal()
	return s.failed
}

// ReadObject implements jsonrpc2.ObjectStream.
func (s *stream) ReadObject(v any) error {
	for {
		n, err := s.length()
		if err != nil {
			return err
		}
		data, err := s.take(n)
		if err != nil {
			return err
		}
		message, trouble := checked(data)
		if trouble == "" {
			if err := json.Unmarshal(message, v); err == nil {
				return nil
			} else {
				trouble = err.Error()
			}
		}
		answer := map[string]any{"jsonrpc": "2.0", "id": nil, "error": map[string]any{"code": parseError, "message": trouble}}
		if err := s.WriteObject(answer); err != nil {
			return err
		}
	}
}

// checked returns a message that the connection understands; trouble says why it is none.
func checked(data []byte) (message []byte, trouble string) {
	var m map[string]json.RawMessage
	if err := json.Unmarshal(data, &m); err != nil {
		return nil, "no JSON object: " + err.Error()
	}
	_, method := m["method"]
	id, hasID := m["id"]
	_, result := m["result"]
	_, fault := m["error"]
	if hasID && string(id) != "null" {
		if c := id[0]; c != '"' && c != '-' && (c < '0' || c > '9') || bytes.ContainsAny(id, ".eE") && c != '"' {
			return nil, "the id is neither a whole number nor a string"
		}
	}
	switch {
	case method:
		var name string
		if json.Unmarshal(m["method"], &name) != nil {
			return nil, "the method is no string"
		}
		if hasID && string(id) == "null" {
			return nil, "a request needs an id"
		}
		return data, ""
	case hasID && (result || fault):
		return data, ""
	}
	return nil, "neither a request nor an answer"
}

// take reads so many bytes, without a buffer for what never comes.
func (s *stream) take(n int64) ([]byte, error) {
	var b bytes.Buffer
	if _, err := io.CopyN(&b, s.in, n); err != nil {
		if errors.Is(err, io.EOF) {
			return nil, io.ErrUnexpectedEOF
		}
		return nil, err
	}
	return b.Bytes(), nil
}

// length reads the headers of a message and returns the length of what follows.
func (s *stream) length() (int64, error) {
	n := int64(-1)
	for i := 0; i < maxHeaders; i++ {
		var line []byte
		for {
			c, err := s.in.ReadByte()
			if err != nil {
				return 0, err
			}
			if c == '\n' {
				break
			}
			if line = append(line, c); len(line) > maxHeader {
				return 0, errors.New("a header line is too long")
			}
		}
		text := strings.TrimSuffix(string(line), "\r")
		if text == "" {
			if n < 0 {
				return 0, errors.New("a message has no Content-Length")
			}
			return n, nil
		}
		name, value, _ := strings.Cut(text, ":")
		if !strings.EqualFold(strings.TrimSpace(name), "Content-Length") {
			continue
		}
		var err error
		if n, err = strconv.ParseInt(strings.TrimSpace(value), 10, 64); err != nil || n < 0 || n > maxMessage {
			return 0, fmt.Errorf("Content-Length is %q", strings.TrimSpace(value))
		}
	}
	return 0, errors.New("a message has too many headers")
}

// Close implements jsonrpc2.ObjectStream.
func (s *stream) Close() error { return nil }
