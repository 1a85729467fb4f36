package survey

import (
	"maps"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"tidytally/core/crash"
	"tidytally/core/reader"
	"tidytally/core/reader/declare"
	"tidytally/core/reader/editorfile"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
	"tidytally/internal/pack"
)

// A Surveyor surveys a workspace and follows its changes: files that changed, and
// files that depend on a changed file, are read again. It is not safe for concurrent
// use, but for Remember.
type Surveyor struct {
	using  sync.Mutex // by a survey, or by Remember
	root   string
	tree   *workspace.Tree
	rules  string // of the root's tally file, which the walk hangs on
	began  time.Time
	mu     sync.Mutex
	states map[string]*fileState
	// personal are the user's own files.
	personal map[string]*fileState
	seen     *workspace.Seen     // by the last walk
	licences map[string][32]byte // digests, by folder
	order    []string            // the names of states and personal, as they are shown
	cache    *cache              // of an earlier start of the program, during the first survey
}

// fileState is the result of reading one file.
type fileState struct {
	kept
	tally  *tallyfile.File
	taught []editorfile.Taught
	record string // as the cache has it; "" if the file was read
	// given says that the tasks went into a survey as they are, and that only the record has them.
	given bool
	fresh bool // the tasks are in no survey yet
}

// kept is what a cache keeps of a file.
type kept struct {
	Read  []Read
	Found []declare.Found
	Looks []declare.Look // at what is beside it
}

// NewSurveyor returns a surveyor of the workspace at root, an absolute folder.
func NewSurveyor(root string) *Surveyor {
	return &Surveyor{root: root, licences: map[string][32]byte{}}
}

// Of surveys the workspace at root, an absolute folder. It fails only when the
// root cannot be read.
func Of(root string) (*Survey, error) { return NewSurveyor(root).Survey(nil) }

// walkRules returns the rules that the tally file of the root sets for the walk.
func walkRules(root string) (w workspace.Walk, text string) {
	data, err := workspace.ReadDeclaration(root, workspace.TallyFile)
	if err != nil {
		return w, ""
	}
	f := tallyfile.Parse(workspace.TallyFile, data).Workspace
	w.Ignore = f.Ignore
	w.Off = map[string]bool{}
	for _, rule := range f.RulesOff {
		w.Off[rule] = true
	}
	return w, strings.Join(f.Ignore, "\n") + "\n\n" + strings.Join(f.RulesOff, "\n")
}

// progressEvery is how often a long survey shows its tasks so far.
const progressEvery = 50 * time.Millisecond

// Survey surveys the whole workspace. While it lasts, progress is called with the
// result so far; it may be nil.
func (v *Surveyor) Survey(progress func(*Survey)) (*Survey, error) {
	v.using.Lock()
	defer v.using.Unlock()
	return v.survey(progress)
}

func (v *Surveyor) survey(progress func(*Survey)) (*Survey, error) {
	v.began = time.Now()
	walk, rules := walkRules(v.root)
	v.rules = rules
	queue := newNameQueue()
	walk.Root, walk.Found = v.root, queue.put
	if v.tree == nil && v.cache == nil {
		v.cache = readCache(v.root)
	}
	if v.cache != nil {
		walk.Memory = v.cache.memory
	}
	walk.Wants = func(dir, name string) bool {
		return reader.SpecLike(name) || name == workspace.TallyFile || len(readersOf(name)) > 0 || wantedAt(dir, name)
	}
	v.mu.Lock()
	v.states = map[string]*fileState{}
	v.mu.Unlock()

	tree := walk.Prepare()
	v.tree = tree
	ws := declare.NewWorkspace(v.root, tree)
	wait := v.readAll(ws, tree, queue)
	ended, shown := make(chan struct{}), make(chan struct{})
	crash.Go("the survey", func() {
		defer close(shown)
		tick := time.NewTicker(progressEvery)
		defer tick.Stop()
		for {
			select {
			case <-ended:
				return
			case <-tick.C:
				if progress != nil {
					progress(v.assemble(&workspace.Seen{}, true))
				}
			}
		}
	}, nil)
	err := tree.Run()
	seen := &workspace.Seen{}
	if err == nil {
		seen = tree.Seen()
	}
	ws.End(seen)
	personal := readPersonal(ws)
	v.mu.Lock()
	v.personal = personal
	v.mu.Unlock()
	queue.close()
	wait()
	close(ended)
	<-shown
	if err != nil {
		return nil, err
	}
	v.seen, v.cache = seen, nil
	return v.assemble(seen, false), nil
}

