// Package sieve picks problems out of what tools print. Bytes go in as they come,
// cut anywhere; problems come out as soon as they are complete, with the lines of
// output they came from.
// An Engine reads one output with a Set of families, one for each family of tools. A
// first look decides which lines matter, and to which families; only those families
// scan them. If two could take a line, the one that stands first in the set gets it.
// The family that has a problem under construction is offered each line first, so
// that notes, source excerpts and continued messages reach the problem they belong
// to.
// The families are in package family; package sift makes an engine for a task.
package sieve

import (
	"bytes"
	"hash/maphash"
	"math/bits"
	"path"
	"strings"
	"unicode"
	"unicode/utf8"

	"tidytally/core/crash"
	"tidytally/core/problem"
	"tidytally/core/sieve/lex"
)

// MaxLine is the length in bytes at which a line is cut for the scanners.
// Stats.LongLines counts the lines that were cut. No tool places a diagnostic behind
// so much text.
const MaxLine = 64 << 10

// MaxParts is the number of related places, and of message lines, that a problem may
// have. More are dropped: nobody reads them, and an output may repeat them forever.
const MaxParts = 256

// Options say where an output comes from and who receives its problems.
type Options struct {
	// Dir is the folder that relative paths start from, as places hold it. If empty,
	// paths are taken as printed.
	Dir string
	// Root, an absolute folder, is cut from the front of absolute paths.
	Root string
	// Map translates folders of a container or remote host to local ones; all
	// absolute.
	Map []Mapping
	// Exists reports whether path exists. If nil, paths are taken as printed.
	Exists func(path string) bool
	// Line returns the text of a line of a file, or "". It decides between files of
	// one name that are built side by side; may be nil.
	Line func(path string, line int) string
	// Package returns the folder, as places hold it, of the package that a package
	// manager calls name, or whose folder is called so. Relative paths behind such a
	// name start there. May be nil.
	Package func(name string) (dir string, ok bool)
	// Search returns the files whose path ends in tail. It is called for a relative
	// path that does not exist; a single hit is taken and marked. May be nil.
	Search func(tail string) []string
	// Own are the user's own sieves. They are offered lines before the built-in
	// families.
	Own []Rules
	// Families names the built-in families that look at the output; nil for all.
	Families []string
	// Problem receives each problem. One with a Seq seen before replaces it.
	Problem func(problem.Problem)
	// Repeat is called when problem seq is reported once more; may be nil.
	Repeat func(seq int)
	// Cycle is called when a watching tool starts pass n. The problems reported so
	// far are those of the pass before. May be nil.
	Cycle func(n int)
}

// Mapping translates one folder to another.
type Mapping struct{ From, To string }

// Stats are the counts of an engine.
type Stats struct {
	Lines     int
	Bytes     int64
	LongLines int
	Cycles    int
	Streams   int // behind prefixes
	// Unsaid counts the problems that were dropped because they have no message.
	Unsaid int
	// Summaries are the tools' own counts of the newest cycle.
	Summaries []Summary
	// Faults are those of families that have failed: what they would have found is missing.
	Faults []error
}

// Engine is the state of sifting one output. It is not safe for concurrent use.
type Engine struct {
	set       *Set
	opts      Options
	stats     Stats
	families  []Family
	builtIn   int // number of families before the user's own
	scanners  []Scanner
	reporters []Reporter // of the scanners
	look      *firstLook
	owner     int // index of the scanner that is offered lines first, or -1
	// curious are families that want to see all lines for now, a bit each.
	curious uint64
	current problem.Problem
	test    string // whose output is read, for problems that name none; "" for none
	open    bool
	shown   []byte // what the tool printed as the line of current
	late    bool   // current was handed on at a pause; more may still come
	errors  int    // problems of severity error so far
	reasons int    // problems so far that make their tool fail
	endedAt int    // position of the last line before which a problem ended
	taken   int    // lines of a stream so far
	dirs    folders

	out     *outlet
	streams streams
	depth   int  // of the streams in which the engine is
	quiet   bool // lines are taken again: repetitions are not counted
	// undecided are problems whose file may be one of several.
	undecided []problem.Problem
	given     []problem.Problem // of this pass, for when the pass of another stream ends

	counts   map[string]*counts
	document *heldDocument
	parts    map[string]*part // outputs that documents hold, by name

	block     Block
	ahead     ahead
	passes    passes
	part      []byte // an unfinished line
	partStart int64
	partLong  bool
	drawing   lex.Drawing
	strip     []byte
	margin    marginLine
	line      Line
}

