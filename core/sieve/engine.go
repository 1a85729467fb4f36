// Package sieve picks problems out of what tools print. Bytes go in as they
// come, cut anywhere; problems come out as soon as they are complete, with the
// lines of output they came from.
//
// All families of tools look at every output at once. A first look (byte
// searches, no regular expression) decides which lines matter, and to which
// families; only those scan them. Where two could, the order of the families table decides:
// the more specific stands first. The family that has a problem under
// construction is asked before all others, so that notes, source frames and
// continued messages reach the problem they belong to.
package sieve

import (
	"bytes"
	"hash/maphash"
	"math/bits"

	"tidytally/core/problem"
	"tidytally/core/sieve/lex"
)

// MaxLine is the length in bytes above which a line is cut for the scanners;
// Stats.LongLines counts how often that happened. No tool places a diagnostic
// behind so much text.
const MaxLine = 64 << 10

// MaxParts bounds the related places and the message lines of one problem.
const MaxParts = 256

// Options say where an output comes from and who wants its problems.
type Options struct {
	// Dir is the folder that relative paths start from, as it shall stand in
	// the places; empty leaves them as they are printed.
	Dir string
	// Root, an absolute folder, is cut from the front of absolute paths.
	Root string
	// Map leads folders as a tool sees them, in a container or on another host, to
	// those of this machine; both absolute.
	Map []Mapping
	// Exists tells whether a file is there; nil when that is not known.
	Exists func(path string) bool
	// Line gives the text of a line of a file, "" where there is none; nil when
	// nobody can. It decides between files of one name that are built side by side.
	Line func(path string, line int) string
	// Search finds files by the end of their path, for a relative path that is
	// not there; nil when nobody can. One hit is taken and marked as found so.
	Search func(tail string) []string
	// Own are the user's own sieves, which go before those that are built in.
	Own []Rules
	// Families names the built-in families that look at the output; nil for all.
	Families []string
	// Problem receives each problem. One with a Seq seen before replaces it.
	Problem func(problem.Problem)
	// Repeat is told that problem seq was said once more; may be nil.
	Repeat func(seq int)
	// Cycle is told that a watching tool began its nth pass: the problems
	// given so far are of the pass before; may be nil.
	Cycle func(n int)
}

// Mapping leads one folder to another.
type Mapping struct{ From, To string }

// Stats tell what an engine has seen.
type Stats struct {
	Lines     int
	Bytes     int64
	LongLines int
	Cycles    int
	// Summaries are the tools' own counts of the newest cycle.
	Summaries []Summary
}

// Engine is the state of sifting one output. It is not safe for concurrent use.
type Engine struct {
	set       *Set
	opts      Options
	stats     Stats
	families  []Family
	builtIn   int // how many of them are no sieves of the user's own
	scanners  []Scanner
	reporters []Reporter // of the scanners
	look      *firstLook
	owner     int // index of the scanner that is asked first, or -1
	// curious are families that want to see all lines for now, a bit each.
	curious uint64
	current problem.Problem
	open    bool
	late    bool // current was handed on at a pause; more may still come
	seq     int
	errors  int // problems of severity error so far
	cycleAt int // the line at which the last cycle began
	seen    seenTable
	seed    maphash.Seed
	dirs    folders

	counts   map[string]*counts
	document *heldDocument
	parts    map[string]*part // outputs that documents hold, by name

	block     Block
	ahead     ahead
	passes    passes
	part      []byte // an unfinished line
	partStart int64
	partLong  bool
	strip     []byte
	margin    marginLine
	line      Line
}

// A scanner recognises the problems of one family of tools.
type Scanner interface {
	// scan is offered a line, and returns whether the line is its own.
	Scan(l *Line, rep *Reporter) bool
	// flush hands on what the scanner itself still holds back, because the output
	// paused or, if last is set, ended. The engine hands on the problem under
	// construction by itself.
	Flush(rep *Reporter, last bool)
}

