package sieve

import (
	"bytes"
	"hash/maphash"
	"slices"

	"tidytally/core/problem"
	"tidytally/core/sieve/lex"
)

// streams are the parts of an output that stand behind prefixes of their own: those
// of several tasks side by side, of the packages of a workspace, of a container's
// steps. Each is sifted by an engine of its own, so that the lines of a block stay
// together although the lines of others stand between them.
// A prefix that is certain is taken off wherever it occurs. Others are learned: when
// most of the lines near by begin with the same form, it is taken off from then on.
type streams struct {
	byName map[string]*stream
	clock  int // grows with every line, for the age of streams
	// dropped is the time at which a stream last made room.
	dropped int
	// learned are the forms that are taken off. active says that lines had a prefix
	// recently, so that each line is looked at.
	learned   [prefixForms]bool
	active    bool
	unmatched int  // lines since the last one with a prefix
	narrow    bool // levels of four letters have one blank behind them
	window    [prefixWindow]seenPrefix
	seen      int // lines put into window so far
	counts    [prefixForms]int
	// recent are prefixes as they stood before lines, so that the next such line need
	// not be read again.
	recent  [8]recentPrefix
	skipped int
	strip   []byte
	rows    rows
}

type recentPrefix struct {
	text []byte
	form prefixForm
	to   *stream
}

// stream is one of them.
type stream struct {
	*Engine
	used int
}

type seenPrefix struct {
	form prefixForm
	name uint64 // hash
	text []byte // of a line that came alone, with its place
	at   Line
}

const (
	// prefixWindow is the number of lines among which most must have a prefix.
	prefixWindow = 32
	// minPrefixed is the number of them from which on a prefix is learned.
	minPrefixed = 3
	// maxStreams is the number of streams of one engine. The one that was not used for
	// the longest time makes room, once in dropEvery lines; until then the lines of new
	// names share one.
	maxStreams = 64
	dropEvery  = 256
	// maxEngines is the number of engines of an output, streams in streams included.
	maxEngines = 256
	// otherStreams is the name of the shared stream.
	otherStreams = "\x00"
	// maxDepth is the number of prefixes that stand one behind the other: the time, the
	// job, the container, the level.
	maxDepth = 4
	// maxUnmatched is the number of lines without prefix from which on lines are no
	// longer looked at one by one.
	maxUnmatched = 256
)

// outlet is what the engines of an output's streams share: who receives problems, and
// which were reported.
type outlet struct {
	seq       int
	cycles    int
	streams   int // that began so far
	cycleAt   int // the line at which the last cycle began
	seen      seenTable
	seed      maphash.Seed
	summaries []Summary
	engines   []*Engine
	faults    []error // of families
}

// sample looks at some lines of a block, before it is taken, for prefixes to learn:
// all of a short one, and a few from each of several places of a long one.
func (e *Engine) sample(b *Block) {
	s := &e.streams
	if s.active && s.unmatched < maxUnmatched/2 {
		return
	}
	if b.lines > prefixWindow {
		const places = 4
		for i := range places {
			at := b.tail / places * i
			if i > 0 || len(e.part) > 0 {
				at = nextEnd(b.bits, at) + 1
			}
			for range prefixWindow / places {
				if at >= b.tail {
					break
				}
				end := nextEnd(b.bits, at)
				e.learnDeep(s.clean(b.text[at:end]), nil, 0)
				at = end + 1
			}
		}
		return
	}
	for i, at := 0, 0; i < b.lines; i++ {
		end := nextEnd(b.bits, at)
		line := Line{Number: e.stats.Lines + 1 + i, start: e.stats.Bytes + int64(at), end: e.stats.Bytes + int64(end)}
		text := b.text[at:end]
		if i == 0 && len(e.part) > 0 {
			line.start = e.partStart
			text = append(append([]byte(nil), e.part[:min(len(e.part), MaxLine)]...), text...)
		}
		e.learnDeep(s.clean(text), &line, e.stats.Lines)
		at = end + 1
	}
}

// clean returns the start of a line as a prefix is looked for in it.
func (s *streams) clean(raw []byte) []byte {
	raw = lex.WithoutReturn(raw)
	if i := bytes.LastIndexByte(raw, '\r'); i >= 0 {
		raw = raw[i+1:]
	}
	if bytes.IndexByte(raw, 0x1b) < 0 {
		return raw
	}
	s.strip, _ = lex.StripEscapes(s.strip[:0], raw)
	return s.strip
}

