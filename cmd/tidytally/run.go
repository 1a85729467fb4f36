package main

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"a.early/keeper"
	"tidytally/core/history"
	"tidytally/core/keep"
	"tidytally/core/learn"
	"tidytally/core/output"
	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/secret"
	"tidytally/core/session"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

func newRun() *cobra.Command {
	var file string
	var how runFlags
	var once bool
	c := &cobra.Command{
		Use:   "run ID… [-- ARGS…]",
		Short: "Run tasks",
		Long:  `Run tasks, one after another: the output as it comes, then the problems, then one closing line.`,
		Example: `  tidytally run controller
  tidytally run kiln#controller -- BOARD=mk1
  tidytally run firing#test --split 2 --shard 1/4`,
		ValidArgsFunction: completeRun,
		RunE: func(cmd *cobra.Command, args []string) error {
			var more []string
			if at := cmd.ArgsLenAtDash(); at >= 0 {
				args, more = args[:at], args[at:]
			}
			if len(args) == 0 {
				return usageError("run: say which task; tidytally list shows them")
			}
			if how.learn && how.noHistory {
				return usageError("--learn keeps what it learns in the history, which --no-history leaves out: use one of them")
			}
			spare, err := keeper.New() // it starts while the workspace is read
			if err != nil {
				return &codeError{exitOwn, err}
			}
			defer spare.Dismiss()
			c, err := newConductor(&how, file, once, spare)
			if err != nil {
				return err
			}
			defer c.session.Close()
			var tasks []*task.Task
			for _, id := range args {
				t, err := task.Find(c.survey.Tasks, id)
				if err != nil {
					return &codeError{exitUsage, err}
				}
				tasks = append(tasks, t)
			}
			if how.since != "" {
				if tasks, err = c.touchedOf(cmd.Context(), tasks, how.since); err != nil {
					return err
				}
			}
			for i, t := range tasks {
				if how.at != "" {
					if _, ok := c.survey.Tally.Places[how.at]; !ok {
						return usageError("--at %s: there is no such [place]; there are: %s", how.at, strings.Join(slices.Sorted(maps.Keys(c.survey.Tally.Places)), ", "))
					}
					moved := *t
					moved.At = how.at
					t = &moved
				}
				code, err := c.runOne(t, more, &how)
				if err != nil {
					return err
				}
				if code != 0 {
					for _, rest := range tasks[i+1:] {
						line(stderr, "%s not run", rest.ShownID())
					}
					return &codeError{code: code}
				}
			}
			return nil
		},
	}
	c.Flags().StringVar(&file, "file", "", "the current `file`, for {file} in commands")
	c.Flags().BoolVar(&once, "once", false, "run once what is else run again when its files change")
	c.Flags().IntVar(&how.split, "split", 0, "run a test suite file by file, `N` at a time")
	c.Flags().StringVar(&how.shard, "shard", "", "run share `I/N` of a test suite's files, by the time that they took")
	c.Flags().BoolVar(&how.failed, "failed", false, "run those files of a test suite that failed last")
	c.Flags().StringVar(&how.preset, "preset", "", "with the arguments that are kept under a `NAME`")
	_ = c.RegisterFlagCompletionFunc("preset", completePreset) // the flag is there
	c.Flags().StringVar(&how.at, "at", "", "run it at a `PLACE` of the tally file")
	_ = c.RegisterFlagCompletionFunc("at", completePlace) // the flag is there
	c.Flags().StringVar(&how.since, "since", "", "leave out tasks that are untouched since a `REVISION` of git, or since the \"last\" good run")
	c.Flags().BoolVar(&how.anyway, "fresh", false, "run what is fresh too, where it would be left out")
	c.Flags().BoolVar(&how.learn, "learn", false, "watch the run, to learn what it reads and makes")
	c.Flags().BoolVar(&how.noHistory, "no-history", false, "keep nothing of the run")
	c.Flags().StringVar(&how.debug, "debug", "", "run the task's program under a debugger that stops at `FILE:LINE`")
	return c
}

