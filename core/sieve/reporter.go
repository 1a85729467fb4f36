package sieve

import (
	"path"
	"slices"
	"strings"

	"tidytally/core/problem"
)

// A Reporter is what a family works with while it scans: it claims lines,
// begins a problem, amends it and finishes it. Each scanner of an engine has
// its own.
//
// At most one problem of an engine is under construction. The family that
// began it, or that claimed the lines that follow, is offered each line before
// all others.
type Reporter struct {
	engine *Engine
	family int // index in engine.scanners
}

// Claimed reports whether the family is offered the next line first.
func (r *Reporter) Claimed() bool { return r.engine.owner == r.family }

// Busy reports whether any family is offered the next line first.
func (r *Reporter) Busy() bool { return r.engine.owner >= 0 }

// Claim asks for the lines that follow. A problem of another family that is
// under construction is finished.
func (r *Reporter) Claim() {
	if e := r.engine; e.owner != r.family {
		e.finish()
		e.owner = r.family
	}
}

// Release gives the claim up, and finishes the family's problem if one is under
// construction.
func (r *Reporter) Release() {
	if r.Claimed() {
		r.engine.finish()
	}
}

// Begin starts a problem at line l, and claims the lines that follow. The
// problem under construction, if any, is finished.
func (r *Reporter) Begin(l *Line, p problem.Problem) {
	e := r.engine
	e.finish()
	e.stamp(&p, e.families[r.family].Name)
	p.Output = SpanOf(l, l)
	e.current, e.open, e.late, e.owner = p, true, false, r.family
}

// Current returns the family's problem under construction, to be amended in
// place, or nil.
func (r *Reporter) Current() *problem.Problem {
	if r.engine.open && r.Claimed() {
		return &r.engine.current
	}
	return nil
}

// AppendLine adds a line to the message of the family's problem under
// construction; lines beyond MaxParts are dropped.
func (r *Reporter) AppendLine(text string) {
	if p := r.Current(); p != nil && strings.Count(p.Message, "\n") < MaxParts {
		p.Message += "\n" + text
	}
}

// Extend makes the problem under construction reach to line l.
func (r *Reporter) Extend(l *Line) { r.engine.extend(l) }

// Relate adds a related place to the problem under construction.
func (r *Reporter) Relate(rel problem.Related) {
	if e := r.engine; e.open && rel.File != refused && len(e.current.Related) < MaxParts {
		e.current.Related = append(e.current.Related, rel)
	}
}

// Finish hands on the problem under construction, of whichever family, and
// ends the claim.
func (r *Reporter) Finish() { r.engine.finish() }

// Withdraw takes the family's problem under construction back, as it turned
// out to be part of another one. It fails when the problem was handed on
// already because the output paused.
func (r *Reporter) Withdraw() (p problem.Problem, ok bool) {
	e := r.engine
	if r.Current() == nil || e.late {
		return p, false
	}
	e.open, e.owner = false, -1
	return e.current, true
}

// Reopen takes the last problem up again, if it is of the family, ended at most so many
// lines above, and none was reported since: another process printed a line into its
// notes. It returns nil if there is none.
func (r *Reporter) Reopen(lines int) *problem.Problem {
	e := r.engine
	p := &e.current
	if e.open || e.owner >= 0 || p.Seq == 0 || p.Family != e.families[r.family].Name || e.position()-e.endedAt > lines {
		return nil
	}
	e.open, e.late, e.owner = true, true, r.family
	return p
}

// Give hands on a problem that is complete, with the span of output that its
// Output says.
func (r *Reporter) Give(p problem.Problem) {
	e := r.engine
	e.finish()
	e.stamp(&p, e.families[r.family].Name)
	e.current, e.open = p, true
	e.finish()
}

// Attend asks for all lines from now on, or only for those that match the
// family's row again. A family asks when what it waits for may look like any
// other line.
func (r *Reporter) Attend(all bool) {
	if r.engine.curious &^= 1 << r.family; all {
		r.engine.curious |= 1 << r.family
	}
}

// InTest says that what is printed from now on is of a test, by its name: problems that name none are its problems; "" for
// none.
func (r *Reporter) InTest(name string) { r.engine.test = name }