// A family is a row of the families table. The scanner is offered the lines
// that have one of the things the row tells of, and all lines while it has a
// problem under construction.
type Family struct {
	Name string
	// leads are how lines begin at the margin, indented how they begin behind
	// blanks, and behind what stands behind a colon and a space anywhere; alone
	// is the same where no place was before.
	Leads, Indented, Behind, Alone []string
	// endings are those of files, in small letters, of which a place is named,
	// or the names of files that have none.
	Endings []string
	Traits  Traits
	Columns problem.Columns
	New     func() Scanner
}

// New makes an engine that looks for what is in a set.
func New(set *Set, opts Options) *Engine {
	e := &Engine{set: set, opts: opts, owner: -1, seed: maphash.MakeSeed()}
	e.families, e.builtIn = set.choose(opts.Own, opts.Families)
	e.scanners = make([]Scanner, len(e.families))
	e.reporters = make([]Reporter, len(e.families))
	for i := range e.families {
		e.scanners[i] = e.families[i].New()
		e.reporters[i] = Reporter{e, i}
	}
	if e.look = set.look(); len(e.families) != len(set.families) || len(opts.Own) > 0 {
		e.look = newFirstLook(e.families[:e.builtIn], len(opts.Own) > 0)
	}
	e.passes.rested = true
	return e
}

// Stats tells what has been seen so far.
func (e *Engine) Stats() Stats { return e.stats }

// Write takes the next bytes of the output. It never fails.
func (e *Engine) Write(p []byte) (int, error) {
	e.Look(p, &e.block)
	e.Take(&e.block)
	return len(p), nil
}

// Look takes the first look at the next bytes of the output and leaves what it
// saw in b, which holds the bytes from then on, for Take. It does not touch the
// engine's state: another goroutine may look ahead while this one takes.
func (e *Engine) Look(text []byte, b *Block) { e.look.block(text, b) }

// Take sifts a block that was looked at. Blocks are taken in the order of the
// output.
func (e *Engine) Take(b *Block) {
	base, line := e.stats.Bytes, e.stats.Lines
	e.margin.in(b.text)
	pos, marks := 0, b.marks
	if b.lines > 0 && (len(e.part) > 0 || e.partLong) {
		end := bytes.IndexByte(b.text, '\n')
		e.keep(b.text[:end])
		e.stats.Lines++
		whole := lex.WithoutReturn(e.part)
		e.takeLine(whole, e.partStart, e.stats.Bytes, nil)
		e.margin.whole(whole, end+1)
		e.part, e.partLong = e.part[:0], false
		if pos = end + 1; len(marks) > 0 && marks[0].start == 0 {
			marks = marks[1:]
		}
	}
	e.ahead.block = b
	for {
		var m *mark
		if !e.attentive() {
			if len(marks) == 0 {
				break
			}
			m, marks = &marks[0], marks[1:]
			e.stats.Lines, pos = line+m.line-1, m.start
		} else if pos == b.tail {
			break
		} else if len(marks) > 0 && marks[0].start == pos {
			m, marks = &marks[0], marks[1:]
		}
		if m == nil {
			m = &mark{end: nextEnd(b.bits, pos)}
		}
		start, end := pos, m.end
		pos = end + 1
		e.stats.Lines++
		e.margin.at, e.ahead.at, e.ahead.marks = start, pos, marks
		e.takeLine(lex.WithoutReturn(b.text[start:end]), base+int64(start), base+int64(end), m)
	}
	e.ahead = ahead{}
	e.stats.Lines, e.stats.Bytes = line+b.lines, base+int64(b.tail)
	e.margin.at = b.tail
	e.margin.get()
	if b.tail < len(b.text) {
		e.keep(b.text[b.tail:])
	}
}

// ahead is what comes behind the line at hand in the same block.
type ahead struct {
	block *Block
	at    int
	marks []mark
}

