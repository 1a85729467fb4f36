package lsp

import (
	"errors"
	"time"

	"tidytally/core/history"
	"tidytally/core/run"
	"tidytally/core/session"
	"tidytally/core/survey"
	"tidytally/core/task"
)

// space is a workspace that is open in the client: a view of its session.
type space struct {
	*Server
	root    string
	session *session.Session
	survey  *survey.Survey // nil until the first one is made
	tookUp  bool           // what went on at batch systems without us

	known  map[string][]history.Lived  // the problems that stand, by the ids of their tasks
	index  map[string][]*history.Lived // by file; nil when it is to be made anew
	faults map[string][]task.Fault     // of declarations, by file; nil when they are to be made anew

	link *link
}

// newsEvery is how often the client is told what is new at most.
const newsEvery = 125 * time.Millisecond

// joinEvery is how often it is looked for a Tidy Tally that is open on the workspace.
const joinEvery = 500 * time.Millisecond

// newSpace opens a workspace and begins to survey and to watch it.
func newSpace(s *Server, root string) (*space, error) {
	w := &space{Server: s, root: root}
	news := make(chan struct{}, 1)
	var err error
	w.session, err = session.Open(root, session.Options{
		Follow: true, Known: true, Run: run.Options{Cols: 120, Rows: 40, Terminal: true},
		Changed: func() {
			select {
			case news <- struct{}{}:
			default: // it is told already
			}
		},
		Fault: func(err error) { go s.do(func() { s.log(messageWarning, err.Error()) }) },
	})
	if err != nil {
		return nil, err
	}
	go w.listen(news)
	w.session.Touch()
	w.link = newLink(w)
	return w, nil
}

// listen hands news of the session to the loop.
func (w *space) listen(news <-chan struct{}) {
	join := time.NewTicker(joinEvery)
	defer join.Stop()
	for {
		select {
		case <-news:
		case <-join.C:
			w.do(w.join)
			continue
		case <-w.gone:
			return
		case <-w.session.Closed():
			return
		}
		w.do(w.take)
		select {
		case <-time.After(newsEvery): // changes meanwhile are told together
		case <-w.gone:
			return
		}
	}
}

// close stops what runs, to the last process, and the watch.
func (w *space) close() {
	if w.link != nil {
		w.link.close()
		w.link = nil
	}
	_ = w.session.Close() // only a folder of temporary files may be left
}

// take takes what is new in the session.
func (w *space) take() {
	if w.link == nil {
		return // it is closed
	}
	snap := w.session.Snapshot()
	if snap.Survey != w.survey {
		w.survey, w.faults = snap.Survey, nil
		if w.ready && w.client.Capabilities.Workspace.CodeLens.RefreshSupport {
			w.ask("workspace/codeLens/refresh", nil)
		}
	}
	if !w.tookUp && w.survey != nil && !w.survey.Partial {
		w.tookUp = true
		go w.takeUp()
	}
	w.known, w.index = w.session.Standing(), nil
	for _, r := range w.runs {
		if r.space == w && !r.ended() {
			r.report()
		}
	}
	w.publish()
}

// join connects to a Tidy Tally that was opened since.
func (w *space) join() {
	if w.link != nil && w.link.editor == nil {
		w.link.tell()
	}
}

// takeUp goes on with what batch systems have run since a program before this one ended.
func (w *space) takeUp() {
	jobs, err := w.session.TakeUp()
	w.do(func() {
		if err != nil {
			w.log(messageWarning, err.Error())
		}
		for _, job := range jobs {
			w.conduct(job)
		}
	})
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

// touched takes paths that the client has changed.
func (w *space) touched(paths ...string) {
	w.session.Touch(paths...)
	full := make([]string, len(paths))
	for i, path := range paths {
		full[i] = w.absolute(path)
	}
	w.publishFiles(full) // they may have other lines now
}

var errReading = errors.New("the workspace is still being read; try again in a moment")