// Errors returns the number of problems of severity error handed on so far.
func (r *Reporter) Errors() int { return r.engine.errors }

// Reasons returns the number of problems handed on so far that make their tool fail: errors, and the warnings of tools
// that fail for those.
func (r *Reporter) Reasons() int { return r.engine.reasons }

// Anything reports whether there is any problem so far, in whatever stream of the output.
func (r *Reporter) Anything() bool {
	out := r.engine.out
	return out.seq > 0 || slices.ContainsFunc(out.engines, func(e *Engine) bool { return e.open && saysSomething(&e.current) })
}

// ErrorIn reports whether an error that was handed on in this pass has a place in a file, or leads there.
func (r *Reporter) ErrorIn(file string) bool {
	in := func(other problem.Related) bool { return other.File == file }
	return slices.ContainsFunc(r.engine.out.engines, func(e *Engine) bool {
		return slices.ContainsFunc(e.given, func(p problem.Problem) bool {
			return p.Severity == problem.Error && (p.File == file || slices.ContainsFunc(p.Related, in))
		})
	})
}

// MarginLine returns the last line at the margin before the current one. The
// bytes are valid until the next line.
func (r *Reporter) MarginLine() []byte { return r.engine.margin.get() }

// PlainAhead reports whether the next n lines are in the same block, unmarked by
// the first look, and plain.
func (r *Reporter) PlainAhead(n int, plain func([]byte) bool) bool {
	return r.engine.ahead.plain(n, plain)
}

// BeginCycle starts another pass of a watching tool.
func (r *Reporter) BeginCycle() { r.engine.newCycle() }

// Summary compares the number of problems that the tool counts in line l with
// the number found since it last counted: of all severities, or of errors only.
func (r *Reporter) Summary(l *Line, said int, all bool) {
	r.engine.summary(l, said, r.engine.families[r.family].Name, all)
}

// Place returns the path of a printed file name: relative to the workspace where
// it lies below it, with slashes, without dots.
func (r *Reporter) Place(printed string) string { return r.engine.place(printed) }

// CanAsk reports whether Exists can tell.
func (r *Reporter) CanAsk() bool { return r.engine.opts.Exists != nil }

// Exists reports whether a path, as Place returns it, is there.
func (r *Reporter) Exists(path string) bool {
	return r.engine.opts.Exists != nil && r.engine.opts.Exists(path)
}

// ShowsSource says that the tool printed text as a line of the file placed last:
// by the problem under construction, or by its last related place if related is
// set. line is 0 if the tool does not say which line it is. The text decides
// between files of one name.
func (r *Reporter) ShowsSource(line int, text []byte, related bool) {
	r.engine.shows(line, text, related)
}

// EnterFolder says that a tool at a nesting level works in dir from now on;
// dir is relative to the folder where the output's command runs.
func (r *Reporter) EnterFolder(dir string, level int) {
	r.engine.dirs.enter(r.folder(dir), level, &r.engine.opts)
}

// EnterPackage says that the output that follows is that of a task of a package, by
// the name that its package manager has for it.
func (r *Reporter) EnterPackage(name string) {
	if e := r.engine; e.opts.Package != nil {
		dir, ok := e.opts.Package(name)
		if !ok {
			dir = ""
		}
		e.dirs.startIn(dir)
	}
}

// FailedIn says that what was printed so far belongs to a target that failed. If it
// is a folder, it tells where files are that may be in several.
func (r *Reporter) FailedIn(target string) { r.engine.failedIn(target) }

// LeaveFolder ends the newest EnterFolder of dir.
func (r *Reporter) LeaveFolder(dir string) { r.engine.dirs.leave(r.folder(dir)) }

func (r *Reporter) folder(dir string) string {
	if dir == "" || absolute(dir) {
		return dir
	}
	return path.Join(r.engine.opts.Dir, dir)
}

// offerAgain shows a line that the family had taken to the others.
func (r *Reporter) offerAgain(text []byte, at Line) {
	e := r.engine
	at.Text = text
	at.traits, at.wants = e.look.one(text)
	e.offer(&at, r.family)
}
