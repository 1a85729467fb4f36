// Package commit returns the commit of a workspace, and the differences from another commit. It reads git's own files, and runs git
// for packed ones. It never executes a program that a repository's configuration names.
package commit

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash"
	"os"
	"path/filepath"
	"strings"

	"tidytally/core/files"
)

// Commit is the commit that a workspace stands at.
type Commit struct {
	Hash string // "" if there is none
	// Dirty reports whether files that are tracked differ from what is staged, or what is
	// staged from the commit; nil if that is not known.
	Dirty *bool
}

const (
	// maxIndex bounds the size in bytes of an index that is read.
	maxIndex = 64 << 20
	// maxHashed bounds the bytes of files whose contents are compared.
	maxHashed = 32 << 20
)

// Of returns the commit of the workspace at root, from git's own files
// (gitrepository-layout(5), gitformat-index(5)). It executes nothing.
func Of(root string) Commit {
	git, work := gitFolder(root)
	if git == "" {
		return Commit{}
	}
	c := Commit{Hash: headOf(git)}
	c.Dirty = dirty(git, work)
	return c
}

// gitFolder returns the folder with git's files and the work tree that root stands in.
func gitFolder(root string) (git, work string) {
	for dir := root; ; dir = filepath.Dir(dir) {
		name := filepath.Join(dir, ".git")
		info, err := os.Lstat(name)
		switch {
		case err != nil:
		case info.IsDir():
			return name, dir
		case info.Mode().IsRegular():
			data, err := files.Read(name, 4096) // of a work tree or a submodule
			if to, ok := strings.CutPrefix(strings.TrimSpace(string(data)), "gitdir: "); ok && err == nil {
				if !filepath.IsAbs(to) {
					to = filepath.Join(dir, to)
				}
				return to, dir
			}
		}
		if dir == filepath.Dir(dir) {
			return "", ""
		}
	}
}

// small reads a file that is short by its nature.
func small(name string) string {
	data, err := files.Read(name, 1<<20)
	if err != nil {
		return ""
	}
	return string(data)
}

// headOf returns the commit of HEAD.
func headOf(git string) string {
	head := strings.TrimSpace(small(filepath.Join(git, "HEAD")))
	ref, ok := strings.CutPrefix(head, "ref: ")
	if !ok {
		return asHash(head)
	}
	if !filepath.IsLocal(ref) {
		return ""
	}
	common := git
	if to := strings.TrimSpace(small(filepath.Join(git, "commondir"))); to != "" {
		if common = to; !filepath.IsAbs(to) {
			common = filepath.Join(git, to)
		}
	}
	if h := asHash(strings.TrimSpace(small(filepath.Join(common, filepath.FromSlash(ref))))); h != "" {
		return h
	}
	for _, l := range strings.Split(small(filepath.Join(common, "packed-refs")), "\n") {
		if hash, name, ok := strings.Cut(l, " "); ok && name == ref {
			return asHash(hash)
		}
	}
	return ""
}

func asHash(s string) string {
	if _, err := hex.DecodeString(s); err != nil || len(s) != 40 && len(s) != 64 {
		return ""
	}
	return s
}

// dirty compares the files of a work tree with the index.
func dirty(git, work string) *bool {
	name := filepath.Join(git, "index")
	data, err := files.Read(name, maxIndex)
	if err != nil {
		return nil
	}
	yes, known := indexDiffers(data, work)
	if !known {
		return nil
	}
	return &yes
}

// entry is a file in an index.
type entry struct {
	path           string // relative to the work tree, with slashes
	mode, size     uint32
	seconds, nanos uint32 // of the last change when it was staged
	sum            []byte
	merging        bool // it is in conflict
	assumed        bool // the user says that it is unchanged, or leaves it out of the work tree
}

// asStaged reports whether a file has the size and time that it had when it was staged.
func (e *entry) asStaged(info os.FileInfo) bool {
	changed := info.ModTime()
	return uint32(info.Size()) == e.size && uint32(changed.Unix()) == e.seconds && (e.nanos == 0 || uint32(changed.Nanosecond()) == e.nanos)
}

