// Package survey finds every declaration of a workspace: it runs the readers
// over the files that a walk finds. It reads; it never runs anything. Each
// kind of declaration has a reader in a file of its own and a row in the table
// of readers.go.
package survey

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"tidytally/core/sieve/family"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// Reader reads one kind of declaration.
type Reader struct {
	// Source names the kind, as in the JSON of a task.
	Source string
	// Wants tells by its base name whether a file is one; nil for none.
	Wants func(name string) bool
	// WantsAt tells by its path whether a file is one that Wants does not know
	// by its name; nil where the name says all.
	WantsAt func(rel string) bool
	// Last readers are only given files that no other reader wants.
	Last bool
	// Head is how many bytes of a file are read, where its beginning is enough;
	// 0 for all of it.
	Head int64
	// Read reads a file. It never fails: what cannot be read is a fault.
	Read func(*File) Found
}

// Found is what a reader found in a file.
type Found struct {
	Tasks  []*task.Task
	Faults []task.Fault
	// Sieves are expressions for the output of these tasks.
	Sieves []tallyfile.Sieve
	// Package is the name that the file gives to the package in its folder.
	Package string
}

// File is a declaring file that a reader is given. Path is relative to the
// workspace, with slashes. What a reader looks at beside it is noted, so that
// the file is read again when that changes.
type File struct {
	Path   string
	Data   []byte
	ws     *files
	beside []string
	plain  map[string]bool // folders that no link leads to
}

// files lets readers see other files of the workspace, and only of it.
type files struct {
	root string
	tree *workspace.Tree // nil where there was no walk
	// walked is closed when the walk has ended; seen is there from then on.
	walked chan struct{}
	seen   *workspace.Seen

	mu       sync.Mutex
	managers map[string]managerOf
}

// names are all files that the walk found, and folders those that it entered.
func (w *files) names() []string {
	if w.tree == nil {
		return nil
	}
	<-w.walked
	return w.seen.Files
}

func (w *files) folders() []string {
	if w.tree == nil {
		return nil
	}
	<-w.walked
	return w.seen.Folders
}

func (f *File) open(rel string) ([]byte, error) {
	f.beside = append(f.beside, rel)
	if fs.ValidPath(rel) && (f.plain[path.Dir(rel)] || f.ws.tree != nil && f.ws.tree.Plain(path.Dir(rel))) {
		return workspace.ReadHead(f.ws.root, rel, 0, true)
	}
	return workspace.ReadDeclaration(f.ws.root, rel)
}

func (f *File) exists(rel string) bool {
	f.beside = append(f.beside, rel)
	if f.ws.tree != nil && fs.ValidPath(rel) {
		if there, known := f.ws.tree.Has(path.Dir(rel), path.Base(rel)); known {
			return there
		}
	}
	return workspace.Exists(f.ws.root, rel)
}

// executable tells whether the file itself may be executed.
func (f *File) executable() bool {
	info, err := os.Stat(filepath.Join(f.ws.root, filepath.FromSlash(f.Path)))
	return err == nil && info.Mode()&0o111 != 0
}

