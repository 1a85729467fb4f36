package main

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"tidytally/core/keep"
	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/survey"
)

// planned is a step as plan lists it.
type planned struct {
	Task    string     `json:"task"`
	Role    plan.Role  `json:"role"`
	After   []string   `json:"after"`
	With    []string   `json:"with,omitempty"`
	Dir     string     `json:"dir"`
	Command string     `json:"command"`
	State   plan.State `json:"state"`
	Since   *time.Time `json:"since,omitempty"`
	Why     []string   `json:"why"`
	// Parts are what the tool runs by itself as a part of the step: the hooks of a package
	// script, and what a build file orders.
	Parts []string `json:"parts,omitempty"`
	// Jobs says how the step takes part in the budget of jobs: "shared", or why not.
	Jobs string `json:"jobs,omitempty"`
}

func newPlan() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:               "plan ID",
		Short:             "Show what would run, in which order",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: completeIDs,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, t, err := taskHere(args[0])
			if err != nil {
				return err
			}
			p, err := plan.Of(s.Tasks, t)
			if err != nil {
				return &codeError{exitUsage, err}
			}
			ctx, err := runContext(s, "")
			if err != nil {
				return err
			}
			kept, _ := keep.Load(s.Root) // without it nothing counts as fresh
			list := make([]planned, len(p.Steps))
			for i := range p.Steps {
				list[i] = plannedStep(s, &ctx, p, i, kept.Good)
			}
			if asJSON {
				return printJSON(struct {
					Task  string    `json:"task"`
					Slots int       `json:"slots"`
					Steps []planned `json:"steps"`
				}{t.ID(), ctx.Slots(), list})
			}
			return printPlan(p, list, ctx.Slots())
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	return c
}

func plannedStep(s *survey.Survey, ctx *run.Context, p *plan.Plan, i int, good map[string]time.Time) planned {
	step := &p.Steps[i]
	t := step.Task
	ids := func(steps []int) []string {
		out := []string{}
		for _, k := range steps {
			out = append(out, p.Steps[k].Task.ID())
		}
		return out
	}
	outlook := plan.OutlookOf(s.Root, t, good[t.ID()])
	l := planned{
		Task: t.ID(), Role: step.Role, After: ids(step.After), With: ids(step.With), Dir: t.Dir, Command: t.Command.String(),
		State: outlook.State, Why: append([]string{}, outlook.Why...), Parts: s.Parts(t), Jobs: run.JobsOf(t),
	}
	if outlook.State == plan.Fresh {
		l.Since = &outlook.Since
	}
	// A step that needs a value or a current file is shown as declared.
	if !t.Command.IsZero() {
		if prepared, err := ctx.Prepare(t, nil); err == nil {
			l.Command = prepared.Display
		}
	}
	return l
}

// printPlan prints a plan for a person.
func printPlan(p *plan.Plan, list []planned, slots int) error {
	w := newTable(stdout)
	for i, l := range list {
		how := ""
		if l.State != plan.Unknown {
			how = string(l.State)
		}
		if len(l.Why) > 0 {
			how += ": " + strings.Join(l.Why, ", ")
		}
		var after []string
		for _, k := range p.Steps[i].After {
			after = append(after, p.Steps[k].Task.Name)
		}
		behind := ""
		if len(after) > 0 {
			behind = "after " + strings.Join(after, ", ")
		}
		w.row(string(l.Role), p.Steps[i].Task.ShownID(), l.Command, behind, how)
		if len(l.Parts) > 0 {
			w.row("", "", "runs by itself: "+strings.Join(l.Parts, ", "))
		}
		if l.Jobs != "" && l.Jobs != run.SharedJobs {
			w.row("", "", l.Jobs)
		}
	}
	if err := w.flush(); err != nil {
		return err
	}
	if !p.Concurrent() {
		return nil
	}
	return quietPipe(line(stdout, "%s", fmt.Sprintf("at most %d at once", slots)))
}
