package reach

import (
	"bufio"
	"bytes"
	"io"
	"path"
	"regexp"
	"slices"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve/lex"
)

// printed is what a run printed of what it did.
type printed struct {
	commands   []command
	steps      []string // files that quiet builds say they compile, as a Reach's paths are
	links      []string // what they say they link
	compiled   bool     // there are commands that compile
	nothing    bool     // the build system says that there was nothing to do
	configured bool     // CMake read its files
	units      map[chain][]string
	compilers  map[string][]int // the numbers of the commands that compile a source
	others     []int            // and of those that do something else
}

// chain is a place in a file that was included.
type chain struct {
	file string
	line int
}

const (
	// maxRead is the number of bytes of an output that are read.
	maxRead = 256 << 20
	// maxLine is the length in bytes of a line; the rest of a longer one is not read.
	maxLine = 256 << 10
	// maxCommands bounds the commands, and maxResults the lines of test runners, that are remembered of an output. What
	// is beyond was not checked.
	maxCommands = 200_000
	// maxUnits bounds the sources that are remembered of a place in a header.
	maxUnits   = 256
	maxResults = 200_000
)

// reader reads an output line by line.
type reader struct {
	x    *Reach
	out  *printed
	at   int64
	dirs []string // that make went to; absolute
	part []byte   // a command that goes on in the next line
	unit string   // the source through which the file of the next message was included
	from []string // the files of a chain that is not complete
}

// eachLine reads the output. Lines are valid until take returns.
func (x *Reach) eachLine(take func(at int64, line []byte)) {
	if x.run.Output == nil {
		return
	}
	f, err := x.run.Output()
	if err != nil {
		return // the output is being removed: nothing is known
	}
	defer f.Close()
	at := x.run.From
	in := bufio.NewReaderSize(io.LimitReader(f, maxRead), maxLine)
	for {
		line, err := in.ReadSlice('\n')
		take(at, line)
		at += int64(len(line))
		for err == bufio.ErrBufferFull {
			line, err = in.ReadSlice('\n')
			at += int64(len(line))
		}
		if err != nil {
			return
		}
	}
}

// plain returns a line as it is seen: without control sequences, and without what was written over.
func plain(t []byte) []byte {
	if bytes.IndexByte(t, 0x1b) >= 0 {
		t = []byte(lex.Plain(t))
	}
	t = bytes.TrimRight(t, " \r\n")
	return t[bytes.LastIndexByte(t, '\r')+1:]
}

func (x *Reach) read() *printed {
	r := &reader{x: x, out: &printed{units: map[chain][]string{}, compilers: map[string][]int{}}, dirs: []string{x.run.Dir}}
	x.eachLine(r.line)
	return r.out
}

func (r *reader) line(at int64, t []byte) {
	r.at = at
	t = plain(t)
	if len(r.part) > 0 {
		t = append(append(r.part, ' '), t...)
		r.part = nil
	}
	if len(t) > 0 && t[len(t)-1] == '\\' && len(t) < maxLine {
		r.part = slices.Clone(t[:len(t)-1])
		return
	}
	trimmed := bytes.TrimLeft(t, " \t")
	if len(trimmed) == 0 || r.included(t, trimmed) || r.folder(trimmed) {
		return
	}
	r.message(trimmed)
	r.command(trimmed)
}

// folder follows make into and out of folders, and what build systems say of what they do not do.
func (r *reader) folder(t []byte) bool {
	switch {
	case bytes.HasPrefix(t, []byte("-- ")):
		if bytes.HasPrefix(t[3:], []byte("Configuring ")) || bytes.HasPrefix(t[3:], []byte("Generating done")) {
			r.out.configured = true
		}
		return true
	case bytes.Equal(t, []byte("ninja: no work to do.")):
		r.nothing()
		return true
	case !bytes.HasPrefix(t, []byte("make")) && !bytes.HasPrefix(t, []byte("gmake")) && !bytes.HasPrefix(t, []byte("mingw32-make")):
		return false
	}
	if bytes.HasSuffix(t, []byte("is up to date.")) || bytes.Contains(t, []byte("Nothing to be done for")) {
		r.nothing()
		return true
	}
	i := bytes.Index(t, []byte("ing directory "))
	if i < 0 || bytes.IndexByte(t, ':') < 0 {
		return false
	}
	dir := strings.Trim(string(bytes.TrimSpace(t[i+len("ing directory "):])), "'`\"‘’")
	switch {
	case bytes.Contains(t[:i], []byte("Enter")):
		r.dirs = append(r.dirs, joined(r.dirs[len(r.dirs)-1], dir))
	case len(r.dirs) > 1:
		r.dirs = r.dirs[:len(r.dirs)-1]
	}
	return true
}

