package main

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tidytally/core/history"
	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/task"
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
	// From says how the state is known: by what is "declared", by a "watched" run, or as the build tool
	// was "asked".
	From   learn.Origin `json:"from,omitempty"`
	Offers []offered    `json:"offers,omitempty"`
	// Files are those of its last good run, with what has become of each.
	Files   []planFile `json:"files,omitempty"`
	Seconds float64    `json:"seconds,omitempty"` // that it usually takes
	// Parts are what the tool runs by itself as a part of the step: the hooks of a package
	// script, and what a build file orders.
	Parts []string `json:"parts,omitempty"`
	// Jobs says how the step takes part in the budget of jobs: "shared", or why not.
	Jobs string `json:"jobs,omitempty"`
}

// planFile is a file that the last good run of a step made, read, looked for or executed.
type planFile struct {
	Path   string     `json:"path"`
	Role   learn.Role `json:"role"`
	Change string     `json:"change,omitempty"` // how it differs from then, in words
}

// offered is a task that should come before a step, as it makes what the step reads.
type offered struct {
	Before   string   `json:"before"`
	Files    []string `json:"files"`
	Launches bool     `json:"launches,omitempty"` // the step executes one of the files
}

func newPlan() *cobra.Command {
	var asJSON, ask bool
	c := &cobra.Command{
		Use:               "plan ID",
		Short:             "Show what would run, in which order",
		Args:              takes(1, 1, "the ID of a task"),
		ValidArgsFunction: completeID,
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
			known := learnedHere(s.Root)
			good := sync.OnceValue(func() map[string]time.Time { return fromHistory(s.Root, (*history.Store).Good) })
			looks := make([]plan.Outlook, len(p.Steps))
			for i := range p.Steps {
				t := p.Steps[i].Task
				looks[i] = outlookOf(&ctx, t, known)
				if !ask {
					continue
				}
				if o, asked := ctx.Question(cmd.Context(), t, good()[t.ID()]); asked {
					looks[i] = o
				}
			}
			p.Follow(looks, func(id string) learn.Records { return known[id] })
			list := make([]planned, len(p.Steps))
			for i := range p.Steps {
				list[i] = plannedStep(s, &ctx, p, i, &looks[i], known)
			}
			seconds := usualSeconds(s.Root, p, list)
			if asJSON {
				return printJSON(struct {
					Task    string    `json:"task"`
					Slots   int       `json:"slots"`
					Seconds float64   `json:"seconds,omitempty"` // over the longest path
					Steps   []planned `json:"steps"`
				}{t.ID(), ctx.Slots(), seconds, list})
			}
			return printPlan(p, list, ctx.Slots(), seconds)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	c.Flags().BoolVar(&ask, "ask", false, "ask the build tools whether there is something to do, which executes them")
	return c
}

// fromHistory returns what the history of a workspace says; nothing without a history.
func fromHistory[T any](root string, get func(*history.Store) (T, error)) (said T) {
	if !history.Exists(root) {
		return said
	}
	store, err := history.Open(root)
	if err != nil {
		return said // whoever asks goes without it
	}
	defer store.Close()
	if said, err = get(store); err != nil {
		line(stderr, "%v", err)
	}
	return said
}

// learnedHere returns what runs of the workspace read and made, by tasks.
func learnedHere(root string) map[string]learn.Records {
	return fromHistory(root, (*history.Store).Learned)
}

// outlookOf returns what is known of a task before it runs.
func outlookOf(ctx *run.Context, t *task.Task, known map[string]learn.Records) plan.Outlook {
	return plan.OutlookOf(t, known[t.ID()], ctx.Root, ctx.SettingOf(t))
}

// usualSeconds notes how long each step usually takes, by its earlier good runs, and returns how
// long the longest path takes; 0 if a step on it is not known.
func usualSeconds(root string, p *plan.Plan, list []planned) float64 {
	expected := fromHistory(root, (*history.Store).Expected)
	if len(expected) == 0 {
		return 0
	}
	for i := range list {
		list[i].Seconds = expected[list[i].Task].Seconds()
	}
	return p.Longest(func(t *task.Task) (time.Duration, bool) {
		d, ok := expected[t.ID()]
		return d, ok || t.Command.IsZero()
	}).Seconds()
}

func plannedStep(s *survey.Survey, ctx *run.Context, p *plan.Plan, i int, outlook *plan.Outlook, known map[string]learn.Records) planned {
	step := &p.Steps[i]
	t := step.Task
	ids := func(steps []int) []string {
		out := []string{}
		for _, k := range steps {
			out = append(out, p.Steps[k].Task.ID())
		}
		return out
	}
	prepared, err := ctx.Prepare(t, nil)
	l := planned{
		Task: t.ID(), Role: step.Role, After: ids(step.After), With: ids(step.With), Dir: t.Dir, Command: t.Command.String(),
		State: outlook.State, From: outlook.From, Why: append([]string{}, outlook.Why...), Parts: s.Parts(t), Jobs: run.JobsOf(t),
	}
	if outlook.State == plan.Fresh && outlook.From != plan.FromTool {
		l.Since = &outlook.Since
	}
	for _, f := range filesOf(s.Root, known[t.ID()]) {
		l.Files = append(l.Files, planFile{f.Path, f.Role, f.State})
	}
	// A step that needs a value or a current file is shown as declared.
	if !t.Command.IsZero() && err == nil {
		l.Command = prepared.Display
		for _, o := range plan.Offers(s.Tasks, t, func(id string) learn.Records { return known[id] }, s.Root, prepared.Launches()) {
			l.Offers = append(l.Offers, offered{o.Before.ID(), o.Files, o.Launches})
		}
	}
	return l
}

// someOf names the first files of several.
func someOf(names []string) string {
	if len(names) <= 2 {
		return strings.Join(names, " and ")
	}
	return fmt.Sprintf("%s and %d more", names[0], len(names)-1)
}

// printPlan prints a plan for a person.
func printPlan(p *plan.Plan, list []planned, slots int, seconds float64) error {
	w := newTable(stdout)
	for i, l := range list {
		var how []string
		if l.State != plan.Unknown {
			how = append(how, string(l.State))
		}
		if len(l.Why) > 0 {
			how = append(how, strings.Join(l.Why, ", "))
		}
		var after []string
		for _, k := range p.Steps[i].After {
			after = append(after, p.Steps[k].Task.Name)
		}
		behind := ""
		if len(after) > 0 {
			behind = "after " + strings.Join(after, ", ")
		}
		w.row(string(l.Role), p.Steps[i].Task.ShownID(), l.Command, behind, strings.Join(how, ": "))
		if len(l.Parts) > 0 {
			w.row("", "", "runs by itself: "+strings.Join(l.Parts, ", "))
		}
		for _, o := range l.Offers {
			file, name := task.SplitID(o.Before)
			w.row("", "", fmt.Sprintf("uses %s, which %s#%s makes: before = [%q] would run that first", someOf(o.Files), file, name, o.Before))
		}
		if l.Jobs != "" && l.Jobs != run.SharedJobs {
			w.row("", "", l.Jobs)
		}
	}
	if err := w.flush(); err != nil {
		return err
	}
	words := ""
	if p.Concurrent() {
		words = fmt.Sprintf("at most %d at once", slots)
	}
	if seconds > 0 {
		words = strings.TrimPrefix(words+fmt.Sprintf(", about %s in all", printable.Duration(time.Duration(seconds*float64(time.Second)))), ", ")
	}
	if words == "" {
		return nil
	}
	return quietPipe(line(stdout, "%s", words))
}