// Update surveys again what has changed: paths of files or folders, relative to the
// root, or absolute outside of it. Without any path, or if the rules of the walk
// have changed, the whole workspace is surveyed.
func (v *Surveyor) Update(changed []string) (*Survey, error) {
	v.using.Lock()
	defer v.using.Unlock()
	if _, rules := walkRules(v.root); v.seen == nil || len(changed) == 0 || rules != v.rules {
		return v.survey(nil)
	}
	before := v.seen.Files
	inside := slices.DeleteFunc(slices.Clone(changed), path.IsAbs)
	if err := v.tree.Update(inside); err != nil {
		return nil, err
	}
	ws := declare.NewWorkspace(v.root, v.tree)
	v.seen = v.tree.Seen()
	ws.End(v.seen)
	touched := &declare.Touched{}
	for _, p := range changed {
		touched.Add(p)
	}
	if !slices.Equal(before, v.seen.Files) {
		for _, name := range v.seen.Files {
			if _, found := slices.BinarySearch(before, name); !found {
				touched.Add(name)
			}
		}
		for _, name := range before {
			if _, found := slices.BinarySearch(v.seen.Files, name); !found {
				touched.Add(name)
				delete(v.states, name)
			}
		}
	}
	var again []string
	for _, name := range v.seen.Files {
		state := v.states[name]
		if state == nil || touched.Has(name) || touched.Any(state.Looks) {
			again = append(again, name)
		}
	}
	queue := newNameQueue()
	queue.names = again
	queue.close()
	v.readAll(ws, v.tree, queue)()
	if v.touchesPersonal(changed, touched) {
		v.personal = readPersonal(ws)
	}
	return v.assemble(v.seen, false), nil
}

// Names returns the paths of all files of the workspace that no rule ignores, as the last survey
// saw them. It must not be called during a survey.
func (v *Surveyor) Names() []string {
	if v.tree == nil {
		return nil
	}
	return v.tree.Names()
}

// Recount counts the files in ignored folders again, as after a build. It returns nil if there
// are as many as before.
func (v *Surveyor) Recount() *Survey {
	v.using.Lock()
	defer v.using.Unlock()
	if v.seen == nil || !v.tree.Recount() {
		return nil
	}
	v.seen = v.tree.Seen()
	return v.assemble(v.seen, false)
}

// readAll starts to read the files of a queue, several at a time. wait returns when
// all are read.
func (v *Surveyor) readAll(ws *declare.Workspace, tree *workspace.Tree, queue *nameQueue) (wait func()) {
	var reading sync.WaitGroup
	for range runtime.GOMAXPROCS(0) + 1 {
		reading.Go(func() {
			for name, ok := queue.take(); ok; name, ok = queue.take() {
				state := v.cache.state(ws, name)
				if state == nil {
					state = read(ws, tree, name)
				}
				v.mu.Lock()
				v.states[name] = state
				v.mu.Unlock()
			}
		})
	}
	return reading.Wait
}

// touchesPersonal reports whether the user's own tasks depend on what changed: files
// outside of the workspace, or those that a personal [teach] table looks for in it.
func (v *Surveyor) touchesPersonal(changed []string, touched *declare.Touched) bool {
	if slices.ContainsFunc(changed, path.IsAbs) {
		return true
	}
	for _, state := range v.personal {
		if touched.Any(state.Looks) {
			return true
		}
	}
	return false
}

