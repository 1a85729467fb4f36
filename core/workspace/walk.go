package workspace

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"

	"github.com/bmatcuk/doublestar/v4"

	"tidytally/core/task"
)

// MaxDeclaration is the size in bytes above which a file is not read as a
// declaration of tasks.
const MaxDeclaration = 8 << 20

const (
	maxDepth     = 200     // folders in folders
	maxCounted   = 200_000 // files counted in folders that are kept out, in all
	maxOfFaults  = 1000    // faults told, the rest is counted
	walkerFactor = 4       // readers of folders for each processor: they wait for the disk
)

// Walk says what to look for.
type Walk struct {
	Root string // absolute
	// Wants tells by its name whether a file matters.
	Wants func(name string) bool
	// Ignore holds patterns (doublestar, relative to the root) of the user's.
	Ignore []string
	// Off names built-in rules that do not apply.
	Off map[string]bool
}

// Skip is a path that a rule kept out.
type Skip struct {
	Rule  string `json:"rule"`
	Path  string `json:"path"`
	Files int    `json:"files"`
	// More says that counting stopped at a limit.
	More bool `json:"more,omitempty"`
}

// Seen is what a walk found. All paths are relative to the root, with slashes.
type Seen struct {
	Files   []string // those that were wanted, sorted
	Folders []string // all that were entered, sorted
	Skipped []Skip
	Faults  []task.Fault
	Count   int // files seen
}

type walker struct {
	Walk
	mu      sync.Mutex
	wake    *sync.Cond
	queue   []folder
	busy    int
	seen    Seen
	counted atomic.Int64
}

type folder struct {
	path   string // relative, "" for the root
	ignore *ignoreList
	depth  int
}

// Run walks the workspace. It fails only when the root cannot be read.
func (w Walk) Run() (*Seen, error) {
	if _, err := os.ReadDir(w.Root); err != nil {
		return nil, err
	}
	k := &walker{Walk: w}
	k.wake = sync.NewCond(&k.mu)
	k.queue = []folder{{ignore: baseIgnores(w.Root)}}
	var all sync.WaitGroup
	for range walkerFactor {
		all.Go(k.work)
	}
	all.Wait()
	s := &k.seen
	sort.Strings(s.Files)
	sort.Strings(s.Folders)
	sort.Slice(s.Skipped, func(i, j int) bool { return s.Skipped[i].Path < s.Skipped[j].Path })
	sort.Slice(s.Faults, func(i, j int) bool { return s.Faults[i].File < s.Faults[j].File })
	if n := len(s.Faults) - maxOfFaults; n > 0 {
		s.Faults = append(s.Faults[:maxOfFaults], task.Fault{File: ".", Message: fmt.Sprintf("%d more faults are not listed", n)})
	}
	return s, nil
}

func (k *walker) work() {
	k.mu.Lock()
	defer k.mu.Unlock()
	for {
		for len(k.queue) == 0 && k.busy > 0 {
			k.wake.Wait()
		}
		if len(k.queue) == 0 {
			k.wake.Broadcast()
			return
		}
		f := k.queue[len(k.queue)-1]
		k.queue = k.queue[:len(k.queue)-1]
		k.busy++
		k.mu.Unlock()
		got := k.read(f)
		k.mu.Lock()
		k.busy--
		k.merge(got)
		k.wake.Broadcast()
	}
}

// gain is what reading one folder gave.
type gain struct {
	files   []string
	folder  string
	entered bool
	inner   []folder
	skipped []Skip
	faults  []task.Fault
	count   int
}

func (k *walker) merge(g gain) {
	k.seen.Files = append(k.seen.Files, g.files...)
	k.seen.Skipped = append(k.seen.Skipped, g.skipped...)
	k.seen.Faults = append(k.seen.Faults, g.faults...)
	k.seen.Count += g.count
	if g.entered {
		k.seen.Folders = append(k.seen.Folders, g.folder)
	}
	k.queue = append(k.queue, g.inner...)
}

// read looks into one folder.
func (k *walker) read(f folder) (g gain) {
	g.folder = f.path
	if g.folder == "" {
		g.folder = "."
	}
	abs := filepath.Join(k.Root, filepath.FromSlash(f.path))
	entries, err := readFolder(abs)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) { // else it vanished, which is no fault
			g.faults = append(g.faults, task.Fault{File: g.folder, Message: reason(err) + "; what is in it is not listed"})
		}
		if len(entries) == 0 {
			return g
		}
	}
	inside := map[string]bool{}
	hasIgnore := false
	for _, e := range entries {
		name := e.Name()
		inside[name] = true
		hasIgnore = hasIgnore || name == ".gitignore"
	}
	if rule := byContent(inside); rule != "" && f.path != "" && !k.Off[rule] {
		g.skipped = append(g.skipped, k.skip("built-in: "+rule, f.path, true))
		return g
	}
	g.entered = true
	if hasIgnore {
		if data, err := readBounded(filepath.Join(abs, ".gitignore"), 1<<20); err == nil {
			f.ignore = parseIgnore(data, path.Join(f.path, ".gitignore"), f.path, f.ignore)
		}
	}
	for _, e := range entries {
		k.entry(&g, f, e, inside)
	}
	return g
}

