// Package trace reads what strace(1) wrote about a run: which files it read, looked for, listed, wrote
// and removed, which programs it executed, and whether it used the network.
package trace

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"tidytally/internal/lazyregexp"
)

// Calls are the system calls that are traced, for strace's option -e. Each costs time, and is there for
// what it says of the file system or the network. What readlink says is left out: compilers ask for
// each part of each path, and whoever follows a link opens what it leads to. Some are not there on each architecture, which
// the question mark allows.
const Calls = "?open,openat,openat2,?creat,?stat,?lstat,?newfstatat,statx,?access,faccessat,?faccessat2," +
	"?rename,?renameat,renameat2,?unlink,unlinkat,?rmdir,?mkdir,mkdirat,?link,linkat,?symlink,symlinkat,truncate," +
	"execve,execveat,chdir,fchdir,connect,sendto,?sendmsg,?fork,?vfork,clone,?clone3"

// Argv returns the arguments that run a command with its trace in a file. The command is the direct child
// of whoever starts it (-D), so that its exit code, its signals and its end are its own.
func Argv(strace, file string, command []string) []string {
	argv := []string{strace, "-D", "-f", "--seccomp-bpf", "-qq", "-y", "-s", strconv.Itoa(maxString), "-o", file, "-e", "trace=" + Calls, "-e", "signal=none", "--"}
	return append(argv, command...)
}

const (
	// maxString is the number of bytes of a path that are printed: PATH_MAX.
	maxString = 4096
	// maxPaths bounds the paths of a trace.
	maxPaths = 50_000
	// maxLine bounds a line of a trace: two paths with every byte escaped, and what stands around.
	maxLine = 64 << 10
)

// Trace is what a run did. All paths are absolute.
type Trace struct {
	// Read were opened for reading, or looked at. Where Times is set, by a program that compares
	// times: make and its like; where Steers is set, opened by another one than a compiler.
	Read map[string]Use
	// Missing were looked for and not there, and were not made by the run.
	Missing map[string]bool
	Listed  map[string]bool // folders whose entries were read
	Wrote   map[string]bool // made, written or replaced, and there at the end
	Removed map[string]bool // were there before, and not at the end
	// Executed are the programs.
	Executed map[string]bool
	RunsMade bool // it executed a program that it had made itself
	Network  bool // an internet address was connected to, or written to
	Clock    bool // a clock device was opened
	// Service is the socket of another program of this machine that was connected to; "" for none.
	Service string
	// Cut says that the trace does not have all: it was cut, or there was more than is kept.
	Cut string
}

// Use says how a file was read.
type Use uint8

// The uses. They combine with |.
const (
	Content Use = 1 << iota
	Times
	Opened
	Steers // a program opened it that is no compiler: anything in it may decide what else is read
)

// compilers are programs to which a source file tells what else they read by its includes and imports alone.
var compilers = map[string]bool{
	"cc1": true, "cc1plus": true, "cc1obj": true, "gcc": true, "g++": true, "cc": true, "c++": true, "cpp": true, "clang": true, "clang++": true, "ccache": true, "as": true, "ld": true, "collect2": true,
	"go": true, "compile": true, "asm": true, "link": true, "cgo": true, "vet": true, "rustc": true,
}

// compiler takes the version and the target off: x86_64-linux-gnu-gcc-13.
var compiler = lazyregexp.New(`^(?:.*-)?([a-z+0-9]+?)(?:-[0-9.]+)?$`)

func isCompiler(program string) bool {
	if compilers[program] {
		return true
	}
	m := compiler().FindStringSubmatch(program)
	return m != nil && compilers[m[1]]
}

// comparesTimes are programs for which a file with a newer time is another one.
var comparesTimes = map[string]bool{
	"make": true, "gmake": true, "ninja": true, "samu": true, "ant": true, "rake": true, "cargo": true, "rsync": true, "cmake": true, "meson": true, "mvn": true, "gradle": true, "java": true, "latexmk": true, "test": true, "[": true, "sh": true, "bash": true, "dash": true, "find": true,
}

// process is what is known of a process while its calls are read.
type process struct {
	dir     string // its current folder; "" if that is not known
	program string
	pending string // the beginning of a call whose end stands further on
}

type reader struct {
	t         Trace
	processes map[string]*process
	parents   map[string]string // of processes and threads, by their numbers
	made      map[string]bool   // by the run
	paths     int
}

