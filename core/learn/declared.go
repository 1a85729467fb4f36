package learn

import (
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
)

// Declared reads and makes are globs of doublestar.

var errEnough = errors.New("enough")

// OfDeclared stamps what a run was declared to read and to make, right after its end. The globs are
// relative to the folder of the setting; root is the workspace, absolute.
func OfDeclared(root string, reads, makes []string, set Setting, started time.Time) *Known {
	k := &Known{Origin: Declared, Setting: set, Started: started, Ended: time.Now(), Reads: reads, Makes: makes}
	seen := map[string]bool{}
	add := func(role Role) func(name, full string) bool {
		return func(name, full string) bool {
			if seen[name] {
				return true
			}
			if len(k.Stamps) == maxStamps {
				k.Never = tooMany
				return false
			}
			seen[name] = true
			s := Stamp{Path: name, Role: role}
			s.look(full, true)
			if role == Read && s.Time >= started.Add(grain).UnixNano() && s.Hash != 0 {
				s.Hash = changedMeanwhile
			}
			k.Stamps = append(k.Stamps, s)
			return true
		}
	}
	eachMatch(root, set.Dir, makes, add(Made))
	eachMatch(root, set.Dir, reads, add(Read))
	return k
}

// came returns the reasons that files give which match what was declared to be read, and were not there.
func (k *Known) came(root string) (reasons []string) {
	if len(k.Reads) == 0 {
		return nil
	}
	seen := make(map[string]bool, len(k.Stamps))
	for i := range k.Stamps {
		seen[k.Stamps[i].Path] = true
	}
	made := map[string]bool{}
	eachMatch(root, k.Setting.Dir, k.Makes, func(name, _ string) bool {
		made[name] = true
		return true
	})
	eachMatch(root, k.Setting.Dir, k.Reads, func(name, _ string) bool {
		if !seen[name] && !made[name] {
			reasons = append(reasons, name+" is new")
		}
		return len(reasons) < maxStamps
	})
	return reasons
}

// eachMatch calls f with each file that matches a glob, until f returns false: with its path relative
// to the workspace, and absolute. It does not leave the workspace, but for a file that a
// pattern names without wildcards; that has an absolute path.
func eachMatch(root, dir string, globs []string, f func(name, full string) bool) {
	in, err := os.OpenRoot(root) // a Root does not lead out of its folder, whatever links there are
	if err != nil {
		return
	}
	defer in.Close()
	for _, glob := range globs {
		base, rest := doublestar.SplitPattern(filepath.ToSlash(glob))
		if !path.IsAbs(base) {
			base = path.Join(filepath.ToSlash(dir), base)
		}
		rel, err := filepath.Rel(root, filepath.FromSlash(base))
		if err != nil || !filepath.IsLocal(rel) {
			if full := path.Join(base, rest); !strings.ContainsAny(rest, `*?[{\`) {
				if info, err := os.Stat(full); err == nil && !info.IsDir() && !f(full, full) {
					return
				}
			}
			continue
		}
		folder, err := fs.Sub(in.FS(), filepath.ToSlash(rel))
		if err != nil {
			continue
		}
		done := false
		_ = doublestar.GlobWalk(folder, rest, func(name string, d fs.DirEntry) error {
			if d.IsDir() {
				return nil
			}
			name = path.Join(filepath.ToSlash(rel), name)
			if done = !f(name, filepath.Join(root, filepath.FromSlash(name))); done {
				return errEnough
			}
			return nil
		}, doublestar.WithNoFollow()) // a bad pattern matches nothing
		if done {
			return
		}
	}
}

// Takes reports whether a path, relative to the workspace or absolute, matches one of some globs that are
// relative to a folder, absolute.
func Takes(root, dir string, globs []string, name string) bool {
	if !filepath.IsAbs(name) {
		name = filepath.Join(root, filepath.FromSlash(name))
	}
	return slices.ContainsFunc(globs, func(glob string) bool {
		if !path.IsAbs(glob) {
			glob = path.Join(filepath.ToSlash(dir), glob)
		}
		ok, err := doublestar.Match(glob, filepath.ToSlash(name))
		return ok && err == nil
	})
}

// Matches returns the files of the workspace at root that match one of some globs relative to a folder, absolute: by
// their paths relative to root.
func Matches(root, dir string, globs []string) (names []string) {
	seen := map[string]bool{}
	eachMatch(root, dir, globs, func(name, _ string) bool {
		if !filepath.IsAbs(name) && !seen[name] {
			seen[name] = true
			names = append(names, name)
		}
		return len(names) < maxStamps
	})
	return names
}
