package learn

import (
	"path/filepath"
	"strings"
)

// Undeclared compares what a watched run read and made with globs, relative to the folder dir, absolute.
// read and made are the files of the workspace that no glob names; unread and unmade are the globs that
// matched nothing that it did. A file below a folder of version control does not count.
func (k *Known) Undeclared(root, dir string, reads, makes []string) (read, made, unread, unmade []string) {
	used := map[string]bool{}
	takes := func(globs []string, name string) (any bool) {
		for _, glob := range globs {
			if Takes(root, dir, []string{glob}, name) {
				used[glob], any = true, true
			}
		}
		return any
	}
	for i := range k.Stamps {
		s := &k.Stamps[i]
		if filepath.IsAbs(s.Path) || s.Size < 0 || strings.HasPrefix(s.Path, ".git/") || isFolder(filepath.Join(root, filepath.FromSlash(s.Path))) {
			continue
		}
		switch inReads, inMakes := takes(reads, s.Path), takes(makes, s.Path); {
		case s.Role == Read && !inReads && !inMakes:
			read = append(read, s.Path)
		case s.Role == Made && !inMakes:
			made = append(made, s.Path)
		}
	}
	for _, glob := range reads {
		if !used[glob] {
			unread = append(unread, glob)
		}
	}
	for _, glob := range makes {
		if !used[glob] {
			unmade = append(unmade, glob)
		}
	}
	return read, made, unread, unmade
}
