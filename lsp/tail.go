package lsp

import (
	"io"
	"os"

	"tidytally/core/history"
	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sift"
)

// Runs that go on in other programs: what they have printed so far is in a file of theirs, and sifted here.

// tail is such a run.
type tail struct {
	of        history.Going
	file      *os.File
	engine    *sieve.Engine
	collected sieve.Collector
	sources   problem.Sources
	rests     bool // it printed nothing between the last two looks
}

const (
	// maxTails bounds the runs that are followed.
	maxTails = 32
	// maxAtOnce bounds the bytes that are sifted in one go, while nothing else is done.
	maxAtOnce = 1 << 20
)

// follow finds the runs that go on in other programs.
func (w *space) follow() {
	going, err := w.store.Going()
	if err != nil {
		w.log(messageWarning, "runs that go on: "+err.Error())
		return
	}
	own := map[int64]bool{}
	for _, r := range w.runs {
		for _, step := range r.job.Steps {
			own[w.recorder.IDOf(step)] = r.space == w
		}
	}
	kept := map[int64]*tail{}
	for _, g := range going {
		switch t := w.tails[g.ID]; {
		case own[g.ID] || g.Spool == "" || len(kept) == maxTails:
		case t != nil:
			kept[g.ID] = t
		default:
			if f, err := os.Open(g.Spool); err == nil { // else it has just ended
				kept[g.ID] = w.newTail(g, f)
			}
		}
	}
	for id, t := range w.tails {
		if kept[id] == nil {
			t.file.Close()
			w.index = nil
		}
	}
	w.tails = kept
}

func (w *space) newTail(g history.Going, f *os.File) *tail {
	t := &tail{of: g, file: f}
	ctx := w.context()
	out := sift.Output{Root: w.root, Dir: g.Dir, Tally: ctx.Tally, Search: ctx.Search}
	if of := w.find(g.Task); of != nil {
		out.Via, out.Sieves = of.Via, of.Sieves
	}
	t.engine = sift.New(out, &t.sources, sift.Receiver{
		Problem: func(p problem.Problem) {
			p.LineText = t.sources.Line(p.File, p.Line)
			t.collected.Problem(p)
		},
		Repeat: t.collected.Repeat,
		Cycle:  func(int) { t.collected.NextCycle(t.collected.Cycle + 1) },
	})
	return t
}

// read sifts what was printed since, and reports whether there was anything.
func (t *tail) read() bool {
	n, err := io.Copy(t.engine, io.LimitReader(t.file, maxAtOnce))
	if n == 0 && t.rests {
		return false
	}
	if t.rests = n == 0; t.rests {
		t.engine.Pause() // nothing more came: what waited for more lines counts
	}
	return err == nil
}

// standing puts the problems so far into the list of the run's task.
func (t *tail) standing(live map[string][]standing) {
	list := []standing{}
	for _, p := range t.collected.Problems {
		list = append(list, standing{p, p.LineText})
	}
	if len(list) > 0 { // before it says something, those of the run before stand
		live[t.of.Task] = list
	}
}
