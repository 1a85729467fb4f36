// Package declare holds what the readers of declarations share: the file that a
// reader is given, the files beside it that it may look at, and what it found.
package declare

import (
	"time"

	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// A Reader reads one kind of declaration.
type Reader struct {
	// Source names the kind, as in the JSON of a task.
	Source string
	// Wants reports by its base name whether a file is one; nil for none.
	Wants func(name string) bool
	// WantsAt reports by its folder and name whether a file is one that Wants does not
	// know by its name; nil if the name says all.
	WantsAt func(dir, name string) bool
	// Last readers guess: they are only given files that no other reader wants,
	// and their tasks give way to those of a [teach] table.
	Last bool
	// Head is the number of bytes of a file that are read if its beginning is
	// enough; 0 for all of it.
	Head int64
	// Read reads a file. It never fails: what cannot be read is a fault.
	Read func(*File) Found
}

// WantsName reports whether the reader wants a file by its base name.
func (r *Reader) WantsName(name string) bool { return r.Wants != nil && r.Wants(name) }

// Found is what a reader found in a file.
type Found struct {
	Tasks  []*task.Task
	Faults []task.Fault
	// Sieves are expressions for the output of these tasks.
	Sieves []tallyfile.Sieve
	// Package is the name that the file gives to the package in its folder.
	Package string
	// Depends are the names of the packages that it depends on, those of the workspace and
	// others.
	Depends []string
}

// File is a declaring file that a reader is given.
type File struct {
	// Path is relative to the workspace, with slashes, or absolute for a file
	// that the user has for every workspace.
	Path string
	Data []byte
	// Files are those that the reader may look at.
	Files
}

// Files are the files of a workspace as a reader sees them. Paths are relative to
// the workspace, with slashes; nothing outside of it is seen. What is looked at
// is noted, so that the declaration is read again when that changes.
type Files interface {
	// Root returns the absolute path of the workspace.
	Root() string
	// Open returns the content of a regular file.
	Open(rel string) ([]byte, error)
	// Exists reports whether there is a file or folder at a path.
	Exists(rel string) bool
	// Modified returns when a file was last written; the zero time if there is none.
	Modified(rel string) time.Time
	// Executable reports whether a file may be executed.
	Executable(rel string) bool
	// List returns the entries of a folder, sorted by name; none if it cannot be read.
	List(dir string) []workspace.Entry
	// Glob returns the files that match a pattern (path.Match) relative to dir;
	// the names are relative to dir too.
	Glob(dir, pattern string) []string
	// Walked returns all files that the walk found, and all folders that it
	// entered. It waits for the end of the walk.
	Walked() (files, folders []string)
	// Note notes what the declaration depends on without looking at it here.
	Note(looks ...Look)
	// Once returns what get returned when it was first called for a key. All
	// readers of a survey share the answers.
	Once(key string, get func() any) any
}
