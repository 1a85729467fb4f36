//go:build !linux

package workspace

import (
	"path/filepath"
	"time"
)

// readFolder returns the entries of a folder, unsorted, with their types.
func readFolder(abs string) ([]entry, stamped, error) {
	out, err := entriesOf(abs)
	return out, stamped{}, err
}

// A handle is an open folder; here it is its path.
type handle string

func openFolder(abs string) (handle, error) { return handle(abs), nil }

func (h handle) open(name string) (handle, error) { return handle(filepath.Join(string(h), name)), nil }

func (h handle) close() {}

func (h handle) stamp() stamped { return stamped{} }

// count counts the files of the folder and names the folders in it.
func (h handle) count() (files int64, folders []string) {
	entries, _ := entriesOf(string(h)) // what cannot be read is not counted
	for _, e := range entries {
		if e.mode.IsDir() {
			folders = append(folders, e.name)
		} else {
			files++
		}
	}
	return files, folders
}

// FileStamp and LinkStamp return 0 here: nothing is remembered.
func FileStamp(string) (stamp uint64, changed time.Time) { return 0, changed }

func LinkStamp(string) (stamp uint64, changed time.Time) { return 0, changed }