// glob lists the files that match a pattern relative to dir; the names are
// relative to dir too.
func (f *File) glob(dir, pattern string) []string {
	if path.IsAbs(pattern) || strings.HasPrefix(path.Join(dir, pattern), "..") {
		return nil
	}
	if !strings.ContainsAny(pattern, "*?[") {
		if f.exists(path.Join(dir, pattern)) {
			return []string{pattern}
		}
		return nil
	}
	f.beside = append(f.beside, below_+dir)
	pattern = strings.NewReplacer("**", "*", "{", `\{`, "}", `\}`).Replace(pattern)
	// A Root does not lead out of its folder, whatever links there are.
	folder, err := os.OpenRoot(filepath.Join(f.ws.root, dir))
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

// hiddenBy tells whether a name begins with a dot where the pattern does not
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

// Read is a file that was read and what it gave.
type Read struct {
	Path   string
	Source string
	Tasks  int
	Faults int
}

// Survey is all that was found in a workspace.
type Survey struct {
	Name    string // of the workspace
	Root    string // absolute
	Tasks   []*task.Task
	Faults  []task.Fault
	Skipped []workspace.Skip
	Read    []Read
	Taught  []Taught // what [teach] tables found
	Folders []string // those that were entered
	Files   int      // seen in them
	Tally   *tallyfile.Merged
	// Partial says that the survey goes on: this is what was found so far.
	Partial bool

	packages map[string]string // the folders of packages by their names
}

// Wants tells by its base name whether a survey may hang on a file: a reader
// or the walk itself reads it, or a reader looks into it beside its own.
func Wants(name string) bool {
	if name == ".gitignore" || noted(name) || len(readersOf(name)) > 0 || name == workspace.TallyFile {
		return true
	}
	switch path.Ext(name) {
	case ".go", ".rs", ".mk", ".cmake", ".ninja", ".inc", ".lock", ".json", ".jsonc", ".yaml", ".yml", ".toml", ".xml":
		return true
	}
	if specLike(name) {
		return true
	}
	return strings.HasPrefix(name, "settings.gradle")
}

// compareFiles puts what the user has for every workspace first, and the files
// of a folder before those of the folders in it.
func compareFiles(a, b string) int {
	if path.IsAbs(a) != path.IsAbs(b) {
		if path.IsAbs(a) {
			return -1
		}
		return 1
	}
	da, db := path.Dir(a), path.Dir(b)
	switch {
	case da == db:
		return strings.Compare(a, b)
	case da == ".":
		return -1
	case db == ".":
		return 1
	}
	return strings.Compare(da, db)
}

// finish applies what the tally files say of the whole workspace.
func (s *Survey) finish() {
	if s.Tally.Workspace.Name != "" {
		s.Name = s.Tally.Workspace.Name
	}
	s.hideDoubles()
	s.Faults = append(s.Faults, s.Tally.Adjust(s.Tasks)...)
	s.checkSieves()
}

// checkSieves reports the names of sieves that there are not.
func (s *Survey) checkSieves() {
	known := append(family.All.Families(), tallyfile.AllSieves)
	for _, own := range s.Tally.Sieves {
		known = append(known, own.Name)
	}
	for _, t := range s.Tasks {
		for _, name := range t.Sieves {
			if slices.Contains(known, name) {
				continue
			}
			message := fmt.Sprintf("task %s: there is no sieve %s", t.Name, name)
			if near, ok := task.Nearest(name, known); ok {
				message += "; did you mean " + near + "?"
			}
			o := t.Origin("sieves")
			s.Faults = append(s.Faults, task.Fault{File: o.File, Line: o.Line, Column: o.Column, Message: message})
		}
	}
}

// SievesFor gives the sieves of the tally files that hold for output made in a
// folder, an absolute one: the nearest first, the user's own last. It reads no
// other file.
func SievesFor(dir string) (sieves []tallyfile.Sieve) {
	root, err := workspace.Root(dir)
	if err != nil {
		return nil
	}
	if dir, err = filepath.EvalSymlinks(dir); err != nil {
		return nil
	}
	for at := dir; ; at = filepath.Dir(at) {
		rel, err := filepath.Rel(root, at)
		if err != nil || strings.HasPrefix(rel, "..") {
			break // dir is not in the workspace
		}
		name := path.Join(filepath.ToSlash(rel), workspace.TallyFile)
		if data, err := workspace.ReadDeclaration(root, name); err == nil {
			sieves = append(sieves, tallyfile.Parse(name, data).Sieves...)
		}
		if at == root {
			break
		}
	}
	if own := PersonalFile(); own != "" {
		if data, err := readOutside(own); err == nil {
			sieves = append(sieves, tallyfile.Parse(own, data).Sieves...)
		}
	}
	return sieves
}

// Usual finds the usual task, or nil.
func (s *Survey) Usual() *task.Task {
	if s.Tally.Workspace.Usual == "" {
		return nil
	}
	t, _ := task.Find(s.Tasks, s.Tally.Workspace.Usual)
	return t
}

// list gives the entries of a folder of the workspace, sorted by name; nothing
// where it cannot be read.
func (f *File) list(dir string) []workspace.Entry {
	if !fs.ValidPath(dir) {
		return nil
	}
	f.beside = append(f.beside, path.Join(dir, "*"))
	if f.ws.tree != nil {
		if entries, known := f.ws.tree.List(dir); known {
			return entries
		}
	}
	plain := f.plain[dir] || f.ws.tree != nil && f.ws.tree.Plain(dir)
	entries, err := workspace.ReadFolder(f.ws.root, dir, plain)
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if plain && e.Type.IsDir() {
			if f.plain == nil {
				f.plain = map[string]bool{}
			}
			f.plain[path.Join(dir, e.Name)] = true
		}
	}
	return entries
}
