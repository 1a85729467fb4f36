package main

import (
	"io"
	"path/filepath"
	"time"

	"tidytally/core/commit"
	"tidytally/core/history"
	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/workspace"
)

// pastWriter gathers the problems of a log that counts as a run of a task, and writes them when
// they have been compared with those of the run before.
type pastWriter struct {
	to    problemWriter
	out   io.Writer
	lines bool // JSON lines, which have the lives of the problems too
	task  string
	dir   string

	collected sieve.Collector
	all       []problem.Problem // of the inputs before
}

// newPastWriter returns a writer that keeps what is sifted as a run of a task.
func newPastWriter(to problemWriter, format string, out io.Writer, id, in string) (*pastWriter, error) {
	_, t, err := taskHere(id)
	if err != nil {
		return nil, err
	}
	if in == "" {
		in = "."
	}
	dir, err := filepath.Abs(in)
	if err != nil {
		return nil, &codeError{exitOwn, err}
	}
	return &pastWriter{to: to, out: out, lines: format == "jsonl", task: t.ID(), dir: dir}, nil
}

func (w *pastWriter) problem(p problem.Problem) error {
	w.collected.Problem(p)
	return nil
}

func (w *pastWriter) repeat(seq int) { w.collected.Repeat(seq) }
func (w *pastWriter) cycle(n int)    { w.collected.NextCycle(n) }
func (w *pastWriter) flush() error   { return nil }

func (w *pastWriter) next() {
	w.all = append(w.all, w.collected.Problems...)
	w.collected = sieve.Collector{}
}

func (w *pastWriter) end() error {
	root, err := workspace.Root(".")
	if err != nil {
		return &codeError{exitUsage, err}
	}
	store, err := openHistory(root)
	if err != nil {
		return err
	}
	defer store.Close()
	now := time.Now()
	at := commit.Of(root)
	state, exit := "ok", 0
	if problem.CountOf(w.all).Errors > 0 {
		state, exit = "failed", 1
	}
	lives, err := store.AddLog(history.Run{
		Task: w.task, Command: "tidytally sift --as " + w.task, Dir: w.dir, Start: now, End: now, State: state, Exit: exit,
		Commit: at.Hash, Dirty: at.Dirty,
	}, w.all)
	if err != nil {
		return &codeError{exitOwn, err}
	}
	if w.lines {
		enc := jsonEncoder(w.out)
		for i := range lives {
			l := &lives[i]
			if err := enc.Encode(struct {
				problem.Problem
				Task  string `json:"task"`
				State string `json:"state"`
				First int64  `json:"first"`
				Seen  int    `json:"seen"`
			}{l.Problem, w.task, stateNames[l.State], l.First, l.Seen}); err != nil {
				return err
			}
		}
		return nil
	}
	for i := range lives {
		if lives[i].State == problem.Gone {
			continue
		}
		if err := w.to.problem(lives[i].Problem); err != nil {
			return err
		}
	}
	w.to.next()
	if err := w.to.end(); err != nil {
		return err
	}
	count := map[problem.State]int{}
	for i := range lives {
		count[lives[i].State]++
	}
	return line(stderr, "%d new, %d still there, %d gone", count[problem.New], count[problem.Still], count[problem.Gone])
}