// nothing notes that a build system has nothing to do.
func (r *reader) nothing() { r.out.nothing = len(r.out.commands)+len(r.out.steps) == 0 }

func (r *reader) dir() string { return r.dirs[len(r.dirs)-1] }

// included follows the lines with which gcc and clang say how a file was included.
func (r *reader) included(whole, t []byte) bool {
	rest, ok := bytes.CutPrefix(t, []byte("In file included from "))
	if !ok {
		if rest, ok = bytes.CutPrefix(t, []byte("from ")); !ok || len(whole) == len(t) || len(r.from) == 0 {
			return false
		}
	}
	name, _, ok := bytes.Cut(rest, []byte(":"))
	if ok {
		r.from = append(r.from, r.x.rel(joined(r.dir(), string(name))))
	}
	return true
}

// message notes through which source the file of a compiler's message was included.
func (r *reader) message(t []byte) {
	if len(r.from) > 0 {
		r.unit = r.from[len(r.from)-1]
		if i := slices.IndexFunc(r.from, isSource); i >= 0 {
			r.unit = r.from[i]
		}
		r.from = nil
	}
	if r.unit == "" {
		return
	}
	name, rest, ok := bytes.Cut(t, []byte(":"))
	line, digits := lex.Number(rest)
	if !ok || digits == 0 || bytes.IndexByte(name, ' ') >= 0 {
		return
	}
	file := r.x.rel(joined(r.dir(), string(name)))
	if isSource(file) && file != r.unit {
		r.unit = ""
		return
	}
	at := chain{file, line}
	if units := r.out.units[at]; !slices.Contains(units, r.unit) && len(units) < maxUnits {
		r.out.units[at] = append(units, r.unit)
	}
}

// first words of lines that may hold a command, besides the tools' own names.
var starts = names("cd if ( { set export python python3 uv poetry bundle pnpm npm yarn ocamlfind ld collect2 cargo")

// traced matches what stands before a command that is printed.
var traced = regexp.MustCompile(`^(?:\++ |[>$%] |libtool: (?:compile|link):\s+|\[[a-z]+\] +|executing: |Executing: |Running: )`)

// first are the words that a line with a command, or a step, may begin with, besides the names of compilers.
var first = union(starts, linters, wrappers, shells)

// command takes a line that is a command, or a step of a quiet build.
func (r *reader) command(line []byte) {
	t := line
	switch t[0] {
	case '[', '(':
		t = traced.ReplaceAll(counter.ReplaceAll(t, nil), nil)
	case '+', '>', '$', '%', 'l', 'e', 'E', 'R':
		t = traced.ReplaceAll(t, nil)
	}
	if len(t) == 0 {
		return
	}
	word := t
	if i := bytes.IndexAny(t, " \t"); i >= 0 {
		word = t[:i]
	}
	base := word[bytes.LastIndexByte(word, '/')+1:]
	if isStep(line[0], base) {
		if compiled, linked := step(string(line)); compiled != "" {
			r.out.steps = append(r.out.steps, r.x.rel(joined(r.dir(), compiled)))
			return
		} else if linked != "" {
			r.out.links = append(r.out.links, r.x.rel(joined(r.dir(), linked)))
			return
		}
	}
	if !first[string(base)] && !assigns(word) && !bytes.HasSuffix(base, []byte("libtool")) && !bytes.HasSuffix(word, []byte(";")) &&
		!bytes.HasPrefix(base, []byte("ld.")) && !isCompiler(string(base)) {
		return
	}
	if len(r.out.commands) >= maxCommands {
		return
	}
	for _, c := range commandsIn(string(t), r.dir()) {
		if c.work == nothing || c.work == builds {
			continue
		}
		c.at = r.at
		c.args = nil
		r.x.place(&c)
		n := len(r.out.commands)
		if r.out.commands = append(r.out.commands, c); c.work != compiles {
			r.out.others = append(r.out.others, n)
			continue
		}
		for _, source := range c.of {
			r.out.compilers[source] = append(r.out.compilers[source], n)
		}
		r.out.compiled = true
	}
}

