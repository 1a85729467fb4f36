package workspace

import (
	"bytes"
	"encoding/binary"
	"io/fs"
	"strings"
	"sync"
	"syscall"
	"time"
)

// folderBuffers are reused: one call of getdents64(2) fills the better part of
// most folders' names.
var folderBuffers = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// A handle is an open folder. The folders in it are opened by name, so that no link
// is followed.
type handle int

const folderFlags = syscall.O_RDONLY | syscall.O_DIRECTORY | syscall.O_CLOEXEC | syscall.O_NONBLOCK

func openFolder(abs string) (handle, error) {
	fd, err := syscall.Open(abs, folderFlags, 0)
	if err != nil {
		return -1, &fs.PathError{Op: "open", Path: abs, Err: err}
	}
	return handle(fd), nil
}

func (h handle) open(name string) (handle, error) {
	fd, err := syscall.Openat(int(h), name, folderFlags|syscall.O_NOFOLLOW, 0)
	return handle(fd), err
}

func (h handle) close() { syscall.Close(int(h)) }

// records returns the directory entries, as getdents64(2) lays them out, in pieces:
// up to the error, or the end.
func (h handle) records(take func(piece []byte) error) error {
	buffer := folderBuffers.Get().(*[]byte)
	defer folderBuffers.Put(buffer)
	for {
		n, err := syscall.ReadDirent(int(h), *buffer)
		switch {
		case err == syscall.EINTR:
			continue
		case err != nil || n <= 0:
			return err
		}
		if err := take((*buffer)[:n]); err != nil {
			return err
		}
	}
}

// Offsets in a record.
const (
	recordLength = 16 // two bytes
	recordType   = 18
	recordName   = 19 // up to a byte 0
)

// readFolder returns the entries of a folder, unsorted, with their types, and the stamp that it had
// before. It asks the kernel itself (getdents64(2)): a walk reads little else.
func readFolder(abs string) (out []entry, at stamped, err error) {
	h, err := openFolder(abs)
	if err != nil {
		return nil, at, err
	}
	defer h.close()
	at = h.stamp()
	err = h.records(func(piece []byte) error {
		text := string(piece) // one copy that all names share
		if out == nil {
			out = make([]entry, 0, len(piece)/28)
		}
		for at := 0; at < len(piece); {
			record := piece[at:]
			length := int(binary.NativeEndian.Uint16(record[recordLength:]))
			name := text[at+recordName : at+length]
			at += length
			if end := strings.IndexByte(name, 0); end >= 0 {
				name = name[:end]
			}
			if name == "." || name == ".." {
				continue
			}
			mode, known := typeBits[record[recordType]]
			if !known {
				return errNoTypes
			}
			out = append(out, entry{name, mode})
		}
		return nil
	})
	if err == errNoTypes {
		out, err = entriesOf(abs)
		return out, at, err
	}
	if err != nil {
		return out, at, &fs.PathError{Op: "getdents64", Path: abs, Err: err}
	}
	return out, at, nil
}

// stamp returns the stamp of an open folder.
func (h handle) stamp() (at stamped) {
	var st syscall.Stat_t
	if syscall.Fstat(int(h), &st) == nil {
		at.stamp, at.changed = stampOf(&st)
	}
	return at
}

// errNoTypes: the file system does not say which entries are folders.
const errNoTypes = folderError("no types")

// count counts the files of the folder and names the folders in it. What cannot
// be read is not counted.
func (h handle) count() (files int64, folders []string) {
	_ = h.records(func(piece []byte) error {
		for at := 0; at < len(piece); {
			record := piece[at:]
			at += int(binary.NativeEndian.Uint16(record[recordLength:]))
			name := record[recordName:]
			switch record[recordType] {
			case syscall.DT_DIR:
				if name[0] == '.' && (name[1] == 0 || name[1] == '.' && name[2] == 0) {
					continue
				}
				folders = append(folders, string(name[:bytes.IndexByte(name, 0)]))
			case syscall.DT_UNKNOWN:
				name := string(name[:bytes.IndexByte(name, 0)])
				if in, err := h.open(name); err == nil {
					in.close()
					if name != "." && name != ".." {
						folders = append(folders, name)
					}
					continue
				}
				files++
			default:
				files++
			}
		}
		return nil
	})
	return files, folders
}

// typeBits are the types of readdir(3).
var typeBits = map[byte]fs.FileMode{
	syscall.DT_REG: 0, syscall.DT_DIR: fs.ModeDir, syscall.DT_LNK: fs.ModeSymlink, syscall.DT_FIFO: fs.ModeNamedPipe,
	syscall.DT_SOCK: fs.ModeSocket, syscall.DT_CHR: fs.ModeDevice | fs.ModeCharDevice, syscall.DT_BLK: fs.ModeDevice,
}

// FileStamp returns a number that is another one when the file or folder at a path, or where a
// link there leads, was changed or replaced; 0 if there is none. changed is when that was last, by
// the time stamp that nobody can set (inode(7), "st_ctim").
func FileStamp(abs string) (stamp uint64, changed time.Time) {
	var st syscall.Stat_t
	if syscall.Stat(abs, &st) != nil {
		return 0, changed
	}
	return stampOf(&st)
}

// LinkStamp is FileStamp without following a link.
func LinkStamp(abs string) (stamp uint64, changed time.Time) {
	var st syscall.Stat_t
	if syscall.Lstat(abs, &st) != nil {
		return 0, changed
	}
	return stampOf(&st)
}

func stampOf(st *syscall.Stat_t) (stamp uint64, changed time.Time) {
	for _, v := range [...]uint64{st.Dev, st.Ino, uint64(st.Size), uint64(st.Mode), uint64(st.Mtim.Sec), uint64(st.Mtim.Nsec), uint64(st.Ctim.Sec), uint64(st.Ctim.Nsec)} {
		stamp = mix(stamp, v)
	}
	return max(stamp, 1), time.Unix(st.Ctim.Unix())
}
