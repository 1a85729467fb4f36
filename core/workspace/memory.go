package workspace

import (
	"encoding/binary"
	"errors"
	"hash/fnv"
	"io"
	"io/fs"
	"path"
	"slices"
	"sync"
	"time"

	"tidytally/internal/pack"
)

// A Memory is what an earlier walk saw in the folders of a workspace. A folder whose stamp is
// the same as then is not read again: a name that comes, goes or changes its type changes the
// folder's time stamps (POSIX, "File Times Update").
type Memory struct {
	folders map[string]record // by path, "" the root
	counted map[string]record // those that are only counted
}

// record is an encoded folder: its path, its stamp, and what is in it.
type record struct {
	stamp  uint64
	text   string // what the rules said of what is in it, or its count
	names  string // what is in it, of a folder that was entered
	encode string // the whole record
}

// stamped is the stamp of a folder before it was read; zero if it has none.
type stamped struct {
	stamp   uint64
	changed time.Time
}

// stampGrain is how much older than its writing a time stamp may be where the file system keeps
// nanoseconds, and coarseGrain where it keeps seconds.
const (
	stampGrain  = 20 * time.Millisecond
	coarseGrain = 2500 * time.Millisecond
)

// Settled reports whether a file or folder that was changed last at some time would have
// another time stamp if it were changed after since.
func Settled(changed, since time.Time) bool {
	grain := stampGrain
	if changed.Nanosecond() == 0 {
		grain = coarseGrain
	}
	return changed.Before(since.Add(-grain))
}

// errMemory: the bytes are no memory of a walk.
var errMemory = errors.New("no memory of a walk")

// ReadMemory decodes what Tree.Remember has encoded.
func ReadMemory(text string) (*Memory, error) {
	m := &Memory{map[string]record{}, map[string]record{}}
	for len(text) > 0 {
		length, n := uvarint(text)
		if n <= 0 || length > uint64(len(text)-n) || length < 1+8 {
			return nil, errMemory
		}
		whole, body := text[:n+int(length)], text[n:n+int(length)]
		text = text[len(whole):]
		into := m.folders
		if body[0] == 'c' {
			into = m.counted
		}
		stamp := binary.LittleEndian.Uint64([]byte(body[1:9]))
		path, rest, ok := cutText(body[9:])
		if !ok {
			return nil, errMemory
		}
		r := record{stamp: stamp, text: rest, encode: whole}
		if body[0] == 'f' {
			if r.text, r.names, ok = cutText(rest); !ok {
				return nil, errMemory
			}
		}
		into[path] = r
	}
	return m, nil
}

// uvarint reads a number of binary.AppendUvarint.
func uvarint(text string) (v uint64, n int) {
	return binary.Uvarint([]byte(text[:min(len(text), binary.MaxVarintLen64)]))
}

func cutText(text string) (s, rest string, ok bool) {
	length, n := uvarint(text)
	if n <= 0 || length > uint64(len(text)-n) {
		return "", "", false
	}
	return text[n : n+int(length)], text[n+int(length):], true
}

func appendText(out []byte, s string) []byte {
	return append(binary.AppendUvarint(out, uint64(len(s))), s...)
}

// A verdict is what the rules say of a folder's content, by names.
type verdict struct {
	Under      uint64 // a digest of the rules; 0 if the verdict is not kept
	IgnoreFile bool   // one is in the folder
	Seen       int
	Files      []string // those that are wanted
	Inner      []string // folders to enter
	Skipped    []ruled
	Generated  []ruled
}

// ruled is a name with the rule that holds for it.
type ruled struct {
	Rule, Name string
	Folder     bool
}

// verdict returns what the rules said of a folder. It is not kept where a link or a fault is, since
// what is behind a link may change without the folder.
func (f *folder) verdict(under uint64) (v verdict) {
	if !f.entered || len(f.faults) > 0 || slices.ContainsFunc(f.entries, func(e entry) bool { return e.mode&fs.ModeSymlink != 0 }) {
		return v
	}
	v.Under, v.Seen = under, f.seen
	v.IgnoreFile = slices.ContainsFunc(f.entries, func(e entry) bool { return e.name == ".gitignore" })
	for _, name := range f.files {
		v.Files = append(v.Files, path.Base(name))
	}
	for _, name := range f.inner {
		v.Inner = append(v.Inner, path.Base(name))
	}
	for _, k := range f.skipped {
		v.Skipped = append(v.Skipped, ruled{k.Rule, path.Base(k.Path), k.folder})
	}
	for _, g := range f.generated {
		v.Generated = append(v.Generated, ruled{Rule: g.Rule, Name: path.Base(g.Path)})
	}
	return v
}

// entries decodes the content of a folder.
func (r record) entries() (out []entry, ok bool) {
	number, n := uvarint(r.names)
	if n <= 0 || number > uint64(len(r.names)) {
		return nil, false
	}
	out = make([]entry, 0, number)
	for rest := r.names[n:]; rest != ""; {
		mode, n := uvarint(rest)
		if n <= 0 {
			return nil, false
		}
		var e entry
		if e.name, rest, ok = cutText(rest[n:]); !ok {
			return nil, false
		}
		e.mode = fs.FileMode(mode)
		out = append(out, e)
	}
	return out, true
}

