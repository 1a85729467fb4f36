package history

import (
	"errors"
	"fmt"

	"tidytally/core/plan"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/task"
)

// Past returns a run of a task as the supervisor replays it, with the problems that it reported. lives are
// those that were known after it.
func (s *Store) Past(t *task.Task, of *Run, lives []Lived) run.Past {
	var reported []problem.Problem
	for _, l := range lives {
		if l.State != problem.NotChecked {
			reported = append(reported, l.Problem)
		}
	}
	state := map[string]run.State{"ok": run.OK, "failed": run.Failed, "timedOut": run.Failed}[of.State]
	if state == "" {
		state = run.Stopped
	}
	id, bytes := of.ID, of.Bytes
	return run.Past{
		Task: t, Args: of.Args, Command: of.Command, Dir: of.Dir, State: state, Started: of.Start, Ended: of.End,
		Code: of.Exit, Signal: of.Signal, Fault: of.Fault, Part: of.Part, Problems: reported,
		Output: func() ([]byte, error) {
			text, _, ok, err := s.Output(id)
			if !ok && err == nil && bytes > 0 {
				err = errors.New("the output is no longer kept")
			}
			return text, err
		},
	}
}

// Fresh returns the last good run of a prepared task if nothing that it reads has changed since, and
// nil if that is not so or not known.
func (r *Recorder) Fresh(p *run.Prepared) *run.Past {
	records, err := r.store.LearnedOf(p.Task.ID())
	if err != nil {
		r.fault(err)
		return nil
	}
	o := plan.OutlookOf(p.Task, records, r.store.root, p.Now)
	if o.State != plan.Fresh || o.Run == 0 {
		return nil
	}
	of, err := r.store.Run(o.Run)
	var lives []Lived
	if err == nil {
		lives, err = r.store.Lives(of.ID)
	}
	if err != nil {
		r.fault(fmt.Errorf("%s is fresh, and runs again as its last run is not kept: %w", p.Task.ShownID(), err))
		return nil
	}
	past := r.store.Past(p.Task, &of, lives)
	return &past
}
