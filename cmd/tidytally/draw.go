package main

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"time"

	"github.com/google/renameio/v2"
	"github.com/spf13/cobra"

	"tidytally/core/draw"
	"tidytally/core/history"
	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

func newDraw() *cobra.Command {
	var out string
	var dark bool
	c := &cobra.Command{
		Use:   "draw plan|timeline|trend ID",
		Short: "Draw a plan, the timeline of a run or the trend of a task as SVG or PDF",
		Long: `Draw the plan of a task, the timeline of a run, or how long a task's runs took, into a file that ends in .svg or .pdf.
The timeline takes the number of a run as history lists it, or a task for its newest run.`,
		Example: `  tidytally draw plan check-all -o plan.svg
  tidytally draw trend firing#test -o trend.pdf`,
		Args: takes(2, 2, "a drawing and the ID of a task"),
		ValidArgsFunction: func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return []string{"plan", "timeline", "trend"}, cobra.ShellCompDirectiveNoFileComp
			}
			return completeID(cmd, args[1:], word)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			format, err := draw.FormatOf(out)
			if err != nil {
				return &codeError{exitUsage, fmt.Errorf("-o %w", err)}
			}
			on := draw.Paper{Format: format, Dark: dark}
			var b bytes.Buffer
			switch args[0] {
			case "plan":
				err = drawPlan(&b, on, args[1])
			case "timeline":
				err = drawTimeline(&b, on, args[1])
			case "trend":
				err = drawTrend(&b, on, args[1])
			default:
				return usageError("draw %s: it draws plan, timeline or trend", args[0])
			}
			if err != nil {
				return err
			}
			if err := renameio.WriteFile(out, b.Bytes(), 0o644); err != nil {
				return &codeError{exitOwn, err}
			}
			return line(stderr, "written to %s", out)
		},
	}
	c.Flags().StringVarP(&out, "output", "o", "", "the `FILE`, which ends in .svg or .pdf")
	c.Flags().BoolVar(&dark, "dark", false, "on dark paper")
	return c
}

func drawPlan(to io.Writer, on draw.Paper, id string) error {
	s, t, err := taskHere(id)
	if err != nil {
		return err
	}
	p, err := plan.Of(s.Tasks, t)
	if err != nil {
		return &codeError{exitUsage, err}
	}
	expected := map[string]time.Duration{}
	if history.Exists(s.Root) {
		store, err := openHistory(s.Root)
		if err != nil {
			return err
		}
		expected, err = store.Expected()
		store.Close()
		if err != nil {
			return &codeError{exitOwn, err}
		}
	}
	steps := make([]draw.PlanStep, len(p.Steps))
	for i := range p.Steps {
		k := p.Steps[i].Task
		steps[i] = draw.PlanStep{Name: k.ShownID(), About: k.Shown(k.Command.String())}
		if k.File != "tidytally.toml" {
			steps[i].Name = k.Folder() + "#" + k.Name
		} else {
			steps[i].Name = k.Name
		}
		if d, ok := expected[k.ID()]; ok {
			steps[i].About = printable.Duration(d) + "  " + steps[i].About
		}
	}
	return asOwn(draw.Plan(to, on, "plan of "+t.ShownID(), p, steps))
}

// drawTimeline draws the steps of a run: one by its number, or the newest of a task.
func drawTimeline(to io.Writer, on draw.Paper, id string) error {
	s, err := pastHere()
	if err != nil {
		return err
	}
	defer s.Close()
	var of history.Run
	if n, bad := strconv.ParseInt(id, 10, 64); bad == nil {
		if of, err = s.Run(n); err != nil {
			return &codeError{exitUsage, err}
		}
	} else {
		name, err := pastTask(s, id)
		if err != nil {
			return err
		}
		runs, err := s.Runs(history.Wanted{Task: name, Limit: 1})
		if err != nil || len(runs) == 0 {
			return &codeError{exitUsage, fmt.Errorf("%s was not run yet", id)}
		}
		of = runs[0]
	}
	steps, err := s.Runs(history.Wanted{Job: of.Job})
	if err != nil {
		return &codeError{exitOwn, err}
	}
	var bars []draw.Bar
	for _, r := range slices.Backward(steps) {
		end := r.End
		if end.IsZero() {
			end = time.Now()
		}
		file, name := task.SplitID(r.Task)
		bars = append(bars, draw.Bar{Name: (&task.Task{File: file, Name: name}).ShownID(), Start: r.Start, End: end, State: r.State})
	}
	return asOwn(draw.Timeline(to, on, fmt.Sprintf("run %d, %s", of.ID, of.Start.Format("Monday 2 January 2006 15:04")), bars))
}

// trendRuns is how many runs a trend shows.
const trendRuns = 200

func drawTrend(to io.Writer, on draw.Paper, id string) error {
	s, err := pastHere()
	if err != nil {
		return err
	}
	defer s.Close()
	name, err := pastTask(s, id)
	if err != nil {
		return err
	}
	runs, err := s.Runs(history.Wanted{Task: name, Limit: trendRuns})
	if err != nil {
		return &codeError{exitOwn, err}
	}
	var points []draw.Point
	for _, r := range slices.Backward(runs) {
		if r.State != "running" {
			points = append(points, draw.Point{Start: r.Start, Seconds: r.Elapsed(time.Now()).Seconds(), Problems: r.Count.Total(), Good: r.State == "ok"})
		}
	}
	file, short := task.SplitID(name)
	return asOwn(draw.Trend(to, on, fmt.Sprintf("%s, %d runs", (&task.Task{File: file, Name: short}).ShownID(), len(points)), points))
}

// pastHere opens the history of the workspace of the current folder; it is an error if there is
// none.
func pastHere() (*history.Store, error) {
	root, err := workspace.Root(".")
	if err != nil {
		return nil, &codeError{exitUsage, err}
	}
	if !history.Exists(root) {
		return nil, &codeError{exitUsage, fmt.Errorf("nothing was run here yet: %w", os.ErrNotExist)}
	}
	return openHistory(root)
}

func asOwn(err error) error {
	if err != nil {
		return &codeError{exitOwn, err}
	}
	return nil
}
