// Package keep holds what a person keeps of a workspace outside of it: the tasks
// that they pinned and ran last, and the one that is usual for them. It is one
// small JSON file for each workspace, in the user's folder of states (XDG Base
// Directory Specification).
package keep

import (
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

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
	// Good is the start of the last good run of each task that declares what it
	// reads.
	Good map[string]time.Time `json:"good,omitempty"`

	file string
}

// Load reads what is kept of the workspace at root, an absolute path. If nothing is
// kept yet, that is no error. With an error, Load returns an empty Kept, whose Save
// does nothing.
func Load(root string) (*Kept, error) {
	k := &Kept{Root: root}
	state := os.Getenv("XDG_STATE_HOME")
	if !filepath.IsAbs(state) {
		home, err := os.UserHomeDir()
		if err != nil {
			return k, fmt.Errorf("pins and recent tasks are not kept: %w", err)
		}
		state = filepath.Join(home, ".local", "state")
	}
	h := fnv.New64a()
	h.Write([]byte(root))
	file := filepath.Join(state, "tidytally", fmt.Sprintf("%.40s-%016x.json", filepath.Base(root), h.Sum64()))
	if info, err := os.Stat(file); err == nil && !info.Mode().IsRegular() {
		return k, fmt.Errorf("pins and recent tasks are not kept: %s is no regular file", file) // reading it may never end
	}
	data, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		k.file = file
		return k, nil
	}
	if err == nil {
		err = json.Unmarshal(data, k)
	}
	if err != nil {
		return &Kept{Root: root}, fmt.Errorf("%s: %w; remove it to begin anew", file, err)
	}
	k.Root, k.file = root, file
	return k, nil
}

// Save replaces the file as a whole.
func (k *Kept) Save() error {
	if k.file == "" {
		return nil // what was there could not be read, and is left alone
	}
	data, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(k.file), 0o700); err != nil {
		return err
	}
	return renameio.WriteFile(k.file, append(data, '\n'), 0o600)
}

// maxGood is how many tasks' good runs are remembered.
const maxGood = 500

// WentWell notes when a good run of a task began.
func (k *Kept) WentWell(id string, began time.Time) {
	if k.Good == nil {
		k.Good = map[string]time.Time{}
	}
	if _, there := k.Good[id]; there || len(k.Good) < maxGood {
		k.Good[id] = began
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
	k.Recent = slices.DeleteFunc(k.Recent, func(r string) bool { return r == id })
	k.Recent = slices.Insert(k.Recent, 0, id)
	k.Recent = k.Recent[:min(len(k.Recent), maxRecent)]
}
