package survey

import (
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
	"unsafe"

	"tidytally/core/reader/declare"
	"tidytally/core/workspace"
	"tidytally/internal/pack"
)

// A cache is what the survey of another start of the program read: the contents of folders, and
// what the readers found in files, each with stamps of all that it hangs on. It lies in the
// user's folder of caches, a file for each workspace, and may be lost at any time.
type cache struct {
	memory *workspace.Memory
	states map[string]string // packed, by the path of the file
}

// minCached is the number of folders and files from which on a cache is faster than a survey
// without. Tests set it.
var minCached = 200

const (
	// The cache is rewritten if one entry in minNew is new.
	minNew = 20
	// maxCaches is the number of workspaces whose caches are kept: those written last.
	maxCaches = 24
	// maxCacheFile is the length in bytes of the longest cache that is read.
	maxCacheFile = 256 << 20
)

// cacheHead begins a cache: another program, or one that was built again, reads other things.
func cacheHead(root string) (string, error) {
	program, err := os.Executable()
	if err != nil {
		return "", err
	}
	stamp, _ := workspace.FileStamp(program)
	if stamp == 0 {
		return "", errors.New("the program cannot be told from another")
	}
	return fmt.Sprintf("tidytally survey %016x of %s\n", stamp, root), nil
}

// cacheFile returns the path of a workspace's cache (XDG Base Directory Specification).
func cacheFile(root string) (string, error) {
	dir, err := os.UserCacheDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "tidytally", "surveys", fmt.Sprintf("%08x-%s", crc32.ChecksumIEEE([]byte(root)), filepath.Base(root))), nil
}

// readCache returns the cache of a workspace; nil if there is none that can be used.
func readCache(root string) *cache {
	file, err := cacheFile(root)
	if err != nil {
		return nil
	}
	info, err := os.Lstat(file)
	if err != nil || !info.Mode().IsRegular() || info.Size() > maxCacheFile {
		return nil
	}
	head, err := cacheHead(root)
	if err != nil {
		return nil
	}
	data, err := os.ReadFile(file)
	if err != nil || !strings.HasPrefix(string(data[:min(len(data), len(head))]), head) || len(data) < len(head)+4 {
		return nil
	}
	body := data[len(head) : len(data)-4]
	if crc32.ChecksumIEEE(body) != binary.LittleEndian.Uint32(data[len(data)-4:]) {
		return nil
	}
	c, err := parseCache(unsafe.String(unsafe.SliceData(body), len(body))) // nothing writes to it any more
	if err != nil {
		return nil
	}
	return c
}

// packedState is a file's state in a cache.
type packedState struct {
	Path string
	Kept string // a packed kept
}

// packedCache is a whole cache.
type packedCache struct {
	Memory string
	States []packedState
}

func parseCache(text string) (*cache, error) {
	var p packedCache
	if err := pack.Read(text, &p); err != nil {
		return nil, err
	}
	c := &cache{states: make(map[string]string, len(p.States))}
	for _, s := range p.States {
		c.states[s.Path] = s.Kept
	}
	var err error
	c.memory, err = workspace.ReadMemory(p.Memory)
	return c, err
}

// state returns what the cache has of a file, if all that it hangs on is as it was.
func (c *cache) state(ws *declare.Workspace, name string) *fileState {
	if c == nil {
		return nil
	}
	text, known := c.states[name]
	if !known {
		return nil
	}
	state := &fileState{record: text, fresh: true}
	if pack.Read(text, &state.kept) != nil || !ws.Hold(state.Looks) {
		return nil
	}
	return state
}

// Remember writes what was read for the next start of the program, if that is worth it: it
// returns without an error where the workspace is small, or little is new. It waits for the end
// of a survey.
func (v *Surveyor) Remember() error {
	v.using.Lock()
	defer v.using.Unlock()
	if v.seen == nil {
		return nil
	}
	all, anew := v.tree.Anew()
	for _, state := range v.states {
		all++
		if state.record == "" {
			anew++
		}
	}
	if all < minCached || anew*minNew < all {
		return nil
	}
	ws := declare.NewWorkspace(v.root, v.tree)
	ws.End(v.seen)
	var p packedCache
	var packing sync.WaitGroup
	packing.Go(func() { p.Memory = string(v.tree.Remember(v.began)) })
	names := slices.Collect(maps.Keys(v.states))
	p.States = make([]packedState, len(names))
	inParts(len(names), func(_, from, to int) {
		for i := from; i < to; i++ {
			state := v.states[names[i]]
			if p.States[i] = (packedState{names[i], state.record}); state.record == "" {
				p.States[i].Kept = state.packed(ws, names[i], v.began)
			}
		}
	})
	packing.Wait()
	p.States = slices.DeleteFunc(p.States, func(s packedState) bool { return s.Kept == "" })
	file, err := cacheFile(v.root)
	if err != nil {
		return err
	}
	head, err := cacheHead(v.root)
	if err != nil {
		return err
	}
	text := pack.Append([]byte(head), &p)
	text = binary.LittleEndian.AppendUint32(text, crc32.ChecksumIEEE(text[len(head):]))
	return writeCache(file, text)
}

// packed returns the state of a file for a cache; "" if it cannot be kept.
func (s *fileState) packed(ws *declare.Workspace, name string, began time.Time) string {
	if s.tally != nil || len(s.taught) > 0 || slices.ContainsFunc(s.Found, func(f declare.Found) bool { return len(f.Sieves) > 0 }) {
		return "" // compiled expressions cannot be packed
	}
	k := s.kept
	if len(k.Read) > 0 || len(k.Found) > 0 { // else the file's name said all
		k.Looks = append(slices.Clip(k.Looks), declare.Look{What: declare.Content, Path: name, Answer: 1})
	}
	var ok bool
	if k.Looks, ok = ws.Stamped(k.Looks, began); !ok {
		return ""
	}
	return string(pack.Append(nil, &k))
}

// writeCache writes a cache beside the old one and puts it in its place. Whether it reaches the
// disk does not matter: its sum tells.
func writeCache(file string, text []byte) error {
	dir := filepath.Dir(file)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(dir, ".new-*")
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), file)
	}
	if err != nil {
		os.Remove(f.Name())
		return err
	}
	sweepCaches(dir)
	return nil
}

// sweepCaches removes the oldest caches, and what programs that were killed have left.
func sweepCaches(dir string) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	type aged struct {
		name string
		at   time.Time
	}
	var kept []aged
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			continue // another program swept it
		}
		if strings.HasPrefix(e.Name(), ".new-") {
			if time.Since(info.ModTime()) > time.Hour {
				os.Remove(filepath.Join(dir, e.Name()))
			}
			continue
		}
		kept = append(kept, aged{e.Name(), info.ModTime()})
	}
	slices.SortFunc(kept, func(a, b aged) int { return b.at.Compare(a.at) })
	for _, old := range kept[min(len(kept), maxCaches):] {
		os.Remove(filepath.Join(dir, old.name))
	}
}
