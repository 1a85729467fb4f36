// Package keep holds what a person keeps of a workspace outside of it: the tasks
// that they pinned and ran last, and the one that is usual for them. It is one
// small JSON file for each workspace, in the user's folder of states (XDG Base
// Directory Specification).
package keep

import (
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"github.com/google/renameio/v2"
)

// maxRecent is how many tasks are remembered as run last.
const maxRecent = 12

// Kept is what a person keeps of one workspace. Tasks are given by their ids.
type Kept struct {
	Root   string   `json:"root"` // of the workspace, for people who read the file
	Pins   []string `json:"pins,omitempty"`
	Recent []string `json:"recent,omitempty"` // the last first
	Usual  string   `json:"usual,omitempty"`
	// Suites is what is known of the files of each test suite that was run split.
	Suites map[string]Suite `json:"suites,omitempty"`

	file string
	base *Kept    // the pins and the usual task of the file when it was read or written last
	ran  []string // since then, the last one last

	suites map[string]bool // that were run since then
}

// Suite is what is known of the files of a test suite, by their tasks' ids.
type Suite struct {
	Seconds map[string]float64 `json:"seconds,omitempty"` // that each took when it ran last
	Failed  []string           `json:"failed,omitempty"`  // those that failed when they ran last
}

// greeted is the file that says that the program was started before.
const greeted = "greeted"

// FirstStart reports whether the program has never been started by this user, and notes that it has
// been now.
func FirstStart() bool {
	dir, err := Folder()
	if err != nil {
		return false
	}
	if os.MkdirAll(dir, 0o700) != nil {
		return false
	}
	f, err := os.OpenFile(filepath.Join(dir, greeted), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return false
	}
	f.Close()
	return true
}

// keyBytes is the length of the user's key.
const keyBytes = 32

// Key returns the random key of this user, which is made when it is asked for first: with it digests are made of
// what must not be guessed from them. Where it cannot be kept, it is another one for each program.
var Key = sync.OnceValue(func() []byte {
	key := make([]byte, keyBytes)
	_, _ = rand.Read(key) // it never fails (crypto/rand)
	dir, err := Folder()
	if err != nil || os.MkdirAll(dir, 0o700) != nil {
		return key
	}
	name := filepath.Join(dir, "key")
	// A link to a whole file: another program that makes one at the same time reads it whole, or makes ours fail.
	temp, err := os.CreateTemp(dir, ".key-*") // mode 0600
	if err != nil {
		return key
	}
	defer os.Remove(temp.Name())
	_, err = temp.Write(key)
	if closed := temp.Close(); err == nil && closed == nil && os.Link(temp.Name(), name) == nil {
		return key
	}
	if kept, err := os.ReadFile(name); err == nil && len(kept) == keyBytes {
		return kept
	}
	return key
})

// StateFile returns the file in which things are kept of the workspace at root, an absolute
// path.
func StateFile(root string) (string, error) {
	dir, err := Folder()
	if err != nil {
		return "", err
	}
	h := fnv.New64a()
	h.Write([]byte(root))
	return filepath.Join(dir, fmt.Sprintf("%.40s-%016x.json", filepath.Base(root), h.Sum64())), nil
}

// JobsFolder returns the folder with the files of what batch systems run for the workspace at root, an absolute path. Nothing is made.
func JobsFolder(root string) (string, error) {
	name, err := StateFile(root)
	return strings.TrimSuffix(name, ".json") + ".jobs", err
}

// Folder returns the folder of all that is kept outside of workspaces (XDG Base Directory Specification).
func Folder() (string, error) {
	state := os.Getenv("XDG_STATE_HOME")
	if !filepath.IsAbs(state) {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", err
		}
		state = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(state, "tidytally"), nil
}

// Load reads what is kept of the workspace at root, an absolute path. If nothing is
// kept yet, that is no error. With an error, Load returns an empty Kept, whose Save
// does nothing.
func Load(root string) (*Kept, error) {
	k := &Kept{Root: root}
	file, err := StateFile(root)
	if err != nil {
		return k, fmt.Errorf("pins and recent tasks are not kept: %w", err)
	}
	there, err := read(file)
	if err != nil {
		return k, err
	}
	there.Root, there.file, there.base = root, file, there.copied()
	return there, nil
}