// A Scanner recognises the problems of one family of tools. It belongs to one
// engine.
type Scanner interface {
	// Scan is offered a line, and reports whether the line belongs to the family.
	Scan(l *Line, rep *Reporter) bool
	// Flush hands on what the scanner holds back, because the output paused or, if
	// last is set, ended. The engine hands on the problem under construction by
	// itself.
	Flush(rep *Reporter, last bool)
}

// A Family is a row of a Set. Its scanner is offered the lines that contain one of
// the row's texts, and all lines while it has a problem under construction.
type Family struct {
	Name string
	// Leads are texts at the start of a line, Indented are texts behind blanks at
	// the start of a line, and Behind are texts that follow a colon and a blank
	// anywhere. Alone is like Behind, but only on lines without a file and line.
	Leads, Indented, Behind, Alone []string
	// Endings are file name endings in small letters, or whole names without one: a
	// line with a file and line matters if the file has such an ending.
	Endings []string
	Traits  Traits
	Columns problem.Columns
	// Lenient says that the family's tools succeed when they only warn.
	Lenient bool
	New     func() Scanner
}

// New makes an engine for one output.
func New(set *Set, opts Options) *Engine {
	return newEngine(set, opts, &outlet{seed: maphash.MakeSeed()}, 0)
}

// maxKnown is the number of paths whose files an engine remembers: more than a log names
// again and again. Those of streams, of which there are many, remember fewer.
const maxKnown = 1 << 14

