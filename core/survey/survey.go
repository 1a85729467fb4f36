// Package survey finds every declaration of a workspace: it runs the readers
// over the files that a walk finds. It reads; it never runs anything. Each
// kind of declaration has a reader in a file of its own and a row in the table
// of readers.go.
package survey

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"tidytally/core/reader"
	"tidytally/core/reader/editorfile"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// Read is a file that was read, with the number of its tasks and faults.
type Read struct {
	Path   string
	Source string
	Tasks  int
	Faults int
	// PartOf is the file that brings this one in and lists its tasks; "" if the file
	// stands by itself.
	PartOf string
}

// Survey is all that was found in a workspace.
type Survey struct {
	Name    string // of the workspace
	Root    string // absolute
	Tasks   []*task.Task
	Faults  []task.Fault
	Skipped []workspace.Skip
	Read    []Read
	Taught  []editorfile.Taught // what [teach] tables found
	Folds   []Fold              // what a list folds away
	Folders []string            // those that were entered
	Watched []string            // these, and others whose changes matter
	Files   int                 // seen in them
	Tally   *tallyfile.Merged
	// Partial says that the survey is not finished.
	Partial bool

	packages map[string]string   // the folders of packages by their names
	depends  map[string][]string // the packages that a package's folder depends on
	leftOut  func() (file, rule string)
	counted  func() Count
}

// Wants reports by its base name whether a survey may depend on a file.
func Wants(name string) bool {
	return name == ".gitignore" || name == workspace.TallyFile || len(readersOf(name)) > 0 || reader.Beside(name)
}

// Count says how many tasks there are.
type Count struct {
	Tasks   int // all
	Aside   int // of these, such as a list shows only when asked: intermediate targets, hooks, what another stands for
	Folders int // that declare some
}

// Count counts the tasks, once for each survey.
func (s *Survey) Count() Count { return s.counted() }

func (s *Survey) count() Count {
	c := Count{Tasks: len(s.Tasks)}
	folders := map[string]bool{}
	for _, t := range s.Tasks {
		folders[t.Folder()] = true
		if t.Aside() {
			c.Aside++
		}
	}
	c.Folders = len(folders)
	return c
}

// SkippedFiles returns how many files rules keep out of the survey, and how many rules do.
func (s *Survey) SkippedFiles() (files, rules int) {
	seen := map[string]bool{}
	for _, k := range s.Skipped {
		files += k.Files
		seen[k.Rule] = true
	}
	return files, len(seen)
}