// readIndex calls f with the entries of an index of version 2, 3 or 4, until f returns false. It returns the extensions after the
// entries. It reports false if the data is no valid index.
func readIndex(data []byte, f func(*entry) bool) (extensions []byte, whole bool) {
	const head, fixed = 12, 62
	if len(data) < head || string(data[:4]) != "DIRC" {
		return nil, false
	}
	version, count := binary.BigEndian.Uint32(data[4:]), int(binary.BigEndian.Uint32(data[8:]))
	if version < 2 || version > 4 {
		return nil, false
	}
	at := head
	var path []byte
	for range count {
		if len(data) < at+fixed {
			return nil, false
		}
		b := data[at:]
		one := entry{
			mode: binary.BigEndian.Uint32(b[24:]), size: binary.BigEndian.Uint32(b[36:]),
			seconds: binary.BigEndian.Uint32(b[8:]), nanos: binary.BigEndian.Uint32(b[12:]), sum: b[40:60],
		}
		flags := binary.BigEndian.Uint16(b[60:])
		start := at + fixed
		one.merging, one.assumed = flags&0x3000 != 0, flags&0x8000 != 0
		if version >= 3 && flags&0x4000 != 0 {
			if len(data) < start+2 {
				return nil, false
			}
			one.assumed = one.assumed || binary.BigEndian.Uint16(data[start:])&0x4000 != 0
			start += 2
		}
		if version == 4 {
			strip, n := varint(data[start:])
			if n == 0 || strip > len(path) {
				return nil, false
			}
			start += n
			end := bytes.IndexByte(data[start:], 0)
			if end < 0 {
				return nil, false
			}
			path = append(path[:len(path)-strip], data[start:start+end]...)
			at = start + end + 1
		} else {
			end := bytes.IndexByte(data[start:], 0)
			if end < 0 {
				return nil, false
			}
			path = append(path[:0], data[start:start+end]...)
			at += (start + end - at + 8) / 8 * 8
		}
		one.path = string(path)
		if !one.assumed && !filepath.IsLocal(filepath.FromSlash(one.path)) {
			return nil, false
		}
		if !f(&one) {
			return nil, true
		}
	}
	if at > len(data) {
		return nil, false
	}
	return data[at:], true
}

// What an entry's mode says that it is, besides a file.
const (
	isSubmodule = 0xe000
	isFolder    = 0x4000 // in an index of a part of the tree
)

// indexDiffers reports whether a file of the work tree differs from its entry in an index.
func indexDiffers(data []byte, work string) (differs, known bool) {
	hashed, tooMuch := int64(0), false
	extensions, whole := readIndex(data, func(e *entry) bool {
		if e.merging {
			differs = true
			return false
		}
		if e.assumed || e.mode&0xf000 == isSubmodule {
			return true
		}
		name := filepath.Join(work, filepath.FromSlash(e.path))
		info, err := os.Lstat(name)
		if err != nil {
			differs = true
			return false
		}
		if e.asStaged(info) {
			return true
		}
		hashed += info.Size()
		tooMuch = hashed > maxHashed
		differs = !tooMuch && !sameBlob(name, info, e.sum)
		return !tooMuch && !differs
	})
	switch {
	case !whole || tooMuch:
		return false, false
	case differs:
		return true, true
	}
	return false, !mayBeStaged(extensions)
}

// varint reads a number of variable width as git writes offsets.
func varint(b []byte) (value, length int) {
	for i, c := range b {
		if i > 4 {
			return 0, 0
		}
		if i > 0 {
			value++
		}
		value = value<<7 | int(c&0x7f)
		if c&0x80 == 0 {
			return value, i + 1
		}
	}
	return 0, 0
}

// maxBlob is the size in bytes of the largest file that is compared with the index.
const maxBlob = 256 << 20

// sameBlob reports whether a file has the contents that git names by a hash of them.
func sameBlob(name string, info os.FileInfo, sum []byte) bool {
	var data []byte
	var err error
	if info.Mode()&os.ModeSymlink != 0 {
		var to string
		to, err = os.Readlink(name)
		data = []byte(to)
	} else if info.Mode().IsRegular() {
		data, err = files.Read(name, maxBlob)
	} else {
		return false
	}
	if err != nil {
		return false
	}
	var h hash.Hash = sha1.New()
	if len(sum) == sha256.Size {
		h = sha256.New()
	}
	fmt.Fprintf(h, "blob %d\x00", len(data))
	h.Write(data)
	return bytes.Equal(h.Sum(nil), sum)
}

// mayBeStaged reports whether something may be staged: git invalidates the index's cache of the
// root tree when a file is added.
func mayBeStaged(extensions []byte) bool {
	for len(extensions) >= 8 {
		name, size := string(extensions[:4]), int(binary.BigEndian.Uint32(extensions[4:]))
		if size < 0 || size > len(extensions)-8 {
			return false
		}
		if name == "TREE" {
			// The root's entry: an empty path, NUL, the number of entries, -1 if not valid.
			return bytes.HasPrefix(extensions[8:], []byte("\x00-1 "))
		}
		extensions = extensions[8+size:]
	}
	return false
}
