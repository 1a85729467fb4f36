package family

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var gnuFamily = sieve.Family{
	Name:    "gnu",
	Lenient: true,
	Columns: problem.Guessed,
	Traits:  sieve.AnyPlace | sieve.DigitParen,
	New:     func() sieve.Scanner { return &gnuScanner{} },
}

// gnuScanner reads the form of the GNU Coding Standards and its kin: gcc, g++,
// clang (default, vi and msvc forms), bison, as, and everything else that
// prints file:line:column: severity: message.
type gnuScanner struct {
	// held are lines after a diagnostic that either continue its message (gcc
	// -fmessage-length) or are a source line (clang). The lines that follow decide.
	held heldLines
	// before are places printed ahead of the problem they belong to: the chain of
	// includes, "required from".
	before []problem.Related
	// endsInBlank: the line of the last place ends in a blank. inNote: the last
	// place is a note of the problem.
	endsInBlank, inNote bool
	// frames: source lines of the problem were seen.
	frames bool
	// references: the lines behind "referenced by:" are being read (zig).
	references bool
}

// heldLines are a few lines in one buffer.
type heldLines struct {
	text []byte
	ends [maxHeld]int
	n    int
}

// maxHeld is the number of lines that a message may have behind its first. No
// message of gcc's catalog wraps into more at 72 columns.
const maxHeld = 6

func (h *heldLines) clear() { h.text, h.n = h.text[:0], 0 }

func (h *heldLines) add(line []byte) {
	h.text = append(h.text, line...)
	h.ends[h.n] = len(h.text)
	h.n++
}

func (h *heldLines) line(i int) []byte {
	if i == 0 {
		return h.text[:h.ends[0]]
	}
	return h.text[h.ends[i-1]:h.ends[i]]
}

func (g *gnuScanner) Flush(*sieve.Reporter, bool) {}

func (g *gnuScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	if l.MayPlace() {
		if at, sev, ok := severityMark(l.Text); ok {
			if place, n, ok := lex.SplitPlace(l.Text[:at]); ok {
				whole := string(l.Text) // the file and the message share its memory
				if place.File = whole[:n]; g.believable(place, rep) {
					g.diagnostic(l, rep, place, sev, strings.TrimLeft(whole[at+sev.length:], " \t"))
					return true
				}
			}
		}
		if g.context(l, rep) {
			return true
		}
	}
	if rep.Current() == nil {
		g.held.clear()
		return g.heading(l)
	}
	return g.more(l, rep)
}

// believable reports whether a place is a source file's rather than a host with a
// port: if it has neither a column nor a folder, the name must end like a source
// file's, or the file must exist.
func (g *gnuScanner) believable(p problem.Place, rep *sieve.Reporter) bool {
	if p.Column > 0 || strings.ContainsAny(p.File, `/\<`) {
		return true
	}
	if i := strings.LastIndexByte(p.File, '.'); i > 0 && lex.IsSourceEnding(strings.ToLower(p.File[i+1:])) {
		return true
	}
	return rep.CanAsk() && rep.Exists(rep.Place(p.File))
}

// A severityWord is the word between a place and its message.
type severityWord struct {
	severity problem.Severity
	length   int // of ": word:" with what belongs to it
	code     string
}

var gnuWords = []struct {
	word     string
	severity problem.Severity
}{
	{"error:", problem.Error},
	{"warning:", problem.Warning},
	{"note:", problem.Note},
	{"fatal error:", problem.Error},
	{"Error:", problem.Error},
	{"Warning:", problem.Warning},
	{"Fatal error:", problem.Error},
	{"Note:", problem.Note},
	{"remark:", problem.Note},
	{"info:", problem.Note},
	{"internal compiler error:", problem.Error},
	{"sorry, unimplemented:", problem.Error},
	{"internal error:", problem.Error},
	{"runtime error:", problem.Error}, // of the undefined behaviour sanitizer
	{"pedwarn:", problem.Warning},
	{"anachronism:", problem.Warning},
	{"style:", problem.Note},
}