// read reads a file; one that is not there is empty.
func read(file string) (*Kept, error) {
	if info, err := os.Stat(file); err == nil && !info.Mode().IsRegular() {
		return nil, fmt.Errorf("pins and recent tasks are not kept: %s is no regular file", file) // reading it may never end
	}
	k := &Kept{}
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return k, nil
	}
	if err == nil {
		err = json.Unmarshal(data, k)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w; remove it to begin anew", file, err)
	}
	return k, nil
}

func (k *Kept) copied() *Kept {
	return &Kept{Pins: slices.Clone(k.Pins), Usual: k.Usual}
}

// join takes over what another program wrote since the file was read: what was changed
// here is kept, all else is as the other has it.
func (k *Kept) join(other *Kept) {
	pins := slices.DeleteFunc(other.Pins, func(id string) bool { return slices.Contains(k.base.Pins, id) && !k.Pinned(id) })
	for _, id := range k.Pins {
		if !slices.Contains(k.base.Pins, id) && !slices.Contains(pins, id) {
			pins = append(pins, id)
		}
	}
	k.Pins = pins
	since := k.ran
	k.Recent = other.Recent
	for _, id := range since {
		k.Ran(id)
	}
	if k.Usual == k.base.Usual {
		k.Usual = other.Usual
	}
	for id, suite := range other.Suites {
		if _, mine := k.suites[id]; !mine {
			k.putSuite(id, suite)
		}
	}
}

// Save replaces the file as a whole, with what other programs wrote to it since it was
// read taken over. Programs that save at the same time wait for each other.
func (k *Kept) Save() error {
	if k.file == "" {
		return nil // what was there could not be read, and is left alone
	}
	if err := os.MkdirAll(filepath.Dir(k.file), 0o700); err != nil {
		return err
	}
	folder, err := os.Open(filepath.Dir(k.file)) // the file itself is replaced
	if err != nil {
		return err
	}
	defer folder.Close()
	_ = syscall.Flock(int(folder.Fd()), syscall.LOCK_EX) // not every file system has locks
	if other, err := read(k.file); err == nil {
		k.join(other)
	}
	data, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	if err := renameio.WriteFile(k.file, append(data, '\n'), 0o600); err != nil {
		return err
	}
	k.base, k.ran, k.suites = k.copied(), nil, nil
	return nil
}

// maxSuites and maxFiles bound what is remembered of suites.
const (
	maxSuites = 50
	maxFiles  = 5000
)

// RanFile notes how long a file of a suite took, and whether it was good.
func (k *Kept) RanFile(suite, file string, seconds float64, good bool) {
	s := k.Suites[suite]
	if s.Seconds == nil {
		s.Seconds = map[string]float64{}
	}
	if _, there := s.Seconds[file]; there || len(s.Seconds) < maxFiles {
		s.Seconds[file] = seconds
	}
	s.Failed = slices.DeleteFunc(s.Failed, func(f string) bool { return f == file })
	if !good && len(s.Failed) < maxFiles {
		s.Failed = append(s.Failed, file)
	}
	if k.suites == nil {
		k.suites = map[string]bool{}
	}
	k.suites[suite] = true
	k.putSuite(suite, s)
}

func (k *Kept) putSuite(id string, s Suite) {
	if k.Suites == nil {
		k.Suites = map[string]Suite{}
	}
	if _, there := k.Suites[id]; there || len(k.Suites) < maxSuites {
		k.Suites[id] = s
	}
}

// Pinned reports whether a task is pinned.
func (k *Kept) Pinned(id string) bool { return slices.Contains(k.Pins, id) }

// Pin pins a task or unpins it, and reports whether it is pinned now.
func (k *Kept) Pin(id string) (pinned bool) {
	if i := slices.Index(k.Pins, id); i >= 0 {
		k.Pins = slices.Delete(k.Pins, i, i+1)
		return false
	}
	k.Pins = append(k.Pins, id)
	return true
}

// Ran notes that a task was run.
func (k *Kept) Ran(id string) {
	k.ran = append(k.ran, id)
	k.Recent = slices.DeleteFunc(k.Recent, func(r string) bool { return r == id })
	k.Recent = slices.Insert(k.Recent, 0, id)
	k.Recent = k.Recent[:min(len(k.Recent), maxRecent)]
}
