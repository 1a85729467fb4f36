package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"tidytally/core/history"
	"tidytally/core/printable"
	"tidytally/core/problem"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// listedRun is a run as history --json lists it.
type listedRun struct {
	ID         int64    `json:"id"`
	Task       string   `json:"task"`
	Role       string   `json:"role"`
	Args       []string `json:"args"`
	Command    string   `json:"command"`
	Dir        string   `json:"dir"`
	Env        []string `json:"env,omitempty"`
	Start      string   `json:"start"`
	Seconds    float64  `json:"seconds"`
	CPU        float64  `json:"cpuSeconds"`
	Memory     int64    `json:"memory"` // bytes
	State      string   `json:"state"`
	Exit       int      `json:"exit"`
	Signal     string   `json:"signal"`
	Fault      string   `json:"fault,omitempty"`
	Commit     string   `json:"commit"`
	Dirty      *bool    `json:"dirty,omitempty"`
	Errors     int      `json:"errors"`
	Warnings   int      `json:"warnings"`
	Notes      int      `json:"notes"`
	New        int      `json:"new"`
	Still      int      `json:"still"`
	Gone       int      `json:"gone"`
	NotChecked int      `json:"notChecked"`
	Bytes      int64    `json:"bytes"`
}

func listRun(r *history.Run) listedRun {
	return listedRun{
		ID: r.ID, Task: r.Task, Role: r.Role, Args: append([]string{}, r.Args...), Command: r.Command, Dir: r.Dir, Env: r.Env,
		Start: r.Start.Format(time.RFC3339), Seconds: r.Elapsed(time.Now()).Seconds(), CPU: r.CPU.Seconds(), Memory: r.Memory,
		State: r.State, Exit: r.Exit, Signal: r.Signal, Fault: r.Fault, Commit: r.Commit, Dirty: r.Dirty,
		Errors: r.Count.Errors, Warnings: r.Count.Warnings, Notes: r.Count.Notes,
		New: r.Balance.New, Still: r.Balance.Still, Gone: r.Balance.Gone, NotChecked: r.Balance.NotChecked, Bytes: r.Bytes,
	}
}