// placeOf reads FILE:LINE.
func placeOf(where string) (at run.Place, err error) {
	i := strings.LastIndexByte(where, ':')
	if at.Line, err = strconv.Atoi(where[i+1:]); i < 0 || err != nil || at.Line < 1 {
		return at, fmt.Errorf("--debug %s: write it as FILE:LINE", where)
	}
	at.File, err = absFile(where[:i])
	return at, err
}

// debugPlan returns the plan that runs a task's program under a debugger. The place where that stops is the current one.
func debugPlan(s *survey.Survey, t *task.Task, where string) (*plan.Plan, error) {
	at, err := placeOf(where)
	if err != nil {
		return nil, err
	}
	d, err := run.DebugTask(t, at)
	if err != nil {
		return nil, err
	}
	p, err := plan.Of(s.Tasks, d)
	if err == nil {
		p.File, p.Line = at.File, at.Line
	}
	return p, err
}

// presetArgs returns the arguments that are kept under a name, in a tally file or by the user, with
// further ones behind them.
func presetArgs(s *survey.Survey, t *task.Task, name string, more []string) ([]string, error) {
	known := slices.Collect(maps.Keys(t.Presets))
	if text, ok := t.Presets[name]; ok {
		words, err := task.SplitWords(text)
		if err != nil {
			return nil, usageError("preset %s of %s: %v", name, t.ShownID(), err)
		}
		return append(words, more...), nil
	}
	if history.Exists(s.Root) {
		store, err := openHistory(s.Root)
		if err != nil {
			return nil, err
		}
		defer store.Close()
		kept, err := store.Presets(t.ID())
		if err != nil {
			return nil, &codeError{exitOwn, err}
		}
		if words, ok := kept[name]; ok && secret.Missing(words) {
			return nil, usageError("preset %s of %s is kept without its secrets, %s: give the arguments behind --", name, t.ShownID(), task.QuoteArguments(words))
		} else if ok {
			return append(words, more...), nil
		}
		known = append(known, slices.Collect(maps.Keys(kept))...)
	}
	slices.Sort(known)
	if len(known) == 0 {
		return nil, usageError("%s has no presets; presets = { NAME = \"ARGUMENTS\" } in a tally file makes some", t.ShownID())
	}
	return nil, usageError("%s has no preset %s; it has: %s", t.ShownID(), name, strings.Join(known, ", "))
}

// runFlags say that a test suite is split, or that a debugger runs instead of the task.
type runFlags struct {
	since  string
	split  int
	shard  string
	failed bool
	debug  string

	noHistory bool
	learn     bool
	preset    string
	anyway    bool
	at        string
}

// plan returns the plan of a task, split if that is asked for.
func (f *runFlags) plan(s *survey.Survey, t *task.Task, kept *keep.Kept) (*plan.Plan, error) {
	if f.debug != "" {
		return debugPlan(s, t, f.debug)
	}
	if f.split == 0 && f.shard == "" && !f.failed {
		return plan.Of(s.Tasks, t)
	}
	how := plan.Split{AtOnce: f.split, Took: func(id string) float64 { return kept.Suites[t.ID()].Seconds[id] }}
	if f.shard != "" {
		if n, err := fmt.Sscanf(f.shard+" ", "%d/%d ", &how.Shard, &how.Shards); n != 2 || err != nil || how.Shard < 1 || how.Shard > how.Shards {
			return nil, fmt.Errorf("--shard %s: write it as 1/4, for the first of four", f.shard)
		}
	}
	if f.failed {
		if how.Only = kept.Suites[t.ID()].Failed; len(how.Only) == 0 {
			return nil, fmt.Errorf("%s: no file of it failed when it was split and run last", t.ShownID())
		}
	}
	p, err := plan.OfSuite(s.Tasks, t, how)
	if err == nil && t.At != "" { // its files go where it goes
		for i := range p.Steps {
			if file := *p.Steps[i].Task; file.IsPartOf(t) && file.At == "" {
				file.At = t.At
				p.Steps[i].Task = &file
			}
		}
	}
	if err == nil && f.shard != "" {
		files := 0
		for i := range p.Steps {
			if p.Steps[i].Task.IsPartOf(t) {
				files++
			}
		}
		all := plan.Parts(s.Tasks, t)
		line(stderr, "shard %s: %d of %d %s, divided by measures %s; the other shards must say the same", f.shard, files, len(all), t.PartWord(), how.Digest(all))
	}
	return p, err
}

