package main

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tidytally/core/filter"
	"tidytally/core/history"
	"tidytally/core/keep"
	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/core/secret"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// surveyHere surveys the workspace of the current folder.
func surveyHere() (*survey.Survey, error) {
	root, err := workspace.Root(".")
	if err != nil {
		return nil, &codeError{exitOwn, err}
	}
	v := survey.NewSurveyor(root)
	s, err := v.Survey(nil)
	if err != nil {
		return nil, &codeError{exitOwn, fmt.Errorf("surveying %s: %w", root, err)}
	}
	remembering.Go(func() { _ = v.Remember() }) // without it the next start is slower
	return s, nil
}

// remembering are surveys that are written down for the next start of the program.
var remembering sync.WaitGroup

// taskHere finds a task of the workspace of the current folder.
func taskHere(id string) (*survey.Survey, *task.Task, error) {
	s, err := surveyHere()
	if err != nil {
		return nil, nil, err
	}
	t, err := task.Find(s.Tasks, id)
	if err != nil {
		return nil, nil, &codeError{exitUsage, err}
	}
	return s, t, nil
}

func newList() *cobra.Command {
	var asJSON, all, faults bool
	c := &cobra.Command{
		Use:   "list [FILTER…]",
		Short: "List the tasks of the workspace",
		Long: `List the tasks of the workspace, one a line.

A filter has words that match fuzzily, and fields: kind: in: from: name: runs: is:`,
		Example: `  tidytally list kind:test in:firing
  tidytally list from:make -clean`,
		ValidArgsFunction: completeFilter,
		RunE: func(cmd *cobra.Command, args []string) error {
			// Nearly all that a survey allocates is still there at its end.
			debug.SetGCPercent(400)
			past := lastRuns()
			s, err := surveyHere()
			if err != nil {
				return err
			}
			last := <-past
			kept, err := keep.Load(s.Root)
			if err != nil {
				line(stderr, "%v", err)
			}
			query := filter.Parse(strings.Join(args, " "), task.FilterFields...)
			tasks, err := selected(s, query, all, kept, last)
			if err != nil {
				return err
			}
			if asJSON {
				l := s.Listing(tasks)
				if len(last) > 0 {
					for i := range l.Tasks {
						if r, ok := last[l.Tasks[i].ID]; ok {
							l.Tasks[i].Last = lastRun(&r)
						}
					}
				}
				return quietPipe(l.Write(jsonData))
			}
			if !all {
				tasks = slices.DeleteFunc(tasks, func(t *task.Task) bool { return t.HookOf != "" })
			}
			onTerminal := term.IsTerminal(int(os.Stdout.Fd()))
			folded := 0
			if query.Empty() && !all {
				before := len(tasks)
				tasks = slices.DeleteFunc(tasks, func(t *task.Task) bool { return t.Fold != "" })
				folded = before - len(tasks)
			}
			if onTerminal {
				err = printGroups(s, tasks, last)
			} else {
				err = printTasks(tasks)
			}
			if err != nil {
				return err
			}
			if folded > 0 {
				line(stderr, "%s", foldedLine(s, folded))
			}
			if len(s.Faults) > 1 && !faults && onTerminal {
				more := "1 more mistake"
				if n := len(s.Faults) - 1; n > 1 {
					more = fmt.Sprintf("%d more mistakes", n)
				}
				line(stderr, "%s (and %s in task files; --faults lists all)", s.Faults[0], more)
			} else {
				for _, f := range s.Faults {
					line(stderr, "%s", f)
				}
			}
			if file, rule := s.LeftOut(); file != "" && onTerminal {
				line(stderr, "%s is ignored by %s; rules_off = [%q] in the [workspace] of a tidytally.toml reads it", file, rule, strings.TrimPrefix(strings.SplitN(rule, ":", 2)[0], "built-in: "))
			}
			if why := s.WhyEmpty(); why != "" {
				line(stderr, "%s", why)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	c.Flags().BoolVar(&faults, "faults", false, "list each mistake in task files, on a terminal too")
	c.Flags().BoolVar(&all, "all", false, "list intermediate targets and other hidden tasks too")
	return c
}

// printTasks prints a line for each task, with its id.
func printTasks(tasks []*task.Task) error {
	w := newTable(stdout)
	for _, t := range tasks {
		w.row(t.ShownID(), t.Shown(t.Command.String()), t.About)
	}
	return w.flush()
}

// printGroups prints the tasks for a person: by folder, with what each really runs.
func printGroups(s *survey.Survey, tasks []*task.Task, last map[string]history.Run) error {
	w := newTable(stdout)
	folder := ""
	for _, t := range tasks {
		if in := t.Folder(); in != folder {
			folder = in
			if in == "." {
				in = s.Name
			}
			w.row(in)
		}
		if len(last) == 0 {
			w.row("  "+t.Name, t.Runs(), string(t.Kind), t.About)
			continue
		}
		ended := ""
		if r, ok := last[t.ID()]; ok {
			ended = r.Words()
		}
		w.row("  "+t.Name, t.Runs(), string(t.Kind), ended, t.About)
	}
	return w.flush()
}

// selected returns the tasks that pass a filter, which may ask for what is known of runs. last has the newest run of each task. A
// mistyped filter is an error.
func selected(s *survey.Survey, query filter.Query, all bool, kept *keep.Kept, last map[string]history.Run) ([]*task.Task, error) {
	ctx, err := runContext(s, "")
	if err != nil {
		return nil, err
	}
	known := sync.OnceValue(func() map[string]learn.Records { return learnedHere(s.Root) })
	tasks := s.Select(query, all, func(t *task.Task) (is []string) {
		if t.Pin || kept.Pinned(t.ID()) {
			is = append(is, "pinned")
		}
		switch look := outlookOf(&ctx, t, known()); {
		case look.Stale():
			is = append(is, "stale")
		case look.State == plan.Fresh:
			is = append(is, "fresh")
		}
		switch last[t.ID()].State {
		case "failed":
			is = append(is, "failing")
		case "running":
			is = append(is, "running")
		}
		return is
	})
	if len(tasks) == 0 {
		return nil, mistyped(query)
	}
	return tasks, nil
}

// lastRuns reads how the tasks were run last, beside the survey. Without a history there are
// none.
func lastRuns() <-chan map[string]history.Run {
	out := make(chan map[string]history.Run, 1)
	root, err := workspace.Root(".")
	if err != nil {
		out <- nil
		return out
	}
	go func() { out <- fromHistory(root, (*history.Store).Last) }()
	return out
}

func lastRun(r *history.Run) *survey.LastRun {
	return &survey.LastRun{
		Run: r.ID, Time: r.Start.Format(time.RFC3339), State: r.State, Exit: r.Exit, Seconds: r.Elapsed(time.Now()).Seconds(),
		Errors: r.Count.Errors, Warnings: r.Count.Warnings,
	}
}

// maxFoldsNamed is the number of folds that a line names.
const maxFoldsNamed = 3

// foldedLine tells of the tasks that are not listed because they are folded.
func foldedLine(s *survey.Survey, folded int) string {
	var names []string
	for _, f := range s.Folds {
		name := f.Name
		if f.Why == survey.WhyBelow {
			name = "below " + strings.TrimSuffix(f.Name, "/")
		}
		names = append(names, fmt.Sprintf("%s %d (%s)", name, f.Tasks, f.Why))
	}
	if n := len(names) - maxFoldsNamed; n > 0 {
		names = append(names[:maxFoldsNamed], fmt.Sprintf("%d more", n))
	}
	are := fmt.Sprintf("%d tasks are", folded)
	if folded == 1 {
		are = "1 task is"
	}
	return fmt.Sprintf("%s folded: %s; --all lists all", are, strings.Join(names, ", "))
}

// mistyped returns an error if a filter that nothing passes has a field or a kind that
// there is not.
func mistyped(q filter.Query) error {
	for _, word := range q.Fields("") {
		name, _, ok := strings.Cut(word, ":")
		if !ok || name == "" || strings.ContainsAny(name, "/. ") {
			continue
		}
		near := ""
		if field, found := task.Nearest(name, task.FilterFields); found {
			near = fmt.Sprintf("; did you mean %s:?", field)
		}
		return usageError("nothing matches %s, and there is no field %s:%s (fields: %s:)", word, name, near, strings.Join(task.FilterFields, ": "))
	}
	for _, is := range q.Fields("is") {
		if slices.ContainsFunc(task.IsWords, func(w string) bool { return strings.HasPrefix(w, is) }) {
			continue
		}
		near := ""
		if w, found := task.Nearest(is, task.IsWords); found {
			near = fmt.Sprintf("; did you mean is:%s?", w)
		}
		return usageError("there is no is:%s%s (is: %s)", is, near, strings.Join(task.IsWords, ", "))
	}
	for _, kind := range q.Fields("kind") {
		var kinds []string
		known := false
		for _, k := range task.Kinds {
			kinds = append(kinds, string(k))
			known = known || strings.Contains(string(k), kind)
		}
		if known {
			continue
		}
		near := ""
		if k, found := task.Nearest(kind, kinds); found {
			near = fmt.Sprintf("; did you mean kind:%s?", k)
		}
		return usageError("there is no kind %s%s (kinds: %s)", kind, near, strings.Join(kinds, ", "))
	}
	return nil
}

func newShow() *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:               "show ID",
		Short:             "Show one task, with the origin of every value",
		Args:              takes(1, 1, "the ID of a task"),
		ValidArgsFunction: completeID,
		RunE: func(cmd *cobra.Command, args []string) error {
			past := lastRuns()
			s, t, err := taskHere(args[0])
			if err != nil {
				return err
			}
			last, ran := (<-past)[t.ID()]
			if asJSON {
				shown := s.Show(t)
				if ran {
					shown.Last = lastRun(&last)
				}
				return printJSON(shown)
			}
			w := newTable(stdout)
			w.row("id", t.ShownID())
			for _, v := range s.Values(t) {
				w.row(v.Field, strings.ReplaceAll(v.Text, "\n", "; "), v.Origin.String())
			}
			for _, c := range s.Calls(t) {
				text := c.Text
				if c.Hook != "" {
					text += " (" + c.Hook + " it)"
				}
				w.row("calls", text, c.ID)
			}
			for _, v := range environmentOf(s, t) {
				w.row("environment", v)
			}
			if ran {
				w.row("last run", fmt.Sprintf("%s after %s", last.Words(), printable.Duration(last.Elapsed(time.Now()))), fmt.Sprintf("run %d, %s", last.ID, last.Start.Format("2006-01-02 15:04")))
			}
			showFiles(w, s, t)
			return w.flush()
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	return c
}

// showFiles tells whether a task is fresh, and lists the files that its last good run made and read, with
// what has become of each.
func showFiles(w table, s *survey.Survey, t *task.Task) {
	known := learnedHere(s.Root)
	records := known[t.ID()]
	if len(records) == 0 {
		return
	}
	ctx, err := runContext(s, "")
	if err != nil {
		return
	}
	switch look := outlookOf(&ctx, t, known); {
	case look.State == plan.Fresh:
		w.row("fresh", "since "+printable.Moment(look.Since, time.Now()), string(look.From))
	case look.Stale():
		w.row("stale", strings.Join(look.Why, ", "), string(look.From))
	default:
		w.row(string(look.State), strings.Join(look.Why, ", "), string(look.From))
	}
	for _, f := range filesOf(s.Root, records) {
		w.row(string(f.Role), f.Path, cmp.Or(f.State, f.Source))
	}
}

// filesOf returns the files of a task's last good run: as it was watched, else as it was declared.
func filesOf(root string, records learn.Records) []learn.File {
	for _, origin := range []learn.Origin{learn.Watched, learn.Declared} {
		if k := records[origin]; k != nil {
			return k.FilesNow(root)
		}
	}
	return nil
}

// environmentOf returns what a task changes of the environment, if that can be said without
// values that it asks for. Values that look secret are left out.
func environmentOf(s *survey.Survey, t *task.Task) []string {
	ctx, err := runContext(s, "")
	if err != nil {
		return nil
	}
	prepared, err := ctx.Prepare(t, nil)
	if err != nil {
		return nil
	}
	return secret.Words(prepared.Env, t.Secrets, nil)
}

func newSchema(write func(io.Writer) error) *cobra.Command {
	return &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of the tally file",
		Args:  takes(0, 0, ""),
		RunE:  func(*cobra.Command, []string) error { return quietPipe(write(jsonData)) },
	}
}
