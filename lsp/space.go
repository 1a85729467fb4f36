package lsp

import (
	"context"
	"path/filepath"
	"time"

	"tidytally/core/history"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/core/toolchain"
	"tidytally/core/workspace"
)

// space is a workspace that is open in the client.
type space struct {
	*Server
	root     string
	surveyor *survey.Surveyor
	survey   *survey.Survey     // nil until the first one is made
	busy     bool               // one is being made
	touched  []string           // changed since it began
	all      bool               // so much that all is to be surveyed
	watcher  *workspace.Watcher // nil if there can be none
	stop     context.CancelFunc // of the watch

	store   *history.Store // nil while there is none
	version int64
	reading bool                    // the history is being read
	faults  map[string][]task.Fault // of declarations, by file; nil when they are to be made anew
	tails   map[int64]*tail         // runs that go on in other programs, by their numbers
	index   map[string][]*standing  // of what stands, by file; nil when it is to be made anew
	past    map[string][]standing   // the problems of the newest run of each task, by its id

	super    *run.Supervisor // nil until something is run
	recorder *history.Recorder
	link     *link
}

// standing is a problem with the line of the source that it stood on, without blanks around it.
type standing struct {
	problem.Problem
	text string
}

// pollEvery is how often the history is asked whether there is news: programs do not tell each other.
const pollEvery = 250 * time.Millisecond

// newSpace opens a workspace and begins to survey and to watch it.
func newSpace(s *Server, root string) *space {
	w := &space{Server: s, root: root, surveyor: survey.NewSurveyor(root), all: true, version: -1}
	ctx, cancel := context.WithCancel(context.Background())
	w.stop = cancel
	var err error
	if w.watcher, err = workspace.NewWatcher(root, func(name string) bool { return survey.Wants(name) || toolchain.IsSource(name) }, filepath.Dir(survey.PersonalFile())); err != nil {
		s.log(messageWarning, "changes of files are not seen: "+err.Error())
	} else {
		go w.watcher.Run(ctx, func(paths []string) {
			s.do(func() {
				w.all = w.all || len(paths) == 0 // it is not known what changed
				w.touch(paths)
			})
		}, func() {
			s.do(func() { // what changed before was not seen
				if !w.busy {
					w.touch(append(w.surveyor.Newer(), w.touched...))
				}
			})
		})
	}
	w.resurvey()
	w.link = newLink(w)
	return w
}

// close stops what runs, to the last process, and the watch.
func (w *space) close() {
	w.stop()
	if w.link != nil {
		w.link.close()
		w.link = nil
	}
	if w.super != nil {
		w.super.StopAll()
		_ = w.super.Close() // only a folder of temporary files may be left
		w.super = nil
	}
	w.recorder = nil
	for _, t := range w.tails {
		t.file.Close()
	}
	w.tails = nil
	if w.store != nil {
		_ = w.store.Close()
		w.store = nil
	}
}

// maxSingly is the number of changed files up to which each is looked at by itself.
const maxSingly = 50

// touch takes paths that changed, and surveys them.
func (w *space) touch(paths []string) {
	w.touched = append(w.touched, paths...)
	w.resurvey()
	if len(paths) == 0 || len(paths) > maxSingly {
		w.publish()
		return
	}
	full := make([]string, len(paths))
	for i, path := range paths {
		full[i] = w.absolute(path)
	}
	w.publishFiles(full) // they may have other lines now
}

// resurvey makes a survey of what changed, beside the loop, one at a time.
func (w *space) resurvey() {
	if w.busy || !w.all && len(w.touched) == 0 {
		return
	}
	all, paths := w.all, w.touched
	w.busy, w.all, w.touched = true, false, nil
	go func() {
		var found *survey.Survey
		var err error
		if all {
			found, err = w.surveyor.Survey(nil)
		} else {
			found, err = w.surveyor.Update(paths)
		}
		if w.watcher != nil && found != nil {
			w.watcher.Follow(found.Watched)
		}
		w.do(func() {
			w.busy = false
			if err != nil {
				w.log(messageError, "the workspace could not be read: "+err.Error())
			} else if found != nil {
				w.survey, w.index, w.faults = found, nil, nil
				if w.super != nil {
					w.super.SetContext(w.context())
				}
				w.publish()
				if w.ready && w.client.Capabilities.Workspace.CodeLens.RefreshSupport {
					w.ask("workspace/codeLens/refresh", nil)
				}
			}
			w.resurvey()
		})
		if all {
			_ = w.surveyor.Remember() // without it the next start is slower
		}
	}()
}

// poll asks the history whether there are new runs.
func (w *space) poll() {
	if w.link != nil && w.link.editor == nil {
		w.link.tell() // a Tidy Tally may have been opened since
	}
	if w.store == nil {
		if !history.Exists(w.root) || w.state == shutDown {
			return
		}
		store, err := history.Open(w.root)
		if err != nil {
			return // it is being made
		}
		w.store = store
	}
	version := w.store.Version()
	news := false
	for _, t := range w.tails {
		news = t.read() || news
	}
	if news {
		w.index = nil
		w.publish()
	}
	if version == w.version {
		return
	}
	if w.reading {
		return
	}
	w.reading = true
	w.follow()
	store, before := w.store, w.past
	var over []*started // the history has their problems when it was read
	for _, r := range w.runs {
		if r.space == w && r.ended() {
			over = append(over, r)
		}
	}
	go func() {
		past, err := readPast(store, before)
		w.do(func() {
			w.reading = false
			switch {
			case w.store != store: // closed
			case err != nil:
				w.log(messageWarning, "earlier runs: "+err.Error())
			default:
				w.version, w.past, w.index = version, past, nil
				for _, r := range over {
					r.kept = true
				}
				w.publish()
			}
		})
	}()
}

// readPast reads the problems that are known after the newest run of each task. before are those that were
// known.
func readPast(store *history.Store, before map[string][]standing) (map[string][]standing, error) {
	last, err := store.Last()
	if err != nil {
		return nil, err
	}
	past := map[string][]standing{}
	for id, r := range last {
		if r.State == "running" {
			if known, ok := before[id]; ok {
				past[id] = known // as long as it has not ended
				continue
			}
			if runs, err := store.Runs(history.Wanted{Task: id, Limit: 2}); err == nil && len(runs) == 2 {
				r = runs[1]
			}
		}
		lives, err := store.Lives(r.ID)
		if err != nil {
			return nil, err
		}
		for i := range lives {
			past[id] = append(past[id], standing{lives[i].Problem, lives[i].LineText})
		}
	}
	return past, nil
}

// context is what commands are prepared from.
func (w *space) context() run.Context {
	ctx := run.Context{Root: w.root, Search: workspace.NewFinder(w.root).Find}
	if w.survey != nil {
		ctx.Tally = w.survey.Tally
	}
	return ctx
}

// find returns the task with an id, or nil.
func (w *space) find(id string) *task.Task {
	if w.survey == nil {
		return nil
	}
	t, err := task.Find(w.survey.Tasks, id)
	if err != nil {
		return nil
	}
	return t
}
