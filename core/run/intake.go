package run

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"sync"
	"time"

	"tidytally/core/crash"
	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
	"tidytally/core/sift"
)

// The output of a run goes into the spool and the index of its lines at once, and is sifted by another goroutine: a sieve may read
// source files and search folders, which may take long. No lock that a reader of the run takes is held meanwhile.

// lines is the index of an output.
type lines struct {
	mu    sync.Mutex // guards the field below
	index *output.Index
	tee   io.Writer // takes the output too; may be nil. It is set before the first byte
}

// pauseAfter is how long an output must be silent before complete problems are
// reported: longer than a tool takes between two lines, too short to notice.
const pauseAfter = 10 * time.Millisecond

// restAfter is how long the output of a long-running task must be silent before
// another pass of a watching tool may start.
const restAfter = 400 * time.Millisecond

// openOutput makes what takes the output of the run.
func (r *Run) openOutput() error {
	s := r.super
	spool, err := output.NewSpool(s.spools.Path(), fmt.Sprintf("run-%d", r.ID))
	if err != nil {
		return &StartError{CodeOwn, fmt.Sprintf("no place for the output: %v; make room, or set TMPDIR to a disk that has some", err)}
	}
	r.lines.tee = r.job.strand(r)
	if s.opts.Tee != nil {
		r.lines.tee = s.opts.Tee(r)
	}
	r.keepOutput(spool)
	return nil
}

// keepOutput makes a spool the one of the run, with an index and sieves of its output.
func (r *Run) keepOutput(spool *output.Spool) {
	r.lines.mu.Lock()
	r.lines.index = output.NewIndex(spool)
	r.lines.mu.Unlock()
	r.mu.Lock()
	r.spool = spool
	r.pause = time.AfterFunc(time.Hour, r.sift.pause)
	r.pause.Stop()
	r.rest = time.AfterFunc(time.Hour, r.rested)
	r.rest.Stop()
	r.mu.Unlock()
	r.sift.open(r, 0, 0)
}

// Output calls f with the index of the run's output. f must not keep it.
func (r *Run) Output(f func(*output.Index)) {
	r.lines.mu.Lock()
	defer r.lines.mu.Unlock()
	r.loadReplay()
	if r.lines.index != nil {
		f(r.lines.index)
	}
}

// take takes a piece of the output. It returns the error of whoever receives it. It is called by one goroutine at a time.
func (r *Run) take(b []byte) error {
	long := r.Prepared.Task.LongRunning
	r.spool.Write(b)
	r.lines.mu.Lock()
	fault := crash.Contain("the lines of an output", func() { r.lines.index.Write(b) })
	r.lines.mu.Unlock()
	r.mu.Lock()
	now := time.Now()
	rested := long && now.Sub(r.heard) >= restAfter
	r.heard, r.asks = now, false
	r.version++
	r.pause.Reset(pauseAfter)
	if long {
		r.settled = false
		r.rest.Reset(restAfter)
	}
	r.mu.Unlock()
	r.sift.add(b, rested)
	r.tell(fault)
	r.super.changed(r)
	if r.lines.tee == nil {
		return nil
	}
	_, err := r.lines.tee.Write(b)
	return err
}

// rested notes that a long-running task has nothing more to say for now: what its pass
// did not report is not there.
func (r *Run) rested() {
	r.mu.Lock()
	r.settled = true
	r.version++
	r.mu.Unlock()
	r.super.changed(r)
}

// quiet ends the clocks of the output. r.mu must be held.
func (r *Run) quiet() {
	if r.pause != nil {
		r.pause.Stop()
		r.rest.Stop()
	}
}

// sifter feeds the sieves of a run. Its goroutine runs while there is something to sift.
type sifter struct {
	run *Run

	mu      sync.Mutex // guards the fields below
	idle    sync.Cond  // signalled when waiting shrinks, and when working ends
	waiting [][]byte   // pieces of at most sifted bytes that are not sifted yet
	spare   [][]byte   // that can be filled
	rest    bool       // the tool was silent before what waits
	due     bool       // the tool pauses after what waits
	working bool       // the goroutine runs

	sieving sync.Mutex // guards the fields below; it is held while files are read
	engine  *sieve.Engine
	sources problem.Sources
	failed  bool // a sieve has panicked: the rest is not sifted
	closed  bool
	size    int64 // bytes that the engine has got, and those before it
	first   struct {
		byte int64 // of the output that the engine reads
		line int
	}
	readyTail []byte // what follows the last line feed, while the run waits for its ready line
}

// sifted is how many bytes are sifted at once. Problems are told in between.
const sifted = 64 << 10

// mostWaiting is how many pieces wait for the sieves before the output itself must wait: 16 MiB, as much as a large build
// prints.
const mostWaiting = 256

// open begins to sift an output at a byte, which is in a line of it.
func (f *sifter) open(r *Run, at int64, line int) {
	f.mu.Lock()
	f.run, f.idle.L = r, &f.mu
	f.mu.Unlock()
	f.sieving.Lock()
	defer f.sieving.Unlock()
	f.first.byte, f.first.line, f.size = at, line, at
	f.engine, f.failed, f.closed, f.readyTail = f.newEngine(), false, false, nil
}

// add appends a copy of b to what is sifted. rested says that the tool was silent for restAfter before it.
func (f *sifter) add(b []byte, rested bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.rest = f.rest || rested && len(f.waiting) == 0
	for len(b) > 0 {
		for len(f.waiting) >= mostWaiting {
			f.idle.Wait()
		}
		last := len(f.waiting) - 1
		if last < 0 || len(f.waiting[last]) == sifted {
			f.waiting, last = append(f.waiting, f.piece()), last+1
		}
		n := min(len(b), sifted-len(f.waiting[last]))
		f.waiting[last] = append(f.waiting[last], b[:n]...)
		b = b[n:]
		f.work()
	}
}