// Newer returns the files and folders whose time stamps are newer than the start of
// the last survey of the whole workspace. A watcher that was set up afterwards
// cannot have seen them.
func (v *Surveyor) Newer() (changed []string) {
	if v.seen == nil {
		return nil
	}
	newer := func(rel string) {
		info, err := os.Lstat(filepath.Join(v.root, filepath.FromSlash(rel)))
		if err != nil || !workspace.Settled(info.ModTime(), v.began) {
			changed = append(changed, rel)
		}
	}
	for _, dir := range v.tree.Seen().Folders {
		newer(dir)
	}
	for name, state := range v.states {
		newer(name)
		for _, l := range state.Looks {
			if l.OfFile() && v.states[l.Path] == nil {
				if info, err := os.Lstat(filepath.Join(v.root, filepath.FromSlash(l.Path))); err == nil && !workspace.Settled(info.ModTime(), v.began) {
					changed = append(changed, l.Path)
				}
			}
		}
	}
	return changed
}

// readTally reads a tally file, and the files that its [teach] tables explain.
func (s *fileState) readTally(ws *declare.Workspace, name string, data []byte) {
	s.tally = tallyfile.Parse(name, data)
	s.Read = append(s.Read, Read{Path: name, Source: "tally", Tasks: len(s.tally.Tasks), Faults: len(s.tally.Faults)})
	if len(s.tally.Teaches) > 0 {
		file := ws.File(name, data)
		var found declare.Found
		found, s.taught = editorfile.ReadTaught(file, s.tally)
		s.Found = append(s.Found, found)
		s.Looks = append(s.Looks, declare.Looks(file)...)
	}
}

// contained calls what reads a file. If it panics, that is a fault of the file, and nothing else is lost.
func contained(state *fileState, name string, f func()) {
	if err := crash.Contain("the reader of "+name, f); err != nil {
		state.Found = append(state.Found, declare.Found{Faults: []task.Fault{{File: name, Message: err.Error()}}})
	}
}

// read runs the readers over one file.
func read(ws *declare.Workspace, tree *workspace.Tree, name string) *fileState {
	state := &fileState{}
	base := path.Base(name)
	wanting := readersAt(name)
	if len(wanting) == 0 && base != workspace.TallyFile {
		return state // only its name matters
	}
	data, err := workspace.ReadHead(tree.Root, name, headOf(base, wanting), tree.Plain(path.Dir(name)))
	if err != nil {
		state.Found = append(state.Found, declare.Found{Faults: []task.Fault{{File: name, Message: err.Error()}}})
		return state
	}
	if base == workspace.TallyFile {
		contained(state, name, func() { state.readTally(ws, name, data) })
	}
	for _, r := range wanting {
		file := ws.File(name, data)
		var found declare.Found
		contained(state, name, func() { found = r.Read(file) })
		state.Looks = append(state.Looks, declare.Looks(file)...)
		state.Found = append(state.Found, found)
		if (r.Head > 0 || r.Last || len(wanting) > 1) && len(found.Tasks)+len(found.Faults) == 0 {
			continue // only looked at
		}
		state.Read = append(state.Read, Read{Path: name, Source: r.Source, Tasks: len(found.Tasks), Faults: len(found.Faults)})
	}
	return state
}

var (
	readersByName sync.Map
	readersKept   atomic.Int64
)

// headOf returns how many bytes of a file are needed; 0, for all, if any reader
// wants it whole.
func headOf(base string, wanting []*declare.Reader) (head int64) {
	if base == workspace.TallyFile {
		return 0
	}
	for _, r := range wanting {
		if r.Head == 0 {
			return 0
		}
		head = max(head, r.Head)
	}
	return head
}

// readersOf returns the readers that want a file by its base name. The answers are
// cached, because the same few names are in every folder.
func readersOf(name string) []*declare.Reader {
	if known, ok := readersByName.Load(name); ok {
		return known.([]*declare.Reader)
	}
	var wanting []*declare.Reader
	for i := range reader.All {
		if r := &reader.All[i]; r.WantsName(name) && !(r.Last && taken(wanting)) {
			wanting = append(wanting, r)
		}
	}
	if len(wanting) > 0 && len(name) < 24 && readersKept.Add(1) < 4096 {
		readersByName.Store(strings.Clone(name), wanting)
	}
	return wanting
}