// A conductor runs tasks in a session and lets what they print come out.
type conductor struct {
	session  *session.Session
	survey   *survey.Survey
	kept     *keep.Kept
	keys     *keyboard
	terminal bool      // both ends are one
	to       io.Writer // where outputs go
	weaver   *output.Weaver
	woven    atomic.Bool // several steps may print at once: their lines are marked
}

// newConductor opens a session on the workspace of the current folder, and surveys it.
func newConductor(how *runFlags, file string, once bool, spare *keeper.Keeper) (*conductor, error) {
	root, err := workspace.Root(".")
	if err != nil {
		return nil, &codeError{exitOwn, err}
	}
	if file != "" {
		if file, err = absFile(file); err != nil {
			return nil, &codeError{exitUsage, err}
		}
	}
	in, out := int(os.Stdin.Fd()), int(os.Stdout.Fd())
	c := &conductor{keys: &keyboard{in: in}, terminal: term.IsTerminal(in) && term.IsTerminal(out)}
	to, end := outputWriter()
	c.to, c.weaver = to, output.NewWeaver(to, end)
	o := session.Options{File: file, NoHistory: how.noHistory, Fault: func(err error) { line(stderr, "%v", err) }}
	o.Run = run.Options{Stdin: os.Stdin, Keeper: spare, Once: once, Learn: how.learn, Tee: c.tee}
	if c.terminal {
		o.Run.Terminal = true
		if o.Run.Cols, o.Run.Rows, _ = term.GetSize(out); o.Run.Cols == 0 || o.Run.Rows == 0 {
			o.Run.Cols, o.Run.Rows = 80, 24 // a terminal that does not know its size
		}
	}
	if how.learn {
		o.Run.Learned = func(r *run.Run, k *learn.Known, err error) {
			if err == nil && len(k.Tries) == 0 { // the last of the tries was good
				line(stderr, "learned: %s reads %d files of the workspace and makes %d", r.Prepared.Task.ShownID(), len(k.Files(learn.Read)), len(k.Files(learn.Made)))
			}
		}
	}
	if c.session, err = session.Open(root, o); err != nil {
		return nil, &codeError{exitOwn, err}
	}
	if !how.noHistory {
		c.session.OpenHistory()
	}
	c.session.Touch()
	snap, err := c.session.Settle(context.Background())
	if err != nil || snap.Survey == nil {
		c.session.Close()
		return nil, &codeError{code: exitOwn} // why was told
	}
	c.survey = snap.Survey
	c.kept, _ = keep.Load(root) // without it nothing is known of earlier runs
	return c, nil
}

// tee returns where the output of a run goes.
func (c *conductor) tee(r *run.Run) io.Writer {
	if since := r.Replays(); !since.IsZero() {
		line(stderr, "%s is fresh: nothing that it reads has changed since %s; this is what it printed then:", r.Prepared.Task.ShownID(), printable.Moment(since, time.Now()))
	}
	if c.woven.Load() {
		return c.weaver.Strand(printable.Text(r.Prepared.Task.Name))
	}
	return c.to
}

// runOne runs a task and returns its exit code.
func (c *conductor) runOne(t *task.Task, args []string, how *runFlags) (int, error) {
	var err error
	if how.preset != "" {
		if args, err = presetArgs(c.survey, t, how.preset, args); err != nil {
			return 0, err
		}
	}
	steps, err := how.plan(c.survey, t, c.kept)
	if err != nil {
		return 0, &codeError{exitUsage, err}
	}
	steps.Anyway = how.anyway
	c.woven.Store(steps.Concurrent())
	return c.conduct(func() ([]*run.Job, error) {
		job, err := c.session.StartPlan(steps, args)
		if err != nil {
			return nil, &codeError{exitUsage, err}
		}
		return []*run.Job{job}, nil
	})
}

