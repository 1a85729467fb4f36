package workspace

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
)

const (
	// maxWatches bounds how many folders are watched; the kernel's own limit
	// is shared by everything the user runs.
	maxWatches = 16384
	// maxChanges bounds the paths that are told apart; with more, all changed.
	maxChanges = 2000
	// settle is how long the files must be left alone before a change is reported:
	// an editor writes several times.
	settle = 60 * time.Millisecond
	// atMost is how long a change may wait for the files to settle.
	atMost = time.Second
	// pollEvery is how often the workspace is looked through when it has more
	// folders than can be watched.
	pollEvery = 2 * time.Second
)

// A Watcher reports changes of the files that a survey depends on.
type Watcher struct {
	root    string
	outside []string // folders beside the workspace, absolute
	matters func(name string) bool
	notify  *fsnotify.Watcher
	folders chan []string
	watched map[string]bool
	awaited map[string]string // folders above those of outside that are not there yet, and what is to be made in them
	poll    bool
}

// NewWatcher returns a watcher that watches nothing until Follow is called. matters
// reports by its name whether a changed file counts; outside are absolute folders
// that are watched too, as soon as they exist.
func NewWatcher(root string, matters func(name string) bool, outside ...string) (*Watcher, error) {
	n, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	return &Watcher{root: root, outside: outside, matters: matters, notify: n, folders: make(chan []string, 1), watched: map[string]bool{}}, nil
}

// Follow sets the folders, relative to the root, that are watched from now on.
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
// context ends. It is given the paths that changed: relative to the root with
// slashes, or absolute when outside of it; none when it is not known what
// changed. It watches with the kernel's help, and looks at intervals where there
// are too many folders. watching is called once, when the first folders are
// watched: what changed before was not seen.
func (w *Watcher) Run(ctx context.Context, changed func(paths []string), watching func()) {
	defer w.notify.Close()
	quiet := time.NewTimer(time.Hour)
	quiet.Stop()
	tick := time.NewTicker(pollEvery)
	defer tick.Stop()
	paths, unknown := map[string]bool{}, false
	var since time.Time
	wait := func() {
		if len(paths) == 0 && !unknown || since.IsZero() {
			since = time.Now()
		}
		quiet.Reset(min(settle, max(0, atMost-time.Since(since))))
	}
	for {
		select {
		case <-ctx.Done():
			return
		case list := <-w.folders:
			// What happened in a folder before it was watched was not seen.
			for _, abs := range w.follow(list) {
				wait()
				paths[w.rel(abs)] = true
			}
			if watching != nil {
				watching()
				watching = nil
			}
		case e, ok := <-w.notify.Events:
			if !ok {
				return
			}
			if w.counts(e) {
				wait()
				if paths[w.rel(e.Name)] = true; len(paths) > maxChanges {
					unknown = true
				}
			}
		case <-w.notify.Errors: // an overflow: something changed, it is not known what
			wait()
			unknown = true
		case <-quiet.C:
			var list []string
			if !unknown {
				for p := range paths {
					list = append(list, p)
				}
			}
			paths, unknown, since = map[string]bool{}, false, time.Time{}
			changed(list)
		case <-tick.C:
			if w.poll {
				changed(nil)
			}
		}
	}
}

func (w *Watcher) rel(abs string) string {
	if rel, ok := strings.CutPrefix(abs, w.root+string(filepath.Separator)); ok {
		return filepath.ToSlash(rel)
	}
	if abs == w.root {
		return "."
	}
	return abs
}

func (w *Watcher) counts(e fsnotify.Event) bool {
	if next := w.awaited[filepath.Dir(e.Name)]; next != "" {
		return e.Has(fsnotify.Create) && e.Name == next
	}
	if w.matters(filepath.Base(e.Name)) {
		return true
	}
	// Anything created may be a folder, and anything removed may have been one.
	if e.Has(fsnotify.Create) {
		return isFolder(e.Name)
	}
	return (e.Has(fsnotify.Remove) || e.Has(fsnotify.Rename)) && w.watched[e.Name]
}

// follow watches the folders listed, and no others. It returns those that were not
// watched before, unless none was.
func (w *Watcher) follow(list []string) (added []string) {
	w.poll = len(list) > maxWatches
	if w.poll {
		list = list[:maxWatches]
	}
	first := len(w.watched) == 0
	next := make(map[string]bool, len(list))
	watch := func(abs string) bool {
		next[abs] = true
		if !w.watched[abs] {
			if err := w.notify.Add(abs); err != nil {
				delete(next, abs)
				return false
			}
			added = append(added, abs)
		}
		return true
	}
	for _, f := range list {
		if !watch(filepath.Join(w.root, filepath.FromSlash(f))) {
			w.poll = true // the kernel's limit, or the folder is gone
		}
	}
	w.awaited = map[string]string{}
	for _, abs := range w.outside {
		next := "" // the folder that is to be made first
		for !isFolder(abs) && abs != filepath.Dir(abs) {
			abs, next = filepath.Dir(abs), abs
		}
		if watch(abs) && next != "" {
			w.awaited[abs] = next
		}
	}
	for abs := range w.watched {
		if !next[abs] {
			_ = w.notify.Remove(abs) // an error says that it is gone already
		}
	}
	w.watched = next
	if first {
		return nil
	}
	return added
}