// taken reports whether a reader that does not guess wants the file.
func taken(wanting []*declare.Reader) bool {
	return slices.ContainsFunc(wanting, func(r *declare.Reader) bool { return !r.Last })
}

// readersAt returns the readers that want a file by its name, and those that want it
// by its path.
func readersAt(rel string) []*declare.Reader {
	wanting := readersOf(path.Base(rel))
	for i := range reader.All {
		if r := &reader.All[i]; r.WantsAt != nil && !r.WantsName(path.Base(rel)) && !(r.Last && taken(wanting)) && r.WantsAt(path.Dir(rel), path.Base(rel)) {
			wanting = append(slices.Clip(wanting), r)
		}
	}
	return wanting
}

// wantedAt reports whether a reader wants a file by its path.
func wantedAt(dir, name string) bool {
	for i := range reader.All {
		if r := &reader.All[i]; r.WantsAt != nil && r.WantsAt(dir, name) {
			return true
		}
	}
	return false
}

// assemble makes a survey of what was read; partial says that there is more to read. The tasks
// are copies, or of a cache that has them still, so that adjusting them does not change what was
// read.
func (v *Surveyor) assemble(seen *workspace.Seen, partial bool) *Survey {
	s := &Survey{
		Partial: partial, Name: filepath.Base(v.root), Root: v.root, Tally: &tallyfile.Merged{}, packages: map[string]string{}, depends: map[string][]string{},
		Skipped: slices.Clip(seen.Skipped), Faults: slices.Clone(seen.Faults), Folders: seen.Folders, Files: seen.Count,
	}
	v.mu.Lock()
	states, names := v.inOrder()
	count := 0
	taught := map[string]bool{} // how these are read, a tally file says
	for _, state := range states {
		for _, t := range state.taught {
			taught[t.File] = true
		}
		if state.given {
			state.given, state.kept = false, kept{}
			_ = pack.Read(state.record, &state.kept) // it was read before
		}
		for _, f := range state.Found {
			count += len(f.Tasks)
		}
	}
	s.Tasks = make([]*task.Task, 0, count)
	var copies []task.Task
	add := func(tasks []*task.Task) {
		for _, t := range tasks {
			if len(copies) == cap(copies) {
				copies = make([]task.Task, 0, max(64, len(tasks)))
			}
			copies = append(copies, *t)
			s.Tasks = append(s.Tasks, &copies[len(copies)-1])
		}
	}
	for i, name := range names {
		state := states[i]
		state.given = !partial && state.fresh
		state.fresh = false
		from := len(s.Tasks)
		for _, r := range state.Read {
			if r.Source != "editor" || !taught[name] {
				s.Read = append(s.Read, r)
			}
		}
		for _, t := range state.taught {
			s.Read = append(s.Read, Read{Path: t.File, Source: "taught", Tasks: len(t.Tasks)})
		}
		s.Taught = append(s.Taught, state.taught...)
		for _, f := range state.Found {
			if taught[name] && len(f.Tasks) > 0 && f.Tasks[0].Source == "editor" {
				continue
			}
			if state.given {
				s.Tasks = append(s.Tasks, f.Tasks...)
			} else {
				add(f.Tasks)
			}
			s.Faults = append(s.Faults, f.Faults...)
			s.Tally.Sieves = append(s.Tally.Sieves, f.Sieves...)
			if _, taken := s.packages[f.Package]; f.Package != "" && !taken {
				s.depends[path.Dir(name)] = f.Depends
				s.packages[f.Package] = path.Dir(name)
			}
		}
		if state.tally != nil {
			s.Tally.Add(state.tally)
			add(state.tally.Tasks)
			s.Faults = append(s.Faults, state.tally.Faults...)
		}
		slices.SortStableFunc(s.Tasks[from:], func(a, b *task.Task) int { return a.Line - b.Line })
		if i := slices.IndexFunc(seen.Generated, func(g workspace.Skip) bool { return g.Path == name }); i >= 0 {
			for _, t := range s.Tasks[from:] {
				o := t.Origin("name")
				o.Note = strings.TrimPrefix(o.Note+"; generated: ignored by "+seen.Generated[i].Rule, "; ")
				t.SetOrigin("name", o)
			}
		}
	}
	v.findParts(s, states, names)
	s.Watched = v.watched(states, seen)
	v.mu.Unlock()
	s.finish(v.tree, v.licences)
	slices.SortStableFunc(s.Faults, func(a, b task.Fault) int {
		if c := compareFiles(a.File, b.File); c != 0 {
			return c
		}
		return a.Line - b.Line
	})
	return s
}