// Read reads a trace. dir is the folder in which the command was started, absolute.
func Read(f io.ReadSeeker, dir string) (*Trace, error) {
	r := &reader{
		t:         Trace{Read: map[string]Use{}, Missing: map[string]bool{}, Listed: map[string]bool{}, Wrote: map[string]bool{}, Removed: map[string]bool{}, Executed: map[string]bool{}},
		processes: map[string]*process{}, made: map[string]bool{},
	}
	var err error
	if r.parents, err = parentsIn(f); err == nil {
		_, err = f.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, fmt.Errorf("the trace: %w", err)
	}
	first := true
	if err := r.each(f, func(pid, call string) {
		p := r.process(pid)
		if first {
			p.dir, first = dir, false
		}
		r.call(p, call)
	}); err != nil {
		return nil, err
	}
	if first && r.t.Cut == "" {
		r.t.Cut = "the trace is empty"
	}
	for name := range r.t.Wrote {
		delete(r.t.Missing, name)
	}
	for name := range r.t.Removed { // what the run made and took away again was never there
		if r.made[name] {
			delete(r.t.Removed, name)
			delete(r.t.Read, name)
			delete(r.t.Listed, name)
		}
	}
	return &r.t, nil
}

// parentsIn finds in a trace which process started which. That is looked for before all else: what a child does may
// stand before the end of the call that made it.
func parentsIn(f io.Reader) (map[string]string, error) {
	parents := map[string]string{}
	lines := bufio.NewScanner(f)
	lines.Buffer(make([]byte, 0, 64<<10), maxLine)
	for lines.Scan() {
		line := lines.Bytes()
		if !bytes.Contains(line, []byte("clone")) && !bytes.Contains(line, []byte("fork")) {
			continue
		}
		parent, rest, _ := strings.Cut(string(line), " ")
		if at := strings.LastIndex(rest, " = "); at >= 0 {
			if child := rest[at+3:]; parents[child] == "" && isNumber(child) && child != parent {
				parents[child] = parent
			}
		}
	}
	if err := lines.Err(); err != nil && err != bufio.ErrTooLong { // that is told when the calls are read
		return nil, err
	}
	return parents, nil
}

func isNumber(s string) bool {
	return s != "" && s != "0" && strings.Trim(s, "0123456789") == ""
}

// each gives each whole call to f, with the number of its process.
func (r *reader) each(f io.Reader, do func(pid, call string)) error {
	lines := bufio.NewScanner(f)
	lines.Buffer(make([]byte, 0, 64<<10), maxLine)
	for lines.Scan() {
		pid, call, ok := strings.Cut(strings.TrimRight(lines.Text(), " "), " ")
		if call = strings.TrimLeft(call, " "); !ok || call == "" {
			continue
		}
		p := r.process(pid)
		if rest, ok := strings.CutPrefix(call, "<... "); ok {
			_, rest, ok = strings.Cut(rest, " resumed>")
			if !ok || p.pending == "" {
				continue // its beginning was cut off
			}
			call, p.pending = p.pending+rest, ""
		} else if begin, ok := strings.CutSuffix(call, " <unfinished ...>"); ok {
			p.pending = begin
			continue
		}
		if call[0] != '+' && call[0] != '-' {
			do(pid, call)
		}
	}
	if err := lines.Err(); err == bufio.ErrTooLong {
		r.t.Cut = "a line of the trace is too long"
	} else if err != nil {
		return fmt.Errorf("the trace: %w", err)
	}
	return nil
}

// process returns what is known of a process or thread. A new one has the program and the folder of the one that
// started it.
func (r *reader) process(pid string) *process {
	p := r.processes[pid]
	if p == nil {
		p = &process{}
		if parent := r.processes[r.parents[pid]]; parent != nil {
			p.dir, p.program = parent.dir, parent.program
		}
		r.processes[pid] = p
	}
	return p
}

// parts splits a call into its name, its arguments and what it returned.
func parts(call string) (name, args, ret string, ok bool) {
	name, rest, ok := strings.Cut(call, "(")
	if !ok {
		return "", "", "", false
	}
	end := until(rest, ')')
	if end == len(rest) {
		return "", "", "", false
	}
	ret, ok = strings.CutPrefix(strings.TrimLeft(rest[end+1:], " "), "= ")
	return name, rest[:end], ret, ok
}

// until returns the index of a byte in a call, outside of strings, brackets and the paths of
// descriptors; the length if it is not there.
func until(s string, stop byte) int {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == stop && depth == 0:
			return i
		case c == '"':
			for i++; i < len(s) && s[i] != '"'; i++ {
				if s[i] == '\\' {
					i++
				}
			}
		case c == '<':
			if end := strings.IndexByte(s[i:], '>'); end > 0 { // it is escaped in a path
				i += end
			}
		case c == '(' || c == '{' || c == '[':
			depth++
		case c == ')' || c == '}' || c == ']':
			depth--
		}
	}
	return len(s)
}

