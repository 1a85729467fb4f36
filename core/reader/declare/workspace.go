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
	stamps sync.Map // of files and folders, by path
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

// view is a workspace as one reader sees it. It is not safe for concurrent use.
type view struct {
	*Workspace
	looks []Look
	plain map[string]bool // folders that no link leads to
}

func (v *view) Root() string { return v.root }

func (v *view) Note(looks ...Look) { v.looks = append(v.looks, looks...) }

// look notes one look with a yes or no for its answer.
func (v *view) look(what What, rel string, yes bool) {
	l := Look{What: what, Path: rel}
	if yes {
		l.Answer = 1
	}
	v.looks = append(v.looks, l)
}

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

func (v *view) Open(rel string) (data []byte, err error) {
	if fs.ValidPath(rel) && v.isPlain(path.Dir(rel)) {
		data, err = workspace.ReadHead(v.root, rel, 0, true)
	} else {
		data, err = workspace.ReadDeclaration(v.root, rel)
	}
	v.look(Content, rel, err == nil)
	return data, err
}

func (v *view) Exists(rel string) bool {
	there := v.exists(rel)
	v.look(Existence, rel, there)
	return there
}

func (v *view) exists(rel string) bool {
	if v.tree != nil && fs.ValidPath(rel) {
		if there, known := v.tree.Has(path.Dir(rel), path.Base(rel)); known {
			return there
		}
	}
	return workspace.Exists(v.root, rel)
}

func (v *view) Executable(rel string) bool {
	info, err := os.Stat(filepath.Join(v.root, filepath.FromSlash(rel)))
	may := err == nil && info.Mode()&0o111 != 0
	v.look(Execution, rel, may)
	return may
}

func (v *view) Modified(rel string) time.Time {
	at := v.modified(rel)
	v.Note(Look{What: Time, Path: rel, Answer: uint64(at.UnixNano())})
	return at
}

func (v *view) modified(rel string) time.Time {
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
	entries, err := v.list(dir)
	v.look(Entries, dir, err == nil && entries != nil) // nil if there is no such folder
	return entries
}

func (v *view) list(dir string) ([]workspace.Entry, error) {
	if v.tree != nil {
		if entries, known := v.tree.List(dir); known {
			return entries, nil
		}
	}
	plain := v.isPlain(dir)
	entries, err := workspace.ReadFolder(v.root, dir, plain)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if plain && e.Type.IsDir() {
			if v.plain == nil {
				v.plain = map[string]bool{}
			}
			v.plain[path.Join(dir, e.Name)] = true
		}
	}
	return entries, nil
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
	names := v.glob(dir, pattern)
	v.Note(Look{What: Matches, Path: dir, Pattern: pattern, Answer: digest(names)})
	return names
}

func (v *view) glob(dir, pattern string) []string {
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