// learnDeep learns from a line, and from what stands behind its prefix.
func (e *Engine) learnDeep(t []byte, at *Line, taken int) {
	e.learn(t, at, taken)
	if e.depth+1 >= maxDepth || len(t) == 0 {
		return
	}
	s := &e.streams
	form, name, rest := certainPrefix(t)
	if form == noPrefix && s.active {
		if form, name, rest = s.otherPrefix(t); !s.learned[form] || e.claims(form, t) {
			form = noPrefix
		}
	}
	if form == noPrefix || !s.active {
		return
	}
	inner := e.stream(name)
	if inner != nil && inner.streams.seen < prefixWindow {
		inner.learnDeep(t[rest:], nil, 0)
	}
}

// learn counts the prefix of a line. at is where the line is, if it may have to be
// taken again without the prefix; taken is the number of the last line that was taken.
func (e *Engine) learn(t []byte, at *Line, taken int) {
	if len(t) == 0 {
		return
	}
	if _, ok := taskHead(t); ok {
		e.streams.active, e.streams.unmatched = true, 0
	}
	form, name, _ := certainPrefix(t)
	if form == noPrefix {
		var rest int
		form, name, rest = likelyPrefix(t)
		s := &e.streams
		s.narrow = s.narrow || form == levelled && lex.IsLetter(t[0]) && rest == len("INFO ") && (rest == len(t) || t[rest] != ' ')
	}
	e.count(form, name, t, at, taken)
}

// count counts a line with a prefix, or without, and learns the prefix if most lines
// near by have one of its form.
func (e *Engine) count(form prefixForm, name, t []byte, at *Line, taken int) {
	s := &e.streams
	if form == noPrefix && len(bytes.TrimSpace(t)) == 0 {
		return
	}
	w := &s.window[s.seen%prefixWindow]
	if s.seen >= prefixWindow {
		s.counts[w.form]--
	}
	s.seen++
	s.counts[form]++
	w.form, w.name, w.text = form, 0, w.text[:0]
	if form == noPrefix || s.learned[form] && s.active {
		return
	}
	if at != nil && len(t) <= MaxLine {
		w.text, w.at = append(w.text, t...), at.Kept()
	}
	if form > stepped {
		w.name = maphash.Bytes(e.out.seed, name)
	}
	if !s.usual(form) && !(form.isNamed() && bytes.ContainsAny(name, "/@") && e.isPackage(name)) {
		return
	}
	s.learned[form], s.active, s.unmatched = true, true, 0
	s.again(e, form, taken)
}

// shortLevel reports whether the level that a line begins with has four letters, and
// text behind its blank: loggers fill it to five, or do not.
func shortLevel(t []byte, rest int) bool {
	return lex.IsLetter(t[0]) && rest == len("INFO ") && rest < len(t)
}

// usual reports whether most lines of the window have a form of prefix; of two lines
// both.
func (s *streams) usual(form prefixForm) bool {
	if s.seen == 2 && s.counts[form] == 2 && form != named && form != levelled {
		return s.window[0].name == s.window[1].name
	}
	return s.counts[form] >= minPrefixed && 5*s.counts[form] >= 3*min(s.seen, prefixWindow) && s.alternate(form)
}

// isNamed reports whether a form names what prints the line.
func (f prefixForm) isNamed() bool {
	return f == barred || f == bracketed || f == tasked || f == named || f == pointed
}

// again takes the lines of the window that were taken before their prefix was
// learned.
func (s *streams) again(e *Engine, form prefixForm, taken int) {
	n := min(s.seen, prefixWindow)
	lines := e.stats.Lines
	for i := s.seen - n; i < s.seen; i++ {
		w := &s.window[i%prefixWindow]
		if w.form != form || len(w.text) == 0 || w.at.Number > taken {
			continue
		}
		e.stats.Lines = w.at.Number
		e.quiet = true
		e.prefixed(w.text, w.at.start, w.at.end)
		e.quiet = false
		w.text = w.text[:0]
	}
	e.stats.Lines = lines
}

