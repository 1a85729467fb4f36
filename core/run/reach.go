package run

import (
	"bufio"
	"bytes"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"tidytally/core/problem"
	"tidytally/core/sieve/lex"
)

// Reach is what a run looked at. A problem of the run before that was not reported
// again is gone only if this run said something of its file or its step: a build that
// compiles only what changed says nothing of the rest.
type Reach struct {
	root string
	// over: the run, or the pass of a watching tool, has come to its end; whole: it
	// succeeded, so that no step was left out.
	over, whole bool
	// spoke are the families that reported a problem or a count; files have problems.
	spoke map[string]bool
	files map[string]bool
	named func() *namedFiles // what the output names; read when it is asked for first
	since time.Time          // when the run before started
	until time.Time          // when this run started; zero for one that goes on for long
}

// incremental are the families whose tools are started only for what changed, and say
// nothing of the rest. All others look at everything each time, or repeat what they
// said.
var incremental = map[string]bool{"gnu": true, "fortran": true, "ghc": true, "ocaml": true, "nim": true, "beam": true}

// Reach returns what the run looked at. since is the time at which the run before
// started, whose problems are asked about; zero if that was a pass of the same run.
func (r *Run) Reach(since time.Time) *Reach {
	s := r.Snapshot()
	x := &Reach{root: r.super.Context().Root, spoke: map[string]bool{}, files: map[string]bool{}, since: since}
	for i := range s.Problems {
		x.spoke[s.Problems[i].Family] = true
		x.files[s.Problems[i].File] = true
	}
	for _, n := range s.Summaries {
		x.spoke[n.Family] = true
	}
	r.mu.Lock()
	settled, from := r.settled, r.passFrom
	if len(r.passes) > 0 {
		x.since = r.passBefore
	}
	r.mu.Unlock()
	switch {
	case s.State == Watching:
		x.over, x.whole, x.until = s.Signal == "", s.Code == 0, s.Started
	case s.Prepared.Task.LongRunning:
		x.over = settled && s.State != Waiting
		x.whole = s.Cycle > 0
	default:
		x.over = s.State == OK || s.State == Failed && s.Signal == "" && !s.Stopping
		x.whole = s.State == OK
		x.until = s.Started
	}
	x.named = sync.OnceValue(func() *namedFiles {
		n := &namedFiles{root: x.root}
		n.enter(s.Prepared.Dir)
		n.words([]byte(s.Prepared.Display))
		n.read(s.Spool, from)
		return n
	})
	return x
}

// Checked reports whether the run said something of the place of an earlier problem, so
// that its silence means that the problem is gone.
func (x *Reach) Checked(p *problem.Problem) bool {
	if !x.over {
		return false
	}
	if x.files[p.File] && p.File != "" {
		return true
	}
	info, err := os.Stat(x.absolute(p.File))
	if p.File != "" && err != nil {
		return true // the file is gone, and its problems with it
	}
	if !incremental[p.Family] || !compiled(p.File) {
		return x.whole || x.spoke[p.Family]
	}
	if x.whole && p.Severity == problem.Error {
		return true // what succeeds has no errors
	}
	if x.whole && !x.since.IsZero() && p.File != "" && info.ModTime().After(x.since) && (x.until.IsZero() || !info.ModTime().After(x.until)) {
		return true // it was edited between the runs, so it was built
	}
	if x.named().has(p.File) {
		return true
	}
	for _, r := range p.Related { // a header counts as checked if a file that includes it was compiled
		if r.Message == "included from here" && x.named().has(r.File) {
			return true
		}
	}
	return false
}

func (x *Reach) absolute(file string) string {
	if filepath.IsAbs(file) {
		return file
	}
	return filepath.Join(x.root, filepath.FromSlash(file))
}

// compiled reports whether a file is of a language whose files are compiled one by one.
func compiled(file string) bool {
	switch strings.ToLower(strings.TrimPrefix(path.Ext(file), ".")) {
	case "c", "h", "cc", "hh", "cpp", "hpp", "cxx", "hxx", "c++", "h++", "ii", "i", "ipp", "tcc", "inc", "m", "mm", "s", "f", "for", "f90", "f95", "f03", "f08", "cu",
		"hs", "ml", "mli", "nim", "erl", "ex", "d", "ada", "adb", "ads", "swift", "scala", "kt", "":
		return true
	}
	return false
}

