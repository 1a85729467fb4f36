package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"

	"github.com/bmatcuk/doublestar/v4"

	"tidytally/core/files"
	"tidytally/core/task"
)

// MaxDeclaration is the size in bytes of the largest file that is read as a
// declaration of tasks: no one writes a larger one by hand.
const MaxDeclaration = files.Limit

const (
	maxDepth     = 200     // folders in folders
	maxCounted   = 200_000 // files counted in folders that are kept out, in all
	maxOfFaults  = 1000    // faults told, the rest is counted
	maxOpen      = 32      // folders in folders that a worker has open
	walkerFactor = 4       // readers of folders for each processor: they wait for the disk
)

// Walk holds the settings of a walk.
type Walk struct {
	Root string // absolute
	// Wants reports by its folder ("" for the root) and name whether a file matters.
	Wants func(dir, name string) bool
	// Ignore holds patterns (doublestar, relative to the root) of the user.
	Ignore []string
	// Off names rules that do not apply: built-in ones by their name, those of
	// an ignore file by its path.
	Off map[string]bool
	// Limit is the number of folders after which no more are entered; 0 for no
	// limit.
	Limit int
	// Found is called for each file that is wanted, as soon as it is seen, from
	// several goroutines; may be nil.
	Found func(file string)
	// Memory is what an earlier walk saw; may be nil. It is dropped at the end of the walk.
	Memory *Memory
}

// Skip is a path that a rule ignored.
type Skip struct {
	Rule  string `json:"rule"`
	Path  string `json:"path"`
	Files int    `json:"files"`
	// More says that counting stopped at a limit.
	More bool `json:"more,omitempty"`
}

// Seen is the result of a walk. All paths are relative to the root, with slashes.
type Seen struct {
	Files   []string // those that were wanted, sorted
	Folders []string // all that were entered, sorted
	Skipped []Skip
	// Generated are build files at the root that version control ignores. They are
	// among Files.
	Generated []Skip
	Faults    []task.Fault
	Count     int // files seen
}

// A Tree is a workspace that was walked. It keeps the content of each folder, so
// that a change costs only the folders in which it is. Update and Seen are not safe
// for concurrent use, the other methods are.
type Tree struct {
	Walk
	mu      sync.Mutex
	wake    *sync.Cond
	queue   []job
	busy    int
	idle    atomic.Int32       // workers that wait
	folders map[string]*folder // that were entered, by path, "" the root
	counted atomic.Int64
	rules   uint64 // a digest of those of the user
	round   int    // of updates
	seen    *Seen  // nil when it must be gathered anew
	tallies tallies
}

// same reports whether another look at a folder found the same.
func (f *folder) same(g *folder) bool {
	return f.entered == g.entered && f.seen == g.seen && slices.Equal(f.files, g.files) && slices.Equal(f.inner, g.inner) &&
		slices.EqualFunc(f.skipped, g.skipped, func(a, b *count) bool { return a.Rule == b.Rule && a.Path == b.Path }) && slices.Equal(f.generated, g.generated) && slices.Equal(f.faults, g.faults)
}

// folder is the content of one folder.
type folder struct {
	path    string
	round   int // in which it was read
	depth   int
	above   *ignoreList // what holds for the folder itself
	ignore  *ignoreList // what holds for what is in it
	rules   string      // the text of its ignore file
	entered bool
	listed  bool   // without an error
	record  record // as the memory has it; zero if it was read from the disk
	stamped        // when it was read
	files   []string
	entries []entry        // all that is in it, whatever the rules say of it; nil while only the record has it
	index   map[string]int // of entries, by name; made when somebody asks and they are many
	inner   []string       // folders to enter
	skipped []*count
	// generated are files that a rule ignores and that are read all the same.
	generated []Skip
	faults    []task.Fault
	seen      int
}

// count is a skip whose files are still counted.
type count struct {
	Skip
	folder bool
	files  atomic.Int64
	more   atomic.Bool
}

// job is a folder to read, or one that is only counted.
type job struct {
	path    string
	depth   int
	above   *ignoreList
	old     *folder
	counted *count
}

