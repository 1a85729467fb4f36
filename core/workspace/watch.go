package workspace

import (
	"context"
	"path/filepath"
	"time"

	"github.com/fsnotify/fsnotify"
)

const (
	// maxWatches bounds how many folders are watched; the kernel's own limit
	// is shared by everything the user runs.
	maxWatches = 4096
	// settle is how long the files must be left alone before a change is told.
	settle = 60 * time.Millisecond
	// pollEvery is how often the workspace is looked through when it has more
	// folders than can be watched.
	pollEvery = 2 * time.Second
)

// Watcher tells when something changed that a survey depends on.
type Watcher struct {
	root    string
	matters func(name string) bool
	notify  *fsnotify.Watcher
	folders chan []string
	watched map[string]bool
	poll    bool
}

// NewWatcher watches nothing until Follow names the folders. matters tells by
// its name whether a changed file counts.
func NewWatcher(root string, matters func(name string) bool) (*Watcher, error) {
	n, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	return &Watcher{root: root, matters: matters, notify: n, folders: make(chan []string, 1), watched: map[string]bool{}}, nil
}

// Follow gives the folders, relative to the root, that are watched from now on.
func (w *Watcher) Follow(folders []string) {
	for {
		select {
		case w.folders <- folders:
			return
		case <-w.folders: // an older list that nobody took
		}
	}
}

// Run calls changed after each change, once the files have settled, until the
// context ends. It watches with the kernel's help, and looks at intervals where
// there are too many folders.
func (w *Watcher) Run(ctx context.Context, changed func()) {
	defer w.notify.Close()
	quiet := time.NewTimer(time.Hour)
	quiet.Stop()
	tick := time.NewTicker(pollEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case list := <-w.folders:
			w.follow(list)
		case e, ok := <-w.notify.Events:
			if !ok {
				return
			}
			if w.counts(e) {
				quiet.Reset(settle)
			}
		case <-w.notify.Errors: // an overflow: something changed, it is not known what
			quiet.Reset(settle)
		case <-quiet.C:
			changed()
		case <-tick.C:
			if w.poll {
				changed()
			}
		}
	}
}

func (w *Watcher) counts(e fsnotify.Event) bool {
	if e.Op == fsnotify.Chmod && !w.matters(filepath.Base(e.Name)) {
		return false
	}
	if w.matters(filepath.Base(e.Name)) {
		return true
	}
	// Anything created may be a folder; what goes may have been one.
	if e.Has(fsnotify.Create) {
		return isFolder(e.Name)
	}
	return (e.Has(fsnotify.Remove) || e.Has(fsnotify.Rename)) && w.watched[e.Name]
}

func (w *Watcher) follow(list []string) {
	w.poll = len(list) > maxWatches
	if w.poll {
		list = list[:maxWatches]
	}
	next := make(map[string]bool, len(list))
	for _, f := range list {
		abs := filepath.Join(w.root, filepath.FromSlash(f))
		next[abs] = true
		if !w.watched[abs] {
			if err := w.notify.Add(abs); err != nil {
				w.poll = true // the kernel's limit, or the folder is gone
				delete(next, abs)
			}
		}
	}
	for abs := range w.watched {
		if !next[abs] {
			_ = w.notify.Remove(abs) // an error says that it is gone already
		}
	}
	w.watched = next
}