// severityMark finds ": word:" behind a place.
func severityMark(t []byte) (at int, w severityWord, ok bool) {
	for i := 1; i < len(t)-2; {
		j := bytes.IndexByte(t[i:], ':')
		if j < 0 {
			break
		}
		i += j
		if i+2 >= len(t) {
			break
		}
		if t[i+1] != ' ' || !(lex.IsDigit(t[i-1]) || t[i-1] == ')' || t[i-1] == ' ' || t[i-1] == '}') {
			i++
			continue
		}
		rest := t[i+2:]
		for _, c := range gnuWords {
			if lex.HasPrefix(rest, c.word) {
				return i, severityWord{c.severity, 2 + len(c.word), ""}, true
			}
		}
		if code, n, sev, ok := codedSeverity(rest); ok {
			return i, severityWord{sev, 2 + n, code}, true
		}
		if sev, n, ok := spokenSeverity(rest); ok {
			return i, severityWord{sev, 2 + n, ""}, true
		}
		i++
	}
	return 0, w, false
}

// codedSeverity reads "error C2065:", "warning CS0168:" of the msvc and .NET forms.
func codedSeverity(b []byte) (code string, n int, sev problem.Severity, ok bool) {
	if rest, found := lex.CutPrefix(b, "error["); found { // rustc's short form
		if i := bytes.Index(rest, []byte("]:")); i > 0 {
			return string(rest[:i]), len("error[") + i + 2, problem.Error, true
		}
	}
	for _, c := range [...]struct {
		word string
		sev  problem.Severity
	}{{"error ", problem.Error}, {"warning ", problem.Warning}, {"fatal error ", problem.Error}, {"note ", problem.Note}} {
		rest, found := lex.CutPrefix(b, c.word)
		if !found {
			continue
		}
		i := 0
		for i < len(rest) && (lex.IsLetter(rest[i]) || lex.IsDigit(rest[i])) {
			i++
		}
		if i >= 2 && i < len(rest) && rest[i] == ':' && lex.IsLetter(rest[0]) && lex.IsDigit(rest[i-1]) {
			return string(rest[:i]), len(c.word) + i + 1, c.sev, true
		}
	}
	return "", 0, 0, false
}

func (g *gnuScanner) diagnostic(l *sieve.Line, rep *sieve.Reporter, place problem.Place, sev severityWord, message string) {
	if rep.Current() != nil {
		g.unwrap(rep)
	}
	g.endsInBlank = l.Text[len(l.Text)-1] == ' '
	place.File = rep.Place(place.File)
	text, code := splitCode(message, true)
	if sev.code != "" {
		code = sev.code
	}
	// A note with the code of a check (shellcheck's SC2006) is a problem of its own.
	part := sev.severity == problem.Note && !checkNumber(code)
	if part && rep.Current() == nil && !rep.Busy() {
		// make says in between that the compiler failed, when several run side by side.
		if p := rep.Reopen(maxBetween); p != nil && p.File != place.File {
			rep.Finish()
		}
		g.held.clear()
	}
	if (part || g.illFormed(rep)) && rep.Current() != nil && !(g.held.n > 0 && !g.relatesTo(rep, place.File)) {
		g.settle(rep)
		for _, r := range g.before {
			rep.Relate(r)
		}
		g.before = g.before[:0]
		rep.Relate(problem.Related{Place: place, Message: text})
		rep.Extend(l)
		g.frames, g.inNote = false, true
		return
	}
	if rep.Claimed() {
		g.settle(rep)
	}
	rep.Begin(l, problem.Problem{Place: place, Severity: sev.severity, Code: code, Message: text})
	for _, r := range g.before {
		rep.Relate(r)
	}
	g.before, g.frames, g.references, g.inNote = g.before[:0], false, false, false
	g.held.clear()
	if !g.endsInBlank && rep.PlainAhead(maxHeld+1, plainLine) {
		rep.Finish() // as the lines behind it would do
	}
}

