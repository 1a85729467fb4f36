package plan

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"tidytally/core/task"
)

// maxLooked bounds the files that are looked at for one task.
const maxLooked = 50_000

var errEnough = errors.New("enough")

// Stale returns the files among the task's reads that have changed since its last
// good run began. Patterns and results are relative to the task's folder. A task
// without reads is never stale.
func Stale(root string, t *task.Task, since time.Time) (changed []string) {
	if len(t.Reads) == 0 || since.IsZero() || strings.Contains(t.Dir, "{") {
		return nil
	}
	dir := t.Dir
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(root, filepath.FromSlash(dir))
	}
	// A Root does not lead out of its folder, whatever links there are.
	folder, err := os.OpenRoot(dir)
	if err != nil {
		return nil
	}
	defer folder.Close()
	seen := map[string]bool{}
	for _, pattern := range t.Reads {
		_ = doublestar.GlobWalk(folder.FS(), strings.TrimPrefix(pattern, "./"), func(name string, d fs.DirEntry) error {
			if len(seen) > maxLooked {
				return errEnough
			}
			if seen[name] || d.IsDir() {
				return nil
			}
			seen[name] = true
			if info, err := d.Info(); err == nil && info.ModTime().After(since) {
				changed = append(changed, name)
			}
			return nil
		}, doublestar.WithNoFollow()) // a bad pattern matches nothing
	}
	return changed
}