func newHistory() *cobra.Command {
	var asJSON, problems, steps bool
	var output int64
	var limit int
	var since string
	c := &cobra.Command{
		Use:   "history [ID]",
		Short: "Show earlier runs, and the life of problems",
		Long:  `Show earlier runs of the workspace, or of one task, the newest first; with --problems what came and went.`,
		Example: `  tidytally history kiln#controller
  tidytally history --since 2d
  tidytally history --problems --since a41c09f
  tidytally history --output 214`,
		Args:              takes(0, 1, "one ID"),
		ValidArgsFunction: completeID,
		RunE: func(cmd *cobra.Command, args []string) error {
			var from time.Time
			if since != "" && !problems { // of problems, it may be a commit
				var err error
				if from, err = history.Since(since, time.Now()); err != nil {
					return usageError("--since %s: %v", since, err)
				}
			}
			root, err := workspace.Root(".")
			if err != nil {
				return &codeError{exitUsage, err}
			}
			if !history.Exists(root) {
				if asJSON && problems {
					return printJSON(map[string]any{"problems": []any{}})
				} else if asJSON {
					return printJSON(map[string]any{"runs": []any{}})
				}
				return line(stderr, "nothing was run here yet")
			}
			s, err := openHistory(root)
			if err != nil {
				return err
			}
			defer s.Close()
			if output != 0 {
				return printOutput(s, output)
			}
			w := history.Wanted{Limit: limit, Steps: steps}
			if len(args) > 0 {
				if w.Task, err = pastTask(s, args[0]); err != nil {
					return err
				}
			}
			if problems {
				return printLives(s, w.Task, since, limit, asJSON)
			}
			w.Since = from
			if asJSON {
				return printRunsJSON(s, w)
			}
			runs, err := s.Runs(w)
			if err != nil {
				return &codeError{exitOwn, err}
			}
			return printRuns(runs)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print one JSON object")
	c.Flags().BoolVar(&problems, "problems", false, "list problems with their lives: when they came, how often they were seen, when they went")
	c.Flags().BoolVar(&steps, "steps", false, "list also what ran for another task")
	c.Flags().Int64Var(&output, "output", 0, "print what run `N` printed")
	c.Flags().IntVar(&limit, "limit", 50, "list at most so many; 0 for all")
	c.Flags().StringVar(&since, "since", "", "since a `TIME`, such as 2d, 3h or 2026-03-02; with --problems, a commit that was run")
	return c
}

// openHistory opens the history of a workspace, with what a killed program left there put in
// order.
func openHistory(root string) (*history.Store, error) {
	s, err := history.Open(root)
	if err != nil {
		return nil, &codeError{exitOwn, err}
	}
	if s.Told != "" {
		line(stderr, "%s", s.Told)
	}
	if err := s.Recover(); err != nil {
		line(stderr, "runs that were interrupted: %v", err)
	}
	return s, nil
}

// pastTask finds a task among those that were run: it need not be declared any more.
func pastTask(s *history.Store, id string) (string, error) {
	last, err := s.Last()
	if err != nil {
		return "", &codeError{exitOwn, err}
	}
	var tasks []*task.Task
	for ran := range last {
		file, name := task.SplitID(ran)
		tasks = append(tasks, &task.Task{File: file, Name: name})
	}
	t, err := task.Find(tasks, id)
	if err != nil {
		if here, err := surveyHere(); err == nil {
			if t, err := task.Find(here.Tasks, id); err == nil {
				return t.ID(), nil
			}
		}
		return "", &codeError{exitUsage, fmt.Errorf("among what was run: %w", err)}
	}
	return t.ID(), nil
}

// printRunsJSON prints runs as one JSON object, each as soon as it is read: there may be hundreds of thousands.
func printRunsJSON(s *history.Store, wanted history.Wanted) error {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("    ", "  ")
	flush := func(least int) error {
		if b.Len() < least {
			return nil
		}
		_, err := jsonData.Write(b.Bytes()) // whole runs: a character is never cut
		b.Reset()
		return err
	}
	b.WriteString("{\n  \"runs\": [")
	some := false
	err := s.EachRun(wanted, func(r *history.Run) error {
		if some {
			b.WriteByte(',')
		}
		some = true
		b.WriteString("\n    ")
		if err := enc.Encode(listRun(r)); err != nil {
			return err
		}
		b.Truncate(b.Len() - 1) // its line feed
		return flush(64 << 10)
	})
	if errors.Is(err, syscall.EPIPE) {
		return nil
	}
	if err != nil {
		return &codeError{exitOwn, err}
	}
	if some {
		b.WriteString("\n  ")
	}
	b.WriteString("]\n}\n")
	return quietPipe(flush(0))
}

// printRuns prints runs for a person.
func printRuns(runs []history.Run) error {
	w := newTable(stdout)
	for i := range runs {
		r := &runs[i]
		commit := r.Commit[:min(7, len(r.Commit))]
		if r.Dirty != nil && *r.Dirty {
			commit += "·"
		}
		problems := ""
		if r.Count.Total() > 0 || r.Balance.Gone > 0 || r.Balance.NotChecked > 0 {
			problems = fmt.Sprintf("%s, +%d -%d", r.Count.With(r.Balance.NotChecked), r.Balance.New, r.Balance.Gone)
		}
		file, name := task.SplitID(r.Task)
		w.row(fmt.Sprint(r.ID), r.Start.Format("2006-01-02 15:04"), (&task.Task{File: file, Name: name}).ShownID(), task.QuoteArguments(r.Args), r.Words(), printable.Duration(r.Elapsed(time.Now())), commit, problems)
	}
	return w.flush()
}

// printOutput prints what a run printed, to the byte where standard output is no terminal.
func printOutput(s *history.Store, id int64) error {
	if _, err := s.Run(id); err != nil {
		return &codeError{exitUsage, err}
	}
	text, cut, ok, err := s.Output(id)
	if err != nil {
		return &codeError{exitOwn, err}
	}
	if !ok {
		return line(stderr, "nothing is kept of what run %d printed", id)
	}
	if cut > 0 {
		line(stderr, "the first %d bytes are not kept", cut)
	}
	to, _ := outputWriter()
	_, err = to.Write(text)
	return quietPipe(err)
}

// moment is a run in the life of a problem.
type moment struct {
	Run    int64  `json:"run"`
	Time   string `json:"time,omitempty"`
	Commit string `json:"commit,omitempty"`
}

// livedProblem is a problem as history --problems --json lists it.
type livedProblem struct {
	problem.Problem
	Task  string  `json:"task"`
	State string  `json:"state"`
	First moment  `json:"first"`
	Last  moment  `json:"last"`
	Gone  *moment `json:"gone,omitempty"`
	Seen  int     `json:"seen"`
}

// stateNames are the states of problems in JSON.
var stateNames = map[problem.State]string{problem.New: "new", problem.Still: "still", problem.Gone: "gone", problem.NotChecked: "notChecked"}

// printLives prints what problems there are and were, of a task or of all. since is a commit
// that was run, or a time: what was there before and still is, is then left out.
func printLives(s *history.Store, of, since string, limit int, asJSON bool) error {
	from := int64(0)
	if since != "" {
		if r, err := s.NewestAt(since); err == nil {
			from = r.ID
		} else if at, bad := history.Since(since, time.Now()); bad == nil {
			runs, err := s.Runs(history.Wanted{Since: at, Steps: true})
			if err != nil {
				return &codeError{exitOwn, err}
			}
			if len(runs) == 0 {
				from = 1 << 60
			} else {
				from = runs[len(runs)-1].ID - 1
			}
		} else {
			return &codeError{exitUsage, err}
		}
	}
	moments := map[int64]moment{}
	at := func(id int64) moment {
		if m, ok := moments[id]; ok {
			return m
		}
		m := moment{Run: id}
		if r, err := s.Run(id); err == nil { // it may be too old to be kept
			m.Time, m.Commit = r.Start.Format(time.RFC3339), r.Commit
		}
		moments[id] = m
		return m
	}
	last, err := s.Last()
	if err != nil {
		return &codeError{exitOwn, err}
	}
	list := []livedProblem{}
	for _, id := range sortedKeys(last) {
		if of != "" && id != of {
			continue
		}
		lives, err := s.Lives(last[id].ID)
		if err != nil {
			return &codeError{exitOwn, err}
		}
		for _, l := range lives {
			if l.First > from || since == "" {
				list = append(list, livedProblem{Problem: l.Problem, Task: id, State: stateNames[l.State], First: at(l.First), Last: at(l.Last), Seen: l.Seen})
			}
		}
	}
	gone, err := s.Gone(of, from, limit)
	if err != nil {
		return &codeError{exitOwn, err}
	}
	for _, g := range gone {
		if since != "" && g.First > from {
			continue // it came and went
		}
		went := at(g.Run)
		list = append(list, livedProblem{Problem: g.Problem, Task: g.Task, State: "gone", First: at(g.First), Last: at(g.Last), Gone: &went, Seen: g.Seen})
	}
	if asJSON {
		return printJSON(map[string]any{"problems": list})
	}
	for i := range list {
		l := &list[i]
		text := fmt.Sprintf("%s %s: first in run %d", l.State, l.Problem.GNU(), l.First.Run)
		if l.First.Commit != "" {
			text += " at " + l.First.Commit[:min(7, len(l.First.Commit))]
		}
		if l.First.Time != "" {
			text += " on " + l.First.Time[:10]
		}
		text += fmt.Sprintf(", seen %d times", l.Seen)
		if l.Gone != nil {
			text += fmt.Sprintf(", gone in run %d", l.Gone.Run)
		}
		if err := line(stdout, "%s", text); err != nil {
			return quietPipe(err)
		}
	}
	return nil
}
