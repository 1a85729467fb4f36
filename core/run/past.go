package run

import (
	"fmt"
	"io"
	"time"

	"tidytally/core/output"
	"tidytally/core/plan"
	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/task"
)

// Past is an earlier run, as stored.
type Past struct {
	Task           *task.Task
	Args           []string
	Command        string // as it was shown
	Dir            string // absolute
	State          State
	Started, Ended time.Time
	Code           int
	Signal, Fault  string
	Part           string // see Snapshot
	Problems       []problem.Problem
	// Output returns what it printed. It is called once, when that is asked for.
	Output func() ([]byte, error)
}

// Replay makes a run that has ended of one that was kept. It is not among Runs.
func (s *Supervisor) Replay(p Past) *Run {
	r := s.pastRun(p)
	close(r.done)
	close(r.job.done)
	return r
}

// pastRun makes the only step of a job of a run that was begun by another program.
func (s *Supervisor) pastRun(p Past) *Run {
	t := p.Task
	prepared := &Prepared{Task: t, Display: p.Command, Dir: p.Dir, Command: t.Command}
	j := &Job{Plan: &plan.Plan{Task: t, Steps: []plan.Step{{Task: t, Role: plan.Main}}}, super: s, done: make(chan struct{})}
	r := newRun(s, j, prepared)
	j.Steps, j.Main = []*Run{r}, r
	r.Args = p.Args
	r.state, r.started, r.ended = p.State, p.Started, p.Ended
	r.code, r.signal, r.fault = p.Code, p.Signal, p.Fault
	r.collected = sieve.Collector{Problems: p.Problems}
	r.replay = p.Output
	return r
}

// fresh returns the last good run of a task that is to be left out when it is fresh, and is; else nil.
func (r *Run) fresh() *Past {
	t, opts := r.Prepared.Task, &r.super.opts
	if !t.SkipFresh || r.job.Plan.Anyway || opts.Recorder == nil || r.super.staysUp(t) || t.Of != "" {
		return nil
	}
	return opts.Recorder.Fresh(r.Prepared)
}

// Replays returns when the run started whose output this one shows, as its task is fresh; else zero. It is
// for Options.Tee.
func (r *Run) Replays() time.Time {
	if r.past == nil {
		return time.Time{}
	}
	return r.past.Started
}

// leaveOut ends a run whose task is fresh with what the last good run printed and reported.
func (r *Run) leaveOut(past *Past) {
	r.mu.Lock()
	q := r.queued
	r.queued = nil
	r.past, r.started = past, time.Now()
	r.collected = sieve.Collector{Problems: past.Problems}
	r.replay = past.Output
	r.mu.Unlock()
	if q != nil {
		r.queuedIn.withdraw(q)
	}
	to := r.job.strand(r)
	if tee := r.super.opts.Tee; tee != nil {
		to = tee(r)
	}
	if to != nil {
		r.Output(func(x *output.Index) {
			_, _ = io.Copy(to, io.NewSectionReader(r.spool, 0, r.spool.Size())) // whoever reads it may have gone
		})
	}
	r.end(OK)
}

// loadReplay reads the output of a kept run, if it was not read yet. r.lines.mu must be held.
func (r *Run) loadReplay() {
	r.mu.Lock()
	load := r.replay
	r.replay = nil
	r.mu.Unlock()
	if load == nil {
		return
	}
	text, err := load()
	if err == nil {
		var spool *output.Spool
		if spool, err = output.NewSpool(r.super.spools.Path(), "past"); err == nil {
			spool.Write(text)
			r.lines.index = output.NewIndex(spool)
			r.lines.index.Write(text)
		}
		r.mu.Lock()
		r.spool = spool
		r.mu.Unlock()
	}
	if err != nil {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.fault = fmt.Sprintf("what it printed cannot be shown: %v", err)
	}
}