// namedFiles are the source files and objects that an output names: in the commands
// that make echoes, in the lines of quiet builds.
type namedFiles struct {
	root  string
	dirs  []string // that make went to; absolute
	paths map[string]bool
	bases map[string]bool // of objects, which lie in other folders than their sources
	many  bool            // more than are remembered
}

const (
	// maxNamed is the number of names that are remembered of one output. If there are
	// more, all files count as named.
	maxNamed = 100_000
	// maxReach is the number of bytes of an output that are read for names. A build that
	// prints more says what it does in each part of it.
	maxReach = 256 << 20
)

func (n *namedFiles) enter(dir string) { n.dirs = append(n.dirs, dir) }

// read reads an output from a byte on.
func (n *namedFiles) read(file string, from int64) {
	if file == "" {
		return
	}
	f, err := os.Open(file)
	if err != nil {
		return // the run's output is being removed
	}
	defer f.Close()
	if _, err := f.Seek(from, io.SeekStart); err != nil {
		return
	}
	in := bufio.NewReaderSize(io.LimitReader(f, maxReach), 64<<10)
	for !n.many {
		line, err := in.ReadSlice('\n')
		n.line(line)
		if err == io.EOF {
			return
		}
	}
}

func (n *namedFiles) line(t []byte) {
	if bytes.IndexByte(t, 0x1b) >= 0 {
		t = []byte(lex.Plain(t))
	}
	if i := bytes.Index(t, []byte("ing directory ")); i > 0 && bytes.IndexByte(t, ':') > 0 {
		dir := strings.Trim(string(bytes.TrimSpace(t[i+len("ing directory "):])), "'`\"‘’")
		switch {
		case bytes.Contains(t[:i], []byte("Enter")):
			n.enter(dir)
		case len(n.dirs) > 1:
			n.dirs = n.dirs[:len(n.dirs)-1]
		}
		return
	}
	n.words(t)
}

// between are the signs between the words of a line.
const between = " \t'\"();"

// words takes the file names among the words of a line.
func (n *namedFiles) words(t []byte) {
	for {
		dot := bytes.IndexByte(t, '.') // a word without one is no file
		if dot < 0 {
			return
		}
		from, to := bytes.LastIndexAny(t[:dot], between)+1, len(t)
		if end := bytes.IndexAny(t[dot:], between); end >= 0 {
			to = dot + end
		}
		word := t[from:to]
		t = t[to:]
		i := bytes.LastIndexByte(word, '.')
		if i < 1 || word[0] == '-' || len(word) > 1024 {
			continue
		}
		ending := strings.TrimRight(strings.ToLower(string(word[i+1:])), "\r\n,:")
		object := objectEndings[ending]
		if !object && !compiled("x."+ending) || ending == "" {
			continue
		}
		if len(n.paths) >= maxNamed {
			n.many = true
			return
		}
		if n.paths == nil {
			n.paths, n.bases = map[string]bool{}, map[string]bool{}
		}
		stem := string(word[:i])
		if object { // CMake's are called coil.c.o
			if source := path.Ext(stem); source != "" && compiled("x"+source) {
				stem = strings.TrimSuffix(stem, source)
			}
			n.bases[path.Base(stem)] = true
		}
		if !path.IsAbs(stem) {
			stem = path.Join(n.dirs[len(n.dirs)-1], stem)
		}
		stem = path.Clean(stem)
		n.paths[strings.TrimPrefix(stem, n.root+"/")] = true
	}
}

// objectEndings are those of what compilers make of one source file.
var objectEndings = map[string]bool{"o": true, "obj": true, "lo": true, "os": true, "hi": true, "cmo": true, "cmx": true, "cmi": true, "beam": true, "mod": true}

// has reports whether a file was named, as itself or by its object.
func (n *namedFiles) has(file string) bool {
	if n.many {
		return true
	}
	stem := strings.TrimSuffix(file, path.Ext(file))
	return n.paths[stem] || n.bases[path.Base(stem)]
}
