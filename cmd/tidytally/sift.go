package main

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"tidytally/core/problem"
	"tidytally/core/sarif"
	"tidytally/core/sieve"
	"tidytally/core/sift"
	"tidytally/core/survey"
	"tidytally/core/tallyfile"
	"tidytally/core/workspace"
)

func newSift() *cobra.Command {
	var in, format, failOn, as string
	c := &cobra.Command{
		Use:   "sift [FILE…]",
		Short: "Read compiler output and print its problems",
		Long:  `Read compiler output from files or standard input and print the problems in it, as they come.`,
		Example: `  make -C kiln 2>&1 | tidytally sift
  tidytally sift --format sarif build.log
  tidytally sift --as kiln#controller ci.log`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if failOn != "" && failOn != "error" && failOn != "warning" {
				return usageError("--fail-on %s: use error or warning", failOn)
			}
			source, err := siftSource(in)
			if err != nil {
				return err
			}
			w, err := newProblemWriter(format, taskOutput, source.From)
			if err != nil {
				return err
			}
			if as != "" {
				if w, err = newPastWriter(w, format, taskOutput, as, in); err != nil {
					return err
				}
			}
			count, err := siftAll(args, &source, w)
			if errors.Is(err, syscall.EPIPE) {
				return nil
			}
			if err != nil {
				return err
			}
			if failOn != "" && count.Errors > 0 || failOn == "warning" && count.Warnings > 0 {
				return &codeError{code: exitFound}
			}
			return nil
		},
	}
	c.Flags().StringVar(&as, "as", "", "keep it in the history as a run of task `ID`, and compare it with the run before")
	c.Flags().StringVar(&in, "in", "", "the `DIR`ectory in which the output was made")
	c.Flags().StringVar(&format, "format", "text", "text, jsonl, sarif or gnu")
	c.Flags().StringVar(&failOn, "fail-on", "", "exit with 1 when there is an `error` (or warning)")
	return c
}

// siftSource says where output was made: in a folder, or the current one if that is "".
func siftSource(in string) (source sift.Output, err error) {
	if in == "" {
		in = "."
	}
	base, err := filepath.Abs(in)
	if err != nil {
		return source, &codeError{exitOwn, err}
	}
	source = sift.Output{Root: base, Dir: base, From: base, Tally: &tallyfile.Merged{Sieves: survey.SievesFor(base)}}
	// Behind a symbolic link, the output may name either path, so the workspace
	// is not looked for above it.
	if real, err := filepath.EvalSymlinks(base); err == nil && real == base {
		if root, err := workspace.Root(base); err == nil {
			source.Root = root
		}
	}
	source.Search = workspace.NewFinder(source.Root).Find
	return source, nil
}

// siftAll sifts each file, or standard input, with an engine of its own.
func siftAll(files []string, source *sift.Output, w problemWriter) (problem.Count, error) {
	if len(files) == 0 {
		files = []string{"-"}
	}
	var total problem.Count
	for _, name := range files {
		var werr error
		before := total
		said := 0 // the last that was counted: one that comes again is the same
		engine := sift.New(*source, &problem.Sources{}, sift.Receiver{
			Problem: func(p problem.Problem) {
				if p.Seq > said {
					said = p.Seq
					total.Add(p.Severity)
				}
				if err := w.problem(p); err != nil && werr == nil {
					werr = err
				}
			},
			Repeat: w.repeat,
			Cycle: func(n int) {
				total = before
				w.cycle(n)
			},
		})
		if err := feed(name, engine, &werr, w); err != nil {
			return total, err
		}
		if err := w.flush(); err != nil {
			return total, err
		}
		w.next()
	}
	return total, w.end()
}

// quiet is how long an input must pause before complete problems are written.
const quiet = 5 * time.Millisecond

// A chunk is a piece of an input, looked at.
type chunk struct {
	data  []byte
	block sieve.Block
	err   error
}

// feed reads one input to its end. One goroutine reads and looks ahead, this one
// does the rest. When the input pauses, the engine reports what is complete, so that
// the last problem of a burst does not wait for the next burst.
func feed(name string, engine *sieve.Engine, werr *error, w problemWriter) error {
	r := os.Stdin
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return &codeError{exitUsage, err}
		}
		defer f.Close()
		r = f
	}
	info, err := r.Stat()
	pauses := err != nil || !info.Mode().IsRegular()
	chunks, free := make(chan *chunk, 8), make(chan *chunk, 8)
	for range cap(free) {
		free <- &chunk{data: make([]byte, 256<<10)}
	}
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		for {
			select {
			case c := <-free:
				var n int
				n, c.err = r.Read(c.data)
				engine.Look(c.data[:n], &c.block)
				chunks <- c // there is room for all
				if c.err != nil {
					return
				}
			case <-stop:
				return
			}
		}
	}()
	timer := time.NewTimer(time.Hour)
	for {
		select {
		case c := <-chunks:
			engine.Take(&c.block)
			if c.err != nil {
				engine.Close()
			}
			switch {
			case *werr != nil:
				return *werr
			case c.err == io.EOF:
				return nil
			case c.err != nil:
				return &codeError{exitOwn, fmt.Errorf("reading %s: %w", name, c.err)}
			}
			free <- c
			if pauses {
				timer.Reset(quiet)
			}
		case <-timer.C:
			engine.Pause()
			if err := w.flush(); err != nil {
				return err
			}
		}
	}
}

