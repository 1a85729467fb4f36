package sieve

import (
	"bytes"
	"iter"
	"net/url"
	"path"
	"strings"

	"tidytally/core/sieve/lex"
)

// folders tracks the folder in which a tool prints relative paths: where the task
// runs, and where make says that it went (GNU make manual, section "The
// --print-directory Option").
type folders struct {
	// start is the folder of the package whose task prints, if that is known.
	start   string
	entered []enteredFolder
	// known caches resolved paths until a folder is entered or left, so many of them.
	known map[string]string
	keeps int
	// byTail holds the files that were found by the end of their path alone, with the paths that were printed.
	byTail map[string]string
	// several holds the candidates for a path that does not exist.
	several map[string][]string
	// last is the path printed last; doubt is the same if it exists in more than one of
	// the folders that are entered side by side.
	last, doubt string
	// moved: start is where an echoed command went ("cd core && gcc -c a.c").
	moved bool
	gone  string // the last folder that a command went to and that is not there
}

// maxSeveral is the number of candidates offered for a path: a person can choose
// among so many.
const maxSeveral = 8

type enteredFolder struct {
	dir   string
	level int // of the make that said so
	times int // entered and not left
	// missing: the folder is not there, and none of its files.
	missing bool
	// files are the relative names that were bound to this folder.
	files map[string]bool
}

func (d *folders) enter(dir string, level int, o *Options) {
	clear(d.known)
	beside := 0
	for i := len(d.entered) - 1; i >= 0; i-- {
		f := d.entered[i]
		if f.level != level {
			continue
		}
		if f.dir == dir { // goes to the end, as the newest
			f.times++
			d.entered = append(append(d.entered[:i], d.entered[i+1:]...), f)
			return
		}
		if beside++; beside >= maxBeside { // the oldest was left in a line that is missing
			d.entered = append(d.entered[:i], d.entered[i+1:]...)
			break
		}
	}
	if len(d.entered) < 1024 {
		d.entered = append(d.entered, enteredFolder{dir: dir, level: level, times: 1, missing: o.Exists != nil && dir != "" && !o.Exists(dir)})
	}
}

// maxBeside is the number of folders of one level that a build works in at once; a
// path is looked for in each of them.
const maxBeside = 64

// follow reads an echoed command: one that goes to a folder is followed there, and the
// next one starts where the task does.
func (d *folders) follow(t []byte, o *Options) {
	if dir, ok := goesTo(t); ok {
		if dir = path.Join(o.Dir, dir); dir == d.gone || d.moved && dir == d.start {
			return
		}
		if o.Exists == nil || !o.Exists(dir) {
			d.gone = dir
			return
		}
		d.startIn(dir)
		d.moved = true
		return
	}
	word, _, _ := bytes.Cut(bytes.TrimPrefix(t, []byte("+ ")), []byte(" "))
	if d.moved && commandNames[string(word[bytes.LastIndexByte(word, '/')+1:])] {
		d.moved = false
		d.startIn("")
	}
}

// commandNames are the programs whose calls build files echo most.
var commandNames = map[string]bool{
	"cc": true, "gcc": true, "c++": true, "g++": true, "clang": true, "clang++": true, "gfortran": true, "ld": true, "ar": true, "ranlib": true, "as": true,
	"go": true, "rustc": true, "cargo": true, "javac": true, "tsc": true, "node": true, "npm": true, "python": true, "python3": true, "sh": true, "bash": true,
	"make": true, "cmake": true, "ninja": true, "echo": true, "mkdir": true, "rm": true, "cp": true, "mv": true, "ln": true, "install": true, "for": true, "cd": true,
}

// goesTo reads "cd core && …", "(cd core; …" and, as a shell with -x prints it, "+ cd
// core".
func goesTo(t []byte) (dir string, ok bool) {
	t = bytes.TrimPrefix(bytes.TrimPrefix(t, []byte("+ ")), []byte("("))
	rest, ok := bytes.CutPrefix(t, []byte("cd "))
	if !ok {
		return "", false
	}
	end := bytes.IndexAny(rest, ";&|)")
	if end < 0 {
		end = len(rest)
	}
	dir = strings.Trim(strings.TrimSpace(string(rest[:end])), `"'`)
	return dir, dir != "" && !absolute(dir) && !strings.ContainsAny(dir, " $`*")
}

// startIn says which package's task prints from now on.
func (d *folders) startIn(dir string) {
	if d.start != dir {
		clear(d.known)
		d.start = dir
	}
}