// Prepare returns the tree of a walk that is still to be made.
func (w Walk) Prepare() *Tree {
	t := &Tree{Walk: w, folders: map[string]*folder{}}
	for _, list := range [][]string{w.Ignore, slices.Sorted(maps.Keys(w.Off))} {
		t.rules = mixText(t.rules, strings.Join(list, "\n"))
	}
	t.wake = sync.NewCond(&t.mu)
	return t
}

// Run walks the workspace. It fails only when the root cannot be read.
func (t *Tree) Run() error {
	if _, _, err := readFolder(t.Root); err != nil {
		return err
	}
	t.queue = []job{{above: baseIgnores(t.Root, t.Off)}}
	t.work()
	t.Memory = nil // updates name what has changed
	return nil
}

// work empties the queue, several folders at a time.
func (t *Tree) work() {
	var all sync.WaitGroup
	for range walkerFactor {
		all.Go(t.worker)
	}
	all.Wait()
}

func (t *Tree) worker() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for {
		for len(t.queue) == 0 && t.busy > 0 {
			t.idle.Add(1)
			t.wake.Wait()
			t.idle.Add(-1)
		}
		if len(t.queue) == 0 {
			t.wake.Broadcast()
			return
		}
		j := t.queue[len(t.queue)-1]
		t.queue = t.queue[:len(t.queue)-1]
		t.busy++
		t.mu.Unlock()
		var f *folder
		var more []job
		if j.counted != nil {
			j.depth = 0
			t.count(j)
		} else {
			f, more = t.read(j)
		}
		t.mu.Lock()
		t.busy--
		if f != nil {
			t.folders[j.path] = f
			if t.Limit > 0 && len(t.folders) >= t.Limit {
				t.queue, more = nil, nil
			}
		}
		t.queue = append(t.queue, more...)
		switch {
		case len(more) > 1:
			t.wake.Broadcast()
		case len(more) == 1 || t.busy == 0:
			t.wake.Signal()
		}
		if f != nil && t.Found != nil && len(f.files) > 0 {
			t.mu.Unlock()
			for _, name := range f.files {
				t.Found(name)
			}
			t.mu.Lock()
		}
	}
}

// Has reports whether the walk saw something in a folder. known is false if the walk
// cannot tell: the folder was not entered, or a link leads on.
func (t *Tree) Has(dir, name string) (there, known bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	f, known := t.at(withoutDot(dir))
	if !known || f == nil {
		return false, known
	}
	e, there := f.has(name)
	return there, e.mode&fs.ModeSymlink == 0
}

// List returns the entries of a folder that the walk saw, sorted by name; none if
// there is no such folder. known is false if the walk cannot tell.
func (t *Tree) List(dir string) (list []Entry, known bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	f, known := t.at(withoutDot(dir))
	if !known || f == nil {
		return nil, known
	}
	return sorted(f.all()), true
}

// Names returns the paths of all regular files that no rule ignores, sorted.
func (t *Tree) Names() (names []string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, f := range t.folders {
		if !f.entered {
			continue
		}
		for _, e := range f.all() {
			if rel := join(f.path, e.name); e.mode.IsRegular() && t.ignored(rel, e.name, false, f.ignore) == "" {
				names = append(names, rel)
			}
		}
	}
	slices.Sort(names)
	return names
}

// at returns a folder that was entered, or nil. known is false if the folder was
// read before the newest update, because not every change is reported.
func (t *Tree) at(p string) (f *folder, known bool) {
	if f = t.folders[p]; f != nil {
		return f, f.entered && f.round == t.round
	}
	if p == "" {
		return nil, false
	}
	above, known := t.at(withoutDot(path.Dir(p)))
	if !known || above == nil {
		return nil, known
	}
	_, there := above.has(path.Base(p))
	return nil, !there // else it is kept out, a link, or still to be read
}

// has finds a name in the folder.
func (f *folder) has(name string) (e entry, there bool) {
	entries := f.all()
	if len(entries) > 32 {
		if f.index == nil {
			f.index = make(map[string]int, len(entries))
			for i, e := range entries {
				f.index[e.name] = i
			}
		}
		i, there := f.index[name]
		if !there {
			return e, false
		}
		return entries[i], true
	}
	for _, e := range entries {
		if e.name == name {
			return e, true
		}
	}
	return e, false
}