// plain tells whether n lines follow in the block of which none is marked and
// all are plain; false when there are fewer.
func (a *ahead) plain(n int, plain func([]byte) bool) bool {
	pos := a.at
	for range n {
		if a.block == nil || pos >= a.block.tail || len(a.marks) > 0 && a.marks[0].start == pos {
			return false
		}
		end := nextEnd(a.block.bits, pos)
		if !plain(lex.WithoutReturn(a.block.text[pos:end])) {
			return false
		}
		pos = end + 1
	}
	return true
}

// attentive tells whether the next line matters whatever is in it.
func (e *Engine) attentive() bool {
	return e.owner >= 0 || e.curious != 0 || e.passes.rested || e.document != nil || e.dirs.interleaved()
}

// keep stores the beginning of a line whose end has not come yet.
func (e *Engine) keep(p []byte) {
	if len(e.part) == 0 && !e.partLong {
		e.partStart = e.stats.Bytes
	}
	e.stats.Bytes += int64(len(p))
	room := MaxLine + 1 - len(e.part)
	first := byte(0)
	if len(e.part) > 0 {
		first = e.part[0]
	} else if len(p) > 0 {
		first = p[0]
	}
	if first == '{' || first == '[' {
		room += maxDocument
	}
	if len(p) > room {
		p = p[:room]
		e.partLong = true
	}
	e.part = append(e.part, p...)
}

// Pause hands on what is complete so far: the tool has stopped printing for
// now. What still comes for the same problem is given as its replacement.
func (e *Engine) Pause() {
	e.flush(false)
	if e.open && !e.late {
		e.hand()
		e.late = true
	}
}

// Close ends the output and hands on everything.
func (e *Engine) Close() error {
	if len(e.part) > 0 {
		e.stats.Lines++
		e.takeLine(lex.WithoutReturn(e.part), e.partStart, e.stats.Bytes, nil)
		e.part = e.part[:0]
	}
	e.release(false)
	e.finish()
	e.flush(true)
	e.closeParts()
	e.finish()
	return nil
}

func (e *Engine) flush(last bool) {
	for i, s := range e.scanners {
		s.Flush(&e.reporters[i], last)
	}
}

// takeLine sifts one line, given without its line end. What the first look saw
// of it may be missing.
func (e *Engine) takeLine(raw []byte, start, end int64, m *mark) {
	if (e.document != nil || m == nil || m.redo || m.wants&wantDocument != 0) && e.hold(raw, start, end) {
		return
	}
	if m == nil || m.redo {
		e.sift(raw, start, end)
	} else {
		e.line = Line{Text: raw, Number: e.stats.Lines, start: start, end: end, traits: m.traits, wants: m.wants}
		e.route()
	}
}

// sift cleans and sifts one line that is in no document.
func (e *Engine) sift(raw []byte, start, end int64) {
	if len(raw) > MaxLine {
		raw = raw[:MaxLine]
		e.stats.LongLines++
	}
	if bytes.IndexByte(raw, 0x1b) >= 0 {
		var cleared bool
		e.strip, cleared = lex.StripEscapes(e.strip[:0], raw)
		raw = e.strip
		if cleared {
			e.newCycle()
		}
	}
	// A carriage return redraws the line: each drawing is looked at.
	for {
		i := bytes.IndexByte(raw, '\r')
		text := raw
		if i >= 0 {
			text = raw[:i]
		}
		if i != 0 {
			e.line = Line{Text: text, Number: e.stats.Lines, start: start, end: end}
			e.line.traits, e.line.wants = e.look.one(text)
			e.route()
		}
		if i < 0 {
			break
		}
		raw = raw[i+1:]
	}
}

// route shows the line at hand to the family that is at work, and to those that
// can care.
func (e *Engine) route() {
	l := &e.line
	if e.passes.rested {
		e.afterRest(l)
	}
	if e.dirs.interleaved() {
		e.dirs.command(l.Text)
	}
	if l.wants&wantCount != 0 {
		e.summarize(l)
	}
	owner := e.owner
	if owner >= 0 && e.scanners[owner].Scan(l, &e.reporters[owner]) {
		e.extend(l)
		return
	}
	e.offer(l, owner)
}

