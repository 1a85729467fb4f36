package session

import (
	"fmt"
	"log/slog"
	"maps"
	"sync"
	"sync/atomic"
	"time"

	"tidytally/core/history"
	"tidytally/core/learn"
	"tidytally/core/run"
	"tidytally/core/task"
)

// Past is what the history says of the tasks, by their ids.
type Past struct {
	Last     map[string]history.Run   // the newest run of each
	Expected map[string]time.Duration // that a good run takes
	Learned  map[string]learn.Records // what watched runs read and made
	// Known are the problems known after the newest run that has ended, where the session's options ask for them.
	Known map[string]history.Known

	version        int64 // of the store when this was read
	declared       bool  // the survey was whole by then
	learnedVersion int64
	hears          int             // of the session when this was read: see past
	away           map[int64][]int // see history.Store.Settled
}

// past is the history of the session's workspace. The store is opened when it is needed first.
type past struct {
	session *Session
	store   atomic.Pointer[history.Store] // nil while it is not open
	kick    chan struct{}                 // the store is to be read now
	reading sync.Mutex                    // held while it is read

	opening  sync.Mutex // guards the fields below; it is held while the store is opened
	tried    bool
	recorder *history.Recorder // nil if nothing is kept

	others atomic.Pointer[map[int64]*run.Run] // that go on in other programs, by their numbers; each map is replaced by another

	mu    sync.Mutex               // guards the fields below
	heard map[string]learn.Records // that were learned in this session since the history was read
	hears int                      // counts them
}

// readEvery is how often it is looked whether other programs have written to the history: programs do not tell each other.
const readEvery = 250 * time.Millisecond

func (p *past) open(s *Session) {
	p.session, p.kick = s, make(chan struct{}, 1)
	p.others.Store(&map[int64]*run.Run{})
}

// records opens the store, if that was not tried yet, and returns what writes to it; nil if nothing is kept.
func (p *past) records() *history.Recorder {
	p.opening.Lock()
	defer p.opening.Unlock()
	if p.tried {
		return p.recorder
	}
	p.tried = true
	s := p.session
	if s.opts.NoHistory {
		return nil
	}
	store, err := history.Open(s.root)
	if err == nil {
		if store.Told != "" {
			s.opts.Fault(fmt.Errorf("%s", store.Told))
		}
		err = store.Recover()
	}
	if err != nil {
		s.opts.Fault(fmt.Errorf("%w; runs are compared with those of this session alone", err))
	}
	slog.Debug("history opened", "fault", err)
	if store != nil {
		p.recorder = history.NewRecorder(store, s.opts.Fault)
		p.store.Store(store)
		s.publish(func(*Snapshot) {})
	}
	return p.recorder
}

// OpenHistory opens the history in the background, and makes it where it is missing.
func (s *Session) OpenHistory() {
	s.follow("the history", func() { s.past.records() })
}

// leave stops to follow the runs of other programs.
func (p *past) leave() {
	for _, r := range *p.others.Swap(&map[int64]*run.Run{}) {
		r.Drop()
	}
}

func (p *past) close() {
	p.opening.Lock()
	defer p.opening.Unlock()
	p.tried = true
	if store := p.store.Swap(nil); store != nil && p.session.opts.Follow { // else the program ends, and to close it means to wait for the disk
		_ = store.Close()
	}
}

// followHistory follows what programs write to the history.
func (p *past) followHistory() {
	tick := time.NewTicker(readEvery)
	defer tick.Stop()
	for {
		select {
		case <-p.session.ctx.Done():
			return
		case <-tick.C:
		case <-p.kick:
		}
		if p.store.Load() == nil {
			if p.session.opts.NoHistory || !history.Exists(p.session.root) || p.records() == nil {
				continue
			}
		}
		if err := p.read(); err != nil {
			p.session.opts.Fault(fmt.Errorf("earlier runs: %w", err))
		}
	}
}

// Refresh reads what has changed in the history, which is opened first if it was not yet, and made where it is missing.
func (s *Session) Refresh() error {
	if s.past.records() == nil {
		return nil
	}
	return s.past.read()
}

