package survey

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

	"github.com/bmatcuk/doublestar/v4"

	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/sieve/family"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// Faults of tally files beyond their syntax: undefined names, missing files, keys of two tasks.

// check adds the faults.
func (s *Survey) check() {
	for _, f := range plan.Cycles(s.Tasks) {
		if path.Base(f.File) == workspace.TallyFile {
			s.Faults = append(s.Faults, f)
		}
	}
	s.checkSieves()
	s.checkRules()
	s.checkSettings()
	s.checkKeys()
	made := s.made()
	for _, t := range s.Tasks {
		if t.Source == "tally" || len(t.Origins) > 0 {
			s.checkFiles(t, made)
		}
	}
}

func (s *Survey) fault(o task.Origin, format string, args ...any) {
	s.Faults = append(s.Faults, task.Fault{File: o.File, Line: o.Line, Column: o.Column, Message: fmt.Sprintf(format, args...)})
}

// set returns the place at which a tally file sets a value of a task; ok is false if none does.
func set(t *task.Task, field string) (o task.Origin, ok bool) {
	o, ok = t.Origins[field]
	return o, ok && path.Base(o.File) == workspace.TallyFile
}

// checkSieves reports sieve names that are not defined.
func (s *Survey) checkSieves() {
	known := append(family.All.Families(), tallyfile.AllSieves)
	for _, own := range s.Tally.Sieves {
		known = append(known, own.Name)
	}
	for _, t := range s.Tasks {
		for _, name := range t.Sieves {
			if !slices.Contains(known, name) && !s.Tally.Bad("sieve", name) {
				s.fault(t.Origin("sieves"), "task %s: there is no sieve %s%s", t.Name, name, didYouMean(name, known))
			}
		}
	}
}

func didYouMean(name string, known []string) string {
	if near, ok := task.Nearest(name, known); ok {
		return "; did you mean " + near + "?"
	}
	return ""
}

// checkRules reports rules_off entries that are neither rules nor ignore files.
func (s *Survey) checkRules() {
	var known []string
	for _, r := range workspace.Rules {
		known = append(known, r.Name)
	}
	for _, name := range s.Tally.Workspace.RulesOff {
		if slices.Contains(known, name) {
			continue
		}
		if _, err := os.Lstat(filepath.Join(s.Root, filepath.FromSlash(name))); err == nil {
			continue // an ignore file
		}
		s.fault(s.Tally.Workspace.RulesOffAt, "rules_off: %q is neither a built-in rule nor an ignore file of this workspace%s; built-in are: %s",
			name, didYouMean(strings.TrimPrefix(name, "built-in: "), known), strings.Join(known, ", "))
	}
}

// checkSettings reports placeholders {set.NAME} that no [set] table defines.
func (s *Survey) checkSettings() {
	known := slices.Sorted(maps.Keys(s.Tally.Set))
	check := func(o task.Origin, texts ...string) {
		for _, text := range texts {
			for _, p := range task.Placeholders(text) {
				name, isSet := strings.CutPrefix(p, "set.")
				if _, there := s.Tally.Set[name]; isSet && !there {
					s.fault(o, "{%s}: no [set] table has %s%s", p, name, didYouMean(name, known))
					return
				}
			}
		}
	}
	command := func(o task.Origin, c task.Command) { check(o, append(slices.Clone(c.Argv), c.Shell)...) }
	for _, t := range s.Tasks {
		if o, ok := set(t, "command"); ok {
			command(o, t.Command)
		}
		if o, ok := set(t, "debug"); ok {
			command(o, t.Debug)
		}
		if o, ok := set(t, "dir"); ok {
			check(o, t.Dir)
		}
		if o, ok := set(t, "env"); ok {
			check(o, slices.Sorted(maps.Values(t.Env))...)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.Tally.Vias)) {
		command(s.Tally.Vias[name].Origin, s.Tally.Vias[name].Command)
	}
}

// checkKeys reports keys that two tasks have: the first has it.
func (s *Survey) checkKeys() {
	first := map[string]*task.Task{}
	for _, t := range s.Tasks {
		if t.Key == "" {
			continue
		}
		key := strings.ToLower(t.Key)
		if has := first[key]; has != nil {
			s.fault(t.Origin("key"), "key %s is that of task %s already, at %s:%d", t.Key, has.Name, has.Origin("key").File, has.Origin("key").Line)
		} else {
			first[key] = t
		}
	}
}

// made returns the patterns of what all tasks make, relative to the workspace.
func (s *Survey) made() (patterns []string) {
	for _, t := range s.Tasks {
		for _, pattern := range t.Makes {
			patterns = append(patterns, path.Join(t.Dir, pattern))
		}
	}
	return patterns
}