// conduct begins jobs and lets what they print come out, to their end. It returns the exit code.
func (c *conductor) conduct(begin func() ([]*run.Job, error)) (int, error) {
	super, out := c.session, int(os.Stdout.Fd())
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGWINCH)
	defer signal.Stop(signals)
	defer super.StopAll() // whatever is asked for meanwhile
	jobs, err := begin()
	if err != nil {
		return 0, err
	}
	over := make(chan struct{})
	go func() {
		for _, job := range jobs {
			<-job.Done()
		}
		close(over)
	}()
	if c.terminal && len(jobs) == 1 {
		c.keys.attach(jobs[0])
		defer c.keys.release()
	}
	for running := true; running; {
		select {
		case <-over:
			running = false
		case sig := <-signals:
			switch sig {
			case syscall.SIGWINCH:
				if cols, rows, err := term.GetSize(out); err == nil {
					super.Resize(cols, rows)
				}
				continue
			case syscall.SIGHUP, syscall.SIGTERM: // nobody asked for an end of what runs elsewhere
				super.LeaveBatches()
			}
			for _, job := range jobs {
				job.Main.Stop()
			}
		}
	}
	c.weaver.Flush()
	c.keys.release()
	if term.IsTerminal(out) {
		// The task may have ended in a style, or in hidden text.
		_, _ = c.to.Write([]byte("\x1b[0m")) // what follows fails too if this does
	}
	known, code := false, 0
	for _, job := range jobs {
		suite := job.Plan.Task.ID()
		job.Files(func(file *task.Task, seconds float64, good bool) {
			c.kept.RanFile(suite, file.ID(), seconds, good)
			known = true
		})
	}
	if known {
		if err := c.kept.Save(); err != nil {
			line(stderr, "not kept: %v", err)
		}
	}
	for _, job := range jobs {
		if one := c.closing(stderr.To, job); code == 0 {
			code = one
		}
		for _, r := range job.Steps {
			if left := r.Leftovers(); len(left) > 0 {
				line(stderr, "%s left processes behind, which are ended: %s", r.Prepared.Task.ShownID(), strings.Join(left[:min(len(left), mostNamed)], ", "))
			}
		}
	}
	return code, nil
}

// mostNamed is the number of processes that are named.
const mostNamed = 5

// closing prints the problems and the closing line, and returns the exit code.
func (c *conductor) closing(to io.Writer, job *run.Job) int {
	w := bufio.NewWriter(to) // there may be very many problems
	defer w.Flush()
	text := &problemText{colours: colouredErrors(), root: c.survey.Root}
	left := map[string]int{}
	for _, r := range job.Steps {
		snap := r.Snapshot()
		if snap.State == run.Left {
			left[snap.Prepared.Task.At]++
			continue
		}
		for _, p := range snap.Problems {
			text.write(w, &p)
		}
		if snap.Fault != "" {
			line(w, "%s", snap.Fault)
		}
		if snap.State == run.Skipped && snap.Blamed != "" {
			line(w, "%s not run: %s", snap.Prepared.Task.ShownID(), snap.Blamed)
			continue
		}
		notChecked := c.session.Verdict(r).Balance.NotChecked
		if snap.Prepared.Command.IsZero() { // it only names others
			line(w, "%s %s", snap.Prepared.Task.ShownID(), snap.Words())
			continue
		}
		if !snap.Replayed.IsZero() {
			line(w, "%s fresh since %s, not run: %s", snap.Prepared.Task.ShownID(), printable.Moment(snap.Replayed, time.Now()), problem.CountOf(snap.Problems).With(notChecked))
			continue
		}
		line(w, "%s", snap.Closing(problem.CountOf(snap.Problems), notChecked))
	}
	for _, place := range slices.Sorted(maps.Keys(left)) {
		line(w, "%d of its steps go on at %s: tidytally resume takes them up", left[place], place)
	}
	if len(left) > 0 {
		return exitFound
	}
	main := job.Main.Snapshot()
	if main.State == run.Skipped {
		for _, r := range job.Steps {
			if s := r.Snapshot(); s.State == run.Failed {
				return s.Code
			}
		}
		return exitFound
	}
	return main.Code
}

// runContext returns the context in which commands are prepared.
func runContext(s *survey.Survey, file string) (run.Context, error) {
	ctx := run.Context{Root: s.Root, Tally: s.Tally, Search: workspace.NewFinder(s.Root).Find}
	if file != "" {
		abs, err := absFile(file)
		if err != nil {
			return ctx, &codeError{exitUsage, err}
		}
		ctx.File = abs
	}
	return ctx, nil
}