func (d *folders) leave(dir string) {
	clear(d.known)
	for i := len(d.entered) - 1; i >= 0; i-- {
		if d.entered[i].dir == dir {
			if d.entered[i].times--; d.entered[i].times > 0 {
				return
			}
			d.entered = append(d.entered[:i], d.entered[i+1:]...)
			return
		}
	}
}

// interleaved reports whether several folders are entered side by side, so that
// their outputs mix.
func (d *folders) interleaved() bool {
	n := len(d.entered)
	return n > 1 && d.entered[n-1].level == d.entered[n-2].level
}

// beside yields the folders that are entered side by side, the newest first.
func (d *folders) beside(yield func(int) bool) {
	n := len(d.entered)
	for i := n - 1; i >= 0 && d.entered[i].level == d.entered[n-1].level; i-- {
		if !yield(i) {
			return
		}
	}
}

// correct returns the file that the path printed last means. The tool printed text as
// that line: if the line differs in the file taken so far, and is the same in exactly
// one other file that the path may mean, that one is returned.
func (d *folders) correct(taken string, line int, text []byte, o *Options) string {
	printed, doubt := d.last, d.doubt
	d.last, d.doubt = "", ""
	if printed == "" || o.Line == nil || absolute(printed) {
		return taken
	}
	var others []string
	switch {
	case doubt != "":
		for i := range d.beside {
			others = append(others, belowRoot(path.Join(d.entered[i].dir, printed), o))
		}
	case o.Search != nil && o.Exists != nil:
		if others = o.Search(path.Clean(printed)); len(others) < 2 {
			return taken
		}
	}
	want := oneSpaced(text)
	is := func(file string) bool { return oneSpaced([]byte(o.Line(file, line))) == want }
	if len(others) == 0 || want == "" || is(taken) {
		return taken
	}
	found := ""
	for _, file := range others {
		if file == taken || file == found || !is(file) {
			continue
		}
		if found != "" {
			return taken
		}
		found = file
	}
	if found == "" {
		return taken
	}
	if doubt == "" {
		d.byName(found, printed)
		return found
	}
	for i := range d.beside {
		if belowRoot(path.Join(d.entered[i].dir, printed), o) == found {
			d.bind(i, printed)
		} else {
			delete(d.entered[i].files, printed)
		}
	}
	return found
}

// byName notes that a file was found by its name. p is the path as it would be without that.
func (d *folders) byName(file, p string) {
	if d.byTail == nil {
		d.byTail = map[string]string{}
	}
	d.byTail[file] = p
}

// twins yields the files of the same name in the other folders that are entered side
// by side.
func (d *folders) twins(file string, o *Options) iter.Seq[string] {
	return func(yield func(string) bool) {
		for i := range d.beside {
			printed, ok := strings.CutPrefix(file, belowRoot(d.entered[i].dir, o)+"/")
			if !ok {
				continue
			}
			for k := range d.beside {
				if k == i || o.Exists == nil || !o.Exists(path.Join(d.entered[k].dir, printed)) {
					continue
				}
				if !yield(belowRoot(path.Join(d.entered[k].dir, printed), o)) {
					return
				}
			}
			return
		}
	}
}

// oneSpaced returns a text with one space for each run of white space: compilers
// print tabs as blanks.
func oneSpaced(text []byte) string { return string(bytes.Join(bytes.Fields(text), []byte(" "))) }

// command binds the source files of an echoed compiler call to the folder that
// was entered last: make prints both together.
func (d *folders) command(t []byte) {
	if !bytes.Contains(t, []byte(" -c ")) {
		return
	}
	for _, word := range bytes.Fields(t) {
		if i := bytes.LastIndexByte(word, '.'); i > 0 && word[0] != '-' && lex.IsSourceEnding(string(word[i+1:])) {
			d.bind(len(d.entered)-1, string(word))
		}
	}
}

func (d *folders) bind(i int, file string) {
	f := &d.entered[i]
	if f.files == nil {
		f.files = map[string]bool{}
	}
	if len(f.files) < 1<<12 {
		f.files[file] = true
	}
}