// mostSpare is how many pieces are kept to be filled again.
const mostSpare = 2

// piece returns an empty piece. f.mu must be held.
func (f *sifter) piece() []byte {
	if n := len(f.spare); n > 0 {
		b := f.spare[n-1]
		f.spare = f.spare[:n-1]
		return b
	}
	return make([]byte, 0, sifted)
}

// pause says that the tool pauses.
func (f *sifter) pause() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.due = true
	f.work()
}

// work starts the goroutine if it does not run. f.mu must be held.
func (f *sifter) work() {
	if f.working {
		return
	}
	f.working = true
	crash.Go("the sieves", f.loop, func(error) {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.working = false
		f.idle.Broadcast()
	})
}

// loop sifts what waits, until nothing does.
func (f *sifter) loop() {
	f.mu.Lock()
	for len(f.waiting) > 0 || f.due {
		var b []byte
		rest := f.rest
		if f.rest = false; len(f.waiting) > 0 {
			b, f.waiting = f.waiting[0], f.waiting[1:]
		} else {
			f.due = false
		}
		f.idle.Broadcast()
		f.mu.Unlock()
		f.do(func(e *sieve.Engine) {
			if rest {
				e.Rest()
			}
			if len(b) == 0 {
				e.Pause()
				return
			}
			f.size += int64(len(b))
			e.Write(b)
			f.lookForReady(b)
		})
		f.mu.Lock()
		if cap(b) > 0 && len(f.spare) < mostSpare {
			f.spare = append(f.spare, b[:0])
		}
	}
	f.working = false
	f.idle.Broadcast()
	f.mu.Unlock()
}

// do does something with the engine, and shows what came of it.
func (f *sifter) do(something func(*sieve.Engine)) {
	f.sieving.Lock()
	defer f.sieving.Unlock()
	if f.engine == nil || f.failed || f.closed {
		return
	}
	r := f.run
	fault := crash.Contain("the sieves", func() { something(f.engine) })
	f.failed = fault != nil
	stats := f.engine.Stats()
	r.mu.Lock()
	r.summaries = slices.Clip(stats.Summaries)
	if len(stats.Faults) > 0 {
		r.sieveFault = stats.Faults[0].Error()
	}
	r.version++
	r.mu.Unlock()
	r.tell(fault)
	r.super.changed(r)
}

// close sifts what waits and ends the sieves. It may be called again.
func (f *sifter) close() {
	f.mu.Lock()
	for f.working {
		f.idle.Wait()
	}
	f.waiting, f.spare = nil, nil
	f.mu.Unlock()
	f.do(func(e *sieve.Engine) { e.Close() })
	f.sieving.Lock()
	f.closed = true
	f.sieving.Unlock()
}

// lookForReady looks for the ready line of a long-running task. f.sieving must be held.
func (f *sifter) lookForReady(b []byte) {
	r := f.run
	re := r.Prepared.Ready
	if re == nil || r.stateNow() != Running {
		return
	}
	rest := append(f.readyTail, b...)
	for {
		i := bytes.IndexByte(rest, '\n')
		if i < 0 {
			break
		}
		line := lex.Plain(rest[:i])
		rest = rest[i+1:]
		if m := re.FindStringSubmatch(line); m != nil {
			r.markUp("by its ready line", groupNamed(re, m, "url"))
			f.readyTail = nil
			return
		}
	}
	if len(rest) > 64<<10 {
		rest = rest[len(rest)-4<<10:]
	}
	f.readyTail = append(f.readyTail[:0], rest...)
}

func (r *Run) stateNow() State {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.state
}

func groupNamed(re *regexp.Regexp, match []string, name string) string {
	if i := re.SubexpIndex(name); i >= 0 {
		return match[i]
	}
	return ""
}

// endedBefore reports whether the command had been asked to end before it printed a byte of the output.
func (r *Run) endedBefore(at int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.endedFrom > 0 && at >= r.endedFrom-1
}

// newEngine makes the engine for the run's output. f.sieving must be held.
func (f *sifter) newEngine() *sieve.Engine {
	r := f.run
	ctx := r.super.Context()
	t := r.Prepared.Task
	collect := func(change func(*sieve.Collector)) {
		r.mu.Lock()
		change(&r.collected)
		r.mu.Unlock()
	}
	return sift.New(sift.Output{
		Root: ctx.Root, Dir: r.Prepared.Dir, Tally: ctx.Tally, Via: t.Via, There: r.Prepared.remoteDir(), Sieves: t.Sieves, Search: ctx.Search,
	}, &f.sources, sift.Receiver{
		Problem: func(p problem.Problem) {
			if r.endedBefore(p.Output.StartByte + f.first.byte) {
				return
			}
			p.Output.StartByte += f.first.byte
			p.Output.EndByte += f.first.byte
			p.Output.FirstLine += f.first.line
			p.Output.LastLine += f.first.line
			p.LineText = f.sources.Line(p.File, p.Line)
			collect(func(c *sieve.Collector) { c.Problem(p) })
		},
		Repeat: func(seq int) { collect(func(c *sieve.Collector) { c.Repeat(seq) }) },
		Cycle: func(int) {
			collect(func(c *sieve.Collector) {
				c.NextCycle(c.Cycle + 1)
				r.passFrom = f.size
			})
		},
	})
}
