package workspace

import (
	"encoding/binary"
	"io/fs"
	"strings"
	"sync"
	"syscall"
)

// folderBuffers are reused: one call of getdents64(2) fills the better part of
// most folders' names.
var folderBuffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// readFolder gives the entries of a folder, unsorted, with their types. It asks
// the kernel itself (getdents64(2)): a walk reads little else.
func readFolder(abs string) ([]entry, error) {
	fd, err := syscall.Open(abs, syscall.O_RDONLY|syscall.O_DIRECTORY|syscall.O_CLOEXEC|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: abs, Err: err}
	}
	defer syscall.Close(fd)
	buffer := folderBuffers.Get().(*[]byte)
	defer folderBuffers.Put(buffer)
	var out []entry
	for {
		n, err := syscall.ReadDirent(fd, *buffer)
		if err == syscall.EINTR {
			continue
		}
		if err != nil {
			return out, &fs.PathError{Op: "getdents64", Path: abs, Err: err}
		}
		if n <= 0 {
			return out, nil
		}
		text := string((*buffer)[:n]) // one copy that all names share
		if out == nil {
			out = make([]entry, 0, n/28)
		}
		for at := 0; at < n; {
			record := (*buffer)[at:n]
			length := int(binary.NativeEndian.Uint16(record[16:18]))
			name := text[at+19 : at+length]
			at += length
			if end := strings.IndexByte(name, 0); end >= 0 {
				name = name[:end]
			}
			if name == "." || name == ".." {
				continue
			}
			mode, known := typeBits[record[18]]
			if !known { // a file system that does not tell
				return entriesOf(abs)
			}
			out = append(out, entry{name, mode})
		}
	}
}

// typeBits are the types of readdir(3).
var typeBits = map[byte]fs.FileMode{
	syscall.DT_REG: 0, syscall.DT_DIR: fs.ModeDir, syscall.DT_LNK: fs.ModeSymlink, syscall.DT_FIFO: fs.ModeNamedPipe,
	syscall.DT_SOCK: fs.ModeSocket, syscall.DT_CHR: fs.ModeDevice | fs.ModeCharDevice, syscall.DT_BLK: fs.ModeDevice,
}