// alternate reports whether the names before the lines of a form come again: as many
// names as lines are no names of streams.
func (s *streams) alternate(form prefixForm) bool {
	var names [prefixWindow]uint64
	different, count := 0, 0
next:
	for i := range min(s.seen, prefixWindow) {
		if s.window[i].form != form {
			continue
		}
		count++
		for _, name := range names[:different] {
			if name == s.window[i].name {
				continue next
			}
		}
		names[different] = s.window[i].name
		different++
	}
	return 2*different <= count+1
}

// prefixed takes the prefix off a line and gives what is behind it to its stream. It
// returns false if the line has none.
func (e *Engine) prefixed(t []byte, start, end int64) bool {
	if e.depth >= maxDepth || len(t) == 0 {
		return false
	}
	s := &e.streams
	if s.active {
		for i := range s.recent {
			r := &s.recent[i]
			if len(r.text) > 0 && bytes.HasPrefix(t, r.text) {
				e.count(r.form, nil, t, nil, 0)
				s.unmatched = 0
				s.clock++
				r.to.used = s.clock
				e.give(r.to, t[len(r.text):], start, end)
				return true
			}
		}
	} else if e.depth > 0 && s.seen >= prefixWindow {
		// A stream that had no prefix so far is looked at now and then.
		if s.skipped++; s.skipped%8 != 0 {
			return false
		}
	}
	form, name, rest := certainPrefix(t)
	switch {
	case form != noPrefix && !s.active && e.depth == 0:
		if !e.sensible(t[rest:]) || e.claims(form, t) {
			return false
		}
		if form == stepped { // nothing else looks so, and what goes on with the problem says nothing by itself
			s.learned[form], s.active = true, true
		}
	case form == clocked && e.claims(form, t):
		return false
	case form != noPrefix:
		e.count(form, name, t, nil, 0)
	case s.active || e.depth > 0:
		if s.rows.line(t) {
			return true
		}
		if form, name, rest = s.otherPrefix(t); form != noPrefix && e.claims(form, t) {
			form = noPrefix
		}
		e.count(form, name, t, &Line{Number: e.stats.Lines, start: start, end: end}, e.stats.Lines-1)
		if form == noPrefix || !s.learned[form] {
			if s.unmatched++; s.unmatched > maxUnmatched {
				s.active = false
			}
			return false
		}
	default:
		return false
	}
	s.unmatched = 0
	to := e.stream(name)
	if to == nil {
		return false
	}
	if form.isNamed() {
		r := &s.recent[s.clock%len(s.recent)]
		r.text, r.form, r.to = append(r.text[:0], t[:rest]...), form, to
	}
	e.give(to, t[rest:], start, end)
	return true
}

// otherPrefix reads a prefix that is not certain.
func (s *streams) otherPrefix(t []byte) (form prefixForm, name []byte, rest int) {
	if form, name, rest = likelyPrefix(t); form != noPrefix {
		if form == levelled && shortLevel(t, rest) && !s.narrow && t[rest] == ' ' {
			rest++
		}
		return form, name, rest
	}
	if t[0] == '#' { // a line of a step without its seconds
		if _, k := lex.Number(t[1:]); k > 0 && len(t) > 1+k && t[1+k] == ' ' && s.byName[string(t[:1+k])] != nil {
			s.learned[stepped] = true
			return stepped, t[:1+k], 2 + k
		}
	}
	return noPrefix, nil, 0
}

// claims reports whether a family looks for the text that a line begins with, or, as
// the compilers that watch do, for a clock and the sentence behind it.
func (e *Engine) claims(form prefixForm, t []byte) bool {
	switch form {
	case barred, tasked, coded, dashed, elapsed, dated, stepped, tabbed:
		return false
	case clocked:
		var m mark
		e.look.end(t, &m)
		return m.traits&FullStop != 0 && (bytes.HasSuffix(t, []byte("compilation in watch mode...")) || bytes.HasSuffix(t, []byte("incremental compilation...")) || bytes.HasSuffix(t, []byte("Watching for file changes.")))
	}
	var m mark
	e.look.begin(t, &m)
	return m.wants&^(wantAll|wantDocument|wantCount) != 0
}

// sensible reports whether any family wants a line that stands alone behind a time.
func (e *Engine) sensible(t []byte) bool {
	_, wants := e.look.one(t)
	return wants&^wantAll != 0
}

