package main

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tidytally/core/commit"
	"tidytally/core/filter"
	"tidytally/core/keep"
	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/core/survey"
	"tidytally/core/task"
)

// sinceRun is the value of --since for the last good run of each task.
const sinceRun = "last"

// touchedTask is a task as touched lists it.
type touchedTask struct {
	Task    string     `json:"task"`
	State   plan.Touch `json:"state"`
	Why     []string   `json:"why"`
	Reasons int        `json:"reasons"` // how many there are; why has the first ones
}

func newTouched() *cobra.Command {
	var asJSON bool
	var since string
	c := &cobra.Command{
		Use:   "touched [FILTER…]",
		Short: "List the tasks whose result may differ now, and why",
		Long: `List the tasks whose result may differ from what it was at a commit, or at their last good run: something that they read, looked for or
listed has changed, by what they declare and what was learned by watching. A task that was never watched is unknown, and listed
after the others: it is not taken for untouched.

Of a branch, the commit is the one at which the present branch left it. The filter is that of list.`,
		Example: `  tidytally touched
  tidytally touched --since main kind:test
  tidytally run --since main test`,
		ValidArgsFunction: completeFilter,
		RunE: func(cmd *cobra.Command, args []string) error {
			past := lastRuns()
			s, err := surveyHere()
			if err != nil {
				return err
			}
			kept, err := keep.Load(s.Root)
			if err != nil {
				line(stderr, "%v", err)
			}
			tasks, err := selected(s, filter.Parse(strings.Join(args, " "), task.FilterFields...), false, kept, <-past)
			if err != nil {
				return err
			}
			found, hash, err := touchedSince(cmd.Context(), s, tasks, since)
			if err != nil {
				return err
			}
			list := make([]touchedTask, 0, len(tasks))
			for _, state := range []plan.Touch{plan.Touched, plan.NotKnown, plan.Untouched} {
				for _, t := range tasks {
					if f := found[t.ID()]; f.State == state {
						list = append(list, touchedTask{t.ID(), state, slices.Concat([]string{}, f.Why), f.Reasons})
					}
				}
			}
			if asJSON {
				return printJSON(struct {
					Since  string        `json:"since"`
					Commit string        `json:"commit,omitempty"`
					Tasks  []touchedTask `json:"tasks"`
				}{since, hash, list})
			}
			return printTouched(list, tasks)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object, with the untouched tasks too")
	c.Flags().StringVar(&since, "since", sinceRun, "since a `REVISION` of git, or the \"last\" good run of each task")
	return c
}

// touchedSince returns the touching of tasks by their ids. hash is the commit of the revision; "" for sinceRun.
func touchedSince(ctx context.Context, s *survey.Survey, tasks []*task.Task, since string) (found map[string]plan.Touching, hash string, err error) {
	runs, err := runContext(s, "")
	if err != nil {
		return nil, "", err
	}
	plans, bad := map[string]*plan.Plan{}, map[string]error{}
	known := learnedHere(s.Root)
	add := func(t *task.Task) {
		if p, err := plan.Of(s.Tasks, t); err == nil {
			plans[t.ID()] = p
		} else {
			bad[t.ID()] = err
		}
	}
	for _, t := range tasks {
		add(t)
	}
	for _, t := range s.Tasks {
		if known[t.ID()] != nil && plans[t.ID()] == nil {
			add(t) // it may make what others read
		}
	}
	if since == sinceRun {
		found = plan.TouchedSinceRun(plans, known, func(t *task.Task) plan.Outlook { return outlookOf(&runs, t, known) })
	} else {
		differs, err := commit.Compare(ctx, s.Root, since)
		if err != nil {
			return nil, "", &codeError{exitUsage, err}
		}
		hash = differs.Hash
		found = plan.TouchedSince(differs, plans, known, s.Root, func(t *task.Task) (learn.Setting, error) { return runs.SettingOf(t)() })
	}
	for id, err := range bad {
		found[id] = plan.Touching{State: plan.NotKnown, Why: []string{err.Error()}, Reasons: 1}
	}
	return found, hash, nil
}

// printTouched prints a table of the touched and unknown tasks: ID, state and first reason. It counts the untouched ones.
func printTouched(list []touchedTask, tasks []*task.Task) error {
	shown := map[string]string{}
	for _, t := range tasks {
		shown[t.ID()] = t.ShownID()
	}
	w := newTable(stdout)
	untouched := 0
	for _, t := range list {
		if t.State == plan.Untouched {
			untouched++
			continue
		}
		why := t.Why[0]
		if more := t.Reasons - 1; more > 0 {
			why += fmt.Sprintf(" (and %d more)", more)
		}
		w.row(shown[t.Task], string(t.State), why)
	}
	err := w.flush()
	if untouched > 0 {
		line(stderr, "%d untouched", untouched)
	}
	return err
}

// touchedOf returns tasks without the untouched ones, which it names on standard error.
func (c *conductor) touchedOf(ctx context.Context, tasks []*task.Task, since string) (left []*task.Task, err error) {
	found, hash, err := touchedSince(ctx, c.survey, tasks, since)
	if err != nil {
		return nil, err
	}
	named := "its last good run"
	if hash != "" {
		named = fmt.Sprintf("%s (%.7s)", since, hash)
	}
	for _, t := range tasks {
		if found[t.ID()].State == plan.Untouched {
			line(stderr, "%s not run: nothing that it reads differs since %s", t.ShownID(), printable.Text(named))
			continue
		}
		left = append(left, t)
	}
	return left, nil
}