// Plain reports whether the walk knows that no link leads to a folder of the
// workspace.
func (t *Tree) Plain(dir string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	dir = withoutDot(dir)
	if f := t.folders[dir]; f != nil {
		return f.entered
	}
	above := t.folders[withoutDot(path.Dir(dir))]
	if above == nil || !above.entered {
		return false
	}
	e, there := above.has(path.Base(dir))
	return there && e.mode.IsDir()
}

// Update reads again what has changed: paths of files or folders relative to the
// root. It fails only if the root cannot be read.
func (t *Tree) Update(changed []string) error {
	if _, err := os.Lstat(t.Root); err != nil {
		return err
	}
	t.mu.Lock()
	t.round++
	t.mu.Unlock()
	again := map[string]bool{}
	for _, p := range changed {
		if p == "." {
			p = ""
		}
		if _, entered := t.folders[p]; entered {
			again[p] = true
		}
		parent := withoutDot(path.Dir(p))
		if _, entered := t.folders[parent]; entered {
			again[parent] = true
		}
		if path.Base(p) == ".gitignore" && t.folders[parent] != nil {
			t.restart(parent)
		}
	}
	for p := range again {
		old := t.folders[p]
		if old == nil {
			continue // dropped with a folder above
		}
		found := t.Found
		t.Found = nil
		f, more := t.read(job{path: p, depth: old.depth, above: old.above, old: old})
		if f.rules != old.rules && len(old.inner) > 0 { // the folder went and came again
			t.restart(p)
			old = t.folders[p]
			f, more = t.read(job{path: p, depth: old.depth, above: old.above, old: old})
		}
		t.Found = found
		for _, gone := range old.inner {
			if !slices.Contains(f.inner, gone) {
				t.drop(gone)
			}
		}
		if !f.entered && p != "" && !t.there(p) {
			t.drop(p)
			continue
		}
		if len(more) > 0 || !f.same(old) {
			t.seen = nil
		}
		t.folders[p] = f
		t.queue = append(t.queue, more...)
	}
	if len(t.queue) > 0 {
		t.work()
	}
	return nil
}

// Recount counts again what is in the folders that are ignored: nothing there is watched. It
// reports whether a number has changed.
func (t *Tree) Recount() (changed bool) {
	type pair struct{ before, now *count }
	var pairs []pair
	t.counted.Store(0)
	t.tallies.list = nil
	for _, f := range t.folders {
		for i, k := range f.skipped {
			if k.folder {
				now := &count{Skip: k.Skip, folder: true}
				pairs = append(pairs, pair{k, now})
				f.skipped[i] = now
				t.queue = append(t.queue, job{path: k.Path, counted: now})
			}
		}
	}
	t.work()
	for _, p := range pairs {
		changed = changed || p.before.files.Load() != p.now.files.Load()
	}
	if changed {
		t.seen = nil
	}
	return changed
}

// restart forgets what is below a folder, whose ignore rules have changed: they hold for
// all of it.
func (t *Tree) restart(p string) {
	old := t.folders[p]
	t.drop(p)
	t.folders[p] = &folder{path: p, depth: old.depth, above: old.above, skipped: old.skipped}
}

func (t *Tree) there(p string) bool {
	_, err := os.Lstat(filepath.Join(t.Root, filepath.FromSlash(p)))
	return err == nil
}

// drop forgets a folder and all that is below it.
func (t *Tree) drop(p string) {
	t.seen = nil
	for name := range t.folders {
		if name == p || p == "" || strings.HasPrefix(name, p+"/") {
			delete(t.folders, name)
		}
	}
}

