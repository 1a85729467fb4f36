package main

import (
	"github.com/spf13/cobra"

	"tidytally/core/plan"
)

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
			steps, err := plan.Of(s.Tasks, t)
			if err != nil {
				return &codeError{exitUsage, err}
			}
			type listed struct {
				ID      string    `json:"id"`
				Role    plan.Role `json:"role"`
				Command string    `json:"command"`
				Dir     string    `json:"dir"`
			}
			ctx, err := runContext(s, "")
			if err != nil {
				return err
			}
			list := make([]listed, len(steps))
			for i, step := range steps {
				list[i] = listed{step.Task.ID(), step.Role, step.Task.Command.String(), step.Task.Dir}
				// A step that needs a value or a current file is shown as declared.
				if p, err := ctx.Prepare(step.Task, nil); err == nil && !step.Task.Command.IsZero() {
					list[i].Command = p.Display
				}
			}
			if asJSON {
				return printJSON(map[string]any{"id": t.ID(), "steps": list})
			}
			w := newTable(stdout)
			for _, l := range list {
				w.row(string(l.Role), l.ID, l.Command)
			}
			return w.flush()
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	return c
}