// read reads what has changed in the history, and publishes it.
func (p *past) read() error {
	p.reading.Lock()
	defer p.reading.Unlock()
	s, store := p.session, p.store.Load()
	for _, r := range *p.others.Load() {
		r.Catch()
	}
	snap, version := s.Snapshot(), store.Version()
	known := snap.Past
	declared := snap.Survey != nil && !snap.Survey.Partial
	if known != nil && known.version == version && known.declared == declared && !p.tookOver() {
		return nil
	}
	next := &Past{version: version, declared: declared}
	var err error
	if next.Last, err = store.Last(); err != nil {
		return err
	}
	if next.Expected, err = store.Expected(); err != nil {
		return err
	}
	if err := p.readLearned(next, known); err != nil {
		return err
	}
	if next.away, err = store.Settled(); err != nil {
		return err
	}
	if s.opts.Known {
		if err := p.readKnown(next, known); err != nil {
			return err
		}
	}
	if declared { // before that, the sieves of a task are not known
		if err := p.followOthers(); err != nil {
			return err
		}
	}
	s.verdicts.takeAway(next.away)
	s.publish(func(snap *Snapshot) { snap.Past = next })
	p.mu.Lock()
	if p.hears == next.hears && (known == nil || known.learnedVersion != next.learnedVersion) {
		p.heard = nil // from here on the history says it, and what other programs learn
	}
	p.mu.Unlock()
	s.LookAhead()
	return nil
}

// readLearned reads what watched runs read and made, unless it is as before: there may be many paths.
func (p *past) readLearned(next, before *Past) (err error) {
	store := p.store.Load()
	p.mu.Lock()
	next.hears = p.hears
	p.mu.Unlock()
	if next.learnedVersion, err = store.LearnedVersion(); err != nil {
		return err
	}
	if before != nil && before.learnedVersion == next.learnedVersion {
		next.Learned = before.Learned
		return nil
	}
	if next.Learned, err = store.Learned(); err == nil {
		p.session.files.remember(next.Learned)
	}
	return err
}

// readKnown reads the problems that are known of each task.
func (p *past) readKnown(next, before *Past) (err error) {
	next.Known = map[string]history.Known{}
	for id, r := range next.Last {
		last := r.ID + 1
		if r.State == "running" {
			last = r.ID
		} else if before != nil && before.Known[id].Run == r.ID && len(before.away[r.ID]) == len(next.away[r.ID]) {
			next.Known[id] = before.Known[id]
			continue
		}
		if next.Known[id], err = p.store.Load().KnownBefore(id, last); err != nil {
			return err
		}
	}
	return nil
}

// maxFollowed bounds the runs of other programs that are followed.
const maxFollowed = 32

// own returns the numbers of this session's runs in the history.
func (p *past) own() map[int64]bool {
	own := map[int64]bool{}
	for _, r := range p.session.Runs() {
		own[p.recorder.IDOf(r)] = true
	}
	return own
}

// tookOver reports whether this session took up a run of a batch system that it still follows.
func (p *past) tookOver() bool {
	others := *p.others.Load()
	if len(others) == 0 {
		return false
	}
	own := p.own()
	for id := range others {
		if own[id] {
			return true
		}
	}
	return false
}

// followOthers finds the runs that go on in other programs, and ends those that have ended there.
func (p *past) followOthers() error {
	s, store := p.session, p.store.Load()
	going, err := store.Going()
	if err != nil {
		return err
	}
	own := p.own()
	goes, others := map[int64]bool{}, maps.Clone(*p.others.Load())
	for _, g := range going {
		goes[g.ID] = true
		if own[g.ID] || g.Spool == "" || others[g.ID] != nil || len(others) >= maxFollowed {
			continue
		}
		pastTask, _ := s.Snapshot().TaskOf(&g.Run)
		r, err := s.Follow(store.Past(pastTask, &g.Run, nil), g.Spool, g.From)
		if err != nil {
			continue // it has just ended
		}
		before, err := store.KnownBefore(g.Task, g.ID)
		s.verdicts.begin(r, g.ID, func() (history.Known, error) { return before, err })
		r.Catch()
		others[g.ID] = r
		slog.Debug("run of another program is followed", "run", g.ID, "task", g.Task, "from", g.From)
	}
	for id, r := range others {
		if own[id] { // it was taken up here meanwhile
			delete(others, id)
			r.Drop()
			continue
		}
		if goes[id] {
			continue
		}
		delete(others, id)
		v, err := store.Verdict(id)
		var of history.Run
		if err == nil {
			of, err = store.Run(id)
		}
		if err != nil {
			r.Drop()
			continue
		}
		s.verdicts.settle(r, v)
		r.Over(store.Past(r.Prepared.Task, &of, v.Lives))
	}
	p.others.Store(&others)
	return nil
}

