// Package survey finds every declaration of a workspace: it runs the readers
// over the files that a walk finds. It reads; it never runs anything. Each
// kind of declaration has a reader in a file of its own and a row in the table
// of readers.go.
package survey

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// Reader reads one kind of declaration.
type Reader struct {
	// Source names the kind, as in the JSON of a task.
	Source string
	// Wants tells by its base name whether a file is one.
	Wants func(name string) bool
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
	// Package is the name that the file gives to the package in its folder.
	Package string
}

// File is a declaring file that a reader is given. Path is relative to the
// workspace, with slashes.
type File struct {
	Path string
	Data []byte
	ws   *files
}

// files lets readers see other files of the workspace, and only of it.
type files struct {
	root    string
	names   []string // of the files that the walk noted, sorted
	folders []string // that it entered, sorted
}

func (f *File) open(rel string) ([]byte, error) { return workspace.ReadDeclaration(f.ws.root, rel) }

func (f *File) exists(rel string) bool { return workspace.Exists(f.ws.root, rel) }

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
	Folders []string // those that were entered
	Files   int      // seen in them
	Tally   *tallyfile.Merged

	packages map[string]string // the folders of packages by their names
}

// Wants tells by its base name whether a survey may hang on a file: a reader
// or the walk itself reads it, or a reader looks into it beside its own.
func Wants(name string) bool {
	if name == ".gitignore" || wanted(name) {
		return true
	}
	switch path.Ext(name) {
	case ".go", ".rs", ".mk", ".cmake", ".ninja", ".inc", ".lock", ".yaml":
		return true
	}
	if specLike(name) {
		return true
	}
	return strings.HasPrefix(name, "settings.gradle")
}

func wanted(name string) bool {
	if name == workspace.TallyFile {
		return true
	}
	for i := range readers {
		if readers[i].Wants(name) {
			return true
		}
	}
	return false
}

// Of surveys the workspace at root, an absolute folder. It fails only when the
// root cannot be read.
func Of(root string) (*Survey, error) {
	s := &Survey{Name: filepath.Base(root), Root: root, Tally: &tallyfile.Merged{}}
	walk := workspace.Walk{Root: root, Wants: func(name string) bool { return specLike(name) || wanted(name) }}
	if data, err := workspace.ReadDeclaration(root, workspace.TallyFile); err == nil {
		walk.Ignore = tallyfile.Parse(workspace.TallyFile, data).Workspace.Ignore
	}
	seen, err := walk.Run()
	if err != nil {
		return nil, err
	}
	s.Skipped, s.Faults, s.Folders, s.Files = seen.Skipped, seen.Faults, seen.Folders, seen.Count
	s.readAll(seen)
	sort.SliceStable(s.Tasks, func(i, j int) bool {
		a, b := s.Tasks[i], s.Tasks[j]
		if a.File != b.File {
			return fileLess(a.File, b.File)
		}
		return a.Line < b.Line
	})
	s.finish()
	sort.SliceStable(s.Faults, func(i, j int) bool {
		a, b := s.Faults[i], s.Faults[j]
		if a.File != b.File {
			return fileLess(a.File, b.File)
		}
		return a.Line < b.Line
	})
	return s, nil
}

// fileLess puts the files of a folder before those of the folders in it.
func fileLess(a, b string) bool {
	da, db := path.Dir(a), path.Dir(b)
	if da == db {
		return a < b
	}
	if da == "." || db == "." {
		return da == "."
	}
	return da < db
}

// readAll runs the readers over the files, side by side.
func (s *Survey) readAll(seen *workspace.Seen) {
	ws := &files{root: s.Root, names: seen.Files, folders: seen.Folders}
	names := slices.DeleteFunc(slices.Clone(seen.Files), func(f string) bool { return !wanted(path.Base(f)) })
	s.packages = map[string]string{}
	type result struct {
		read  []Read
		found []Found
		tally *tallyfile.File
	}
	results := make([]result, len(names))
	next := make(chan int)
	var all sync.WaitGroup
	for range runtime.GOMAXPROCS(0) * 2 {
		all.Go(func() {
			for i := range next {
				results[i] = func() (r result) {
					name := names[i]
					base := path.Base(name)
					data, err := workspace.ReadHead(s.Root, name, headOf(base))
					if err != nil {
						r.found = append(r.found, Found{Faults: []task.Fault{{File: name, Message: err.Error()}}})
						return r
					}
					if base == workspace.TallyFile {
						r.tally = tallyfile.Parse(name, data)
						r.read = append(r.read, Read{name, "tally", len(r.tally.Tasks), len(r.tally.Faults)})
					}
					for k := range readers {
						if readers[k].Wants(base) {
							f := readers[k].Read(&File{Path: name, Data: data, ws: ws})
							r.found = append(r.found, f)
							if readers[k].Head > 0 && len(f.Tasks)+len(f.Faults) == 0 {
								continue // only looked at
							}
							r.read = append(r.read, Read{name, readers[k].Source, len(f.Tasks), len(f.Faults)})
						}
					}
					return r
				}()
			}
		})
	}
	for i := range names {
		next <- i
	}
	close(next)
	all.Wait()
	for _, r := range results {
		s.Read = append(s.Read, r.read...)
		for _, f := range r.found {
			s.Tasks = append(s.Tasks, f.Tasks...)
			s.Faults = append(s.Faults, f.Faults...)
			if _, taken := s.packages[f.Package]; f.Package != "" && !taken {
				s.packages[f.Package] = path.Dir(r.read[0].Path)
			}
		}
		if r.tally != nil {
			s.Tally.Add(r.tally)
			s.Tasks = append(s.Tasks, r.tally.Tasks...)
			s.Faults = append(s.Faults, r.tally.Faults...)
		}
	}
}

// finish applies what the tally files say of the whole workspace.
func (s *Survey) finish() {
	if s.Tally.Workspace.Name != "" {
		s.Name = s.Tally.Workspace.Name
	}
	s.hideDoubles()
	s.Faults = append(s.Faults, s.Tally.Adjust(s.Tasks)...)
}

// headOf tells how many bytes of a file are needed: all of them (0) when any
// reader wants it whole.
func headOf(base string) int64 {
	if base == workspace.TallyFile {
		return 0
	}
	var head int64
	for i := range readers {
		if readers[i].Wants(base) {
			if readers[i].Head == 0 {
				return 0
			}
			head = max(head, readers[i].Head)
		}
	}
	return head
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
func (f *File) list(dir string) []fs.DirEntry {
	if !fs.ValidPath(dir) {
		return nil
	}
	root, err := os.OpenRoot(f.ws.root)
	if err != nil {
		return nil
	}
	defer root.Close()
	entries, err := fs.ReadDir(root.FS(), dir)
	if err != nil {
		return nil
	}
	return entries
}
