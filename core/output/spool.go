// Package output keeps what a run printed: the bytes in a file, and an index of its
// lines as a terminal would show them.
package output

import (
	"fmt"
	"os"
	"sync"
)

// Spool is an output on disk, byte for byte. It is safe for concurrent use.
type Spool struct {
	mu   sync.Mutex
	file *os.File
	size int64
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

// Write appends bytes. If the disk takes no more, the rest is counted as lost, and
// Fault says so; the run goes on.
func (s *Spool) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err != nil {
		s.lost += int64(len(p))
		return len(p), nil
	}
	n, err := s.file.Write(p)
	s.size += int64(n)
	if err != nil {
		s.err = err
		s.lost += int64(len(p) - n)
	}
	return len(p), nil
}

// Size is the number of bytes kept.
func (s *Spool) Size() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.size
}

// Fault says why output was lost, and what to do; "" if nothing was.
func (s *Spool) Fault() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		return ""
	}
	return fmt.Sprintf("%d bytes of output were not kept: %v; make room, or set TMPDIR to a disk that has some", s.lost, s.err)
}

// ReadAt reads bytes of the spool.
func (s *Spool) ReadAt(p []byte, off int64) (int, error) { return s.file.ReadAt(p, off) }

// Path is the file's name.
func (s *Spool) Path() string { return s.file.Name() }

// Remove closes the spool and deletes its file.
func (s *Spool) Remove() error {
	closing := s.file.Close()
	if err := os.Remove(s.file.Name()); err != nil {
		return err
	}
	return closing
}
