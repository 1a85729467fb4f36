package task

import (
	"os"
	"path/filepath"
)

// Setup is what must be done once before a task can run: install packages, configure
// a build. The zero value is nothing.
type Setup struct {
	// Path is there once it is done: in the task's folder or, if Above, in one above.
	Path  string
	Above bool
	// State says in words what it is while Path is missing: "the packages are not installed".
	State string
	// Command does it, as a person would type it.
	Command string
}

// Missing returns what to do first, as a sentence without an end; "" if it is done. dir is
// the task's folder, absolute.
func (s Setup) Missing(dir string) string {
	if s.Path == "" {
		return ""
	}
	for ; ; dir = filepath.Dir(dir) {
		if _, err := os.Stat(filepath.Join(dir, filepath.FromSlash(s.Path))); err == nil {
			return ""
		}
		if !s.Above || dir == filepath.Dir(dir) {
			return s.State + "; run " + s.Command + " first"
		}
	}
}