// newEngine makes an engine for an output, or for a stream in it.
func newEngine(set *Set, opts Options, out *outlet, depth int) *Engine {
	e := &Engine{set: set, opts: opts, owner: -1, out: out, depth: depth}
	out.engines = append(out.engines, e)
	e.dirs.keeps = maxKnown >> (3 * depth)
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

// Stats returns the counts so far.
func (e *Engine) Stats() Stats {
	s := e.stats
	s.Cycles, s.Summaries, s.Streams, s.Faults = e.out.cycles, e.out.summaries, e.out.streams, e.out.faults
	for _, x := range e.out.engines[1:] {
		s.Unsaid += x.stats.Unsaid
		s.LongLines += x.stats.LongLines
	}
	return s
}

// Write takes the next bytes of the output. It never fails.
func (e *Engine) Write(p []byte) (int, error) {
	e.Look(p, &e.block)
	e.Take(&e.block)
	return len(p), nil
}

// Look takes the first look at the next bytes of the output and stores the result in
// b, which refers to text from then on. It does not use the engine's state: another
// goroutine may look ahead while this one calls Take.
func (e *Engine) Look(text []byte, b *Block) { e.look.block(text, b) }

// Take sifts a block that Look was called for. Blocks are taken in the order of the
// output.
func (e *Engine) Take(b *Block) {
	base, line := e.stats.Bytes, e.stats.Lines
	e.sample(b)
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

// ahead is the rest of the current block, behind the current line.
type ahead struct {
	block *Block
	at    int
	marks []mark
}

// plain reports whether the next n lines are in the block, unmarked, and plain.
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

// attentive reports whether the next line must be scanned even if nothing marks it.
func (e *Engine) attentive() bool {
	return e.owner >= 0 || e.curious != 0 || e.passes.rested || e.document != nil || e.streams.active || e.dirs.moved || e.dirs.interleaved()
}

// keep stores the start of a line whose end has not come yet.
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

// Pause reports the complete problems, because the tool stopped printing for now.
// If more lines belong to the last problem, it is reported again with the same Seq.
func (e *Engine) Pause() {
	for _, s := range e.streams.byName {
		s.Pause()
	}
	e.flush(false)
	// The message may be on the next line.
	if e.open && !e.late && saysSomething(&e.current) {
		e.hand()
		e.late = true
	}
}

// Close ends the output and reports the last problems.
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
	for _, s := range e.streams.inOrder() {
		s.Close()
	}
	return nil
}

func (e *Engine) flush(last bool) {
	for i := range e.scanners {
		e.flushOne(i, last)
	}
}

func (e *Engine) flushOne(i int, last bool) {
	defer e.contain(i)
	e.scanners[i].Flush(&e.reporters[i], last)
}

// takeLine sifts one line, given without its line end. m is nil if the first look
// did not mark it.
func (e *Engine) takeLine(raw []byte, start, end int64, m *mark) {
	e.taken++
	e.clean(raw, start, end, m)
	if e.streams.active {
		e.moveDown(1, start, end)
	}
}

// moveDown follows the cursor of the terminal, and takes the lines that are new in a
// drawing.
func (e *Engine) moveDown(down int, start, end int64) {
	r := &e.streams.rows
	if down < 0 && r.drawn(down) {
		e.settle(start, end)
	}
	r.move(down)
	if r.drawn(0) {
		e.settle(start, end)
	}
}

func (e *Engine) settle(start, end int64) {
	e.streams.rows.settle(func(folder, line string) { e.toStream([]byte(folder), []byte(line), start, end) })
}

// clean strips control characters from a line, and sifts it.
func (e *Engine) clean(raw []byte, start, end int64, m *mark) {
	plain := m != nil && !m.redo
	if plain && e.prefixed(raw, start, end) {
		return
	}
	if (e.document != nil || !plain || m.wants&wantDocument != 0) && e.hold(raw, start, end) {
		return
	}
	if !plain {
		e.sift(raw, start, end)
	} else {
		e.line = Line{Text: raw, Number: e.stats.Lines, start: start, end: end, traits: m.traits, wants: m.wants}
		e.route()
	}
}

// sift cleans and sifts a line that is not part of a document.
func (e *Engine) sift(raw []byte, start, end int64) {
	if len(raw) > MaxLine {
		raw = raw[:MaxLine]
		e.stats.LongLines++
	}
	if lex.Moves(raw) {
		e.draw(raw, start, end)
		return
	}
	if bytes.IndexByte(raw, 0x1b) >= 0 || bytes.IndexByte(raw, '\a') >= 0 {
		var cleared bool
		e.strip, cleared = lex.StripEscapes(e.strip[:0], raw)
		raw = e.strip
		if cleared {
			e.newCycle()
		}
	}
	e.plain(raw, start, end)
}

// draw sifts the rows that a line draws.
func (e *Engine) draw(raw []byte, start, end int64) {
	d := &e.drawing
	d.Draw(raw)
	for _, row := range d.Rows {
		e.moveDown(row.Down, start, end)
		if row.Cleared {
			e.newCycle()
		}
		e.plain(row.Text, start, end)
	}
	left := d.Left()
	e.moveDown(left.Down, start, end)
	if left.Cleared {
		e.newCycle()
	}
}

// plain sifts a line, or a row, without control characters.
func (e *Engine) plain(text []byte, start, end int64) {
	if e.prefixed(text, start, end) {
		return
	}
	e.line = Line{Text: text, Number: e.stats.Lines, start: start, end: end}
	e.line.traits, e.line.wants = e.look.one(text)
	e.route()
}

// route offers the current line to the family that claimed it, and then to those
// that want it.
func (e *Engine) route() {
	l := &e.line
	if e.passes.rested {
		e.afterRest(l)
	}
	if e.dirs.interleaved() {
		e.dirs.command(l.Text)
	}
	if e.dirs.moved || l.wants&wantFolder != 0 {
		e.dirs.follow(l.Text, &e.opts)
	}
	if l.wants&wantCount != 0 {
		e.summarize(l)
	}
	owner := e.owner
	if owner >= 0 && e.scan(owner, l) {
		e.extend(l)
		return
	}
	e.offer(l, owner)
}

// scan offers a line to one family. A family that panics is offered nothing from then on.
func (e *Engine) scan(i int, l *Line) bool {
	defer e.contain(i)
	return e.scanners[i].Scan(l, &e.reporters[i])
}

// contain ends the use of a family that panics. It must be deferred itself.
func (e *Engine) contain(i int) {
	fault := crash.Recovered("the sieve "+e.families[i].Name, recover())
	if fault == nil {
		return
	}
	e.scanners[i] = broken{}
	e.curious &^= 1 << i
	if e.owner == i {
		e.open, e.late, e.owner = false, false, -1
	}
	e.out.faults = append(e.out.faults, fault)
}

// broken is the scanner of a family that has failed.
type broken struct{}

func (broken) Scan(*Line, *Reporter) bool { return false }
func (broken) Flush(*Reporter, bool)      {}

// offer offers the line to all families that want it, except one.
func (e *Engine) offer(l *Line, except int) {
	if len(l.Text) == 0 {
		return
	}
	for i := e.builtIn; i < len(e.scanners); i++ {
		if i != except && e.scan(i, l) {
			return
		}
	}
	for can := (l.wants | e.curious) &^ (wantDocument | wantCount | wantFolder | wantAll); can != 0; can &= can - 1 {
		if i := bits.TrailingZeros64(can); i != except && e.scan(i, l) {
			return
		}
	}
}

// stamp records which family reported a problem, and how its file was found.
func (e *Engine) stamp(p *problem.Problem, family string) {
	p.Family, p.Times, p.MayBe = family, 1, e.dirs.several[p.File]
	_, p.FoundByName = e.dirs.byTail[p.File]
	if p.Test == "" {
		p.Test = e.test
	}
	e.shown = e.shown[:0]
}

// extend makes the problem under construction reach to line l.
func (e *Engine) extend(l *Line) {
	if e.open && l.Number > e.current.Output.LastLine && len(bytes.TrimSpace(l.Text)) > 0 {
		l.Extend(&e.current.Output)
	}
}

// finish reports the problem under construction, if there is one.
func (e *Engine) finish() {
	switch {
	case !e.open:
	case saysSomething(&e.current):
		e.hand()
	case e.current.File == refused:
	default:
		e.stats.Unsaid++
	}
	if e.open {
		e.endedAt = e.position()
	}
	e.open, e.late, e.owner = false, false, -1
}

// position is the number of the current line in the output or, of a stream, among its
// own lines.
func (e *Engine) position() int {
	if e.depth == 0 {
		return e.stats.Lines
	}
	return e.taken
}

// saysSomething reports whether a problem can be reported: it has a message, and its
// line is not that of a test or a commit.
func saysSomething(p *problem.Problem) bool {
	return p.File != refused && strings.TrimSpace(p.Message) != ""
}

// hand reports the current problem, or counts it once more if it was reported
// before.
func (e *Engine) hand() {
	p := &e.current
	out := e.out
	if p.Seq == 0 {
		e.counted(p)
		first := out.seen.put(e.hash(p), out.seq+1)
		if first != 0 && e.dirs.interleaved() {
			// Two folders may have files of one name with the same mistake.
			for other := range e.dirs.twins(p.File, &e.opts) {
				taken := p.File
				if p.File = other; out.seen.put(e.hash(p), out.seq+1) == 0 {
					first = 0
					break
				}
				p.File = taken
			}
		}
		if first != 0 {
			if e.opts.Repeat != nil && !e.quiet {
				e.opts.Repeat(first)
			}
			e.open, e.owner = false, -1
			return
		}
		out.seq++
		p.Seq = out.seq
		e.passes.inPass()
		if p.Severity == problem.Error {
			e.errors++
		}
		if p.Severity == problem.Error || e.owner < 0 || !e.families[e.owner].Lenient {
			e.reasons++
		}
	}
	given := *p
	if given.FoundByName && !e.borneOut(&given) {
		given.File, given.FoundByName, given.MayBe = e.dirs.byTail[p.File], false, []string{p.File}
	}
	// The receiver keeps its copy: later notes must not be written into it.
	given.Related = append([]problem.Related(nil), p.Related...)
	e.remember(given)
	if len(p.MayBe) > 1 && len(e.undecided) < maxUndecidedFiles {
		e.undecided = append(e.undecided, given)
	}
	e.opts.Problem(given)
}

// leastWord is the length in bytes of a word of a message that says something where it stands in a source.
const leastWord = 4

// borneOut reports whether the line of a file that was found by its name is the one that a tool spoke of: what the tool
// printed as its text stands there, or a word that the message quotes, or one that is no common one. A place without a line
// is borne out by the folders of its path.
func (e *Engine) borneOut(p *problem.Problem) bool {
	if e.opts.Line == nil {
		return true
	}
	if p.Line == 0 {
		return strings.Contains(e.dirs.byTail[p.File], "/")
	}
	line := e.opts.Line(p.File, p.Line)
	if want := oneSpaced(e.shown); want != "" {
		return sameSource(oneSpaced([]byte(line)), want)
	}
	for _, text := range [...]string{p.Message, p.Test} {
		for _, word := range strings.FieldsFunc(text, func(r rune) bool {
			return r != '_' && r != '$' && !unicode.IsLetter(r) && !unicode.IsDigit(r)
		}) {
			if quoted := quotedIn(text, word); (quoted || len(word) >= leastWord && !common[word]) && lex.HasWord(line, word) {
				return true
			}
		}
	}
	return false
}

// sameSource reports whether a printed line of source may be line: it is, or it was shortened at three dots and what is left
// stands there.
func sameSource(line, printed string) bool {
	if line == printed {
		return true
	}
	parts := strings.Split(strings.ReplaceAll(printed, "…", "..."), "...")
	said := 0 // bytes
	for _, part := range parts {
		part = strings.Trim(part, ". ")
		if said += len(part); !strings.Contains(line, part) {
			return false
		}
	}
	return len(parts) > 1 && said >= leastWord
}

// quotedIn reports whether a word stands in quotes of some kind in a text.
func quotedIn(text, word string) bool {
	i := strings.Index(text, word)
	if i < 1 {
		return false
	}
	before, _ := utf8.DecodeLastRuneInString(text[:i])
	return strings.ContainsRune("'\"`‘“«", before)
}

// common are words of messages that stand in many lines of any source.
var common = func() map[string]bool {
	set := map[string]bool{}
	for _, w := range strings.Fields("else with from this that then return import class type value void true false null none self line file name char string function expected before after error warning unused variable") {
		set[w] = true
	}
	return set
}()

// hash returns the same value for problems that read the same.
func (e *Engine) hash(p *problem.Problem) uint64 {
	const odd = 0x9e3779b97f4a7c15 // spreads small numbers over all bits
	h := maphash.String(e.out.seed, p.File)
	h = (h ^ uint64(p.Line)) * odd
	h = (h ^ h>>32 ^ uint64(p.Column)<<2 ^ uint64(p.Severity)) * odd
	h = (h ^ h>>32 ^ maphash.String(e.out.seed, p.Code)) * odd
	h = (h ^ h>>32 ^ maphash.String(e.out.seed, p.Message)) * odd
	if e.test != "" { // two tests may fail in one place
		h = (h ^ h>>32 ^ maphash.String(e.out.seed, e.test)) * odd
	}
	return h ^ h>>32
}

// newCycle starts another pass of a watching tool. Clearing the screen before
// anything was reported starts none. The problems of other streams stay.
func (e *Engine) newCycle() {
	out := e.out
	for _, x := range out.engines {
		x.finish()
	}
	e.flush(true)
	e.finish()
	if out.seq == 0 || out.cycleAt == e.stats.Lines {
		return
	}
	out.cycleAt = e.stats.Lines
	out.cycles++
	out.summaries = nil
	clear(e.counts)
	out.seen.clear()
	if e.opts.Cycle != nil {
		e.opts.Cycle(out.cycles)
	}
	for _, x := range out.engines {
		if x == e || e.depth == 0 {
			x.given = x.given[:0]
			continue
		}
		for i := range x.given {
			p := &x.given[i]
			out.seq++
			p.Seq = out.seq
			out.seen.put(e.hash(p), p.Seq)
			e.opts.Problem(*p)
		}
	}
}

// shows says that the tool printed text as a line of the file placed last: by the
// problem under construction, or by its last related place if note is set. line is 0
// if the tool does not say which line it is.
func (e *Engine) shows(line int, text []byte, note bool) {
	if e.dirs.last == "" || !e.open {
		return
	}
	place := &e.current.Place
	if n := len(e.current.Related); n > 0 && note {
		place = &e.current.Related[n-1].Place
	}
	if line != 0 && place.Line != line {
		return
	}
	if file := e.dirs.correct(place.File, place.Line, text, &e.opts); file != place.File {
		if place.File = file; !note {
			_, e.current.FoundByName = e.dirs.byTail[file]
			e.current.MayBe = nil
		}
	}
	if place == &e.current.Place {
		e.shown = append(e.shown[:0], text...)
	}
}

// failedIn says that what was printed so far was of a task called target: if that is a
// folder, files that may be in several folders are those in it.
func (e *Engine) failedIn(target string) {
	inside := path.Join(e.opts.Dir, target) + "/"
	left := e.undecided[:0]
	for _, p := range e.undecided {
		var found []string
		for _, file := range p.MayBe {
			if strings.HasPrefix(file, inside) {
				found = append(found, file)
			}
		}
		if len(found) != 1 {
			left = append(left, p)
			continue
		}
		p.File, p.FoundByName, p.MayBe = found[0], true, nil
		e.opts.Problem(p)
	}
	e.undecided = left
}

// maxUndecidedFiles is the number of problems that wait for a word of where their file is.
const maxUndecidedFiles = 256

// place resolves a printed file name.
func (e *Engine) place(printed string) string { return e.dirs.resolve(printed, &e.opts) }