// compareFiles orders files: the user's own first, and the files of a folder before
// those of the folders in it.
func compareFiles(a, b string) int {
	if path.IsAbs(a) != path.IsAbs(b) {
		if path.IsAbs(a) {
			return -1
		}
		return 1
	}
	da, db := folderOf(a), folderOf(b)
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

// folderOf is path.Dir for a clean path, which costs nothing.
func folderOf(p string) string {
	if i := strings.LastIndexByte(p, '/'); i > 0 {
		return p[:i]
	}
	return path.Dir(p)
}

// finish applies what the tally files set for the whole workspace. licences holds the
// digests of licences that were read before, by folder; tree is the walk.
func (s *Survey) finish(tree *workspace.Tree, licences map[string][32]byte) {
	if s.Tally.Workspace.Name != "" {
		s.Name = s.Tally.Workspace.Name
	}
	s.called().HideDoubles()
	s.hideScriptsOfTally()
	unknown := s.Tally.Adjust(s.Tasks)
	s.leftOut = sync.OnceValues(s.findLeftOut)
	s.counted = sync.OnceValue(s.count)
	s.linkPackages()
	var folding sync.WaitGroup
	folding.Go(func() { s.fold(tree, licences) })
	if !s.Partial { // a task that is named may still come
		s.Faults = append(s.Faults, unknown...)
		s.check()
	}
	folding.Wait()
}

// hideScriptsOfTally hides scripts that a task of a tally file stands for: it runs the
// script, and says more of it.
func (s *Survey) hideScriptsOfTally() {
	runs := map[string]string{} // the ids of such tasks, by the script's file
	for _, t := range s.Tasks {
		if t.Source != "tally" {
			continue
		}
		words := t.Command.Argv
		if len(words) == 0 {
			words, _ = task.SplitWords(t.Command.Shell)
		}
		for _, w := range words[:min(2, len(words))] { // the program, or the script of an interpreter
			w = strings.TrimPrefix(w, "{root}/")
			runs[path.Join(t.Dir, w)] = t.ID()
			if w != words[0] {
				break
			}
		}
	}
	for _, t := range s.Tasks {
		if by := runs[t.File]; t.Source == "script" && by != "" {
			t.Hidden = true
			o := t.Origin("name")
			o.Note = "hidden, as " + by + " runs it"
			t.SetOrigin("name", o)
		}
	}
}

func (s *Survey) called() *reader.Called { return &reader.Called{Tasks: s.Tasks, Packages: s.packages} }

// Calls returns what the script of a task executes, in the order of the script.
func (s *Survey) Calls(t *task.Task) []reader.Call { return s.called().Calls(t) }

// Parts lists what a task's tool runs by itself as a part of it: the hooks around a package
// script, or what its build file orders first.
func (s *Survey) Parts(t *task.Task) (parts []string) {
	for _, c := range s.Calls(t) {
		if c.Hook != "" {
			parts = append(parts, c.Text+" ("+c.Hook+" it)")
		}
	}
	if len(parts) > 0 {
		return parts
	}
	for _, name := range t.Prerequisites {
		if !slices.Contains(t.Before, name) {
			parts = append(parts, name)
		}
	}
	return parts
}

// linkPackages finds the tasks of other packages that come before those with packages_before.
func (s *Survey) linkPackages() {
	names := map[string]bool{}
	for _, t := range s.Tasks {
		if t.PackagesBefore != "" {
			names[t.PackagesBefore] = true
		}
	}
	if len(names) == 0 {
		return
	}
	type named struct{ folder, name string }
	scripts := map[named]*task.Task{}
	for _, t := range s.Tasks {
		if t.Source == "npm" && names[t.Name] {
			scripts[named{t.Folder(), t.Name}] = t
		}
	}
	for _, t := range s.Tasks {
		name := t.PackagesBefore
		if name == "" && scripts[named{t.Folder(), t.Name}] == t {
			name = t.Name // one that may come before others
		}
		if name == "" {
			continue
		}
		for _, p := range s.depends[t.Dir] {
			if folder, here := s.packages[p]; here && folder != t.Dir {
				if before := scripts[named{folder, name}]; before != nil {
					t.Upstream = append(t.Upstream, before.ID())
				}
			}
		}
	}
}

// SievesFor returns the sieves of the tally files that hold for output made in dir,
// an absolute path: the nearest first, the user's own last. It reads no other file.
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

// LeftOut returns a build file that a rule ignores although it stands beside others that are
// read, with the rule; "" if there is none. Scripts and what readers only guess at do not count.
func (s *Survey) LeftOut() (file, rule string) { return s.leftOut() }

func (s *Survey) findLeftOut() (file, rule string) {
	read := map[string]bool{}
	for _, r := range s.Read {
		if r.Tasks > 0 {
			read[path.Dir(r.Path)] = true
		}
	}
	for _, k := range s.Skipped {
		if !read[path.Dir(k.Path)] {
			continue
		}
		for _, r := range readersOf(path.Base(k.Path)) {
			if !r.Last && r.Head == 0 { // a script is asked by its beginning
				return k.Path, k.Rule
			}
		}
	}
	return "", ""
}

// WhyEmpty says why a survey found no tasks: which files that may declare some are
// ignored, and how to have them read. It is "" if there are tasks.
func (s *Survey) WhyEmpty() string {
	if len(s.Tasks) > 0 {
		return ""
	}
	why := fmt.Sprintf("no tasks were found in %s", s.Root)
	var left []workspace.Skip
	for _, k := range s.Skipped {
		if k.Files > 0 {
			left = append(left, k)
		}
	}
	if len(left) == 0 {
		return why + "; a tidytally.toml with a [task.NAME] declares one"
	}
	slices.SortStableFunc(left, func(a, b workspace.Skip) int { return strings.Count(a.Path, "/") - strings.Count(b.Path, "/") })
	why += fmt.Sprintf(": %s is ignored by %s", left[0].Path, left[0].Rule)
	if len(left) > 1 {
		why += fmt.Sprintf(", and %d more", len(left)-1)
	}
	return why + fmt.Sprintf("; rules_off = [%q] in the [workspace] of a tidytally.toml reads it", strings.TrimPrefix(strings.SplitN(left[0].Rule, ":", 2)[0], "built-in: "))
}