// problemWriter prints problems in one of the formats.
type problemWriter interface {
	problem(problem.Problem) error
	// repeat is called when a problem is reported once more, and cycle when a
	// watching tool starts another pass.
	repeat(seq int)
	cycle(n int)
	// flush writes what is buffered.
	flush() error
	// next is called before another input, and end after the last one.
	next()
	end() error
}

// newProblemWriter returns a writer of problems in a format. root is the folder that their paths
// start from.
func newProblemWriter(format string, out io.Writer, root string) (problemWriter, error) {
	text := &problemText{root: root}
	b := bufio.NewWriterSize(out, 64<<10)
	switch format {
	case "text":
		text.colours = colouredData()
		return &lineWriter{Writer: b, print: func(out io.Writer, p *problem.Problem) { text.write(out, p) }}, nil
	case "gnu":
		return &lineWriter{Writer: b, print: func(out io.Writer, p *problem.Problem) { line(out, "%s", text.fromHere(p).GNU()) }}, nil
	case "jsonl":
		return newJSONLines(out), nil
	case "sarif":
		return &sarifWriter{out: out}, nil
	}
	return nil, usageError("--format %s: use text, jsonl, sarif or gnu", format)
}

// lineWriter prints problems as they come. One that was printed when the output paused within it, and comes again when more is
// known of it, is not printed twice: only what was added follows.
type lineWriter struct {
	*bufio.Writer
	print   func(io.Writer, *problem.Problem)
	seq     int
	printed bytes.Buffer // of the last one
}

func (w *lineWriter) problem(p problem.Problem) error {
	before := w.printed.String()
	w.printed.Reset()
	w.print(&w.printed, &p)
	now := w.printed.String()
	if p.Seq == w.seq {
		now = strings.TrimPrefix(now, before)
	}
	w.seq = p.Seq
	_, err := w.WriteString(now)
	return err
}

func (w *lineWriter) repeat(int)   {}
func (w *lineWriter) cycle(int)    {}
func (w *lineWriter) flush() error { return w.Flush() }
func (w *lineWriter) next()        { w.seq = 0 }
func (w *lineWriter) end() error   { return w.Flush() }

// jsonLines writes problems as JSON in a goroutine of its own: writing many problems
// takes as long as finding them.
type jsonLines struct {
	out    io.Writer
	batch  []problem.Problem
	filled chan []problem.Problem // an empty one asks whether all is written
	empty  chan []problem.Problem
	done   chan error
	broken atomic.Bool
	failed error // set before broken
}

// perBatch is how many problems go to the goroutine at once.
const perBatch = 256

func newJSONLines(out io.Writer) *jsonLines {
	w := &jsonLines{out: out, filled: make(chan []problem.Problem, 4), empty: make(chan []problem.Problem, 8), done: make(chan error)}
	go w.write()
	return w
}

func (w *jsonLines) write() {
	var text []byte
	for batch := range w.filled {
		if len(batch) == 0 {
			w.done <- w.failed
			continue
		}
		text = text[:0]
		for i := range batch {
			text = append(batch[i].AppendJSON(text), '\n')
		}
		if !w.broken.Load() {
			if _, err := w.out.Write(text); err != nil {
				w.failed = err
				w.broken.Store(true)
			}
		}
		clear(batch) // what it holds is garbage from here on
		select {
		case w.empty <- batch[:0]:
		default:
		}
	}
}

func (w *jsonLines) problem(p problem.Problem) error {
	if w.batch = append(w.batch, p); len(w.batch) < perBatch {
		return nil
	}
	w.filled <- w.batch
	select {
	case w.batch = <-w.empty:
	default:
		w.batch = make([]problem.Problem, 0, perBatch)
	}
	if w.broken.Load() {
		return w.failed
	}
	return nil
}

func (w *jsonLines) repeat(int) {}
func (w *jsonLines) cycle(int)  {}
func (w *jsonLines) next()      {}

func (w *jsonLines) flush() error {
	if len(w.batch) > 0 {
		w.filled <- w.batch
		w.batch = nil
	}
	w.filled <- nil
	return <-w.done
}

func (w *jsonLines) end() error {
	err := w.flush()
	close(w.filled)
	return err
}

// sarifWriter gathers the problems of the newest cycle of each input: a log is
// one document.
type sarifWriter struct {
	out       io.Writer
	collected sieve.Collector
	before    []problem.Problem // of the inputs before
}

func (w *sarifWriter) problem(p problem.Problem) error {
	w.collected.Problem(p)
	return nil
}

func (w *sarifWriter) repeat(seq int) { w.collected.Repeat(seq) }
func (w *sarifWriter) cycle(n int)    { w.collected.NextCycle(n) }
func (w *sarifWriter) flush() error   { return nil }

func (w *sarifWriter) next() {
	w.before = append(w.before, w.collected.Problems...)
	w.collected = sieve.Collector{}
}

func (w *sarifWriter) end() error { return sarif.Write(w.out, w.before) }
