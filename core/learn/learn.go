// Package learn records what a run read and wrote, as it was declared or as watching it showed, and
// reports later whether another run would differ.
package learn

import (
	"cmp"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"

	"a.early/system"

	"tidytally/core/files"
	"tidytally/core/keep"
	"tidytally/core/trace"
)

// Role is what a path was to a run.
type Role string

// The roles.
const (
	Read    Role = "read"
	Missing Role = "missing" // it was looked for, and not there
	Listed  Role = "listed"  // the names in it were read
	Made    Role = "made"    // written, and there at the end
	Removed Role = "removed" // taken away
	Runs    Role = "runs"    // executed
)

// Stamp is a path as it was at the end of a run.
type Stamp struct {
	Path  string `json:"path"` // relative to the workspace with slashes, or absolute
	Role  Role   `json:"role"`
	Times bool   `json:"times,omitempty"` // a program that compares times looked at it
	Size  int64  `json:"size"`
	Time  int64  `json:"time"`           // of the last change, in nanoseconds
	Hash  uint64 `json:"hash,omitempty"` // of the content, or of the names in a folder; 0 outside of the workspace
	// References is, of a source that compilers alone have opened, a hash of what may say in it which other files they read;
	// 0 where anything in the file may.
	References uint64 `json:"references,omitempty"`
}

// Origin says how it is known what a run read and made.
type Origin string

// The origins.
const (
	Declared Origin = "declared" // by reads and makes of the task
	Watched  Origin = "watched"  // the run was traced
)

// Setting is what a run is given besides files.
type Setting struct {
	Command uint64 `json:"command"` // a hash of the text: that may hold secrets
	Dir     string `json:"dir"`     // absolute
	// Env has hashes of the values of the variables that count, by their names; 0 for one that is not set.
	Env map[string]uint64 `json:"env,omitempty"`
}

// HashOf returns the hash of a text in a Setting, never 0. It is made with the user's own key, so that nobody finds a
// secret by trying.
func HashOf(text string) uint64 {
	mac := hmac.New(sha256.New, keep.Key())
	mac.Write([]byte(text))
	return max(leastHash, binary.BigEndian.Uint64(mac.Sum(nil)))
}

