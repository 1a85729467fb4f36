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
)

// stream reads and writes the messages of the base protocol (LSP 3.17, "Base Protocol"): headers, an empty
// line, JSON. A message that is no JSON is answered with an error and left out; a length that is missing or too
// large ends the stream, as nobody knows where the next message begins.
type stream struct {
	in  *bufio.Reader
	out io.Writer

	mu sync.Mutex // guards writing
}

const (
	// maxMessage bounds a message in bytes: a document of 50 MB with every byte escaped.
	maxMessage = 320 << 20
	// maxHeader bounds a line of a header in bytes.
	maxHeader = 4 << 10
	// maxHeaders bounds their number.
	maxHeaders = 32
)

func newStream(in io.Reader, out io.Writer) *stream {
	return &stream{in: bufio.NewReaderSize(in, 64<<10), out: out}
}

// WriteObject implements jsonrpc2.ObjectStream.
func (s *stream) WriteObject(v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	_, err = fmt.Fprintf(s.out, "Content-Length: %d\r\n\r\n%s", len(data), data)
	return err
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