// Seen returns the result so far. It must not be written to.
func (t *Tree) Seen() *Seen {
	if t.seen != nil {
		return t.seen
	}
	s := &Seen{Folders: make([]string, 0, len(t.folders))}
	for _, f := range t.folders {
		s.Files = append(s.Files, f.files...)
		for _, k := range f.skipped {
			k.Files, k.More = int(k.files.Load()), k.more.Load()
			s.Skipped = append(s.Skipped, k.Skip)
		}
		s.Generated = append(s.Generated, f.generated...)
		s.Faults = append(s.Faults, f.faults...)
		s.Count += f.seen
		if f.entered {
			s.Folders = append(s.Folders, orDot(f.path))
		}
	}
	slices.Sort(s.Files)
	slices.Sort(s.Folders)
	slices.SortFunc(s.Skipped, func(a, b Skip) int { return strings.Compare(a.Path, b.Path) })
	slices.SortFunc(s.Faults, func(a, b task.Fault) int { return strings.Compare(a.File, b.File) })
	if n := len(s.Faults) - maxOfFaults; n > 0 {
		s.Faults = append(s.Faults[:maxOfFaults], task.Fault{File: ".", Message: fmt.Sprintf("%d more faults are not listed", n)})
	}
	t.seen = s
	return s
}

// withoutDot names the root as folders are named here.
func withoutDot(dir string) string {
	if dir == "." {
		return ""
	}
	return dir
}

func orDot(p string) string {
	if p == "" {
		return "."
	}
	return p
}

// read looks into one folder. What an earlier look at it counted is not counted
// again.
func (t *Tree) read(j job) (f *folder, more []job) {
	f = &folder{path: j.path, round: t.round, depth: j.depth, above: j.above, ignore: j.above}
	abs := filepath.Join(t.Root, filepath.FromSlash(j.path))
	var entries []entry
	if t.Memory != nil {
		if r, same := of(t.Memory.folders, j.path, abs); same {
			f.listed, f.record = true, r
			if more, ok := t.recall(f, r); ok {
				return f, more
			}
			entries, f.listed = r.entries()
			f.ignore, f.rules = j.above, ""
		}
	}
	if !f.listed {
		var err error
		f.record = record{}
		entries, f.stamped, err = readFolder(abs)
		f.listed = err == nil
		if err != nil {
			if !errors.Is(err, fs.ErrNotExist) { // else it vanished, which is no fault
				f.faults = append(f.faults, task.Fault{File: orDot(j.path), Message: reason(err) + "; what is in it is not listed"})
			}
			if len(entries) == 0 {
				return f, nil
			}
		}
	}
	hasIgnore := false
	for _, e := range entries {
		if rule := holdRules[e.name]; rule != "" && j.path != "" && !t.Off[rule] {
			return f, t.skip(f, j.old, "built-in: "+rule, j.path, true)
		}
		hasIgnore = hasIgnore || e.name == ".gitignore"
	}
	f.entered, f.entries = true, entries
	if hasIgnore {
		t.readIgnore(f)
	}
	for _, e := range entries {
		more = append(more, t.entry(f, j.old, e, entries)...)
	}
	return f, more
}

// readIgnore reads the ignore file of a folder.
func (t *Tree) readIgnore(f *folder) {
	from := path.Join(f.path, ".gitignore")
	if t.Off[from] {
		return
	}
	if data, err := files.Read(filepath.Join(t.Root, filepath.FromSlash(from)), 1<<20); err == nil {
		f.ignore, f.rules = parseIgnore(data, from, f.path, f.ignore), string(data)
	}
}

// all returns the content of the folder, which the record may have.
func (f *folder) all() []entry {
	if f.entries == nil && f.record.names != "" {
		f.entries, _ = f.record.entries() // what is encoded in a wrong way is as if it were not there
	}
	return f.entries
}