// findParts says of each file without tasks of its own which other file brings it in.
func (v *Surveyor) findParts(s *Survey, states []*fileState, names []string) {
	empty := map[string]bool{}
	for _, r := range s.Read {
		if r.Tasks+r.Faults == 0 {
			empty[r.Path] = true
		}
	}
	if len(empty) == 0 {
		return
	}
	partOf := map[string]string{}
	for i, name := range names {
		if empty[name] {
			continue
		}
		for _, l := range states[i].Looks {
			if p := l.Path; empty[p] && l.OfFile() && (partOf[p] == "" || len(name) > len(partOf[p])) { // the nearest
				partOf[p] = name
			}
		}
	}
	for i := range s.Read {
		if r := &s.Read[i]; empty[r.Path] {
			r.PartOf = partOf[r.Path]
		}
	}
}

// watched returns the folders that must be watched: those that the walk entered, and
// others that a reader asked for.
func (v *Surveyor) watched(states []*fileState, seen *workspace.Seen) []string {
	folders := slices.Clip(seen.Folders)
	for _, state := range states {
		for _, l := range state.Looks {
			dir := l.Path
			if l.What != declare.Watch || slices.Contains(folders[len(seen.Folders):], dir) {
				continue
			}
			if _, entered := slices.BinarySearch(seen.Folders, dir); entered {
				continue
			}
			if info, err := os.Stat(filepath.Join(v.root, filepath.FromSlash(dir))); err == nil && info.IsDir() {
				folders = append(folders, dir)
			}
		}
	}
	return folders
}

// inOrder returns the states with their names, in the order of the survey. The order
// is computed again only if the names have changed.
func (v *Surveyor) inOrder() (states []*fileState, names []string) {
	states = make([]*fileState, 0, len(v.states)+len(v.personal))
	for _, name := range v.order {
		state := v.states[name]
		if state == nil {
			state = v.personal[name]
		}
		if state == nil {
			break
		}
		states = append(states, state)
	}
	if len(states) == len(v.order) && len(states) == len(v.states)+len(v.personal) {
		return states, v.order
	}
	all := maps.Clone(v.states)
	maps.Copy(all, v.personal)
	v.order = slices.SortedFunc(maps.Keys(all), compareFiles)
	states = states[:0]
	for _, name := range v.order {
		states = append(states, all[name])
	}
	return states, v.order
}

// nameQueue hands names on, however many wait.
type nameQueue struct {
	mu     sync.Mutex
	wake   *sync.Cond
	names  []string
	closed bool
}

func newNameQueue() *nameQueue {
	q := &nameQueue{}
	q.wake = sync.NewCond(&q.mu)
	return q
}

func (q *nameQueue) put(name string) {
	q.mu.Lock()
	q.names = append(q.names, name)
	q.mu.Unlock()
	q.wake.Signal()
}

func (q *nameQueue) take() (string, bool) {
	q.mu.Lock()
	defer q.mu.Unlock()
	for len(q.names) == 0 && !q.closed {
		q.wake.Wait()
	}
	if len(q.names) == 0 {
		return "", false
	}
	name := q.names[len(q.names)-1]
	q.names = q.names[:len(q.names)-1]
	return name, true
}

// close says that no more names follow.
func (q *nameQueue) close() {
	q.mu.Lock()
	q.closed = true
	q.mu.Unlock()
	q.wake.Broadcast()
}