// checkFiles reports folders and files that a tally file names for a task and that are not there,
// and patterns that match nothing. What another task makes may still come.
func (s *Survey) checkFiles(t *task.Task, made []string) {
	dir := t.Dir
	if strings.Contains(dir, "{") {
		return
	}
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(s.Root, filepath.FromSlash(dir))
	}
	info, err := os.Stat(dir)
	if o, ok := set(t, "dir"); ok && (err != nil || !info.IsDir()) {
		s.fault(o, "task %s: the folder %s is not there; \"in\" counts from the folder of the tally file", t.Name, t.Dir)
	}
	if err != nil {
		return
	}
	if o, ok := set(t, "env_file"); ok && t.EnvFile != "" && !strings.Contains(t.EnvFile, "{") {
		if _, err := os.Stat(filepath.Join(s.Root, filepath.FromSlash(t.EnvFile))); errors.Is(err, fs.ErrNotExist) {
			s.fault(o, "task %s: the file %s is not there; \"env_file\" counts from the folder of the tally file", t.Name, t.EnvFile)
		}
	}
	for _, list := range []struct {
		key      string
		patterns []string
	}{{"reads", t.Reads}, {"rerun_on", t.RerunOn}} {
		o, ok := set(t, list.key)
		if !ok {
			continue
		}
		for _, pattern := range list.patterns {
			of := path.Join(t.Dir, pattern)
			comes := slices.ContainsFunc(made, func(m string) bool {
				hits, _ := doublestar.Match(m, of) // it was checked
				return hits || m == of
			})
			if !comes && matchesNothing(dir, pattern) {
				where := t.Dir
				if where == "." {
					where = "the workspace's root"
				}
				s.fault(o, "task %s: %s matches no file; \"%s\" counts from the folder that the task runs in, %s", t.Name, pattern, list.key, where)
			}
		}
	}
}

// maxSearched is the number of folders that are searched for a file that a pattern matches. It is
// asked at each survey.
const maxSearched = 2000

// searched is a folder in which a bounded number of folders is read.
type searched struct {
	fs.FS
	left int
}

var errSearched = errors.New("enough folders were read")

// ReadDir reads a folder, as long as there are some left.
func (f *searched) ReadDir(name string) ([]fs.DirEntry, error) {
	if f.left--; f.left < 0 {
		return nil, errSearched
	}
	return fs.ReadDir(f.FS, name)
}

// matchesNothing reports whether it is certain that no file in a folder matches a pattern.
func matchesNothing(dir, pattern string) bool {
	folder, err := os.OpenRoot(dir) // does not lead out of it, whatever links there are
	if err != nil {
		return false
	}
	defer folder.Close()
	in := &searched{folder.FS(), maxSearched}
	found := false
	err = doublestar.GlobWalk(in, strings.TrimPrefix(pattern, "./"), func(string, fs.DirEntry) error {
		found = true
		return errSearched
	}, doublestar.WithNoFollow())
	return err == nil && !found && in.left >= 0
}

// InTallyFile returns the faults of a tally file that was read, with its name as it is given: a
// path from the current folder. ok is false if the file is none of the survey's.
func (s *Survey) InTallyFile(name string) (faults []task.Fault, ok bool) {
	abs, err := filepath.Abs(name)
	if err != nil {
		return nil, false
	}
	if abs, err = filepath.EvalSymlinks(abs); err != nil {
		return nil, false
	}
	rel, err := filepath.Rel(s.Root, abs)
	if err != nil || !slices.ContainsFunc(s.Read, func(r Read) bool { return r.Path == filepath.ToSlash(rel) }) {
		return nil, false
	}
	for _, f := range s.Faults {
		if f.File == filepath.ToSlash(rel) {
			f.File = filepath.ToSlash(name)
			faults = append(faults, f)
		}
	}
	return faults, true
}

// maxUndeclared bounds the files of one kind that Undeclared names.
const maxUndeclared = 50

// Undeclared compares what a task declares that it reads and makes with what its last watched run did:
// each difference is a fault at the list that should have it, or has too much.
func (s *Survey) Undeclared(t *task.Task, k *learn.Known) (faults []task.Fault) {
	read, made, unread, unmade := k.Undeclared(s.Root, k.Setting.Dir, t.Reads, t.Makes)
	tell := func(key, format string, names []string) {
		o := t.Origin(key)
		for i, name := range names {
			if i == maxUndeclared {
				faults = append(faults, task.Fault{File: o.File, Line: o.Line, Column: o.Column, Message: fmt.Sprintf("task %s: and %d more", t.Name, len(names)-i)})
				return
			}
			faults = append(faults, task.Fault{File: o.File, Line: o.Line, Column: o.Column, Message: fmt.Sprintf("task %s "+format, t.Name, name)})
		}
	}
	tell("reads", "reads %s, which \"reads\" does not name", read)
	tell("reads", "read nothing that matches %s; take it out of \"reads\", or run it where it does", unread)
	tell("makes", "makes %s, which \"makes\" does not name", made)
	tell("makes", "made nothing that matches %s; take it out of \"makes\", or run it where it does", unmade)
	return faults
}
