// Package reach says what a run looked at. A problem of an earlier run that a later one does not report is gone only if
// the later one compiled or checked its place again; otherwise its state is unknown. What a run did is read from the commands and
// the steps that it printed, and from what it made; what is not known to have been checked was not.
package reach

import (
	"errors"
	"io"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tidytally/core/files"
	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

// Run is what is known of a run.
type Run struct {
	Root string          // the workspace, absolute
	Dir  string          // where its command runs, absolute
	Map  []sieve.Mapping // folders of a container or of another host
	// Line is the command as it is typed into a shell, and Script what that runs by way of a package manager. What is
	// secret in them is masked by Mask, which the printed commands go through too.
	Line, Script string
	Mask         func(text string) string
	Over         bool      // it has come to its end, or a pass of it has
	Whole        bool      // and succeeded, so that no step was left out
	Started      time.Time // zero for one that goes on for long
	Since        time.Time // when the run before started; zero if nothing is known of it
	Problems     []problem.Problem
	Families     []string // of the tools that counted their problems
	// Output opens what it printed, from byte From on.
	Output func() (io.ReadCloser, error)
	From   int64
	Search func(tail string) []string // the files of the workspace whose path ends in tail; may be nil
}

// Report is how a problem came to be reported: what a later run must do again before its silence means that the problem
// is gone.
type Report struct {
	Line   string   `json:"line,omitempty"`   // the command of the run
	Failed bool     `json:"failed,omitempty"` // the run did not succeed
	Units  []string `json:"units,omitempty"`  // of a header: the sources through which it was reported
	Asks   string   `json:"asks,omitempty"`   // of a compiler or a linter: what it was asked for
	Into   string   `json:"into,omitempty"`   // of a linker: what it made
}

// Reach is what a run looked at.
type Reach struct {
	run     Run
	spoke   map[string]bool    // families that reported a problem or a count
	files   map[[2]string]bool // that have problems: the family and the file
	own     []command          // the commands of the run's own line
	skips   bool               // it is a build system, or may call one: what has not changed is left out
	alone   bool               // its own line is one command of a tool that always looks at everything
	printed func() *printed
	results func() *results
	objects func() []object
	masked  map[string]string // macros with what is secret in them hidden
	checked map[unit]bool
	mu      sync.Mutex // guards checked
}

// unit is a source with what a compiler, one of a family, was asked for, and what else decides whether it was compiled.
type unit struct {
	family, source, asks string
	same, edited         bool
}

// Of returns what a run looked at. Nothing is read before it is asked for.
func Of(r Run) *Reach {
	x := &Reach{run: r, spoke: map[string]bool{}, files: map[[2]string]bool{}, masked: map[string]string{}, checked: map[unit]bool{}}
	if r.Mask == nil {
		x.run.Mask = func(text string) string { return text }
	}
	for i := range r.Problems {
		p := &r.Problems[i]
		x.spoke[p.Family] = true
		if p.Test == "" && p.Family != linker {
			x.files[[2]string{p.Family, p.File}] = true
		}
	}
	for _, name := range r.Families {
		x.spoke[name] = true
	}
	line := r.Line
	if r.Script != "" {
		line = r.Script
	}
	x.own = commandsIn(line, r.Dir)
	for i := range x.own {
		x.own[i].at = -1
		x.place(&x.own[i])
	}
	x.run.Over = r.Over && !slices.ContainsFunc(x.own, command.onlyShows)
	x.skips = !x.alwaysAll()
	x.alone = len(x.own) == 1 && x.own[0].work != nothing && !x.skips
	x.printed = sync.OnceValue(x.read)
	x.results = sync.OnceValue(x.readResults)
	x.objects = sync.OnceValue(func() []object { return objectsUnder(r.Root, r.Started) })
	return x
}

// maxScript is the number of bytes of a script that are looked at.
const maxScript = 64 << 10

// alwaysAll reports whether all commands of the run do all that they do each time.
func (x *Reach) alwaysAll() bool {
	for i := range x.own {
		c := &x.own[i]
		switch {
		case c.work == builds:
			return false
		case c.work != nothing, simple[c.tool]:
		case !x.scriptOf(c):
			return false
		}
	}
	return true
}

// scriptOf reports whether a command is a script that names no build system.
func (x *Reach) scriptOf(c *command) bool {
	for _, name := range append([]string{c.tool}, c.args...) {
		if strings.HasPrefix(name, "-") {
			continue
		}
		if !filepath.IsAbs(name) {
			name = filepath.Join(c.dir, name)
		}
		text, err := files.Read(name, maxScript)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return false
		}
		for _, w := range strings.FieldsFunc(string(text), func(r rune) bool { return strings.ContainsRune(" \t\n;&|()'\"`$,[]", r) }) {
			if builders[w] || builders[filepath.Base(w)] {
				return false
			}
		}
		return true
	}
	return false
}