// toStream gives a line to the stream of a name.
func (e *Engine) toStream(name, t []byte, start, end int64) {
	if s := e.stream(name); s != nil {
		e.give(s, t, start, end)
	}
}

func (e *Engine) give(s *stream, t []byte, start, end int64) {
	s.stats.Lines = e.stats.Lines
	s.quiet = e.quiet
	s.takeLine(t, start, end, nil)
	s.margin.takePlain(t)
	s.quiet = false
}

// stream returns the stream of a name, a new one if there is none. It returns nil if there
// are too many engines already.
func (e *Engine) stream(name []byte) *stream {
	s := &e.streams
	s.clock++
	at := s.byName[string(name)]
	switch full := len(s.byName) >= maxStreams; {
	case at != nil:
	case full && s.clock-s.dropped < dropEvery: // names that come once, or ever new ones
		name = []byte(otherStreams)
		if at = s.byName[otherStreams]; at == nil {
			at = e.begin(name)
		}
	case full:
		s.dropped = s.clock
		e.dropOldest()
		at = e.begin(name)
	default:
		at = e.begin(name)
	}
	if at != nil {
		at.used = s.clock
	}
	return at
}

// begin makes a stream.
func (e *Engine) begin(name []byte) *stream {
	if len(e.out.engines) >= maxEngines {
		return nil
	}
	s := &e.streams
	e.out.streams++
	at := &stream{Engine: newEngine(e.set, e.opts, e.out, e.depth+1)}
	at.dirs.start = e.dirs.start
	if dir, ok := e.packageOf(name); ok {
		at.dirs.start = dir
	}
	if s.byName == nil {
		s.byName = map[string]*stream{}
	}
	s.byName[string(name)] = at
	return at
}

// dropOldest ends the stream that was not used for the longest time.
func (e *Engine) dropOldest() {
	s := &e.streams
	oldest := ""
	for name, at := range s.byName {
		if oldest == "" || at.used < s.byName[oldest].used {
			oldest = name
		}
	}
	at := s.byName[oldest]
	for i := range s.recent {
		if s.recent[i].to == at {
			s.recent[i].text = s.recent[i].text[:0]
		}
	}
	at.Close()
	e.out.drop(at.Engine)
	delete(s.byName, oldest)
}

// isPackage reports whether a name is that of a package or a folder of one.
func (e *Engine) isPackage(name []byte) bool {
	_, ok := e.packageOf(name)
	return ok
}

// packageOf returns the folder of the package that a prefix names: "@shop/web",
// "packages/web", "@shop/web:build", "web-1".
func (e *Engine) packageOf(name []byte) (dir string, ok bool) {
	if e.opts.Package == nil || len(name) == 0 {
		return "", false
	}
	if dir, ok = e.opts.Package(string(name)); ok {
		return dir, true
	}
	if i := bytes.LastIndexByte(name, ':'); i > 0 {
		if dir, ok = e.opts.Package(string(name[:i])); ok {
			return dir, true
		}
	}
	if i := bytes.LastIndexByte(name, ' '); i > 0 {
		return e.opts.Package(string(name[:i]))
	}
	if i := bytes.LastIndexByte(name, '-'); i > 0 && digits(name[i+1:]) {
		return e.opts.Package(string(name[:i]))
	}
	return "", false
}

// inOrder returns the streams, the one that was used first at the front.
func (s *streams) inOrder() []*stream {
	all := make([]*stream, 0, len(s.byName))
	for _, at := range s.byName {
		all = append(all, at)
	}
	slices.SortFunc(all, func(a, b *stream) int { return a.used - b.used })
	return all
}

// drop forgets an engine, and those of its streams.
func (o *outlet) drop(e *Engine) {
	for _, at := range e.streams.byName {
		o.drop(at.Engine)
	}
	for i, x := range o.engines {
		if x == e {
			o.engines = append(o.engines[:i], o.engines[i+1:]...)
			return
		}
	}
}

// maxKept is the number of problems of a stream that are reported again when another
// stream starts a pass.
const maxKept = 256

// remember keeps a problem, because the pass of a watching tool in one stream does not
// end those of the others.
func (e *Engine) remember(p problem.Problem) {
	if n := len(e.given); n > 0 && e.given[n-1].Seq == p.Seq {
		e.given[n-1] = p
	} else if n < maxKept {
		e.given = append(e.given, p)
	}
}