// before returns the last command before byte at of the output that looks at one of files, or nil.
func (p *printed) before(at int64, files ...string) *command {
	found := -1
	for _, f := range files {
		for _, n := range p.compilers[f] {
			if p.commands[n].at < at {
				found = max(found, n)
			}
		}
	}
	for _, n := range slices.Backward(p.others) {
		if n <= found {
			break
		}
		if c := &p.commands[n]; c.at < at && c.work == checks && slices.ContainsFunc(files, c.covers) {
			return c
		}
	}
	if found < 0 {
		return nil
	}
	return &p.commands[found]
}

// linkBefore returns the last linking command before byte at of the output, or nil.
func (p *printed) linkBefore(at int64) *command {
	for i := len(p.commands) - 1; i >= 0; i-- {
		if c := &p.commands[i]; c.at < at && c.links() {
			return c
		}
	}
	return nil
}

// outcome matches the lines in which test runners name a test, a file of tests or a package with its outcome.
var outcome = regexp.MustCompile(`^(?:ok |FAIL\t|--- (?:PASS|FAIL|SKIP)|not ok |(?:PASS|FAIL|SKIP|ERROR|XFAIL|XPASS)[: ]|test .* \.\.\. |[✓✔✗✘×❯√·↓] |\d+/\d+ Test |\d+ (?:passing|failing))` +
	`|(?: (?:PASSED|FAILED|ERROR|SKIPPED|XFAIL|XPASS|ok|FAIL|Passed|\*\*\*Failed)(?: |$|\s+\[))|^\S+\.py [.FEsxX]+|^\S+ (?:\.\.+ ?)?(?:ok|Failed)`)

// results are the lines in which test runners name tests, files of tests and packages with their outcome.
type results struct {
	lines    []string
	cutShort bool // the runner stopped at a failure
	lastFile int  // the index of the last line that begins with a file: the one in which it stopped
}

// dotted matches pytest's line of a file: "tests/test_a.py .F".
var dotted = regexp.MustCompile(`^\S+\.py [.FEsxX]`)

func (x *Reach) readResults() *results {
	r := &results{}
	x.eachLine(func(_ int64, t []byte) {
		if len(t) > 4096 || len(r.lines) >= maxResults {
			return
		}
		t = bytes.TrimSpace(plain(t))
		for _, words := range []string{"stopping after ", "Interrupted: ", "Bail out!", "bailing out"} {
			r.cutShort = r.cutShort || bytes.Contains(t, []byte(words))
		}
		if outcome.Match(t) && !bytes.HasSuffix(t, []byte("[build failed]")) && !bytes.HasSuffix(t, []byte("[setup failed]")) {
			if dotted.Match(t) {
				r.lastFile = len(r.lines)
			}
			r.lines = append(r.lines, string(t))
		}
	})
	return r
}

// leafOf returns the last part of a test's name.
func leafOf(test string) string {
	for _, between := range []string{" > ", " › ", "::"} {
		if i := strings.LastIndex(test, between); i >= 0 {
			test = test[i+len(between):]
		}
	}
	return test
}

// name reports whether a test is among the results; or, of a run of all tests that there are, its file or its package.
func (r *results) name(of *problem.Problem, leaf string, all bool) bool {
	files := []string{of.File}
	for _, rel := range of.Related {
		files = append(files, rel.File)
	}
	for i, line := range r.lines {
		if lex.HasWord(line, leaf) {
			return true
		}
		if !all || r.cutShort && (i >= r.lastFile || !dotted.MatchString(line)) {
			continue
		}
		if of.Family == "gotest" {
			name := ""
			if words := strings.Fields(line); len(words) > 1 && (words[0] == "ok" || words[0] == "FAIL") {
				name = words[1]
			}
			if dir := path.Dir(of.File); name != "" && of.File != "" && (dir == "." && !strings.Contains(name, "/") || strings.HasSuffix("/"+name, "/"+dir)) {
				return true
			}
			continue
		}
		if slices.ContainsFunc(files, func(f string) bool { return f != "" && lex.HasWord(line, path.Base(f)) }) {
			return true
		}
	}
	return false
}
