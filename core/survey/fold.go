package survey

import (
	"crypto/sha256"
	"path"
	"slices"
	"strings"

	"tidytally/core/task"
	"tidytally/core/workspace"

	"tidytally/internal/lazyregexp"
)

// A Fold stands in a list for tasks that few people look for there: those of a project that
// only lies in the tree, or those of the folders below that one target leads to. A fold hides
// nothing from a filter, and it can be opened.
type Fold struct {
	// Name is the folder of a nested project, or the folder whose targets lead to the
	// others. Folds are told apart by name and reason.
	Name string `json:"name"`
	// Why is the evidence: "git submodule".
	Why   string `json:"why"`
	Tasks int    `json:"tasks"` // that are not hidden
}

// The reasons for a fold.
const (
	whySubmodule = "git submodule"
	whyLicence   = "a licence of its own"
	whyThird     = "folder of other people's projects"
	whyFixture   = "projects that tests work on"
	// WhyBelow is the reason of a fold of the same names in folders below.
	WhyBelow = "the same in folders below"
)

// thirdParty are folders that hold other people's projects, each in a folder of its own.
var thirdParty = map[string]bool{
	"third_party": true, "third-party": true, "thirdparty": true, "3rdparty": true, "external": true, "externals": true, "extern": true,
	"vendor": true, "vendored": true, "subprojects": true,
}

// fixtureFolders hold projects that tests work on.
var fixtureFolders = map[string]bool{"fixtures": true, "fixture": true, "__fixtures__": true, "testdata": true, "test-data": true, "test_data": true, "testcases": true, "test-cases": true}

// testFolders hold such projects if there are several side by side.
var testFolders = map[string]bool{"test": true, "tests": true, "testing": true, "Tests": true, "spec": true}

// severalProjects is the number of projects side by side below a test folder from which they
// are what tests work on, rather than a suite with a build of its own.
const severalProjects = 4

// sharedLicence is the number of folders from which one licence is that of the tree's own
// parts.
const sharedLicence = 3

// fold finds the folds, and says of each task which one it belongs to.
func (s *Survey) fold(tree *workspace.Tree, licences map[string][32]byte) {
	n := nestedFolders{root: s.Root, tree: tree, known: map[string]string{}, licences: licences, shared: map[[32]byte]int{}}
	folders := foldersOf(s.Tasks)
	n.prepare(s, folders)
	counts := map[[2]string]int{}
	for i, t := range s.Tasks {
		if path.IsAbs(t.File) || t.Source == "tally" || t.Pin {
			continue
		}
		name, why := n.of(folders[i])
		if name != "" {
			t.Fold = name
			if !t.Hidden {
				counts[[2]string{name, why}]++
			}
		}
	}
	s.foldBelow(counts, folders)
	s.Folds = s.Folds[:0:0]
	for key, tasks := range counts {
		s.Folds = append(s.Folds, Fold{key[0], key[1], tasks})
	}
	slices.SortFunc(s.Folds, func(a, b Fold) int {
		if c := strings.Compare(a.Name, b.Name); c != 0 {
			return c
		}
		return strings.Compare(a.Why, b.Why)
	})
}

// foldersOf returns the folder of each task. Those of one file stand together, so that it is
// worked out once for each file.
func foldersOf(tasks []*task.Task) []string {
	folders := make([]string, len(tasks))
	for i, t := range tasks {
		if i > 0 && tasks[i-1].File == t.File {
			folders[i] = folders[i-1]
		} else {
			folders[i] = t.Folder()
		}
	}
	return folders
}

// recursive matches a recipe that calls make in other folders.
var recursive = lazyregexp.New(`\$[({]MAKE[)}]|\bmake\s+-C\b|\$\(am__|RECURSIVE`)

// foldBelow folds targets of makefiles, and phases of modules, under the folder above that
// has one of the same name which leads to them.
func (s *Survey) foldBelow(counts map[[2]string]int, folders []string) {
	type at struct{ folder, name, source string }
	leads := map[at]bool{}
	for i, t := range s.Tasks {
		switch {
		case t.Hidden || t.Fold != "" || t.Source != "make" && t.Source != "maven":
		case t.Source == "make" && recursive().MatchString(t.Script), t.Source == "maven" && t.Manner == task.Inferred:
			leads[at{folders[i], t.Name, t.Source}] = true
		}
	}
	if len(leads) == 0 {
		return
	}
	for i, t := range s.Tasks {
		if t.Hidden || t.Fold != "" || t.Source != "make" && t.Source != "maven" {
			continue
		}
		for dir := folders[i]; dir != "."; {
			dir = path.Dir(dir)
			if leads[at{dir, t.Name, t.Source}] {
				t.Fold = BelowFold(dir)
				counts[[2]string{t.Fold, WhyBelow}]++
				break
			}
		}
	}
}

// BelowFold names the fold of what the targets of a folder lead to.
func BelowFold(folder string) string { return folder + "/" }

