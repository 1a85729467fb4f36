// Package files opens files that a stranger may have made: those of a workspace, and those that an output or
// a message names. Regular files alone are opened, without waiting for anybody, and never more is read than a
// file says that it has. Everything else of the program comes here for them; a test holds that.
package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"syscall"
)

// Limit is the size in bytes of the largest file that is read where nothing else is said: sources and task files are
// smaller, and what is larger was generated.
const Limit = 8 << 20

// MostNames is the number of names in a folder beyond which List returns the first ones only.
const MostNames = 100_000

// A Refused is the error for a file that is there and is not read.
type Refused struct{ Why string }

// Error says what the file is.
func (r *Refused) Error() string { return r.Why + ": not read" }

// Open opens a regular file. The error for another one is a *Refused.
func Open(name string) (*os.File, fs.FileInfo, error) {
	// Without O_NONBLOCK, opening a FIFO would wait for a writer.
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &Refused{fmt.Sprintf("is a %s, no regular file", ModeWord(info.Mode()))}
	}
	if err == nil && info.Size() == 0 && ofKernel(f) {
		err = &Refused{"is a file of the kernel"} // which may go on for ever
	}
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return f, info, nil
}

// Read returns the contents of a regular file of at most limit bytes. The error for a larger one is a *Refused.
func Read(name string, limit int64) ([]byte, error) {
	f, info, err := Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info.Size() > limit {
		return nil, &Refused{fmt.Sprintf("has %d bytes, more than the %d that are read", info.Size(), limit)}
	}
	return readAll(f, info.Size())
}

// readAll reads the bytes that a file had when it was opened.
func readAll(f *os.File, size int64) ([]byte, error) {
	data := make([]byte, size)
	n, err := io.ReadFull(f, data)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		err = nil // it has become shorter
	}
	return data[:n], err
}

// List returns the entries of a folder, in no order; of a folder with very many, some.
func List(dir string) ([]fs.DirEntry, error) {
	f, err := os.OpenFile(dir, os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_DIRECTORY, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	entries, err := f.ReadDir(MostNames)
	if errors.Is(err, io.EOF) { // an empty one
		err = nil
	}
	return entries, err
}

// ModeWord returns what a file that is not regular is, in a word or two.
func ModeWord(m fs.FileMode) string {
	switch {
	case m&fs.ModeNamedPipe != 0:
		return "FIFO"
	case m&fs.ModeSocket != 0:
		return "socket"
	case m&fs.ModeDevice != 0:
		return "device"
	case m.IsDir():
		return "folder"
	}
	return "special file"
}
