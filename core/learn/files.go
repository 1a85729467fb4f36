package learn

import (
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// File is a file of the workspace that a run read, made or looked for, as it is now.
type File struct {
	Path  string // relative to the workspace
	Role  Role
	State string // how it has changed since the run, in words; "" if it has not
	There bool
	Dir   bool // it is a folder
	Size  int64
	Time  time.Time // of its last change
	// Source is, of a file that was made, the one of the files read that it was made of by its name: coil.c
	// of coil.o; "" if none is like it. Older says that it is older than that.
	Source string
	Older  bool
}

// FilesNow returns the files of the workspace that a run had to do with: those that it made first, then what it
// read and what it looked for. root is the workspace, absolute.
func (k *Known) FilesNow(root string) (files []File) {
	order := []Role{Made, Read, Runs, Listed, Missing, Removed}
	var sources []string
	for i := range k.Stamps {
		if s := &k.Stamps[i]; s.Role == Read && !filepath.IsAbs(s.Path) {
			sources = append(sources, s.Path)
		}
	}
	times := map[string]time.Time{}
	for i := range k.Stamps {
		s := &k.Stamps[i]
		if filepath.IsAbs(s.Path) || s.Path == "." {
			continue
		}
		f := File{Path: s.Path, Role: s.Role, State: s.State(root)}
		if info, err := os.Stat(filepath.Join(root, filepath.FromSlash(s.Path))); err == nil {
			if info.IsDir() && s.Role == Read {
				continue // that it is there is said by what was read in it
			}
			f.There, f.Dir, f.Size, f.Time = true, info.IsDir(), info.Size(), info.ModTime()
			times[f.Path] = f.Time
		}
		files = append(files, f)
	}
	for i := range files {
		if f := &files[i]; f.Role == Made {
			f.Source = sourceOf(f.Path, sources)
			f.Older = f.Source != "" && f.There && f.Time.Before(times[f.Source])
		}
	}
	slices.SortStableFunc(files, func(a, b File) int {
		if a.Role != b.Role {
			return slices.Index(order, a.Role) - slices.Index(order, b.Role)
		}
		return strings.Compare(a.Path, b.Path)
	})
	return files
}

// sourceOf returns that of the files read whose name without its ending is that of a file that was made,
// the nearest by its folder; "" if there is none.
func sourceOf(made string, read []string) (best string) {
	stem := func(name string) string {
		base, _, _ := strings.Cut(strings.TrimLeft(path.Base(name), "."), ".")
		return base
	}
	shared := func(name string) (n int) {
		for n < len(name) && n < len(made) && name[n] == made[n] {
			n++
		}
		return n
	}
	for _, name := range read {
		if name != made && stem(name) == stem(made) && (best == "" || shared(name) > shared(best)) {
			best = name
		}
	}
	return best
}
