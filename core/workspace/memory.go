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

// A verdict is what the rules say of a folder's content.
type verdict struct {
	under      uint64 // a digest of the rules; 0 if it is not kept
	ignoreFile bool   // one is in the folder
	seen       int
	files      []string // names of those that are wanted
	inner      []string // of folders to enter
	skipped    []ruled
	generated  []ruled
}

// ruled is a name with the rule that holds for it.
type ruled struct {
	rule, name string
	folder     bool
}

// appendVerdict encodes what the rules said of a folder. It is not kept where a link or a fault
// is, since what is behind a link may change without the folder.
func (f *folder) appendVerdict(out []byte, under uint64) []byte {
	hasIgnore := slices.ContainsFunc(f.entries, func(e entry) bool { return e.name == ".gitignore" })
	if !f.entered || len(f.faults) > 0 || slices.ContainsFunc(f.entries, func(e entry) bool { return e.mode&fs.ModeSymlink != 0 }) {
		under = 0
	}
	out = binary.LittleEndian.AppendUint64(out, under)
	if under == 0 {
		return out
	}
	flag := uint64(0)
	if hasIgnore {
		flag = 1
	}
	out = binary.AppendUvarint(binary.AppendUvarint(out, flag), uint64(f.seen))
	for _, list := range [][]string{f.files, f.inner} {
		out = binary.AppendUvarint(out, uint64(len(list)))
		for _, name := range list {
			out = appendText(out, path.Base(name))
		}
	}
	out = binary.AppendUvarint(out, uint64(len(f.skipped)))
	for _, k := range f.skipped {
		flag := uint64(0)
		if k.folder {
			flag = 1
		}
		out = binary.AppendUvarint(appendText(appendText(out, k.Rule), path.Base(k.Path)), flag)
	}
	out = binary.AppendUvarint(out, uint64(len(f.generated)))
	for _, g := range f.generated {
		out = appendText(appendText(out, g.Rule), path.Base(g.Path))
	}
	return out
}

// cutter takes a record apart. After an error, bad is set.
type cutter struct {
	rest string
	bad  bool
}

func (c *cutter) number() uint64 {
	v, n := uvarint(c.rest)
	if n <= 0 {
		c.rest, c.bad = "", true
		return 0
	}
	c.rest = c.rest[n:]
	return v
}

func (c *cutter) text() (s string) {
	s, rest, ok := cutText(c.rest)
	c.rest, c.bad = rest, c.bad || !ok
	return s
}

// list takes a list, each element of which takes a byte at least.
func (c *cutter) list(take func()) {
	for n := c.number(); n > 0 && !c.bad; n-- {
		take()
	}
}

// verdict decodes what the rules said of a folder.
func (r record) verdict() (v verdict, ok bool) {
	if len(r.text) < 8 {
		return v, false
	}
	v.under = binary.LittleEndian.Uint64([]byte(r.text[:8]))
	if v.under == 0 {
		return v, true
	}
	c := &cutter{rest: r.text[8:]}
	v.ignoreFile = c.number() == 1
	v.seen = int(c.number())
	c.list(func() { v.files = append(v.files, c.text()) })
	c.list(func() { v.inner = append(v.inner, c.text()) })
	c.list(func() { v.skipped = append(v.skipped, ruled{c.text(), c.text(), c.number() == 1}) })
	c.list(func() { v.generated = append(v.generated, ruled{rule: c.text(), name: c.text()}) })
	return v, !c.bad
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
	v, ok := r.verdict()
	if !ok || v.under == 0 {
		return nil, false
	}
	if v.ignoreFile {
		t.readIgnore(f)
	}
	if v.under != t.under(f.ignore) {
		return nil, false
	}
	f.entered, f.seen = true, v.seen
	for _, name := range v.files {
		f.files = append(f.files, join(f.path, name))
	}
	for _, k := range v.skipped {
		more = append(more, t.skip(f, nil, k.rule, join(f.path, k.name), k.folder)...)
	}
	for _, g := range v.generated {
		f.generated = append(f.generated, Skip{Rule: g.rule, Path: join(f.path, g.name), Files: 1})
	}
	for _, name := range v.inner {
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
	var verdict []byte
	for path, f := range t.folders {
		if !f.listed {
			continue
		}
		put('f', path, f.record.encode, &f.stamped, func(out []byte) []byte {
			verdict = f.appendVerdict(verdict[:0], t.under(f.ignore))
			out = append(binary.AppendUvarint(out, uint64(len(verdict))), verdict...)
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
