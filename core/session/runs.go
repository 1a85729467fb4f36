package session

import (
	"fmt"
	"maps"
	"slices"

	"tidytally/core/history"
	"tidytally/core/run"
	"tidytally/core/task"
)

// Others returns the runs that go on in other programs.
func (s *Session) Others() (runs []*run.Run) {
	others := *s.past.others.Load()
	for _, id := range slices.Sorted(maps.Keys(others)) {
		runs = append(runs, others[id])
	}
	return runs
}

// Recall returns a run of the history: one of this session or that goes on in another program as it is, an earlier one as it was then. t
// is its task.
func (s *Session) Recall(t *task.Task, id int64) (*run.Run, error) {
	for _, r := range append(s.Others(), s.Runs()...) {
		if s.RunID(r) == id {
			return r, nil
		}
	}
	s.verdicts.mu.Lock()
	for r, j := range s.verdicts.of {
		if j.id == id && r.Prepared.Task.ID() == t.ID() && j.verdict != nil && j.verdict.Settled {
			s.verdicts.mu.Unlock()
			return r, nil // it was recalled before
		}
	}
	s.verdicts.mu.Unlock()
	store := s.Store()
	if store == nil {
		return nil, fmt.Errorf("the history is not open")
	}
	of, err := store.Run(id)
	if err != nil {
		return nil, err
	}
	v, err := store.Verdict(id)
	if err != nil {
		return nil, fmt.Errorf("the problems of run %d: %w", id, err)
	}
	r := s.Replay(store.Past(t, &of, v.Lives))
	s.verdicts.put(r, v)
	return r, nil
}

// put sets the verdict of a run that is shown from the history.
func (v *verdicts) put(r *run.Run, verdict *history.Verdict) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.of[r] = &judged{id: verdict.Run, pass: 1, verdict: v.numbered(verdict, true)}
}

// Standing returns the problems that stand now, by the ids of their tasks: those that are known after the newest run of each, and of one that
// goes on those that are known so far. The options of the session must ask for what is known.
func (s *Session) Standing() map[string][]history.Lived {
	all := map[string][]history.Lived{}
	newest := map[string]int64{}
	if past := s.Snapshot().Past; past != nil {
		for id, k := range past.Known {
			all[id], newest[id] = k.Lives, k.Run
		}
	}
	for _, r := range append(s.Runs(), s.Others()...) {
		id, v := r.Prepared.Task.ID(), s.Verdict(r)
		if v == none || v.Settled && v.Run != 0 && v.Run < newest[id] || r.Prepared.Command.IsZero() {
			continue
		}
		all[id] = v.Lives
	}
	return all
}
