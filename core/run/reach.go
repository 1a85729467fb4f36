package run

import (
	"io"
	"os"
	"time"

	"tidytally/core/reach"
	"tidytally/core/secret"
	"tidytally/core/sift"
)

// Reach returns what the run looked at, or the newest pass of it. since is the time at which the run before
// started, whose problems are asked about; zero if that was a pass of the same run.
func (r *Run) Reach(since time.Time) *reach.Reach {
	s := r.Snapshot()
	ctx := r.super.Context()
	t := s.Prepared.Task
	x := reach.Run{Root: ctx.Root, Since: since}
	r.mu.Lock()
	settled := r.settled
	x.From = r.passFrom
	if len(r.passes) > 0 {
		x.Since = r.passBefore
	}
	r.mu.Unlock()
	if s.Spool != "" {
		x.Output = func() (io.ReadCloser, error) {
			f, err := os.Open(s.Spool)
			if err == nil {
				_, err = f.Seek(x.From, io.SeekStart)
			}
			return f, err
		}
	}
	switch {
	case s.State == Watching:
		x.Over, x.Whole, x.Started = s.Signal == "", s.Code == 0, s.Started
	case t.LongRunning:
		x.Over = settled && s.State != Waiting
		x.Whole = s.Cycle > 0
	default:
		x.Over = s.State == OK || s.State == Failed && s.Signal == "" && !s.Stopping
		x.Whole = s.State == OK
		x.Started = s.Started
	}
	if !x.Over {
		return reach.Of(x) // it has checked nothing yet, and is asked again and again
	}
	x.Dir, x.Map = s.Prepared.Dir, sift.Mappings(ctx.Tally, t.Via, s.Prepared.remoteDir(), ctx.Root)
	x.Problems, x.Search, x.Mask = s.Problems, ctx.Search, r.Mask()
	x.Line = x.Mask(s.Prepared.Display)
	if !t.ScriptInFile {
		x.Script = t.Script
	}
	for _, n := range s.Summaries {
		x.Families = append(x.Families, n.Family)
	}
	return reach.Of(x)
}

// leastInherited is the length in bytes from which the value of a secret variable that a task does not set itself is
// hidden in its command: a shorter one, such as true, stands there by chance.
const leastInherited = 8

// Mask returns how secrets of the run are hidden in a command.
func (r *Run) Mask() func(text string) string {
	more := r.Prepared.Task.Secrets
	_, values := r.Prepared.Task.WithoutSecrets(r.Args)
	values = append(values, secret.Values(r.Prepared.Env, more)...)
	for _, v := range secret.Values(os.Environ(), more) { // {env.NAME} may have put it into the command
		if len(v) >= leastInherited {
			values = append(values, v)
		}
	}
	return func(text string) string { return secret.Text(text, more, values) }
}
