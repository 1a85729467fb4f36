package declare

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"tidytally/core/workspace"
)

// Workspace returns the readers of a survey their files. It is safe for concurrent
// use.
type Workspace struct {
	root string
	tree *workspace.Tree // nil without a walk
	// walked is closed when the walk has ended; seen is set from then on.
	walked chan struct{}
	seen   *workspace.Seen
	once   sync.Map
}

// NewWorkspace returns the workspace at root, an absolute path. tree is the walk
// of it, which may still be under way, or nil.
func NewWorkspace(root string, tree *workspace.Tree) *Workspace {
	w := &Workspace{root: root, tree: tree, walked: make(chan struct{})}
	if tree == nil {
		w.End(&workspace.Seen{})
	}
	return w
}

// End says that the walk has ended, and what it saw.
func (w *Workspace) End(seen *workspace.Seen) {
	w.seen = seen
	close(w.walked)
}

// File returns a file for a reader, with notes of its own.
func (w *Workspace) File(path string, data []byte) *File {
	return &File{Path: path, Data: data, Files: &view{Workspace: w}}
}

// Notes returns what was noted while a file of File was read.
func Notes(f *File) []string { return f.Files.(*view).notes }

const belowMark = "below:"

// Below is the note for all that is below a folder.
func Below(dir string) string { return belowMark + dir }

const watchMark = "watch:"

// Watch is the note for a folder that the walk does not enter and that must be watched all
// the same: what changes in it matters.
func Watch(dir string) string { return watchMark + dir }

// Watched returns the folder of a note of Watch.
func Watched(note string) (dir string, ok bool) { return strings.CutPrefix(note, watchMark) }

// IsBelow reports whether a note is one of Below.
func IsBelow(note string) bool { return strings.HasPrefix(note, belowMark) }

// view is a workspace as one reader sees it. It is not safe for concurrent use.
type view struct {
	*Workspace
	notes []string
	plain map[string]bool // folders that no link leads to
}

func (v *view) Root() string { return v.root }

func (v *view) Note(paths ...string) { v.notes = append(v.notes, paths...) }

func (v *view) Walked() (files, folders []string) {
	if v.tree == nil {
		return nil, nil
	}
	<-v.walked
	return v.seen.Files, v.seen.Folders
}

func (v *view) Once(key string, get func() any) any {
	if known, ok := v.once.Load(key); ok {
		return known
	}
	known, _ := v.once.LoadOrStore(key, get())
	return known
}

func (v *view) isPlain(dir string) bool { return v.plain[dir] || v.tree != nil && v.tree.Plain(dir) }

func (v *view) Open(rel string) ([]byte, error) {
	v.Note(rel)
	if fs.ValidPath(rel) && v.isPlain(path.Dir(rel)) {
		return workspace.ReadHead(v.root, rel, 0, true)
	}
	return workspace.ReadDeclaration(v.root, rel)
}

func (v *view) Exists(rel string) bool {
	v.Note(rel)
	if v.tree != nil && fs.ValidPath(rel) {
		if there, known := v.tree.Has(path.Dir(rel), path.Base(rel)); known {
			return there
		}
	}
	return workspace.Exists(v.root, rel)
}

func (v *view) Executable(rel string) bool {
	info, err := os.Stat(filepath.Join(v.root, filepath.FromSlash(rel)))
	return err == nil && info.Mode()&0o111 != 0
}

func (v *view) Modified(rel string) time.Time {
	v.Note(rel)
	info, err := os.Stat(filepath.Join(v.root, filepath.FromSlash(rel)))
	if err != nil {
		return time.Time{}
	}
	return info.ModTime()
}

func (v *view) List(dir string) []workspace.Entry {
	if !fs.ValidPath(dir) {
		return nil
	}
	v.Note(path.Join(dir, "*"))
	if v.tree != nil {
		if entries, known := v.tree.List(dir); known {
			return entries
		}
	}
	plain := v.isPlain(dir)
	entries, err := workspace.ReadFolder(v.root, dir, plain)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if plain && e.Type.IsDir() {
			if v.plain == nil {
				v.plain = map[string]bool{}
			}
			v.plain[path.Join(dir, e.Name)] = true
		}
	}
	return entries
}

func (v *view) Glob(dir, pattern string) []string {
	if path.IsAbs(pattern) || strings.HasPrefix(path.Join(dir, pattern), "..") {
		return nil
	}
	if !strings.ContainsAny(pattern, "*?[") {
		if v.Exists(path.Join(dir, pattern)) {
			return []string{pattern}
		}
		return nil
	}
	v.Note(Below(dir))
	pattern = strings.NewReplacer("**", "*", "{", `\{`, "}", `\}`).Replace(pattern)
	// A Root does not lead out of its folder, whatever links there are.
	folder, err := os.OpenRoot(filepath.Join(v.root, dir))
	if err != nil {
		return nil
	}
	defer folder.Close()
	names, err := doublestar.Glob(folder.FS(), path.Clean(pattern), doublestar.WithNoFollow())
	if err != nil {
		return nil
	}
	names = slices.DeleteFunc(names, func(n string) bool { return hiddenBy(pattern, n) })
	if strings.HasPrefix(pattern, "./") {
		for i := range names {
			names[i] = "./" + names[i]
		}
	}
	sort.Strings(names)
	return names
}

// hiddenBy reports whether a name begins with a dot where the pattern does not
// (POSIX, "Patterns Used for Filename Expansion").
func hiddenBy(pattern, name string) bool {
	p, n := strings.Split(path.Clean(pattern), "/"), strings.Split(name, "/")
	for i := range min(len(p), len(n)) {
		if strings.HasPrefix(n[i], ".") && !strings.HasPrefix(p[i], ".") {
			return true
		}
	}
	return false
}