// maxBetween is the number of lines that other processes may print between a
// diagnostic and its notes.
const maxBetween = 3

// plainLine reports whether a line can only be held: it says nothing by itself.
func plainLine(t []byte) bool {
	for len(t) > 0 && (t[len(t)-1] == ' ' || t[len(t)-1] == '\t') {
		t = t[:len(t)-1]
	}
	if len(t) == 0 || t[len(t)-1] == ':' {
		return false
	}
	return lex.IsLetter(t[0]) || !gutter(t) && !caretLine(t) && !generatedLine(t)
}

// illFormed reports whether the last note ends in a colon ("conversion of argument 1
// would be ill-formed:"). gcc prints its reason as an error of its own, though it is
// part of the note.
func (g *gnuScanner) illFormed(rep *sieve.Reporter) bool {
	p := rep.Current()
	if p == nil || len(p.Related) == 0 {
		return false
	}
	note := p.Related[len(p.Related)-1].Message
	return strings.HasSuffix(note, ":") && !strings.HasSuffix(note, "because:")
}

// relatesTo reports whether the problem under construction names a file.
func (g *gnuScanner) relatesTo(rep *sieve.Reporter, file string) bool {
	p := rep.Current()
	if p.File == file {
		return true
	}
	for _, r := range p.Related {
		if r.File == file {
			return true
		}
	}
	return false
}

// context reads places that have no severity and belong to the next problem.
func (g *gnuScanner) context(l *sieve.Line, rep *sieve.Reporter) bool {
	t := bytes.TrimLeft(l.Text, " ")
	for _, lead := range includedFrom {
		if rest, ok := lex.CutPrefix(t, lead); ok {
			g.endBefore(rep)
			g.before = g.before[:0]
			return g.include(rest, rep)
		}
	}
	// In other languages, and further down, it is "from", as far to the right as
	// above.
	if len(g.before) > 0 && len(l.Text)-len(t) >= 8 {
		if _, rest, ok := bytes.Cut(t, []byte(" ")); ok && g.include(rest, rep) {
			return true
		}
	}
	// file:line:column:   required from here
	for i := 1; i+4 < len(l.Text); {
		j := bytes.Index(l.Text[i:], []byte(":   "))
		if j < 0 {
			break
		}
		i += j
		rest := bytes.TrimLeft(l.Text[i+1:], " ")
		if hasAnyPrefix(rest, requiredFrom...) {
			if place, ok := lex.PlaceAtEnd(l.Text[:i]); ok {
				g.endBefore(rep)
				place.File = rep.Place(place.File)
				g.addBefore(problem.Related{Place: place, Message: string(rest)})
				return true
			}
		}
		i++
	}
	return false
}

// endBefore ends the problem under construction, because what follows belongs to the
// next one.
func (g *gnuScanner) endBefore(rep *sieve.Reporter) {
	if p := rep.Current(); p != nil && p.Severity != problem.Note {
		g.settle(rep)
	}
}

func (g *gnuScanner) include(rest []byte, rep *sieve.Reporter) bool {
	place, ok := lex.PlaceAtEnd(trimLeft(bytes.TrimRight(rest, ",:")))
	if !ok {
		return false
	}
	place.File = rep.Place(place.File)
	g.addBefore(problem.Related{Place: place, Message: "included from here"})
	return true
}

func (g *gnuScanner) addBefore(r problem.Related) {
	if len(g.before) < sieve.MaxParts {
		g.before = append(g.before, r)
	}
}

// heading reads lines that only say where the next problem is: "coil.c: In function
// 'heat':".
func (g *gnuScanner) heading(l *sieve.Line) bool {
	t := l.Text
	return len(t) > 8 && t[len(t)-1] == ':' &&
		(bytes.Contains(t, []byte(": In ")) || bytes.Contains(t, []byte(": At ")))
}