// offer shows the line to the families that can care, but for one.
func (e *Engine) offer(l *Line, except int) {
	if len(l.Text) == 0 {
		return
	}
	for i := e.builtIn; i < len(e.scanners); i++ {
		if i != except && e.scanners[i].Scan(l, &e.reporters[i]) {
			return
		}
	}
	for can := (l.wants | e.curious) &^ (wantDocument | wantCount | wantAll); can != 0; can &= can - 1 {
		if i := bits.TrailingZeros64(can); i != except && e.scanners[i].Scan(l, &e.reporters[i]) {
			return
		}
	}
}

// stamp notes who said a problem, and how its file was found.
func (e *Engine) stamp(p *problem.Problem, family string) {
	p.Family, p.Times, p.FoundByName, p.MayBe = family, 1, e.dirs.byTail[p.File], e.dirs.several[p.File]
}

// extend lets the problem under construction reach to line l.
func (e *Engine) extend(l *Line) {
	if e.open && l.Number > e.current.Output.LastLine && len(bytes.TrimSpace(l.Text)) > 0 {
		l.Extend(&e.current.Output)
	}
}

// finish hands on the problem under construction, if there is one.
func (e *Engine) finish() {
	if e.open {
		e.hand()
	}
	e.open, e.late, e.owner = false, false, -1
}

// hand gives the current problem to its receiver, unless the same has been
// said before: then that one is counted once more.
func (e *Engine) hand() {
	p := &e.current
	if p.Seq == 0 {
		e.counted(p)
		if first := e.seen.put(e.hash(p), e.seq+1); first != 0 {
			if e.opts.Repeat != nil {
				e.opts.Repeat(first)
			}
			e.open, e.owner = false, -1
			return
		}
		e.seq++
		p.Seq = e.seq
		e.passes.inPass()
		if p.Severity == problem.Error {
			e.errors++
		}
	}
	given := *p
	// The receiver keeps its copy; later notes must not write into it.
	given.Related = append([]problem.Related(nil), p.Related...)
	e.opts.Problem(given)
}

// hash tells problems apart that are not the same.
func (e *Engine) hash(p *problem.Problem) uint64 {
	const odd = 0x9e3779b97f4a7c15 // spreads small numbers over all bits
	h := maphash.String(e.seed, p.File)
	h = (h ^ uint64(p.Line)) * odd
	h = (h ^ h>>32 ^ uint64(p.Column)<<2 ^ uint64(p.Severity)) * odd
	h = (h ^ h>>32 ^ maphash.String(e.seed, p.Code)) * odd
	h = (h ^ h>>32 ^ maphash.String(e.seed, p.Message)) * odd
	return h ^ h>>32
}

// newCycle begins another pass of a watching tool. A first clearing of the
// screen, before anything was said, begins none.
func (e *Engine) newCycle() {
	e.finish()
	e.flush(true)
	e.finish()
	if e.seq == 0 || e.cycleAt == e.stats.Lines {
		return
	}
	e.cycleAt = e.stats.Lines
	e.stats.Cycles++
	e.stats.Summaries = nil
	clear(e.counts)
	e.seen.clear()
	if e.opts.Cycle != nil {
		e.opts.Cycle(e.stats.Cycles)
	}
}

// shows says that the tool printed this text as a line of the file that was
// placed last: by the problem under construction, or by a note of it. It may not
// say which line that is (0).
func (e *Engine) shows(line int, text []byte, note bool) {
	if e.dirs.doubt == "" || !e.open {
		return
	}
	place := &e.current.Place
	if n := len(e.current.Related); n > 0 && note {
		place = &e.current.Related[n-1].Place
	}
	if line == 0 || place.Line == line {
		place.File = e.dirs.correct(place.File, place.Line, text, &e.opts)
	}
}

// place resolves what a tool printed as a file name.
func (e *Engine) place(printed string) string { return e.dirs.resolve(printed, &e.opts) }
