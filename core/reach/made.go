package reach

import (
	"io/fs"
	"path/filepath"
	"time"
)

// maxWalked is the number of files and folders that are looked at for objects. In a larger tree nothing is known of
// them.
const maxWalked = 300_000

// clockStep is how much earlier than a moment the time of a file that is written at it may be: the kernel's clock for
// files goes in steps.
const clockStep = 10 * time.Millisecond

// object is a file that a compiler has made.
type object struct {
	path string // as a Reach's paths are
	made bool   // by the run, or after its start
}

// objectsUnder returns the objects in a workspace; none if there are too many files to say.
func objectsUnder(root string, start time.Time) (found []object) {
	n := 0
	err := filepath.WalkDir(root, func(full string, d fs.DirEntry, err error) error {
		if n++; n > maxWalked {
			return filepath.SkipAll
		}
		if err != nil {
			return nil //nolint:nilerr // what cannot be read holds no object that is known
		}
		if d.IsDir() {
			if name := d.Name(); name == ".git" || name == "node_modules" || name == ".hg" || name == ".svn" {
				return filepath.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() || !isObject(d.Name()) {
			return nil
		}
		info, err := d.Info()
		if err != nil {
			return nil //nolint:nilerr // it has just been removed
		}
		rel, err := filepath.Rel(root, full)
		if err != nil {
			return nil //nolint:nilerr // it is below the root
		}
		found = append(found, object{filepath.ToSlash(rel), !info.ModTime().Before(start.Add(-clockStep))})
		return nil
	})
	if err != nil || n > maxWalked {
		return nil
	}
	return found
}
