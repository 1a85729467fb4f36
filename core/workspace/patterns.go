package workspace

import (
	"hash/maphash"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/fsnotify/fsnotify"

	"tidytally/core/files"
)

// Patterns watches the files that match some patterns, wherever they are: build folders and
// ignored files too.
type Patterns struct {
	wanted, left []pattern
	single       []pattern // the folders of single files
	notify       *fsnotify.Watcher
	watched      map[string]bool // folders
	poll         bool            // there are more than can be watched
	// known holds the contents seen last: a file that is written anew as it was has not
	// changed.
	known map[string]uint64
	seed  maphash.Seed
	// Single files that are watched too, and folders watched for added or removed entries.
	files, folders map[string]bool

	given  chan followed // by Follow
	closed chan struct{}
}

// followed are files and folders, absolute.
type followed struct {
	files, folders []string
	taken          chan struct{} // closed when they are watched
}

// pattern is a glob (doublestar) below a folder.
type pattern struct{ base, rest string }

// maxCompared is the size in bytes up to which a file's contents are compared. A larger one
// has changed when it was written.
const maxCompared = 16 << 20

// WatchPatterns watches the files that match a pattern of wanted and none of left. Patterns
// are relative to dir, an absolute path. Close ends the watch.
func WatchPatterns(dir string, wanted, left []string) (*Patterns, error) {
	n, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	p := &Patterns{notify: n, watched: map[string]bool{}, known: map[string]uint64{}, seed: maphash.MakeSeed(), given: make(chan followed), closed: make(chan struct{})}
	p.wanted, p.left = splitPatterns(dir, wanted), splitPatterns(dir, left)
	for _, w := range p.wanted {
		p.follow(w)
		if !strings.ContainsAny(w.rest, "*?[{") {
			p.isNews(filepath.Join(w.base, w.rest))
		}
	}
	return p, nil
}

func splitPatterns(dir string, globs []string) (out []pattern) {
	for _, g := range globs {
		base, rest := doublestar.SplitPattern(filepath.ToSlash(g))
		if !filepath.IsAbs(base) {
			base = filepath.Join(dir, filepath.FromSlash(base))
		}
		out = append(out, pattern{base, rest})
	}
	return out
}

// Close ends the watch.
func (p *Patterns) Close() error {
	close(p.closed)
	return p.notify.Close()
}

// Follow watches single files besides, which may not be there yet, and the names in folders, instead of
// those of before; all absolute. What changes from its return on is reported. It waits for Run.
func (p *Patterns) Follow(files, folders []string) {
	f := followed{files, folders, make(chan struct{})}
	select {
	case p.given <- f:
		<-f.taken
	case <-p.closed:
	}
}

// take watches what Follow gave.
func (p *Patterns) take(f followed) {
	defer close(f.taken)
	p.files, p.folders = map[string]bool{}, map[string]bool{}
	bases := map[string]bool{}
	for _, name := range f.files {
		p.files[name] = true
		bases[filepath.Dir(name)] = true
	}
	for _, name := range f.folders {
		p.folders[name] = true
		bases[name] = true
	}
	p.single = p.single[:0]
	for base := range bases {
		p.single = append(p.single, pattern{base, "*"})
		p.follow(pattern{base, "*"})
	}
	for name := range p.files {
		p.isNews(name)
	}
	for dir := range p.folders {
		entries, _ := files.List(dir) // it may be gone
		for _, e := range entries {
			p.isNews(filepath.Join(dir, e.Name()))
		}
	}
}

