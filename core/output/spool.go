// Package output keeps what a run printed: the bytes in a file, and an index of its
// lines as a terminal would show them.
package output

import (
	"fmt"
	"os"
	"sync"
	"sync/atomic"
)

// Spool is an output on disk, byte for byte. It is safe for concurrent use; only Write waits for the disk.
type Spool struct {
	file  *os.File
	there bool  // the bytes are in the file before they are written
	from  int64 // the byte of the file at which the output begins
	size  atomic.Int64
	fault atomic.Pointer[string]

	mu   sync.Mutex // guards the fields below
	lost int64
	err  error
}

// NewSpool makes a spool as a new file in dir.
func NewSpool(dir, name string) (*Spool, error) {
	f, err := os.CreateTemp(dir, name+"-*.out")
	if err != nil {
		return nil, err
	}
	return &Spool{file: f}, nil
}

// OpenSpool opens the spool of another program for reading, from a byte on. It is empty at first: what Write is given must have
// been read from it.
func OpenSpool(path string, from int64) (*Spool, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	return &Spool{file: f, there: true, from: from}, nil
}

// Write appends bytes. If the disk takes no more, the rest is counted as lost, and
// Fault says so; the run goes on.
func (s *Spool) Write(p []byte) (int, error) {
	if s.there {
		s.size.Add(int64(len(p)))
		return len(p), nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	n := 0
	if s.err == nil {
		n, s.err = s.file.Write(p)
		s.size.Add(int64(n))
	}
	if s.err != nil {
		s.lost += int64(len(p) - n)
		text := fmt.Sprintf("%d bytes of output were not kept: %v; make room, or set TMPDIR to a disk that has some", s.lost, s.err)
		s.fault.Store(&text)
	}
	return len(p), nil
}

// Size is the number of bytes kept.
func (s *Spool) Size() int64 { return s.size.Load() }

// Fault says why output was lost, and what to do; "" if nothing was.
func (s *Spool) Fault() string {
	if text := s.fault.Load(); text != nil {
		return *text
	}
	return ""
}

// ReadAt reads bytes of the spool.
func (s *Spool) ReadAt(p []byte, off int64) (int, error) { return s.file.ReadAt(p, s.from+off) }

// Path is the file's name.
func (s *Spool) Path() string { return s.file.Name() }

// Close closes the spool; its file stays.
func (s *Spool) Close() error { return s.file.Close() }

// Remove closes the spool and deletes its file.
func (s *Spool) Remove() error {
	closing := s.file.Close()
	if err := os.Remove(s.file.Name()); err != nil {
		return err
	}
	return closing
}
