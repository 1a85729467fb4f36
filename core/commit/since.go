package commit

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tidytally/core/files"
)

// Since has the differences between a commit and the files of a workspace. Paths are relative to the workspace, with slashes.
// Ignored files are in no commit and never differ.
type Since struct {
	Hash string // of the commit

	differs map[string]string   // a reason for each path that differs
	listed  map[string]bool     // folders with added or removed names
	moved   map[string]bool     // repositories inside of the workspace whose files may differ
	files   map[string][]string // the files and folders in each folder that are not ignored
	names   []string            // the keys of differs, sorted
}

// maxListed bounds the bytes of a list of files. Compare fails for a longer one.
const maxListed = 256 << 20

// Compare compares the workspace at root, an absolute folder, with a revision (gitrevisions(7)). If the revision is a branch, it
// compares with the merge base of the branch and HEAD. It fails if root is in no work tree, or git knows no such commit.
func Compare(ctx context.Context, root, revision string) (*Since, error) {
	git, work := gitFolder(root)
	if git == "" {
		return nil, fmt.Errorf("%s is in no work tree of git, so there is no commit %s", root, revision)
	}
	hash, err := find(ctx, root, revision)
	if err != nil {
		return nil, err
	}
	then, err := readTree(ctx, root, hash)
	if err != nil {
		return nil, err
	}
	now, err := readWork(ctx, root, git, work)
	if err != nil {
		return nil, err
	}
	s := &Since{Hash: hash, differs: map[string]string{}, listed: map[string]bool{}, moved: now.loose, files: map[string][]string{}}
	for dir := range now.modules {
		s.moved[dir] = then.modules[dir] == ""
	}
	for dir, hash := range then.modules {
		at := Of(filepath.Join(root, filepath.FromSlash(dir)))
		s.moved[dir] = at.Hash != hash || at.Dirty == nil || *at.Dirty
	}
	s.compare(root, then, now)
	s.names = slices.Sorted(maps.Keys(s.differs))
	return s, nil
}

// find returns the commit of a revision; of a branch its merge base with HEAD.
func find(ctx context.Context, root, revision string) (string, error) {
	line := func(args ...string) string {
		out, err := Ask(ctx, root, 1<<16, args...)
		if err != nil {
			return "" // the revision is not what was asked for
		}
		return strings.TrimSpace(out)
	}
	hash := asHash(line("rev-parse", "--verify", "--end-of-options", revision+"^{commit}"))
	if hash == "" {
		return "", fmt.Errorf("git knows no commit %s", revision)
	}
	name := strings.TrimPrefix(line("rev-parse", "--symbolic-full-name", "--end-of-options", revision), "--end-of-options\n")
	if !strings.HasPrefix(name, "refs/heads/") && !strings.HasPrefix(name, "refs/remotes/") {
		return hash, nil
	}
	if hash = asHash(line("merge-base", "HEAD", hash)); hash == "" {
		return "", fmt.Errorf("%s and HEAD have no common commit", revision)
	}
	return hash, nil
}

// tree has the files of a commit.
type tree struct {
	blobs   map[string][]byte // hashes of the contents
	modules map[string]string // commits of submodules
	folders map[string]bool
}

// list returns the names that git prints with -z.
func list(ctx context.Context, root string, args ...string) ([]string, error) {
	out, err := Ask(ctx, root, maxListed, args...)
	if err != nil {
		return nil, err
	}
	if len(out) == maxListed {
		return nil, fmt.Errorf("git %s lists more than %d bytes of names", args[0], maxListed)
	}
	return strings.FieldsFunc(out, func(r rune) bool { return r == 0 }), nil
}

func readTree(ctx context.Context, root, hash string) (*tree, error) {
	lines, err := list(ctx, root, "ls-tree", "-r", "-z", hash)
	if err != nil {
		return nil, err
	}
	t := &tree{map[string][]byte{}, map[string]string{}, map[string]bool{".": true}}
	for _, l := range lines { // MODE TYPE HASH\tPATH (git-ls-tree(1))
		said, name, _ := strings.Cut(l, "\t")
		words := strings.Fields(said)
		if len(words) != 3 {
			return nil, fmt.Errorf("git ls-tree printed %q", l)
		}
		sum, err := hex.DecodeString(words[2])
		if err != nil {
			return nil, fmt.Errorf("git ls-tree printed %q: %w", l, err)
		}
		if words[1] == "commit" {
			t.modules[name] = words[2]
		} else {
			t.blobs[name] = sum
		}
		for dir := path.Dir(name); !t.folders[dir]; dir = path.Dir(dir) {
			t.folders[dir] = true
		}
	}
	return t, nil
}