// Run calls changed with the absolute paths of the files that have changed, removed ones
// included, and when the first change was seen, until the watch is closed. It waits for the
// files to settle, but not for long.
func (p *Patterns) Run(changed func(files []string, since time.Time)) {
	quiet := time.NewTimer(time.Hour)
	quiet.Stop()
	tick := time.NewTicker(pollEvery)
	defer tick.Stop()
	stamps := map[string]time.Time{}
	var pending []string
	var since time.Time
	touch := func(name string) {
		if !p.matches(name) || slices.Contains(pending, name) {
			return
		}
		if len(pending) == 0 {
			since = time.Now()
		}
		if len(pending) < maxChanges {
			pending = append(pending, name)
		}
	}
	for {
		select {
		case f := <-p.given:
			p.take(f)
		case e, ok := <-p.notify.Events:
			if !ok {
				return
			}
			if e.Has(fsnotify.Chmod) && !e.Has(fsnotify.Write|fsnotify.Create) {
				continue
			}
			if e.Has(fsnotify.Create) && isFolder(e.Name) {
				for _, w := range slices.Concat(p.wanted, p.single) {
					p.follow(w)
				}
				p.within(e.Name, touch)
			}
			touch(e.Name)
			if len(pending) > 0 {
				quiet.Reset(min(settle, max(0, atMost-time.Since(since))))
			}
		case _, ok := <-p.notify.Errors: // an overflow: something was missed
			if !ok {
				return
			}
			p.each(touch)
			quiet.Reset(settle)
		case <-tick.C:
			if !p.poll {
				continue
			}
			p.each(func(name string) {
				info, err := os.Stat(name)
				if err != nil {
					return
				}
				if was, ok := stamps[name]; ok && !was.Equal(info.ModTime()) {
					touch(name)
				}
				stamps[name] = info.ModTime()
			})
			if len(pending) > 0 {
				quiet.Reset(settle)
			}
		case <-quiet.C:
			news := slices.DeleteFunc(pending, func(name string) bool { return !p.isNews(name) })
			pending = nil
			if len(news) > 0 {
				changed(news, since)
			}
		}
	}
}

// matches reports whether a file is one of those that are watched.
func (p *Patterns) matches(name string) bool {
	in := func(w pattern) bool {
		rel, err := filepath.Rel(w.base, name)
		if err != nil || strings.HasPrefix(rel, "..") {
			return false
		}
		ok, err := doublestar.Match(w.rest, filepath.ToSlash(rel))
		return ok && err == nil
	}
	if p.files[name] || p.folders[filepath.Dir(name)] {
		return !slices.ContainsFunc(p.left, in)
	}
	return slices.ContainsFunc(p.wanted, in) && !slices.ContainsFunc(p.left, in)
}

// isNews reports whether a file is not as it was seen last, and remembers it.
func (p *Patterns) isNews(name string) bool {
	info, err := os.Stat(name)
	only := p.folders[filepath.Dir(name)] && !p.files[name] // that it is there
	if err == nil && info.IsDir() && !only {
		return false
	}
	var sum uint64 // of a file that is gone
	if err == nil && only {
		sum = 1
	} else if err == nil {
		data, err := files.Read(name, maxCompared)
		if err != nil {
			return true
		}
		sum = maphash.Bytes(p.seed, data) | 1
	}
	was, seen := p.known[name]
	p.known[name] = sum
	if only && !seen && sum == 0 {
		return false // it came and went
	}
	return !seen || was != sum
}

// follow watches the folders in which files of a pattern may be, or, if its base is not there
// yet, the folder where it will appear.
func (p *Patterns) follow(w pattern) {
	base := w.base
	for {
		if info, err := os.Stat(base); err == nil && info.IsDir() || base == filepath.Dir(base) {
			break
		}
		base = filepath.Dir(base)
	}
	if base != w.base || !strings.Contains(w.rest, "/") && w.rest != "**" {
		p.watch(base)
		return
	}
	_ = filepath.WalkDir(base, func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // it went away, or may not be read
		}
		if !d.IsDir() {
			return nil
		}
		if d.Name() == ".git" || p.poll {
			return fs.SkipDir
		}
		p.watch(name)
		return nil
	})
}

func (p *Patterns) watch(dir string) {
	if p.watched[dir] {
		if _, err := os.Stat(dir); err != nil {
			delete(p.watched, dir)
		}
	}
	if len(p.watched) >= maxWatches || p.notify.Add(dir) != nil {
		p.poll = true // the kernel's limit
		return
	}
	p.watched[dir] = true
}

// within calls f with the files in and below a folder.
func (p *Patterns) within(dir string, f func(name string)) {
	_ = filepath.WalkDir(dir, func(name string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			f(name)
		}
		return nil
	})
}

// each calls f with the files that match a pattern.
func (p *Patterns) each(f func(name string)) {
	for _, w := range slices.Concat(p.wanted, p.single) {
		_ = doublestar.GlobWalk(os.DirFS(w.base), w.rest, func(rel string, d fs.DirEntry) error {
			f(filepath.Join(w.base, filepath.FromSlash(rel)))
			return nil
		})
	}
}
