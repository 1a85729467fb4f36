package output

import (
	"os"
	"path/filepath"
	"syscall"
	"time"
)

// Folder is a temporary folder of one program, for spools or something else. It is locked (flock(2)) for as long as the
// program lives, however it ends: a folder that can be locked is one that a killed
// program left behind.
type Folder struct {
	path string
	lock *os.File
}

// Spools is the name of the folders for spools.
const Spools = "tidytally-spools-"

// NewFolder makes a folder in the one for temporary files, and removes those that killed
// programs of the same user left there. name, which has no pattern in it, stands before what
// tells it from others.
func NewFolder(name string) (*Folder, error) {
	left, _ := filepath.Glob(filepath.Join(os.TempDir(), name+"*")) // the pattern is well formed
	for _, path := range left {
		if f := lockFolder(path, syscall.LOCK_EX|syscall.LOCK_NB); f != nil {
			if awaited(path) {
				f.lock.Close()
				continue
			}
			_ = f.Remove() // the next one may be able to
		}
	}
	for {
		path, err := os.MkdirTemp("", name)
		if err != nil {
			return nil, err
		}
		if f := lockFolder(path, syscall.LOCK_EX); f != nil {
			return f, nil
		}
		if _, err := os.Lstat(path); err == nil { // this file system has no locks
			return &Folder{path: path}, nil
		}
		// Another program took it for one that was left behind, just before the lock.
	}
}

// Await leaves a mark in a folder of spools: they are still to be stored in a file. When their
// program is killed they are not removed for as long as maxAwait, and as that file is there.
// Collected takes the mark away.
func Await(folder, file string) error {
	return os.WriteFile(filepath.Join(folder, awaitName), []byte(file), 0o600)
}

// Collected says that the spools of a folder are stored.
func Collected(folder string) { _ = os.Remove(filepath.Join(folder, awaitName)) }

const (
	awaitName = "to-be-stored"
	maxAwait  = 7 * 24 * time.Hour
)

func awaited(folder string) bool {
	mark := filepath.Join(folder, awaitName)
	info, err := os.Lstat(mark)
	if err != nil || !info.Mode().IsRegular() || time.Since(info.ModTime()) > maxAwait {
		return false
	}
	file, err := os.ReadFile(mark)
	if err != nil {
		return false
	}
	_, err = os.Stat(string(file))
	return err == nil
}

// lockFolder locks a folder of this user's, or returns nil if that cannot be done, or
// was done too late.
func lockFolder(path string, how int) *Folder {
	before, err := os.Lstat(path)
	if err != nil || !before.IsDir() || before.Sys().(*syscall.Stat_t).Uid != uint32(os.Getuid()) {
		return nil
	}
	lock, err := os.Open(path)
	if err != nil {
		return nil
	}
	if syscall.Flock(int(lock.Fd()), how) == nil {
		if after, err := os.Lstat(path); err == nil && os.SameFile(before, after) {
			return &Folder{path, lock}
		}
	}
	lock.Close()
	return nil
}

// Path is the folder's name.
func (f *Folder) Path() string { return f.path }

// Remove removes the folder with all that is in it.
func (f *Folder) Remove() error {
	err := os.RemoveAll(f.path)
	if f.lock != nil {
		f.lock.Close()
	}
	return err
}