// rel returns a path as problems have it: below the workspace if it lies there.
func (x *Reach) rel(name string) string {
	for _, m := range x.run.Map {
		if rest, ok := strings.CutPrefix(name, m.From); ok && (rest == "" || rest[0] == '/') {
			name = m.To + rest
			break
		}
	}
	if rest, ok := strings.CutPrefix(name, x.run.Root+"/"); ok {
		return rest
	}
	return name
}

// place gives the files of a command the form that problems have, and hides what is secret in its macros.
func (x *Reach) place(c *command) {
	for i, w := range c.asks.same {
		if strings.Contains(w, "=") && strings.HasPrefix(w, "-D") {
			masked, ok := x.masked[w]
			if !ok {
				masked = x.run.Mask(w)
				x.masked[w] = masked
			}
			c.asks.same[i] = masked
		}
	}
	for i := range c.of {
		c.of[i] = x.rel(c.of[i])
	}
	if c.into != "" {
		c.into = x.rel(c.into)
	}
}

func (x *Reach) absolute(file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(x.run.Root, filepath.FromSlash(file))
}

// Exists reports whether a file, as problems name it, is there.
func (x *Reach) Exists(file string) bool {
	_, err := os.Stat(x.absolute(file))
	return err == nil
}

// edited reports whether a file was changed after the run before had started, and before this one did.
func (x *Reach) edited(file string) bool {
	if x.run.Since.IsZero() || file == "" {
		return false
	}
	info, err := os.Stat(x.absolute(file))
	return err == nil && info.ModTime().After(x.run.Since) && (x.run.Started.IsZero() || !info.ModTime().After(x.run.Started))
}

// linker is the family of the linkers.
const linker = "ld"

// incremental are the families whose tools are started for each file that changed, and say nothing of the rest.
var incremental = map[string]bool{"gnu": true, "fortran": true, "ghc": true, "ocaml": true, "nim": true, "beam": true}

// byUnit reports whether a problem comes from a compiler that is called for each source.
func (x *Reach) byUnit(p *problem.Problem) bool {
	if p.File == "" || !isSource(p.File) && !isHeader(p.File) {
		return false
	}
	return incremental[p.Family] || x.skips && p.Family == "java"
}

// Report says how a problem that the run found came to be reported.
func (x *Reach) Report(p *problem.Problem) Report {
	r := Report{Line: x.run.Line, Failed: !x.run.Whole}
	if p.Test != "" || !x.run.Over {
		return r
	}
	out := x.printed()
	if p.Family == linker {
		if c := out.linkBefore(p.Output.StartByte); c != nil {
			r.Into = c.into
		}
		return r
	}
	units := out.units[chain{p.File, p.Line}]
	if len(units) > 0 && !slices.Contains(units, p.File) {
		r.Units = units
	}
	named := append([]string{p.File}, units...)
	if c := out.before(p.Output.StartByte, named...); c != nil {
		r.Asks = c.asked()
	} else if i := slices.IndexFunc(x.own, func(c command) bool { return slices.ContainsFunc(named, c.looksAt) }); i >= 0 {
		r.Asks = x.own[i].asked()
	}
	return r
}

// asked returns what a command was asked for, to be compared with a later one.
func (c *command) asked() string {
	if c.work == compiles {
		return c.asks.String()
	}
	return c.tool
}

// links reports whether a command puts together a program or a library.
func (c *command) links() bool {
	return c.work == links || c.work == compiles && c.into != "" && !isObject(c.into)
}

