package demo

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// Tour runs a full example on the workspace at dir and writes it to w: survey, run,
// sift, mend, run again, compare. An unexpected result is an error.
func Tour(w io.Writer, dir string) error {
	say := func(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }
	s, err := survey.Of(dir)
	if err != nil {
		return err
	}
	say("survey of %s: %d tasks from %d files, %d faults; nothing was run", s.Name, len(s.Tasks), len(s.Read), len(s.Faults))
	for _, skip := range s.Skipped {
		say("  ignored: %s (%d files) by %s", skip.Path, skip.Files, skip.Rule)
	}
	super, err := run.NewSupervisor(run.Context{Root: s.Root, Tally: s.Tally, Search: workspace.NewFinder(s.Root).Find}, run.Options{Terminal: true, Cols: 120, Rows: 40})
	if err != nil {
		return err
	}
	defer super.Close()
	usual := s.Usual()
	if usual == nil {
		return fmt.Errorf("the demo has lost its usual task")
	}
	var before []problem.Problem
	for round := 0; ; round++ {
		say("\nrun %d of %s: %s", round+1, usual.ID(), usual.Command)
		snap, err := runOnce(super, s.Tasks, usual)
		if err != nil {
			return err
		}
		say("  %s after %s: %s", snap.Words(), printable.Duration(snap.Ended.Sub(snap.Started)), problem.CountOf(snap.Problems))
		c := problem.Compare(before, snap.Problems, problem.Looks{})
		for i := range snap.Problems {
			say("  %-8s %s", c.States[i], snap.Problems[i].GNU())
		}
		for i := range c.Gone {
			say("  %-8s %s", problem.Gone, c.Gone[i].GNU())
		}
		say("  before %d · new %d · gone %d · now %d", c.Before, c.New, c.Balance.Gone, c.Now)
		before = snap.Problems
		if round == len(Fixes) {
			if snap.State != run.OK || len(snap.Problems) > 0 {
				return fmt.Errorf("after the last fix %s should be clean, but it is %s with %s", usual.ID(), snap.Words(), problem.CountOf(snap.Problems))
			}
			break
		}
		if len(snap.Problems) == 0 {
			return fmt.Errorf("run %d found no problem where there is one: %s", round+1, strings.TrimSpace(snap.Fault))
		}
		say("\nmending: %s (%s)", Fixes[round].About, Fixes[round].File)
		if err := Fixes[round].Apply(dir); err != nil {
			return err
		}
	}
	say("\nno problems are left")
	return learned(say, s, usual)
}

// learned runs a task once more and watches it, edits a file that it read, and tells what is known of it
// then.
func learned(say func(format string, args ...any), s *survey.Survey, t *task.Task) error {
	var known *learn.Known
	var fault error
	ctx := run.Context{Root: s.Root, Tally: s.Tally}
	super, err := run.NewSupervisor(ctx, run.Options{Learn: true, Learned: func(_ *run.Run, k *learn.Known, err error) { known, fault = k, err }})
	if err != nil {
		return err
	}
	defer super.Close()
	say("\nonce more, watched, to learn what it reads and makes")
	snap, err := runOnce(super, s.Tasks, t)
	if err != nil {
		return err
	}
	if known == nil {
		say("  it cannot be: %v", fault)
		return nil
	}
	say("  %s: it reads %d files of the workspace", snap.Words(), len(known.Files(learn.Read)))
	tell := func(what string) (plan.State, error) {
		prepared, err := ctx.Prepare(t, nil)
		if err != nil {
			return "", err
		}
		o := plan.OutlookOf(t, learn.Records{learn.Watched: known}, s.Root, prepared.Now)
		words := string(o.State)
		if o.Stale() {
			words = "stale: " + strings.Join(o.Why, ", ")
		}
		say("  %-28s %s", what, words)
		return o.State, nil
	}
	source := filepath.Join(s.Root, "kiln/src/ramp.c")
	text, err := os.ReadFile(source)
	if err != nil {
		return err
	}
	if state, err := tell("as it was left"); err != nil || state != plan.Fresh {
		return fmt.Errorf("after its run %s should be fresh: %s %v", t.ID(), state, err)
	}
	if err := os.WriteFile(source, append(text, "/* cooler */\n"...), 0o644); err != nil {
		return err
	}
	if state, err := tell("kiln/src/ramp.c was edited"); err != nil || state != plan.Needed {
		return fmt.Errorf("after an edit %s should be stale: %s %v", t.ID(), state, err)
	}
	return os.WriteFile(source, text, 0o644)
}

func runOnce(super *run.Supervisor, tasks []*task.Task, t *task.Task) (run.Snapshot, error) {
	job, err := super.Start(tasks, t, nil)
	if err != nil {
		return run.Snapshot{}, err
	}
	<-job.Done()
	return job.Main.Snapshot(), nil
}