func (t *Tree) entry(f, old *folder, e entry, siblings []entry) []job {
	if e.mode.IsDir() {
		rel := join(f.path, e.name)
		if rule := ruleByName(e.name, siblings); rule != "" && !t.Off[rule] {
			if rule == "version control" {
				return nil // nobody looks for tasks in there: not worth a line
			}
			return t.skip(f, old, "built-in: "+rule, rel, true)
		}
		if rule := t.ignored(rel, e.name, true, f.ignore); rule != "" {
			return t.skip(f, old, rule, rel, true)
		}
		if f.depth >= maxDepth {
			f.faults = append(f.faults, task.Fault{File: rel, Message: fmt.Sprintf("more than %d folders deep: not entered", maxDepth)})
			return nil
		}
		f.inner = append(f.inner, rel)
		if old != nil && slices.Contains(old.inner, rel) && t.folders[rel] != nil {
			return nil // known already
		}
		return []job{{path: rel, depth: f.depth + 1, above: f.ignore}}
	}
	f.seen++
	if !t.Wants(f.path, e.name) {
		return nil
	}
	rel := join(f.path, e.name)
	if rule := t.ignored(rel, e.name, false, f.ignore); rule != "" {
		if f.path != "" || !generated[e.name] || strings.HasPrefix(rule, TallyFile) {
			return t.skip(f, old, rule, rel, false)
		}
		// Version control ignores what configure makes, but it is what one builds with.
		f.generated = append(f.generated, Skip{Rule: rule, Path: rel, Files: 1})
	}
	if e.mode&fs.ModeSymlink != 0 {
		if !t.linkInside(f, rel) {
			return nil
		}
	} else if !e.mode.IsRegular() {
		f.faults = append(f.faults, task.Fault{File: rel, Message: "is a " + files.ModeWord(e.mode) + ", no regular file: not read"})
		return nil
	}
	f.files = append(f.files, rel)
	return nil
}

// generated are the build files that tools make of others, and that people then use.
var generated = map[string]bool{"configure": true, "Makefile.in": true, "Makefile": true, "makefile": true, "GNUmakefile": true, "build.ninja": true}

func join(dir, name string) string {
	if dir == "" {
		return strings.Clone(name)
	}
	return dir + "/" + name
}

// linkInside reports whether a symbolic link leads to a regular file of the
// workspace. If not, it records a fault.
func (t *Tree) linkInside(f *folder, rel string) bool {
	target, err := filepath.EvalSymlinks(filepath.Join(t.Root, rel))
	if err != nil {
		f.faults = append(f.faults, task.Fault{File: rel, Message: "symbolic link: " + reason(err)})
		return false
	}
	if !strings.HasPrefix(target, t.Root+"/") {
		f.faults = append(f.faults, task.Fault{File: rel, Message: "symbolic link out of the workspace: not followed"})
		return false
	}
	info, err := os.Stat(target)
	return err == nil && info.Mode().IsRegular()
}

// ignored returns the rule that ignores a path, or "".
func (t *Tree) ignored(rel, name string, isFolder bool, list *ignoreList) string {
	for _, pattern := range t.Ignore {
		if hit, _ := doublestar.Match(pattern, rel); hit {
			return TallyFile + ": ignore " + pattern
		}
	}
	if rule, hit := list.match(rel, name, isFolder); hit {
		return rule
	}
	return ""
}

// skip records a path that a rule ignores. It returns the jobs that count its files.
func (t *Tree) skip(f, old *folder, rule, rel string, isFolder bool) []job {
	k := &count{Skip: Skip{Rule: rule, Path: rel}, folder: isFolder}
	if old != nil {
		for _, before := range old.skipped {
			if before.Skip.Path == rel && before.Rule == rule {
				f.skipped = append(f.skipped, before)
				return nil
			}
		}
	}
	f.skipped = append(f.skipped, k)
	if !isFolder {
		k.files.Store(1)
		return nil
	}
	return []job{{path: rel, counted: k}}
}

// count counts the files below a folder that is ignored.
func (t *Tree) count(j job) {
	if t.recount(j) {
		return
	}
	h, err := openFolder(filepath.Join(t.Root, filepath.FromSlash(j.path)))
	if err != nil {
		return // what cannot be read is not counted
	}
	t.countIn(h, j)
}

// recount counts what the memory has of a folder, and the folders in it. It reports whether it did.
func (t *Tree) recount(j job) bool {
	if t.Memory == nil || t.counted.Load() > maxCounted {
		return false
	}
	r, same := of(t.Memory.counted, j.path, filepath.Join(t.Root, filepath.FromSlash(j.path)))
	if !same {
		return false
	}
	files, folders, ok := r.inner()
	if !ok {
		return false
	}
	t.tallies.add(tallied{path: j.path, encode: r.encode})
	j.counted.files.Add(files)
	t.counted.Add(files)
	for _, name := range folders {
		inner := job{path: j.path + "/" + name, depth: j.depth + 1, counted: j.counted}
		if t.idle.Load() > 0 || inner.depth > maxOpen {
			t.hand(inner)
		} else {
			t.count(inner)
		}
	}
	return true
}