// at returns the folder of a relative path that was printed.
func (d *folders) at(file string, o *Options) string {
	n := len(d.entered)
	if n == 0 {
		if d.start != "" && (o.Exists == nil || o.Exists(path.Join(d.start, file)) || !o.Exists(path.Join(o.Dir, file))) {
			return d.start
		}
		return o.Dir
	}
	if !d.interleaved() {
		return d.entered[n-1].dir
	}
	there, first := 0, -1 // the folders that have the file, and the newest of them
	if o.Exists != nil {
		for i := range d.beside {
			if d.entered[i].missing || !o.Exists(path.Join(d.entered[i].dir, file)) {
				continue
			}
			if there++; first < 0 {
				first = i
			}
		}
		if there > 1 {
			d.doubt = file
		}
	}
	for i := n - 1; i >= 0; i-- {
		if d.entered[i].files[file] {
			return d.entered[i].dir
		}
	}
	// Jobs run side by side, and no command was echoed. A compiler finishes a file
	// before it starts the next. So a new name goes to the newest folder that has no
	// file yet, unless the file exists only in another one.
	pick := -1
	for i := range d.beside {
		if i == first {
			pick = i
			break
		}
		if pick < 0 && len(d.entered[i].files) == 0 {
			pick = i
		}
	}
	if pick < 0 {
		pick = n - 1
	}
	d.bind(pick, file)
	return d.entered[pick].dir
}

// resolve returns a printed path as problems hold it: relative to Options.Root if it
// lies below, with slashes, without dots.
func (d *folders) resolve(printed string, o *Options) string {
	d.last, d.doubt = printed, ""
	if o.Dir == "" && d.start == "" && len(d.entered) == 0 && o.Search == nil && plainPath(printed) {
		return printed
	}
	if p, ok := d.known[printed]; ok {
		return p
	}
	p := refused
	if file, ok := d.leadOf(printed, o); ok {
		p = d.look(file, o)
	}
	if d.known == nil {
		d.known = map[string]string{}
	}
	if len(d.known) < d.keeps && !d.interleaved() {
		d.known[printed] = p
	}
	return p
}

func (d *folders) look(printed string, o *Options) string {
	if printed == "" || printed[0] == '<' {
		return printed
	}
	if rest, ok := strings.CutPrefix(printed, "file://"); ok {
		if i := strings.IndexByte(rest, '/'); i >= 0 {
			rest = rest[i:]
		}
		if p, err := url.PathUnescape(rest); err == nil {
			printed = p
		}
	}
	p := printed
	if !absolute(p) {
		if dir := d.at(p, o); dir != "" || !plainPath(p) {
			p = path.Join(dir, p)
		}
		p = d.search(p, printed, o)
	} else if p[0] == '/' {
		p = path.Clean(p)
		for _, m := range o.Map {
			if rest, ok := strings.CutPrefix(p, strings.TrimSuffix(m.From, "/")); ok && (rest == "" || rest[0] == '/') {
				p = path.Clean(m.To + rest)
				break
			}
		}
		// The path may be that of a container: the longest end of it that is in
		// the workspace counts, but not a name alone.
		if o.Exists != nil && o.Search != nil && !o.Exists(p) {
			for tail := p[1:]; strings.Contains(tail, "/"); _, tail, _ = strings.Cut(tail, "/") {
				if found := d.search(p, tail, o); found != p || d.several[p] != nil {
					p = found
					break
				}
			}
		}
	}
	return belowRoot(p, o)
}

// belowRoot cuts the workspace's folder from the front of a path.
func belowRoot(p string, o *Options) string {
	if o.Root != "" && o.Root != "/" {
		if rest, ok := strings.CutPrefix(p, strings.TrimSuffix(o.Root, "/")+"/"); ok {
			return rest
		}
	}
	return p
}

// search looks for a path that is not there by the end that was printed: one
// file is taken and marked, several are offered.
func (d *folders) search(p, tail string, o *Options) string {
	if o.Search == nil || o.Exists == nil || o.Exists(p) {
		return p
	}
	found := o.Search(tail)
	switch {
	case len(found) == 1:
		d.byName(found[0], belowRoot(p, o))
		return found[0]
	case len(found) > 1:
		if d.several == nil {
			d.several = map[string][]string{}
		}
		d.several[p] = found[:min(len(found), maxSeveral)]
	}
	return p
}

// plainPath reports whether a path is relative and needs no cleaning: names,
// separated by single slashes.
func plainPath(p string) bool {
	if p == "" || p[0] == '.' || p[0] == '<' || absolute(p) || strings.IndexByte(p, ' ') >= 0 {
		return false
	}
	for i := strings.IndexByte(p, '/'); i >= 0; {
		if i+1 == len(p) || p[i+1] == '/' || p[i+1] == '.' {
			return false
		}
		n := strings.IndexByte(p[i+1:], '/')
		if n < 0 {
			break
		}
		i += n + 1
	}
	return strings.IndexByte(p, ':') < 0
}

func absolute(p string) bool {
	return p[0] == '/' || len(p) > 2 && p[1] == ':' && lex.IsLetter(p[0]) && (p[2] == '\\' || p[2] == '/')
}