// more reads the lines behind a diagnostic.
func (g *gnuScanner) more(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	for len(t) > 0 && (t[len(t)-1] == ' ' || t[len(t)-1] == '\t') {
		t = t[:len(t)-1]
	}
	if g.references = g.references && l.Indent() > 0; g.references {
		name, place, _ := bytes.Cut(bytes.TrimLeft(t, " "), []byte(": "))
		if p, ok := lex.PlaceAtEnd(place); ok {
			p.File = rep.Place(p.File)
			rep.Relate(problem.Related{Place: p, Message: "referenced by " + string(name)})
		}
		return true
	}
	switch {
	case len(t) == 0:
		g.settle(rep)
		return true
	case string(t) == "referenced by:":
		g.settle(rep)
		g.references = true
		return true
	case g.heading(l):
		g.settle(rep)
		return true
	case gutter(t):
		// Lines held before a numbered source line are the rest of the message.
		g.join(rep, g.held.n)
		showGutter(t, rep, g.inNote)
		g.frames = true
		return true
	case caretLine(t):
		if n := g.held.n; n > 0 { // the last one held is the source line
			rep.ShowsSource(0, g.held.line(n-1), g.inNote)
			g.join(rep, n-1)
		}
		if p := rep.Current(); !g.inNote && p.Line > 0 && p.Column == 0 { // scalac prints no column
			p.Column = utf8.RuneCount(t[:bytes.IndexByte(t, '^')]) + 1
		}
		g.frames = true
		return true
	case generatedLine(t):
		g.settle(rep)
		rep.Finish()
		return true
	case g.frames && l.Indent() > 0:
		return true // a suggested replacement, an event of the analyser
	case bytes.HasSuffix(t, []byte(": note: pointer points here")), // bytes of memory follow
		l.Indent() == 2 && (bytes.Contains(t, []byte(": events ")) || bytes.Contains(t, []byte(": event "))):
		g.settle(rep)
		g.frames = true
		return true
	case g.held.n < maxHeld:
		g.held.add(l.Text)
		return false
	}
	g.settle(rep)
	rep.Finish()
	return false
}

// settle drops the lines that are still held, except those of a wrapped message:
// nothing showed that they belong to it.
func (g *gnuScanner) settle(rep *sieve.Reporter) {
	g.unwrap(rep)
	g.held.clear()
}

// unwrap joins held lines that gcc wrapped (-fmessage-length): a line broken at a
// blank keeps the blank at its end, and the next one is indented by three.
func (g *gnuScanner) unwrap(rep *sieve.Reporter) {
	n := 0
	for blank := g.endsInBlank; n < g.held.n && blank && lex.Indent(g.held.line(n)) >= wrapIndent; n++ {
		blank = bytes.HasSuffix(g.held.line(n), []byte(" "))
	}
	if n > 0 && rep.Current() != nil {
		rest := g.held
		g.join(rep, n)
		for i := n; i < rest.n; i++ {
			g.held.add(rest.line(i))
		}
	}
}

// wrapIndent is the least number of blanks by which gcc indents the continued lines
// of a message.
const wrapIndent = 3

// join appends the first n held lines to the message they continue.
func (g *gnuScanner) join(rep *sieve.Reporter, n int) {
	defer g.held.clear()
	if n == 0 || g.frames {
		return
	}
	p := rep.Current()
	target, code := &p.Message, &p.Code
	if k := len(p.Related); k > 0 && g.inNote {
		target, code = &p.Related[k-1].Message, new(string)
	}
	text, blank := *target, g.endsInBlank
	for i := range n {
		line := g.held.line(i)
		if blank || lex.Indent(line) != wrapIndent {
			text += " "
		}
		text += string(bytes.TrimSpace(line))
		blank = bytes.HasSuffix(line, []byte(" "))
	}
	var c string
	if *target, c = splitCode(text, true); c != "" {
		*code = c
	}
}