// hand leaves a folder to another worker.
func (t *Tree) hand(j job) {
	t.mu.Lock()
	t.queue = append(t.queue, j)
	t.wake.Signal()
	t.mu.Unlock()
}

// countIn counts in an open folder, which it closes. Folders in it are left to idle
// workers, or counted at once.
func (t *Tree) countIn(h handle, j job) {
	defer h.close()
	if t.counted.Load() > maxCounted {
		j.counted.more.Store(true)
		return
	}
	at := h.stamp()
	files, folders := h.count()
	t.tallies.add(tallied{path: j.path, stamped: at, files: files, folders: folders})
	j.counted.files.Add(files)
	t.counted.Add(files)
	for _, name := range folders {
		inner := job{path: j.path + "/" + name, depth: j.depth + 1, counted: j.counted}
		if t.idle.Load() > 0 || inner.depth > maxOpen {
			t.hand(inner)
		} else if in, err := h.open(name); err == nil {
			t.countIn(in, inner)
		}
	}
}

// ReadHead reads the first head bytes of a file of the workspace, or all of it if
// head is 0. It refuses what ReadDeclaration refuses. plain says that the walk
// entered the file's folder, so that no link leads to it.
func ReadHead(root, rel string, head int64, plain bool) ([]byte, error) {
	if !plain && head == 0 {
		return ReadDeclaration(root, rel)
	}
	abs := root + "/" + rel
	fd, err := syscall.Open(abs, syscall.O_RDONLY|syscall.O_NONBLOCK|syscall.O_CLOEXEC|syscall.O_NOFOLLOW, 0)
	if err != nil { // a link, or gone
		return ReadDeclaration(root, rel)
	}
	defer syscall.Close(fd)
	var st syscall.Stat_t
	if err := syscall.Fstat(fd, &st); err != nil || st.Mode&syscall.S_IFMT != syscall.S_IFREG || head == 0 && st.Size > MaxDeclaration {
		return ReadDeclaration(root, rel) // which says what is wrong
	}
	size := st.Size
	if head > 0 {
		size = min(size, head)
	}
	data := make([]byte, size+1) // the byte more tells the end without another call
	n := 0
	for n < len(data) {
		k, err := syscall.Read(fd, data[n:])
		if err == syscall.EINTR {
			continue
		}
		if err != nil {
			return nil, errors.New(reason(err))
		}
		n += k
		if k == 0 || n < len(data) {
			break
		}
	}
	return data[:min(int64(n), size)], nil
}

// ReadDeclaration reads a file of the workspace, by its path relative to root. It
// refuses a file that is not regular, too large, or outside of root.
func ReadDeclaration(root, rel string) ([]byte, error) {
	if !fs.ValidPath(rel) {
		return nil, errors.New("is outside the workspace: not read")
	}
	abs := filepath.Join(root, filepath.FromSlash(rel))
	if real, err := filepath.EvalSymlinks(abs); err != nil {
		return nil, errors.New(reason(err))
	} else if real != root && !strings.HasPrefix(real, root+"/") {
		return nil, errors.New("leads out of the workspace: not read")
	}
	data, err := files.Read(abs, MaxDeclaration)
	if err != nil {
		return nil, errors.New(reason(err))
	}
	return data, nil
}

// reason is the heart of a system error, without the path.
func reason(err error) string {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		err = pe.Err
	}
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "cannot be read: permission denied"
	case errors.Is(err, fs.ErrNotExist):
		return "does not exist"
	}
	return err.Error()
}

func isFolder(abs string) bool {
	info, err := os.Lstat(abs)
	return err == nil && info.IsDir()
}

// Exists reports whether a path relative to root is there.
func Exists(root, rel string) bool {
	if !fs.ValidPath(rel) {
		return false
	}
	_, err := os.Stat(filepath.Join(root, filepath.FromSlash(rel)))
	return err == nil
}