// arguments splits arguments at their commas.
func arguments(s string) (args []string) {
	for {
		end := until(s, ',')
		args = append(args, strings.TrimSpace(s[:end]))
		if end == len(s) {
			return args
		}
		s = s[end+1:]
	}
}

// text decodes a string of strace: escapes as in C. ok is false if it is no string, or was cut.
func text(arg string) (s string, ok bool) {
	if len(arg) < 2 || arg[0] != '"' || arg[len(arg)-1] != '"' {
		return "", false
	}
	return unescape(arg[1 : len(arg)-1]), true
}

func unescape(s string) string {
	if strings.IndexByte(s, '\\') < 0 {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		i++
		switch c := s[i]; c {
		case 'n':
			b.WriteByte('\n')
		case 't':
			b.WriteByte('\t')
		case 'r':
			b.WriteByte('\r')
		case 'v':
			b.WriteByte('\v')
		case 'f':
			b.WriteByte('\f')
		case 'x':
			if n, err := strconv.ParseUint(s[i+1:min(len(s), i+3)], 16, 8); err == nil {
				b.WriteByte(byte(n))
				i += 2
			}
		case '0', '1', '2', '3', '4', '5', '6', '7':
			end := i + 1
			for end < len(s) && end < i+3 && s[end] >= '0' && s[end] <= '7' {
				end++
			}
			n, _ := strconv.ParseUint(s[i:end], 8, 16) // three digits at most
			b.WriteByte(byte(n))
			i = end - 1
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// folder is the path that strace shows beside a descriptor: AT_FDCWD</w>, 3</w/src>.
func folder(arg string) string {
	_, rest, ok := strings.Cut(arg, "<")
	name, _, closed := strings.Cut(rest, ">")
	if !ok || !closed {
		return ""
	}
	return unescape(name)
}

// full returns the absolute path of a name; ok is false if it is not known.
func (p *process) full(dir, name string) (string, bool) {
	if !path.IsAbs(name) {
		if dir == "" {
			dir = p.dir
		}
		if dir == "" || name == "" {
			return "", false
		}
		name = dir + "/" + name
	}
	return path.Clean(name), path.IsAbs(name)
}

// call takes one call.
func (r *reader) call(p *process, call string) {
	name, rest, ret, ok := parts(call)
	if !ok {
		return
	}
	args := arguments(rest)
	failed := strings.HasPrefix(ret, "-1")
	at := func(i int) (string, bool) { // the path of an argument behind its folder
		if i < 0 || i+1 >= len(args) {
			return "", false
		}
		s, ok := text(args[i+1])
		if !ok {
			return "", false
		}
		if s == "" && strings.Contains(rest, "AT_EMPTY_PATH") {
			return "", false // of an open file
		}
		dir := folder(args[i])
		if strings.HasPrefix(args[i], "AT_FDCWD") && dir != "" {
			p.dir = dir
		}
		return p.full(dir, s)
	}
	plain := func(i int) (string, bool) {
		if i < 0 || i >= len(args) {
			return "", false
		}
		s, ok := text(args[i])
		if !ok {
			return "", false
		}
		return p.full("", s)
	}
	switch name {
	case "open", "creat":
		file, ok := plain(0)
		flags := "O_WRONLY|O_CREAT|O_TRUNC"
		if name == "open" && len(args) > 1 {
			flags = args[1]
		}
		r.opened(p, file, ok, flags, ret)
	case "openat", "openat2":
		file, ok := at(0)
		if len(args) > 2 {
			r.opened(p, file, ok, args[2], ret)
		}
	case "stat", "lstat", "access":
		file, ok := plain(0)
		r.looked(p, file, ok, failed, ret)
	case "newfstatat", "statx", "faccessat", "faccessat2":
		file, ok := at(0)
		r.looked(p, file, ok, failed, ret)
	case "execve":
		if file, ok := plain(0); ok && !failed {
			r.executed(p, file)
		} else {
			r.looked(p, file, ok, failed, ret)
		}
	case "execveat":
		if file, ok := at(0); ok && !failed {
			r.executed(p, file)
		}
	case "chdir":
		if dir, ok := plain(0); ok && !failed {
			p.dir = dir
		}
	case "fchdir":
		if dir := folder(args[0]); dir != "" && !failed {
			p.dir = dir
		}
	case "connect", "sendto", "sendmsg":
		if strings.Contains(rest, "sa_family=AF_INET") {
			r.t.Network = true
		} else if service := socketOf(rest); service != "" && !failed && !asksNames(service) {
			r.t.Service = service
		}
	default:
		if !failed {
			r.changed(name, plain, at)
		}
	}
}

func (r *reader) executed(p *process, file string) {
	p.program = path.Base(file)
	r.add(r.t.Executed, file)
	r.t.RunsMade = r.t.RunsMade || r.made[file] || r.t.Wrote[file]
}

// asksNames reports whether a socket is of a service that only says who users are, or takes messages for a log.
func asksNames(socket string) bool {
	for _, of := range []string{"/run/nscd/", "/var/run/nscd/", "/run/systemd/userdb/", "/run/systemd/journal/", "/var/lib/sss/pipes/", "/dev/log"} {
		if strings.HasPrefix(socket, of) {
			return true
		}
	}
	return false
}

// socketOf returns the path of the local socket among the arguments of a call; "" if there is none.
func socketOf(args string) string {
	_, rest, ok := strings.Cut(args, "sa_family=AF_UNIX, sun_path=")
	if !ok {
		return ""
	}
	name, ok := text(rest[:until(rest, '}')])
	if !ok {
		return "a socket without a path"
	}
	return name
}

// A change is a call that changes names: the arguments at which the name that goes and the name that
// comes begin, -1 for none. With at, a folder stands before each name.
type change struct {
	at          bool
	goes, comes int
}

var changes = map[string]change{
	"rename": {false, 0, 1}, "renameat": {true, 0, 2}, "renameat2": {true, 0, 2}, "unlink": {false, 0, -1}, "rmdir": {false, 0, -1}, "unlinkat": {true, 0, -1},
	"mkdir": {false, -1, 0}, "truncate": {false, -1, 0}, "mkdirat": {true, -1, 0}, "link": {false, -1, 1}, "symlink": {false, -1, 1}, "linkat": {true, -1, 2}, "symlinkat": {true, -1, 1},
}

// changed takes a call that changes names.
func (r *reader) changed(name string, plain, at func(int) (string, bool)) {
	c, known := changes[name]
	if !known {
		return
	}
	of := plain
	if c.at {
		of = at
	}
	if file, ok := of(c.goes); ok {
		r.remove(file)
	}
	if file, ok := of(c.comes); ok {
		r.wrote(file)
	}
}

// opened takes a file that was opened, or was not there.
func (r *reader) opened(p *process, file string, ok bool, flags, ret string) {
	failed := strings.HasPrefix(ret, "-1")
	if real := folder(ret); !failed && path.IsAbs(real) { // behind links
		if ok && real != file {
			r.read(file, p.use())
		}
		file, ok = real, true
	}
	if !ok || strings.Contains(flags, "O_PATH") {
		return
	}
	if strings.HasPrefix(file, "/dev/rtc") && !failed {
		r.t.Clock = true
	}
	writes := strings.Contains(flags, "O_WRONLY") || strings.Contains(flags, "O_RDWR")
	switch {
	case failed:
		r.looked(p, file, true, true, ret)
	case strings.Contains(flags, "O_DIRECTORY"):
		r.add(r.t.Listed, file)
	case writes:
		if strings.Contains(flags, "O_RDWR") && !strings.Contains(flags, "O_TRUNC") && !r.made[file] {
			r.read(file, p.use())
		}
		r.wrote(file)
	default:
		r.read(file, p.use())
	}
}

// use is how the process uses what it opens.
func (p *process) use() Use {
	if isCompiler(p.program) {
		return Content | Opened
	}
	return Content | Opened | Steers
}

// looked takes a file that was looked at, or for.
func (r *reader) looked(p *process, file string, ok, failed bool, ret string) {
	switch {
	case !ok:
	case !failed:
		use := Content
		if comparesTimes[p.program] {
			use |= Times
		}
		r.read(file, use)
	case strings.Contains(ret, "ENOENT") || strings.Contains(ret, "ENOTDIR"):
		if !r.made[file] {
			r.add(r.t.Missing, file)
		}
	}
}

func (r *reader) read(file string, use Use) {
	if r.made[file] && use&Times == 0 {
		return // what the run itself wrote
	}
	if _, known := r.t.Read[file]; known || r.room() {
		r.t.Read[file] |= use
	}
}

func (r *reader) wrote(file string) {
	_, seen := r.t.Read[file]
	if !seen {
		r.made[file] = true
	}
	delete(r.t.Removed, file)
	r.add(r.t.Wrote, file)
}

func (r *reader) remove(file string) {
	delete(r.t.Wrote, file)
	r.add(r.t.Removed, file)
}

func (r *reader) add(set map[string]bool, file string) {
	if set[file] || r.room() {
		set[file] = true
	}
}

// room reports whether another path is kept.
func (r *reader) room() bool {
	if r.paths++; r.paths > maxPaths {
		r.t.Cut = fmt.Sprintf("it touched more than %d paths", maxPaths)
		return false
	}
	return true
}