func (k *walker) entry(g *gain, f folder, e fs.DirEntry, inside map[string]bool) {
	name := e.Name()
	rel := name
	if f.path != "" {
		rel = f.path + "/" + name
	}
	mode := e.Type()
	if mode.IsDir() {
		if rule := byName(name, inside); rule != "" && !k.Off[rule] {
			if rule == "version control" {
				return // nobody looks for tasks in there: not worth a line
			}
			g.skipped = append(g.skipped, k.skip("built-in: "+rule, rel, true))
			return
		}
		if rule := k.ignored(rel, name, true, f.ignore); rule != "" {
			g.skipped = append(g.skipped, k.skip(rule, rel, true))
			return
		}
		if f.depth >= maxDepth {
			g.faults = append(g.faults, task.Fault{File: rel, Message: fmt.Sprintf("more than %d folders deep: not entered", maxDepth)})
			return
		}
		g.inner = append(g.inner, folder{rel, f.ignore, f.depth + 1})
		return
	}
	g.count++
	if !k.Wants(name) {
		return
	}
	if rule := k.ignored(rel, name, false, f.ignore); rule != "" {
		g.skipped = append(g.skipped, k.skip(rule, rel, false))
		return
	}
	if mode&fs.ModeSymlink != 0 {
		if !k.linkInside(g, rel) {
			return
		}
	} else if !mode.IsRegular() {
		g.faults = append(g.faults, task.Fault{File: rel, Message: "is a " + modeWord(mode) + ", no regular file: not read"})
		return
	}
	g.files = append(g.files, rel)
}

// linkInside tells whether a symbolic link leads to a regular file of the
// workspace; where it does not, it says so.
func (k *walker) linkInside(g *gain, rel string) bool {
	target, err := filepath.EvalSymlinks(filepath.Join(k.Root, rel))
	if err != nil {
		g.faults = append(g.faults, task.Fault{File: rel, Message: "symbolic link: " + reason(err)})
		return false
	}
	if !strings.HasPrefix(target, k.Root+"/") {
		g.faults = append(g.faults, task.Fault{File: rel, Message: "symbolic link out of the workspace: not followed"})
		return false
	}
	info, err := os.Stat(target)
	return err == nil && info.Mode().IsRegular()
}

// ignored names the rule that keeps a path out, or nothing.
func (k *walker) ignored(rel, name string, isFolder bool, list *ignoreList) string {
	for _, pattern := range k.Ignore {
		if hit, _ := doublestar.Match(pattern, rel); hit {
			return TallyFile + ": ignore " + pattern
		}
	}
	if rule, hit := list.match(rel, name, isFolder); hit {
		return rule
	}
	return ""
}

// skip counts what a rule spared.
func (k *walker) skip(rule, rel string, isFolder bool) Skip {
	s := Skip{Rule: rule, Path: rel}
	if !isFolder {
		s.Files = 1
		return s
	}
	stop := errors.New("enough")
	err := filepath.WalkDir(filepath.Join(k.Root, rel), func(_ string, e fs.DirEntry, err error) error {
		if err != nil {
			return nil
		}
		if !e.IsDir() {
			s.Files++
			if k.counted.Add(1) > maxCounted {
				return stop
			}
		}
		return nil
	})
	s.More = err != nil
	return s
}

// readFolder gives the entries of a folder, unsorted, with their types.
func readFolder(abs string) ([]fs.DirEntry, error) {
	f, err := os.Open(abs)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.ReadDir(-1)
}

// readBounded reads a regular file of at most limit bytes.
func readBounded(name string, limit int64) ([]byte, error) {
	// Without O_NONBLOCK, opening a FIFO would wait for a writer.
	f, err := os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("is a %s, no regular file: not read", modeWord(info.Mode()))
	}
	if info.Size() > limit {
		return nil, fmt.Errorf("has %d bytes, more than the %d that are read: not read", info.Size(), limit)
	}
	return io.ReadAll(io.LimitReader(f, limit))
}

// ReadHead reads the first bytes of a file of the workspace, all of it when
// head is 0; the same is refused as by ReadDeclaration.
func ReadHead(root, rel string, head int64) ([]byte, error) {
	if head == 0 {
		return ReadDeclaration(root, rel)
	}
	f, err := os.OpenFile(filepath.Join(root, filepath.FromSlash(rel)), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, errors.New(reason(err))
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, head))
	if err != nil {
		return nil, errors.New(reason(err))
	}
	return data, nil
}

// ReadDeclaration reads a file of the workspace, by its path relative to root.
// It refuses what is no regular file, too large, or outside of root.
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
	data, err := readBounded(abs, MaxDeclaration)
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

func modeWord(m fs.FileMode) string {
	switch {
	case m&fs.ModeNamedPipe != 0:
		return "FIFO"
	case m&fs.ModeSocket != 0:
		return "socket"
	case m&fs.ModeDevice != 0:
		return "device"
	case m.IsDir():
		return "folder"
	}
	return "special file"
}

func isFolder(abs string) bool {
	info, err := os.Lstat(abs)
	return err == nil && info.IsDir()
}

// Exists tells whether a path relative to root is there.
func Exists(root, rel string) bool {
	if !fs.ValidPath(rel) {
		return false
	}
	_, err := os.Stat(filepath.Join(root, filepath.FromSlash(rel)))
	return err == nil
}