// TaskOf returns the task of a run of the history: as it is declared now, or else what the history knows of it.
func (s *Snapshot) TaskOf(r *history.Run) (t *task.Task, declared bool) {
	if t := s.Find(r.Task); t != nil {
		return t, true
	}
	file, name := task.SplitID(r.Task)
	return &task.Task{File: file, Name: name, Command: task.Command{Shell: r.Command}, Dir: "."}, false
}

// recorder is the run.Recorder of a session.
type recorder struct{ *Session }

// Began implements run.Recorder.
func (s recorder) Began(r *run.Run) {
	id := int64(0)
	kept := s.past.records()
	if kept != nil {
		kept.Began(r)
		id = kept.IDOf(r)
	}
	slog.Debug("run began", "run", id, "task", r.Prepared.Task.ID())
	here := s.verdicts.knownHere(r.Prepared.Task.ID())
	s.verdicts.begin(r, id, func() (history.Known, error) {
		if id == 0 {
			return here, nil
		}
		return kept.Before(r)
	})
	s.past.nudge()
}

// Ended implements run.Recorder.
func (s recorder) Ended(r *run.Run) {
	var v *history.Verdict
	if kept := s.past.records(); kept != nil {
		v = kept.Ended(r)
	}
	if v == nil {
		v = s.verdicts.judge(r, true)
	}
	s.verdicts.settle(r, v)
	snap := r.Snapshot()
	slog.Debug("run ended", "run", s.RunID(r), "task", r.Prepared.Task.ID(), "pass", snap.Pass(), "state", snap.Words(), "found", len(v.Found), "new", v.New, "gone", v.Balance.Gone)
	s.files.want(func(d *due) { d.ended = true })
	s.past.nudge()
}

// Fresh implements run.Recorder.
func (s recorder) Fresh(p *run.Prepared) *run.Past {
	if kept := s.past.records(); kept != nil {
		return kept.Fresh(p)
	}
	return nil
}

// Finish implements run.Recorder.
func (s recorder) Finish() {
	if kept := s.past.records(); kept != nil {
		kept.Finish()
	}
}

// nudge lets the history be read soon.
func (p *past) nudge() {
	select {
	case p.kick <- struct{}{}:
	default:
	}
}

// learned notes what a watched run read and made, or why that is not known.
func (s *Session) learned(r *run.Run, k *learn.Known, err error) {
	if kept := s.past.records(); kept != nil {
		kept.Learned(r, k, err)
	}
	if err != nil {
		return
	}
	p := &s.past
	id := r.Prepared.Task.ID()
	p.mu.Lock()
	records := maps.Clone(p.heard[id]) // others may read it
	if records == nil {
		records = learn.Records{}
	}
	records[k.Origin] = k
	if p.heard == nil {
		p.heard = map[string]learn.Records{}
	}
	p.heard[id] = records
	p.hears++
	p.mu.Unlock()
	s.LookAhead()
}

// known returns what is known of a task, of which a run has ended: also in a session that does not follow the history.
func (p *past) known(t *task.Task) learn.Records {
	if records := p.session.Learned(t.ID()); records != nil {
		return records
	}
	store := p.store.Load()
	if store == nil {
		return nil
	}
	records, err := store.LearnedOf(t.ID())
	if err != nil {
		p.session.opts.Fault(fmt.Errorf("what earlier runs of %s read: %w", t.ShownID(), err))
	}
	return records
}

// Learned returns what watched runs of a task read and made: in this session, else by the history.
func (s *Session) Learned(id string) learn.Records {
	s.past.mu.Lock()
	heard := s.past.heard[id]
	s.past.mu.Unlock()
	if heard == nil {
		if past := s.Snapshot().Past; past != nil {
			return past.Learned[id]
		}
	}
	return heard
}
