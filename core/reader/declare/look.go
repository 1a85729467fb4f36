package declare

import (
	"hash/fnv"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tidytally/core/workspace"
)

// What is what a reader asks of a file or folder.
type What uint8

// The questions of readers.
const (
	Content   What = iota + 1 // of a file; answered by 1 if it could be read
	Existence                 // answered by 1 if there is something at the path
	Execution                 // whether a file may be executed
	Time                      // when a file was last written, in nanoseconds since 1970
	Entries                   // of a folder; answered by 1 if it could be listed
	Matches                   // of a pattern below a folder; the answer is a digest of them
	Below                     // anything in a folder and the folders in it
	Watch                     // a folder that the walk does not enter, and that must be watched all the same
)

// A Look is one thing that a declaration depends on beside its own file: a question about a
// path, and the answer that its reader was given.
type Look struct {
	What    What
	Path    string // relative to the workspace, with slashes
	Pattern string // of Matches
	Answer  uint64
}

// OfFile reports whether the look is at one path, not at what is in or below a folder.
func (l Look) OfFile() bool { return l.What <= Time }

// Looks returns what the reader of a file of File looked at, each once.
func Looks(f *File) []Look {
	looks := slices.Clone(f.Files.(*view).looks)
	slices.SortFunc(looks, func(a, b Look) int {
		if c := strings.Compare(a.Path, b.Path); c != 0 {
			return c
		}
		if a.What != b.What {
			return int(a.What) - int(b.What)
		}
		return strings.Compare(a.Pattern, b.Pattern)
	})
	return slices.CompactFunc(looks, func(a, b Look) bool { return a.Path == b.Path && a.What == b.What && a.Pattern == b.Pattern })
}

// Touched are paths that have changed.
type Touched struct {
	paths   map[string]bool
	parents map[string]bool // the folders that they are in
	above   map[string]bool // these, and those above them
}

// Add adds a changed path.
func (t *Touched) Add(p string) {
	if t.paths == nil {
		t.paths, t.parents, t.above = map[string]bool{}, map[string]bool{}, map[string]bool{}
	}
	t.paths[p] = true
	t.parents[path.Dir(p)] = true
	for dir := p; dir != "." && dir != "/"; {
		dir = path.Dir(dir)
		t.above[dir] = true
	}
}

// Has reports whether a path has changed.
func (t *Touched) Has(p string) bool { return t.paths[p] }

// Any reports whether any of some looks may be answered in another way now.
func (t *Touched) Any(looks []Look) bool {
	return slices.ContainsFunc(looks, func(l Look) bool {
		switch l.What {
		case Entries:
			return t.parents[l.Path] || t.paths[l.Path]
		case Matches, Below:
			return t.above[l.Path] || t.paths[l.Path]
		}
		return t.paths[l.Path]
	})
}

// digest returns a number for a list of names.
func digest(names []string) uint64 {
	h := fnv.New64a()
	for _, name := range names {
		_, _ = io.WriteString(h, name+"\x00") // of a hash it cannot fail
	}
	return h.Sum64()
}

// Stamped returns looks whose answers hold beyond the survey: where a file was read or a folder
// listed, the answer is its stamp. ok is false if no answer can tell for a look, or if something
// was changed so shortly before began, or since, that its stamp does not.
func (w *Workspace) Stamped(looks []Look, began time.Time) (out []Look, ok bool) {
	out = make([]Look, 0, len(looks))
	for _, l := range looks {
		switch l.What {
		case Below:
			return nil, false
		case Content, Entries:
			stamp, changed := w.stamp(l)
			if l.Answer == 1 && stamp == 0 || stamp != 0 && !workspace.Settled(changed, began) {
				return nil, false
			}
			l.Answer = stamp
		}
		out = append(out, l)
	}
	return out, true
}

// stamp returns the stamp of what was read or listed.
func (w *Workspace) stamp(l Look) (stamp uint64, changed time.Time) {
	if !filepath.IsLocal(l.Path) {
		return 0, changed
	}
	return workspace.FileStamp(filepath.Join(w.root, filepath.FromSlash(l.Path)))
}

// Hold reports whether looks of Stamped would be answered in the same way now.
func (w *Workspace) Hold(looks []Look) bool {
	v := &view{Workspace: w}
	for _, l := range looks {
		if !v.holds(l) {
			return false
		}
	}
	return true
}

func (v *view) holds(l Look) bool {
	switch l.What {
	case Content:
		return v.stampNow(l) == l.Answer
	case Entries:
		if v.tree != nil {
			if stamp := v.tree.Stamp(l.Path); stamp != 0 {
				return stamp == l.Answer
			}
		}
		return v.stampNow(l) == l.Answer
	case Existence:
		return v.exists(l.Path) == (l.Answer == 1)
	case Execution:
		return v.Executable(l.Path) == (l.Answer == 1)
	case Time:
		return uint64(v.modified(l.Path).UnixNano()) == l.Answer
	case Matches:
		return digest(v.glob(l.Path, l.Pattern)) == l.Answer
	}
	return l.What == Watch
}

// stampNow asks for each path once in a survey.
func (v *view) stampNow(l Look) uint64 {
	if known, ok := v.stamps.Load(l.Path); ok {
		return known.(uint64)
	}
	stamp, _ := v.stamp(l)
	v.stamps.Store(l.Path, stamp)
	return stamp
}
