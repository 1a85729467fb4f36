package declare

import (
	"path"
	"slices"
	"strings"
	"time"
)

// outputNames are folders that people keep several build folders in.
var outputNames = []string{"build", "out", "builds", "_build", ".build"}

// maxBuildFolders bounds the folders that are asked whether they are build folders.
const maxBuildFolders = 300

// BuildFolders returns the folders in and below dir, at most two levels down, that hold a
// mark: a file that a tool leaves where it was configured into. They are relative to dir,
// the usual name first.
func BuildFolders(f Files, dir, mark string) (found []string) {
	asked := 0
	look := func(rel string) {
		if asked++; asked > maxBuildFolders {
			return
		}
		there := f.Exists(path.Join(dir, rel, mark))
		if there {
			found = append(found, rel)
		}
		if rel != "." && (there || strings.Contains(rel, "build") || slices.Contains(outputNames, rel)) {
			f.Note(Look{What: Watch, Path: path.Join(dir, rel)}) // it may be configured at this moment
		}
	}
	look(".")
	for _, e := range f.List(dir) {
		if !e.Type.IsDir() {
			continue
		}
		look(e.Name)
		if slices.Contains(outputNames, e.Name) {
			for _, inner := range f.List(path.Join(dir, e.Name)) {
				if inner.Type.IsDir() {
					look(path.Join(e.Name, inner.Name))
				}
			}
		}
	}
	slices.SortStableFunc(found, func(a, b string) int {
		switch {
		case a == "build" && b != "build":
			return -1
		case b == "build" && a != "build":
			return 1
		}
		return 0
	})
	return found
}

// AnyNewer reports whether any of some sources was written after a file.
func AnyNewer(f Files, file string, sources []string) bool {
	made := f.Modified(file)
	return slices.ContainsFunc(sources, func(rel string) bool { return f.Modified(rel).After(made.Add(time.Millisecond)) })
}