// differs returns how a run with the setting now differs from one with s.
func (s *Setting) differs(now Setting) (reasons []string) {
	if s.Command != now.Command {
		reasons = append(reasons, "the command is another one")
	}
	if s.Dir != now.Dir {
		reasons = append(reasons, "it runs in another folder")
	}
	for _, name := range slices.Sorted(maps.Keys(s.Env)) {
		if s.Env[name] != now.Env[name] {
			reasons = append(reasons, name+" in the environment is another one")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(now.Env)) {
		if _, was := s.Env[name]; !was && now.Env[name] != 0 {
			reasons = append(reasons, name+" in the environment is another one")
		}
	}
	return reasons
}

// Known is the record of a task's last good run.
type Known struct {
	Origin  Origin    `json:"origin"`
	Run     int64     `json:"run,omitempty"` // its number in the history; 0 if it is not kept
	Setting Setting   `json:"setting"`
	Started time.Time `json:"started"`
	Ended   time.Time `json:"ended"`
	Stamps  []Stamp   `json:"stamps"`
	// Reads and Makes are what was declared, as globs relative to the folder of the Setting.
	Reads []string `json:"reads,omitempty"`
	Makes []string `json:"makes,omitempty"`
	// Never says why it never counts as fresh: it used the network, wrote outside of the workspace.
	Never string `json:"never,omitempty"`
	// Unsure says why not all is known of what it reads, until a watched run makes all of it anew; "" if all is.
	Unsure string `json:"unsure,omitempty"`
	// Doubt is a source of which it is not sure what it refers to; "" if it is not one alone.
	Doubt string `json:"doubt,omitempty"`
	// RunsMade says that it executes what it makes: any change of a source may make it read other files.
	RunsMade bool `json:"runsMade,omitempty"`
	// Tries are the later runs with the same setting that were not watched and failed: what they made is as good as
	// what a good one makes.
	Tries []Try `json:"tries,omitempty"`

	compiled map[string]bool // the sources that compilers alone opened in the run that was watched
}

// Try is the time of a run.
type Try struct{ Started, Ended time.Time }

// tooMany says that the bound below was reached.
var tooMany = fmt.Sprintf("it touched more than %d paths", maxStamps)

const (
	// maxStamps bounds the paths of one task.
	maxStamps = 50_000
	// maxHashed is the size in bytes from which a file counts by its size and time alone.
	maxHashed = 256 << 20
	// grain is how much older than a change a file's time stamp may be.
	grain = 20 * time.Millisecond
)

// Of records what a watched run did, right after its end. root is the workspace, absolute; a later run
// must have the same setting. env returns the value of a variable of the run's environment.
func Of(tr *trace.Trace, root string, set Setting, started time.Time, env func(name string) string) *Known {
	k := &Known{Origin: Watched, Setting: set, Started: started, Ended: time.Now(), RunsMade: tr.RunsMade, compiled: map[string]bool{}}
	never := func(format string, args ...any) {
		if k.Never == "" {
			k.Never = fmt.Sprintf(format, args...)
		}
	}
	if tr.Cut != "" {
		never("it is not known what it read: %s", tr.Cut)
	}
	if tr.Network {
		never("it used the network")
	}
	if tr.Service != "" {
		never("it talked to %s, a service", tr.Service)
	}
	if tr.Clock {
		never("it read a clock device")
	}
	own := newPlaces(root, env)
	stamp := func(name string, role Role, use trace.Use) {
		if own.ignored(name) {
			return
		}
		if len(k.Stamps) == maxStamps {
			never("%s", tooMany)
			return
		}
		s := Stamp{Path: own.shown(name), Role: role, Times: use&trace.Times != 0}
		s.look(name, own.inside(name))
		switch {
		case role == Made && s.Size < 0, role == Missing && s.Size >= 0, role == Removed && s.Size >= 0:
			return // by now it is otherwise, by the run itself or another
		case role == Read && !tr.Wrote[name] && s.Time >= started.Add(grain).UnixNano() && own.inside(name) && s.Hash != 0 && !isFolder(name):
			s.Hash = changedMeanwhile
		case role == Read && use&trace.Steers == 0 && s.Hash != 0:
			s.References = referencesIn(name)
			k.compiled[s.Path] = s.References != 0 && use&trace.Opened != 0
		}
		k.Stamps = append(k.Stamps, s)
	}
	for _, name := range slices.Sorted(maps.Keys(tr.Wrote)) {
		if !own.inside(name) && !own.ignored(name) {
			never("it wrote %s, outside of the workspace", name)
		}
		stamp(name, Made, tr.Read[name])
	}
	for _, name := range slices.Sorted(maps.Keys(tr.Read)) {
		if !tr.Wrote[name] {
			stamp(name, Read, tr.Read[name])
		}
	}
	for _, name := range slices.Sorted(maps.Keys(tr.Listed)) {
		stamp(name, Listed, 0)
	}
	for _, name := range slices.Sorted(maps.Keys(tr.Missing)) {
		stamp(name, Missing, 0)
	}
	for _, name := range slices.Sorted(maps.Keys(tr.Removed)) {
		stamp(name, Removed, 0)
	}
	for _, name := range slices.Sorted(maps.Keys(tr.Executed)) {
		stamp(name, Runs, 0)
	}
	return k
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// look takes the present state of a path. What is not there has the size -1. content says that the
// content counts, not only size and time.
func (s *Stamp) look(name string, content bool) {
	info, err := os.Stat(name)
	if err != nil {
		s.Size, s.Time, s.Hash = -1, 0, 0
		return
	}
	s.Size, s.Time = info.Size(), info.ModTime().UnixNano()
	switch {
	case info.IsDir():
		s.Size, s.Time = 0, 0
		if s.Role == Listed {
			s.Hash = hashNames(name)
		}
	case !info.Mode().IsRegular():
		s.Size, s.Time = 0, 0 // a fifo, a socket, a device: that it is there counts
	case content && info.Size() < maxHashed:
		s.Hash = hashFile(name)
	}
}

// Hashes that no content has.
const (
	unreadable       = 1
	changedMeanwhile = 2 // while the run went on: nobody knows what was read
	leastHash        = 3
)

// hashFile returns a hash of a file's content, never 0.
func hashFile(name string) uint64 {
	f, info, err := files.Open(name)
	if err != nil {
		return unreadable
	}
	defer f.Close()
	h := xxhash.New()
	if _, err := io.Copy(h, io.LimitReader(f, info.Size())); err != nil {
		return unreadable
	}
	return max(leastHash, h.Sum64())
}

// hashNames returns a hash of the names in a folder, never 0.
func hashNames(dir string) uint64 {
	entries, err := files.List(dir)
	if err != nil {
		return unreadable
	}
	if len(entries) == files.MostNames {
		return unreadable
	}
	return hashEntries(entries)
}

// hashEntries sorts the entries of a folder and returns the hash of their names and types.
func hashEntries(entries []fs.DirEntry) uint64 {
	slices.SortFunc(entries, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	h := xxhash.New()
	for _, e := range entries {
		_, _ = h.WriteString(e.Name()) // it cannot fail
		_, _ = h.Write([]byte{0, byte(e.Type() >> 24)})
	}
	return max(leastHash, h.Sum64())
}

// places sorts paths: inside the workspace, ignored, or other.
type places struct {
	root   string
	ignore []string // folders whose content says nothing: caches, temporary files, what is no file
}

// keepFor names the folders that tools keep for themselves, by the variables that move them, which each tool documents,
// and where they are below the home folder without these.
var keepFor = []struct{ variable, home string }{
	{"XDG_CACHE_HOME", ".cache"}, {"GOCACHE", ""}, {"GOMODCACHE", "go/pkg/mod"}, {"CARGO_HOME", ".cargo"}, {"RUSTUP_HOME", ".rustup"}, {"CCACHE_DIR", ".ccache"}, {"SCCACHE_DIR", ""}, {"npm_config_cache", ".npm"},
	{"YARN_CACHE_FOLDER", ".yarn"}, {"PNPM_HOME", ".local/share/pnpm"}, {"BUN_INSTALL_CACHE_DIR", ".bun/install/cache"}, {"DENO_DIR", ""}, {"npm_config_devdir", ".node-gyp"}, {"COREPACK_HOME", ""}, {"NODE_COMPILE_CACHE", ""},
	{"PIP_CACHE_DIR", ""}, {"UV_CACHE_DIR", ""}, {"PYTHONPYCACHEPREFIX", ""}, {"MYPY_CACHE_DIR", ""}, {"RUFF_CACHE_DIR", ""}, {"GRADLE_USER_HOME", ".gradle"}, {"", ".m2"}, {"COMPOSER_CACHE_DIR", ""}, {"GEM_SPEC_CACHE", ""},
	{"BUNDLE_USER_CACHE", ".bundle/cache"}, {"ZIG_GLOBAL_CACHE_DIR", ""}, {"ELM_HOME", ".elm"}, {"NUGET_PACKAGES", ".nuget/packages"}, {"TMPDIR", ""},
}

// newPlaces returns the places of a run in the workspace at root. env returns the value of a variable of its environment.
func newPlaces(root string, env func(name string) string) *places {
	p := &places{root: root, ignore: []string{"/proc", "/sys", "/dev", "/run", os.TempDir(), "/tmp", "/var/tmp"}}
	home := env("HOME")
	for _, f := range keepFor {
		if dir := env(f.variable); filepath.IsAbs(dir) {
			p.ignore = append(p.ignore, filepath.Clean(dir))
		}
		if f.home != "" && filepath.IsAbs(home) {
			p.ignore = append(p.ignore, filepath.Join(home, f.home))
		}
	}
	config := env("XDG_CONFIG_HOME")
	if !filepath.IsAbs(config) {
		config = filepath.Join(home, ".config")
	}
	p.ignore = append(p.ignore, filepath.Join(config, "go")) // its counters
	if path := filepath.SplitList(env("GOPATH")); len(path) > 0 && filepath.IsAbs(path[0]) {
		p.ignore = append(p.ignore, filepath.Join(path[0], "pkg"))
	}
	p.ignore = slices.DeleteFunc(p.ignore, func(dir string) bool { // the workspace may be in one
		return dir == "/" || under(root, dir)
	})
	return p
}

func under(name, dir string) bool { return name == dir || strings.HasPrefix(name, dir+"/") }

func (p *places) inside(name string) bool { return under(name, p.root) }

// ignored reports whether a path says nothing of what a run would do.
func (p *places) ignored(name string) bool {
	if p.inside(name) {
		return false
	}
	return slices.ContainsFunc(p.ignore, func(dir string) bool { return under(name, dir) }) || under(p.root, name)
}

func (p *places) shown(name string) string {
	if rel, ok := strings.CutPrefix(name, p.root+"/"); ok {
		return rel
	}
	if name == p.root {
		return "."
	}
	return name
}

// Differs returns the reasons why a run with the setting now would differ from the known one, the sources among them before
// what the build keeps; without a reason it is fresh. unknown says why this cannot be decided; it is "" if it can.
func (k *Known) Differs(root string, now Setting) (reasons []string, unknown string) {
	if k.Never != "" {
		return nil, k.Never
	}
	if k.Unsure != "" {
		return nil, k.Unsure
	}
	reasons = append(k.Setting.differs(now), k.came(root)...)
	var later, kept []string
	for i := range k.Stamps {
		s := &k.Stamps[i]
		switch reason := s.State(root); {
		case reason == "":
		case keptByBuild(s.Path):
			kept = append(kept, s.Path)
		case s.Role == Read && !filepath.IsAbs(s.Path):
			reasons = append(reasons, reason)
		default:
			later = append(later, reason)
		}
	}
	reasons = append(reasons, later...)
	if len(reasons) == 0 && len(kept) > 0 {
		reasons = []string{fmt.Sprintf("what the build keeps for itself in %s changed", path.Dir(kept[0]))}
	}
	return reasons, ""
}

// Touched returns the differences of the files and folders that the run read, looked for or listed in the workspace. of says how a file
// differs from an earlier state; "" if it does not. in reports whether names were added to a folder or removed from it.
func (k *Known) Touched(of func(name string) string, in func(dir string) bool) (reasons []string) {
	for i := range k.Stamps {
		s := &k.Stamps[i]
		switch {
		case filepath.IsAbs(s.Path) || s.Role == Made || s.Role == Removed:
		case s.Role == Listed:
			if in(s.Path) {
				reasons = append(reasons, "files in "+s.Path+" came or went")
			}
		default:
			if reason := of(s.Path); reason != "" {
				reasons = append(reasons, reason)
			}
		}
	}
	return reasons
}

// Outdated says why a run with the setting now may read other files than the known run; "" if it reads the same. A source may change
// if its references do not. sources returns the paths in a folder that are not ignored: a listed folder must have no new one.
func (k *Known) Outdated(root string, now Setting, sources func(dir string) []string) string {
	if k.Never != "" || k.Unsure != "" {
		return cmp.Or(k.Never, k.Unsure)
	}
	if reasons := append(k.Setting.differs(now), k.came(root)...); len(reasons) > 0 {
		return reasons[0]
	}
	had := map[string]bool{}
	for i := range k.Stamps {
		had[k.Stamps[i].Path] = true
	}
	for i := range k.Stamps {
		s := k.Stamps[i]
		switch {
		case s.Role == Made || s.Role == Removed:
			continue
		case s.Role == Listed && !filepath.IsAbs(s.Path):
			if name := k.cameIn(root, &s, had, sources(s.Path)); name != "" {
				return name + " came"
			}
			continue
		}
		s.Times = false // the time of a file does not change which files are read
		reason := s.State(root)
		if reason == "" || s.References != 0 && !k.RunsMade && referencesIn(s.full(root)) == s.References {
			continue
		}
		return reason
	}
	return ""
}

// cameIn returns a source that may have been added to a listed folder since the run; "" if there is none. had has the paths of the
// run's stamps.
func (k *Known) cameIn(root string, listed *Stamp, had map[string]bool, sources []string) string {
	entries, err := files.List(listed.full(root))
	if err != nil || hashEntries(entries) == listed.Hash {
		return ""
	}
	since := func(name string) bool {
		info, err := os.Lstat(filepath.Join(root, filepath.FromSlash(name)))
		return err == nil && !had[name] && system.Changed(info).After(k.Started)
	}
	source := map[string]bool{path.Join(listed.Path, ".git"): true}
	for _, name := range sources {
		source[name] = true
	}
	// Without the newer ignored files, which other runs made, the folder may have its old names.
	entries = slices.DeleteFunc(entries, func(e fs.DirEntry) bool {
		name := path.Join(listed.Path, e.Name())
		return !source[name] && since(name)
	})
	if hashEntries(entries) == listed.Hash {
		return ""
	}
	if i := slices.IndexFunc(sources, since); i >= 0 {
		return sources[i]
	}
	return ""
}

// keptByBuild reports whether a file is one in which a build system notes what it did: that it is another one says nothing
// to a person.
func keptByBuild(name string) bool {
	base := path.Base(name)
	return strings.Contains("/"+name, "/CMakeFiles/") && path.Ext(name) != ".o" || strings.HasPrefix(base, ".ninja_") || base == "CMakeCache.txt" || strings.HasSuffix(base, ".tsbuildinfo") ||
		strings.Contains("/"+name, "/.deps/") || strings.Contains("/"+name, "/.fingerprint/") || strings.Contains("/"+name, "/meson-private/")
}

// State returns how a path has changed since the run, in a few words; "" if it has not.
func (s *Stamp) State(root string) string {
	name := s.full(root)
	info, err := os.Stat(name)
	there := err == nil || !errors.Is(err, fs.ErrNotExist)
	switch {
	case s.Size < 0 && there:
		return s.Path + " is new"
	case s.Size < 0:
		return ""
	case !there && s.Role == Runs:
		return s.Path + ", which it runs, is gone"
	case !there && s.Role == Made:
		return s.Path + ", which it made, is gone"
	case !there:
		return s.Path + " is gone"
	case s.Hash == changedMeanwhile:
		return s.Path + " changed while it ran"
	case err == nil && info.Mode().IsRegular() && info.Size() == s.Size && info.ModTime().UnixNano() == s.Time:
		return ""
	}
	now := Stamp{Role: s.Role}
	now.look(name, s.Hash != 0 && (s.Role == Listed || info.Size() == s.Size)) // one of another size is another one
	switch {
	case now.Hash != s.Hash && s.Role == Listed:
		return "files in " + s.Path + " came or went"
	case now.Hash != s.Hash, now.Size != s.Size, s.Hash == 0 && now.Time != s.Time:
		if s.Role == Made {
			return s.Path + ", which it made, has changed"
		}
		return s.Path + " changed"
	case s.Times && now.Time != s.Time:
		return s.Path + " has another time"
	}
	return ""
}

// Files returns the paths of the workspace in a role, for people.
func (k *Known) Files(role Role) (paths []string) {
	for _, s := range k.Stamps {
		if s.Role == role && !filepath.IsAbs(s.Path) {
			paths = append(paths, s.Path)
		}
	}
	return paths
}

// Records are what is known of one task, by origin.
type Records map[Origin]*Known