// looksAt reports whether a command compiles or checks a file.
func (c *command) looksAt(file string) bool {
	switch c.work {
	case compiles:
		return slices.Contains(c.of, file)
	case checks:
		return file != "" && c.covers(file)
	}
	return false
}

// covers reports whether a linter looks at a file: because it is given it or a folder above it, or nothing.
func (c *command) covers(file string) bool {
	given := false
	for _, of := range c.of {
		pattern := strings.TrimSuffix(strings.TrimSuffix(of, "/..."), "/")
		deep := pattern != of || c.tool != "go"
		if pattern == file || deep && (pattern == "." || strings.HasPrefix(file, pattern+"/")) || !deep && filepath.Dir(file) == pattern {
			return true
		}
		if strings.ContainsAny(of, "*?[{") {
			head, _, _ := strings.Cut(of, "*")
			if strings.HasPrefix(file, head) {
				return true
			}
		}
		given = true
	}
	return !given
}

// Checked reports whether the run looked at the place of an earlier problem, which was reported as by says, so that its
// silence means that the problem is gone. text is the line of the source at that time.
func (x *Reach) Checked(p *problem.Problem, text string, by *Report) bool {
	if !x.run.Over {
		return false
	}
	if p.File != "" && text != "" && !x.Exists(p.File) {
		return true // the file is gone, and its problems with it
	}
	same := by.Line == "" || by.Line == x.run.Line
	if x.run.Whole && same && by.Failed && p.Severity == problem.Error {
		return true // what failed for it succeeds
	}
	switch {
	case p.Family == "make" && p.Test == "":
		return true // it says how a run has ended
	case p.Test != "":
		return x.ranTest(p, same)
	case p.Family == linker:
		return x.linked(by, same)
	case p.Family == "cmake":
		return x.configured(same)
	case x.byUnit(p):
		return x.compiledAll(p, by, same)
	}
	return x.linted(p, by, same)
}

// LooksAtAnything reports whether the run is known to have compiled, linked or checked anything: else it settles nothing.
func (x *Reach) LooksAtAnything() bool {
	works := func(c command) bool { return c.work != nothing && c.work != builds }
	if !x.run.Over {
		return false
	}
	out := x.printed()
	return len(x.run.Problems) > 0 || slices.ContainsFunc(x.own, works) || len(out.commands)+len(out.steps)+len(out.links) > 0
}

// Settles reports whether the run looked at the place of a problem that a run of another task has reported, as by says.
// That this one succeeds says nothing then: it may do something else.
func (x *Reach) Settles(p *problem.Problem, text string, by *Report) bool {
	if p.Family == "make" || p.Family == "cmake" || !x.run.Over {
		return false
	}
	another := *by
	another.Line = "\x00"
	return x.Checked(p, text, &another)
}

// compiledAll reports whether a source was compiled, or, of a header, all sources through which a problem in it was
// reported.
func (x *Reach) compiledAll(p *problem.Problem, by *Report, same bool) bool {
	units := by.Units
	if len(units) == 0 {
		for _, r := range p.Related {
			if r.Message == "included from here" && isSource(r.File) {
				units = []string{r.File}
				break
			}
		}
	}
	if len(units) == 0 {
		return x.compiled(p.Family, p.File, by.Asks, same, x.edited(p.File))
	}
	edited := x.edited(p.File)
	return !slices.ContainsFunc(units, func(u string) bool {
		return x.Exists(u) && !x.compiled(p.Family, u, by.Asks, same, edited || x.edited(u))
	})
}

// compiled reports whether a source was compiled, with no less asked for than then. edited says that it, or a header
// that it includes, was changed between the runs.
func (x *Reach) compiled(family, source, then string, same, edited bool) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	key := unit{family, source, then, same, edited}
	if known, ok := x.checked[key]; ok {
		return known
	}
	known := x.compiles(family, source, readAsks(then), same, edited)
	x.checked[key] = known
	return known
}