// workTree has the index, and the untracked files that are not ignored.
type workTree struct {
	index   map[string]entry
	written time.Time       // of the index
	modules map[string]bool // submodules
	sparse  map[string]bool // folders that a sparse checkout leaves out (git-sparse-checkout(1))
	others  map[string]bool // untracked files
	loose   map[string]bool // untracked repositories
}

func readWork(ctx context.Context, root, git, work string) (*workTree, error) {
	w := &workTree{index: map[string]entry{}, modules: map[string]bool{}, sparse: map[string]bool{}, others: map[string]bool{}, loose: map[string]bool{}}
	below, err := filepath.Rel(work, root)
	if err != nil {
		return nil, err
	}
	prefix := ""
	if below != "." {
		prefix = filepath.ToSlash(below) + "/"
	}
	index := filepath.Join(git, "index")
	data, err := files.Read(index, maxIndex)
	if err == nil {
		info, gone := os.Stat(index)
		if gone != nil {
			return nil, gone
		}
		w.written = info.ModTime()
		_, whole := readIndex(data, func(e *entry) bool {
			switch name, ok := strings.CutPrefix(e.path, prefix); {
			case !ok:
			case e.mode&0xf000 == isSubmodule:
				w.modules[name] = true
			case e.mode&0xf000 == isFolder:
				w.sparse[path.Clean(name)] = true
			default:
				w.index[name] = *e
			}
			return true
		})
		if !whole {
			return nil, fmt.Errorf("%s is damaged", index)
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	others, err := list(ctx, root, "ls-files", "--others", "--exclude-standard", "-z")
	if err != nil {
		return nil, err
	}
	for _, name := range others {
		if dir, ok := strings.CutSuffix(name, "/"); ok {
			w.loose[dir] = true
		} else {
			w.others[name] = true
		}
	}
	return w, nil
}

// leavesOut reports whether a file is missing by choice: its entry is marked, or a sparse checkout leaves its folder out.
func (w *workTree) leavesOut(name string) bool {
	if w.index[name].assumed {
		return true
	}
	return len(w.sparse) > 0 && above(name, w.sparse) != ""
}

// above returns the nearest of some folders that is a path or contains it; "" if none does.
func above(name string, folders map[string]bool) string {
	for ; name != "." && name != "/"; name = path.Dir(name) {
		if _, ok := folders[name]; ok {
			return name
		}
	}
	return ""
}

// compare looks at each file once.
func (s *Since) compare(root string, then *tree, now *workTree) {
	all := map[string]bool{}
	for name := range then.blobs {
		all[name] = true
	}
	for name := range now.index {
		all[name] = true
	}
	maps.Copy(all, now.others)
	seen := map[string]bool{".": true}
	for name := range all {
		for at := name; !seen[at]; at = path.Dir(at) {
			seen[at] = true
			s.files[path.Dir(at)] = append(s.files[path.Dir(at)], at)
		}
		full := filepath.Join(root, filepath.FromSlash(name))
		info, missing := os.Lstat(full)
		sum, was := then.blobs[name]
		e, tracked := now.index[name]
		switch {
		case missing != nil && was && !now.leavesOut(name):
			s.differs[name] = name + " is gone"
			for dir := path.Dir(name); ; dir = path.Dir(dir) { // an empty folder goes with its last file
				s.listed[dir] = true
				if _, err := os.Lstat(filepath.Join(root, filepath.FromSlash(dir))); err == nil || dir == "." {
					break
				}
			}
		case missing != nil:
		case !was:
			s.differs[name] = name + " is new"
			for dir := path.Dir(name); ; dir = path.Dir(dir) {
				if s.listed[dir] = true; then.folders[dir] {
					break
				}
			}
		case tracked && bytes.Equal(e.sum, sum) && e.asStaged(info) && info.ModTime().Before(now.written):
			// A file with the time of the index may have changed after it was staged.
		case !sameBlob(full, info, sum):
			s.differs[name] = name + " changed"
		}
	}
}

// Of says how a file differs from the commit; "" if it does not.
func (s *Since) Of(name string) string {
	if dir := above(name, s.moved); dir != "" && s.moved[dir] {
		return name + " may have changed with " + dir
	}
	return s.differs[name]
}

// Names returns the paths of the files that differ, in order.
func (s *Since) Names() []string { return s.names }

// In reports whether names were added to a folder or removed from it.
func (s *Since) In(dir string) bool {
	at := above(dir, s.moved)
	return s.listed[dir] || at != "" && s.moved[at]
}

// Files returns the paths of the files in a folder that are not ignored, and of the folders with such files.
func (s *Since) Files(dir string) []string { return s.files[dir] }