// inner decodes the content of a folder that is only counted.
func (r record) inner() (files int64, folders []string, ok bool) {
	number, n := uvarint(r.text)
	if n <= 0 {
		return 0, nil, false
	}
	for rest := r.text[n:]; rest != ""; {
		var name string
		if name, rest, ok = cutText(rest); !ok {
			return 0, nil, false
		}
		folders = append(folders, name)
	}
	return int64(number), folders, true
}

// recall takes from the memory what the rules say of a folder, if they are the same as then.
func (t *Tree) recall(f *folder, r record) (more []job, ok bool) {
	var v verdict
	if pack.Read(r.text, &v) != nil || v.Under == 0 {
		return nil, false
	}
	if v.IgnoreFile {
		t.readIgnore(f)
	}
	if v.Under != t.under(f.ignore) {
		f.record.encode = "" // it is written again, with what these rules say
		f.stamped.stamp = r.stamp
		return nil, false
	}
	f.entered, f.seen = true, v.Seen
	for _, name := range v.Files {
		f.files = append(f.files, join(f.path, name))
	}
	for _, k := range v.Skipped {
		more = append(more, t.skip(f, nil, k.Rule, join(f.path, k.Name), k.Folder)...)
	}
	for _, g := range v.Generated {
		f.generated = append(f.generated, Skip{Rule: g.Rule, Path: join(f.path, g.Name), Files: 1})
	}
	for _, name := range v.Inner {
		rel := join(f.path, name)
		f.inner = append(f.inner, rel)
		more = append(more, job{path: rel, depth: f.depth + 1, above: f.ignore})
	}
	return more, true
}

// under returns a digest of the rules that hold in a folder.
func (t *Tree) under(list *ignoreList) uint64 {
	h := t.rules
	if list != nil {
		h = mix(h, list.digest)
	}
	return max(h, 1)
}

// mix continues a digest (FNV-1a, by words).
func mix(h, word uint64) uint64 {
	h = (h ^ word) * 1099511628211
	return h ^ h>>29
}

// mixText continues a digest with a text.
func mixText(h uint64, text string) uint64 {
	f := fnv.New64a()
	_, _ = io.WriteString(f, text) // of a hash it cannot fail
	return mix(h, f.Sum64())
}

// of returns the record of a folder if that has not changed. It asks the disk once.
func of(records map[string]record, path, abs string) (r record, same bool) {
	r, known := records[path]
	if !known {
		return r, false
	}
	stamp, _ := LinkStamp(abs)
	return r, stamp == r.stamp
}

// tallied is a folder whose files were counted.
type tallied struct {
	stamped
	path    string
	files   int64
	folders []string
	encode  string // its record, if it was remembered
}

// tallies are what a walk counted; safe for concurrent use.
type tallies struct {
	mu   sync.Mutex
	list []tallied
}

func (t *tallies) add(one tallied) {
	t.mu.Lock()
	t.list = append(t.list, one)
	t.mu.Unlock()
}

// Remember encodes what the walk saw, for ReadMemory. Folders that were changed so shortly
// before the start of the walk, or since, that a stamp cannot tell, are left out. It must not be
// called during a walk.
func (t *Tree) Remember(began time.Time) (text []byte) {
	var body []byte
	put := func(kind byte, path, known string, at *stamped, content func([]byte) []byte) {
		if known != "" {
			text = append(text, known...)
			return
		}
		if at.stamp == 0 || !Settled(at.changed, began) {
			return
		}
		body = content(appendText(binary.LittleEndian.AppendUint64(append(body[:0], kind), at.stamp), path))
		text = append(binary.AppendUvarint(text, uint64(len(body))), body...)
	}
	var said []byte
	for path, f := range t.folders {
		if !f.listed {
			continue
		}
		put('f', path, f.record.encode, &f.stamped, func(out []byte) []byte {
			v := f.verdict(t.under(f.ignore))
			said = pack.Append(said[:0], &v)
			out = append(binary.AppendUvarint(out, uint64(len(said))), said...)
			out = binary.AppendUvarint(out, uint64(len(f.entries)))
			for _, e := range f.entries {
				out = appendText(binary.AppendUvarint(out, uint64(e.mode)), e.name)
			}
			return out
		})
	}
	for i := range t.tallies.list {
		k := &t.tallies.list[i]
		put('c', k.path, k.encode, &k.stamped, func(out []byte) []byte {
			out = binary.AppendUvarint(out, uint64(k.files))
			for _, name := range k.folders {
				out = appendText(out, name)
			}
			return out
		})
	}
	return text
}

// Anew returns how many folders the walk saw in all, and how many of them are not as its memory
// had them. It must not be called during a walk.
func (t *Tree) Anew() (folders, anew int) {
	for _, f := range t.folders {
		folders++
		if f.record.encode == "" {
			anew++
		}
	}
	for _, k := range t.tallies.list {
		folders++
		if k.encode == "" {
			anew++
		}
	}
	return folders, anew
}

// Stamp returns the stamp of a folder that the walk has from its memory; 0 for others.
func (t *Tree) Stamp(dir string) uint64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	if f := t.folders[withoutDot(dir)]; f != nil && f.round == t.round {
		return f.record.stamp
	}
	return 0
}