// gutter reports whether a line is source behind a number and a bar: "   12 | x =
// 1;".
func gutter(t []byte) bool {
	i := 0
	for i < len(t) && (t[i] == ' ' || lex.IsDigit(t[i]) || t[i] == '+') {
		i++
	}
	return i >= 2 && i < len(t) && t[i] == '|' && (t[i-1] == ' ' || t[i-1] == '+')
}

// showGutter hands on the source of a line that gutter knows; related says of which place.
func showGutter(t []byte, rep *sieve.Reporter, related bool) {
	before, source, _ := bytes.Cut(t, []byte("|"))
	if n, _ := lex.Number(bytes.TrimLeft(before, " +")); n > 0 {
		rep.ShowsSource(n, source, related)
	}
}

// caretLine reports whether a line has nothing but marks under source text.
func caretLine(t []byte) bool {
	caret := false
	for _, c := range t {
		switch c {
		case '^':
			caret = true
		case ' ', '\t', '~', '{', '}', ':', '-', ',', '|':
		default:
			return false
		}
	}
	return caret
}

// generatedLine reports whether a line is clang's count at the end of a file.
func generatedLine(t []byte) bool {
	return lex.IsDigit(t[0]) && bytes.HasSuffix(t, []byte(" generated.")) &&
		(bytes.Contains(t, []byte(" error")) || bytes.Contains(t, []byte(" warning")))
}

// splitCode cuts the tool's code in square brackets off the end of a message. If
// weaknesses is set, a CWE number before the code is cut off too.
func splitCode(message string, weaknesses bool) (text, code string) {
	if n := len(message); n > 0 && message[n-1] <= ' ' {
		message = strings.TrimRight(message, " \t")
	}
	text, code = cutBracket(message)
	if code == "" {
		return text, ""
	}
	if weaknesses && strings.HasPrefix(code, "-W") {
		if t, c := cutBracket(text); strings.HasPrefix(c, "CWE-") {
			text = t
		}
	}
	return text, cleanCode(code)
}

func cutBracket(message string) (text, code string) {
	if !strings.HasSuffix(message, "]") {
		return message, ""
	}
	i := strings.LastIndexByte(message, '[') - 1
	if i < 0 || message[i] != ' ' {
		if i = strings.LastIndex(message, " ["); i < 0 {
			return message, ""
		}
	}
	code = message[i+2 : len(message)-1]
	if code == "" || len(code) > 120 {
		return message, ""
	}
	// With -fdiagnostics-show-category=name, clang appends the category to the code,
	// or prints it alone.
	if category, found := strings.CutSuffix(code, " Issue"); found {
		if option, _, both := strings.Cut(category, ","); both {
			code = option
		} else {
			return strings.TrimRight(message[:i], " "), ""
		}
	}
	letter := false
	for j := 0; j < len(code); j++ {
		if !lex.IsCodeByte(code[j]) {
			return message, ""
		}
		letter = letter || lex.IsLetter(code[j])
	}
	if !letter {
		return message, ""
	}
	return strings.TrimRight(message[:i], " "), code
}

// cleanCode removes -Werror= and a leading -W.
func cleanCode(code string) string {
	for rest, part, more := code, "", true; more; {
		if part, rest, more = strings.Cut(rest, ","); part != "-Werror" && strings.HasPrefix(part, "-W") {
			code = part
			break
		}
	}
	if rest, ok := strings.CutPrefix(code, "-Werror="); ok {
		return rest
	}
	return strings.TrimPrefix(code, "-W")
}

func trimLeft(b []byte) []byte { return bytes.TrimLeft(b, " \t") }

func hasAnyPrefix(b []byte, prefixes ...string) bool {
	for _, p := range prefixes {
		if lex.HasPrefix(b, p) {
			return true
		}
	}
	return false
}

// checkNumber reports whether a code has capitals and digits: SC2006.
func checkNumber(code string) bool {
	n := 0
	for n < len(code) && code[n] >= 'A' && code[n] <= 'Z' {
		n++
	}
	_, digits := lex.Number([]byte(code[n:]))
	return n > 0 && digits > 1 && n+digits == len(code)
}
