package commit

import (
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

// Since is what differs between a commit and the files of a workspace as they are now. What git ignores is in no commit, and
// nothing is said about it.
type Since struct {
	Hash string // of the commit

	root   string
	blobs  map[string][]byte // the contents in the commit, by paths relative to the workspace
	within map[string]bool   // its folders
	index  map[string]entry
	loose  map[string]bool // files that are not tracked, nor ignored
	listed map[string]bool // folders in which names came or went

	left    map[string]bool   // folders that are not in the work tree by choice (git-sparse-checkout(1))
	staged  time.Time         // when the index was written
	modules map[string]string // the commits of submodules, by their folders
	moved   map[string]bool   // whether these have other files now, as far as it was asked
	files   map[string][]string
	names   []string
}

// maxListed bounds the bytes of a list of files that git is asked for.
const maxListed = 256 << 20

// Compare returns what differs between a revision (gitrevisions(7)) and the workspace at root, an absolute folder. Of a branch that
// is not checked out it is the commit at which the present one left it.
func Compare(ctx context.Context, root, revision string) (*Since, error) {
	git, work := gitFolder(root)
	if git == "" {
		return nil, fmt.Errorf("%s is not in a work tree of git, so that nothing is known of %s", root, revision)
	}
	s := &Since{root: root, blobs: map[string][]byte{}, within: map[string]bool{".": true}, index: map[string]entry{}, loose: map[string]bool{}, listed: map[string]bool{}, left: map[string]bool{}, modules: map[string]string{}, moved: map[string]bool{}}
	if err := s.find(ctx, revision); err != nil {
		return nil, err
	}
	list, err := Ask(ctx, root, maxListed, "ls-tree", "-r", "-z", s.Hash)
	if err != nil {
		return nil, err
	}
	if len(list) == maxListed {
		return nil, fmt.Errorf("commit %.7s has too many files", s.Hash)
	}
	for one := range strings.SplitSeq(list, "\x00") { // MODE TYPE HASH\tPATH
		said, name, ok := strings.Cut(one, "\t")
		words := strings.Fields(said)
		if !ok || len(words) != 3 {
			continue // behind the last one
		}
		if words[1] == "commit" {
			s.modules[name] = words[2]
			continue
		}
		sum, err := hex.DecodeString(words[2])
		if err != nil {
			continue
		}
		s.blobs[name] = sum
		for dir := path.Dir(name); !s.within[dir]; dir = path.Dir(dir) {
			s.within[dir] = true
		}
	}
	below, err := filepath.Rel(work, root)
	if err != nil {
		return nil, err
	}
	prefix := ""
	if below != "." {
		prefix = filepath.ToSlash(below) + "/"
	}
	if info, err := os.Stat(filepath.Join(git, "index")); err == nil {
		s.staged = info.ModTime()
	}
	data, err := files.Read(filepath.Join(git, "index"), maxIndex)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if _, whole := readIndex(data, func(e *entry) bool {
		switch name, ok := strings.CutPrefix(e.path, prefix); {
		case !ok || e.mode&0xf000 == isSubmodule:
		case e.mode&0xf000 == isFolder:
			s.left[path.Clean(name)] = true
		default:
			s.index[name] = *e
		}
		return true
	}); !whole && err == nil {
		return nil, fmt.Errorf("%s cannot be read", filepath.Join(git, "index"))
	}
	others, err := Ask(ctx, root, maxListed, "ls-files", "--others", "--exclude-standard", "-z")
	if err != nil {
		return nil, err
	}
	if len(others) == maxListed {
		return nil, fmt.Errorf("%s has too many files that git does not track", root)
	}
	for name := range strings.SplitSeq(others, "\x00") {
		if name != "" {
			s.loose[name] = true
		}
	}
	s.noteNames()
	return s, nil
}

// find finds the commit of a revision.
func (s *Since) find(ctx context.Context, revision string) error {
	line := func(args ...string) (string, error) {
		out, err := Ask(ctx, s.root, 1<<16, args...)
		return strings.TrimSpace(out), err
	}
	hash, err := line("rev-parse", "--verify", "--end-of-options", revision+"^{commit}")
	if err != nil || asHash(hash) == "" {
		return fmt.Errorf("git knows no commit %s", revision)
	}
	if name, err := line("rev-parse", "--symbolic-full-name", "--end-of-options", revision); err == nil {
		if branch := strings.TrimPrefix(name, "--end-of-options\n"); strings.HasPrefix(branch, "refs/heads/") || strings.HasPrefix(branch, "refs/remotes/") {
			base, err := line("merge-base", "HEAD", hash)
			if err != nil || asHash(base) == "" {
				return fmt.Errorf("%s and the present commit have no common one", revision)
			}
			hash = base
		}
	}
	s.Hash = hash
	return nil
}

// noteNames finds the folders in which names came or went.
func (s *Since) noteNames() {
	for name := range s.blobs {
		gone := func(name string) bool {
			_, err := os.Lstat(s.full(name))
			return err != nil
		}
		if s.leftOut(name) {
			continue
		}
		for gone(name) && name != "." { // and the folders that are gone with it
			name = path.Dir(name)
			s.listed[name] = true
		}
	}
	came := func(name string) {
		if _, was := s.blobs[name]; was {
			return
		}
		if _, err := os.Lstat(s.full(name)); err != nil {
			return // it is staged alone
		}
		dir := path.Dir(name)
		for s.listed[dir] = true; !s.within[dir]; s.listed[dir] = true {
			dir = path.Dir(dir)
		}
	}
	for name := range s.index {
		came(name)
	}
	for name := range s.loose {
		came(strings.TrimSuffix(name, "/"))
	}
}

func (s *Since) full(name string) string { return filepath.Join(s.root, filepath.FromSlash(name)) }

// Of says how a file, by its path relative to the workspace, differs from the commit, in a few words; "" if it does not, or if no
// commit has it.
func (s *Since) Of(name string) string {
	sum, was := s.blobs[name]
	info, err := os.Lstat(s.full(name))
	switch e, staged := s.index[name]; {
	case err != nil && s.leftOut(name):
		return ""
	case err != nil && (was || s.inMovedModule(name)):
		return name + " is gone"
	case err != nil:
		return ""
	case !was && s.inMovedModule(name):
		return name + " may have changed with its submodule"
	case !was && (staged || s.loose[name]):
		return name + " is new"
	case !was:
		return ""
	case staged && string(e.sum) == string(sum) && e.asStaged(info) && info.ModTime().Before(s.staged): // else it may have changed at once
		return ""
	case !sameBlob(s.full(name), info, sum):
		return name + " changed"
	}
	return ""
}

// Files returns the paths of what is in a folder: files that are tracked, now or in the commit, or not ignored, and the folders that
// hold some.
func (s *Since) Files(dir string) []string {
	if s.files == nil {
		s.files = map[string][]string{}
		seen := map[string]bool{".": true}
		add := func(name string) {
			for ; !seen[name]; name = path.Dir(name) {
				seen[name] = true
				s.files[path.Dir(name)] = append(s.files[path.Dir(name)], name)
			}
		}
		for name := range s.blobs {
			add(name)
		}
		for name := range s.index {
			add(name)
		}
		for name := range s.loose {
			add(strings.TrimSuffix(name, "/"))
		}
	}
	return s.files[dir]
}

// leftOut reports whether a file is not in the work tree by choice.
func (s *Since) leftOut(name string) bool {
	if s.index[name].assumed {
		return true
	}
	for dir := path.Dir(name); len(s.left) > 0 && dir != "."; dir = path.Dir(dir) {
		if s.left[dir] {
			return true
		}
	}
	return false
}

// inMovedModule reports whether a path is in a submodule that has not the files of the commit now, or may not.
func (s *Since) inMovedModule(name string) bool {
	if len(s.modules) == 0 {
		return false
	}
	for dir := name; dir != "."; dir = path.Dir(dir) {
		hash, is := s.modules[dir]
		if !is {
			continue
		}
		moved, asked := s.moved[dir]
		if !asked {
			now := Of(s.full(dir))
			moved = now.Hash != hash || now.Dirty == nil || *now.Dirty
			s.moved[dir] = moved
		}
		return moved
	}
	return false
}

// Names returns the paths of all files that differ from the commit and that git does not ignore, in order.
func (s *Since) Names() []string {
	if s.names != nil {
		return s.names
	}
	s.names = []string{}
	all := maps.Clone(s.loose)
	for name := range s.blobs {
		all[name] = true
	}
	for name := range s.index {
		all[name] = true
	}
	for name := range all {
		if s.Of(name) != "" {
			s.names = append(s.names, name)
		}
	}
	slices.Sort(s.names)
	return s.names
}

// In reports whether names came or went in a folder, by its path relative to the workspace, since the commit.
func (s *Since) In(dir string) bool { return s.listed[dir] || s.inMovedModule(dir) }