// looking yields the commands that compile or check a file. Of the run's own ones it is not known how far it came with them,
// unless it succeeded or there is one.
func (x *Reach) looking(file string) iter.Seq[*command] {
	return func(yield func(*command) bool) {
		for i := range x.own {
			if c := &x.own[i]; (x.run.Whole || len(x.own) == 1) && c.looksAt(file) && !yield(c) {
				return
			}
		}
		out := x.printed()
		for _, numbers := range [][]int{out.compilers[file], out.others} {
			for _, n := range numbers {
				if c := &out.commands[n]; c.looksAt(file) && !yield(c) {
					return
				}
			}
		}
	}
}

func (x *Reach) compiles(family, source string, then asks, same, edited bool) bool {
	out := x.printed()
	asked := false // for less, or for something else
	for c := range x.looking(source) {
		if c.work != compiles && c.tool != then.tool {
			continue
		}
		if then.tool == "" || c.work == checks || c.asks.covers(then) {
			return true
		}
		asked = true
	}
	if asked {
		return false
	}
	if linters[then.tool] && !isCompiler(then.tool) {
		return x.run.Whole && same && !x.skips
	}
	alone := func(base string) bool { return x.run.Search == nil || len(x.run.Search(base)) < 2 }
	if slices.ContainsFunc(out.steps, func(name string) bool { return isObjectOf(name, source, alone) }) {
		return true
	}
	if !x.skips {
		return x.run.Whole && same || x.files[[2]string{family, source}]
	}
	if len(out.steps) == 0 && !out.compiled && x.files[[2]string{family, source}] {
		return true // nothing is printed of what is done, but what is found
	}
	known := false
	for _, o := range x.objects() {
		if isObjectOf(o.path, source, alone) {
			if o.made {
				return true
			}
			known = true
		}
	}
	return !known && !out.nothing && len(out.steps) == 0 && !out.compiled && x.run.Whole && same && edited
}

// linked reports whether what a linker spoke of was linked again.
func (x *Reach) linked(by *Report, same bool) bool {
	out := x.printed()
	is := func(c command) bool { return c.links() && (by.Into == "" || c.into == by.Into) }
	if slices.ContainsFunc(x.own, is) || slices.ContainsFunc(out.commands, is) {
		return true
	}
	if slices.ContainsFunc(out.links, func(name string) bool { return by.Into == "" || filepath.Base(name) == filepath.Base(by.Into) }) {
		return true
	}
	return !x.skips && x.run.Whole && same
}

// configured reports whether CMake read its files again.
func (x *Reach) configured(same bool) bool {
	return x.printed().configured || !x.skips && x.run.Whole && same
}

// linted reports whether a tool that looks at files or folders looked at the place of a problem.
func (x *Reach) linted(p *problem.Problem, by *Report, same bool) bool {
	out := x.printed()
	for c := range x.looking(p.File) {
		// A tool that failed for what it found has looked at all that it was given.
		if c.work == checks && c.tool == by.Asks && (same || c.at >= 0) && (x.run.Whole || x.spoke[p.Family]) {
			return true
		}
	}
	switch {
	case x.run.Whole && same && !x.skips:
		return true
	case x.alone && same && x.spoke[p.Family]:
		return true
	case x.files[[2]string{p.Family, p.File}] && p.File != "":
		return true // each of these tools looks at a file once, and whole
	}
	// A build system may have called the tool, or not, and says nothing of it.
	return (x.run.Whole || x.spoke[p.Family]) && same && !out.nothing && x.edited(p.File)
}

// ranTest reports whether a test was run again.
func (x *Reach) ranTest(p *problem.Problem, same bool) bool {
	if x.run.Whole && same && !x.printed().nothing {
		return true
	}
	leaf := leafOf(p.Test)
	// Tests of different packages may have one name.
	if !same {
		looked := false
		for range x.looking(p.File) {
			looked = true
			break
		}
		if !looked {
			return false
		}
	}
	if x.run.Whole && lex.HasWord(x.run.Line, leaf) {
		return true // it is the one that was asked for
	}
	broken := slices.ContainsFunc(x.run.Problems, func(q problem.Problem) bool { return q.Test == "" && q.File == p.File }) // it may not have been loaded
	if p.Family == "pytest" && same && x.alone && x.spoke[p.Family] && !broken && !x.results().cutShort {
		return true // it runs all that it finds, and need not name any
	}
	return x.results().name(p, leaf, same && !broken)
}