// nestedFolders tells which folders are projects that only lie in the tree.
type nestedFolders struct {
	root       string
	tree       *workspace.Tree   // what the walk saw
	own        bool              // the root is a project itself
	rootText   [32]byte          // of the root's licence
	submodules map[string]bool   // by folder
	known      map[string]string // folder: "name\x00why", or "" for one of the project itself
	licences   map[string][32]byte
	shared     map[[32]byte]int // in how many folders a licence is
	fixtures   map[string]int   // projects in the folders below a test folder
	builds     map[string]bool  // folders with a build root
}

// buildRoots are sources whose tasks begin a project where they are declared.
var buildRoots = map[string]bool{"npm": true, "cargo": true, "go": true, "cmake": true, "meson": true, "maven": true, "gradle": true, "make": true, "autotools": true, "python": true, "ant": true, "composer": true, "rake": true}

func (n *nestedFolders) prepare(s *Survey, folders []string) {
	n.builds, n.fixtures, n.submodules = map[string]bool{}, map[string]int{}, submodules(s.Root)
	for i, t := range s.Tasks {
		if (i == 0 || s.Tasks[i-1].File != t.File || s.Tasks[i-1].Source != t.Source) && buildRoots[t.Source] && !path.IsAbs(t.File) {
			n.builds[folders[i]] = true
		}
	}
	n.own = n.builds["."] || workspace.Exists(s.Root, ".git")
	n.rootText = n.licence(".")
	for dir := range n.builds {
		if above := path.Dir(dir); dir != "." {
			n.fixtures[above]++
			if text := n.licence(dir); text != [32]byte{} {
				n.shared[text]++
			}
		}
	}
}

// of returns the nested project that a folder is in, and why; "" if it is in none.
func (n *nestedFolders) of(dir string) (name, why string) {
	if dir == "." || dir == task.Personal || !n.own {
		return "", ""
	}
	known, ok := n.known[dir]
	if !ok {
		if name, why = n.of(path.Dir(dir)); name == "" {
			name, why = n.at(dir)
		}
		if name != "" {
			known = name + "\x00" + why
		}
		n.known[dir] = known
	}
	name, why, _ = strings.Cut(known, "\x00")
	return name, why
}

// at reports whether a nested project begins in a folder.
func (n *nestedFolders) at(dir string) (name, why string) {
	above := path.Dir(dir)
	switch {
	case n.submodules[dir]:
		return dir, whySubmodule
	case thirdParty[path.Base(above)]:
		return dir, whyThird
	case fixtureFolders[path.Base(dir)]:
		return dir, whyFixture
	case n.manyBeside(dir):
		return above, whyFixture
	case n.builds[dir]:
		if text := n.licence(dir); text != [32]byte{} && text != n.rootText && n.shared[text] < sharedLicence {
			return dir, whyLicence
		}
	}
	return "", ""
}

// manyBeside reports whether a folder is one of several projects side by side in or below a
// folder of tests.
func (n *nestedFolders) manyBeside(dir string) bool {
	above := path.Dir(dir)
	if !n.builds[dir] || n.fixtures[above] < severalProjects {
		return false
	}
	for _, part := range strings.Split(above, "/") {
		if testFolders[part] {
			return true
		}
	}
	return false
}

var licenceNames = []string{"LICENSE", "LICENSE.txt", "LICENSE.md", "LICENCE", "LICENCE.txt", "COPYING", "COPYING.txt", "COPYRIGHT", "LICENSE-MIT", "License.txt"}

// maxLicence is the number of bytes of a licence that are compared.
const maxLicence = 64 << 10

// licence returns a digest of a folder's licence, without blanks and the lines that name its
// holders; zero without one.
func (n *nestedFolders) licence(dir string) (sum [32]byte) {
	if sum, ok := n.licences[dir]; ok {
		return sum
	}
	for _, name := range licenceNames {
		if there, known := n.tree.Has(dir, name); known && !there {
			continue
		}
		data, err := workspace.ReadHead(n.root, path.Join(dir, name), maxLicence, false)
		if err != nil {
			continue
		}
		h := sha256.New()
		for l := range strings.Lines(strings.ToLower(string(data))) {
			if !strings.Contains(l, "copyright") {
				h.Write([]byte(strings.Join(strings.Fields(l), "")))
			}
		}
		h.Sum(sum[:0])
		break
	}
	n.licences[dir] = sum
	return sum
}

var submodulePath = lazyregexp.New(`(?m)^\s*path\s*=\s*(.+?)\s*$`)

// submodules returns the folders that .gitmodules names (gitmodules(5)).
func submodules(root string) map[string]bool {
	data, err := workspace.ReadHead(root, ".gitmodules", 1<<20, false)
	if err != nil {
		return nil
	}
	folders := map[string]bool{}
	for _, m := range submodulePath().FindAllSubmatch(data, -1) {
		folders[path.Clean(string(m[1]))] = true
	}
	return folders
}
