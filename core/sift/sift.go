// Package sift is the one way from a workspace, a folder, its tally files and a
// via to an engine that finds the problems of an output. What is run and what is
// read from a file go through the same sieves.
package sift

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/family"
	"tidytally/core/tallyfile"
	"tidytally/core/workspace"
)

// Output says where an output comes from.
type Output struct {
	// Root is the workspace, an absolute path. Places below it are relative to it.
	Root string
	// Dir is the absolute path of the folder where the command runs.
	Dir string
	// Tally is what the tally files say; nil if there are none.
	Tally *tallyfile.Merged
	// Via names the wrapper of Tally through which the command runs, or is empty.
	Via string
	// There is the workspace's folder on the machine where the command runs; "" for the same as here.
	There string
	// Sieves names the sieves to use; empty stands for all.
	Sieves []string
	// Search returns the files of the workspace whose path ends in tail; may be nil.
	Search func(tail string) []string
	// From is the absolute path of the folder that places are given relative to,
	// instead of Root; empty for Root.
	From string
}

// Receiver takes what an engine finds. The fields are those of sieve.Options.
type Receiver struct {
	Problem func(problem.Problem)
	Repeat  func(seq int)
	Cycle   func(n int)
}

// New makes an engine for an output. sources answers for the text of source
// lines; its Root is set.
func New(o Output, sources *problem.Sources, to Receiver) *sieve.Engine {
	sources.Root = o.Root
	dir := ""
	if rel, err := filepath.Rel(o.Root, o.Dir); err != nil || strings.HasPrefix(rel, "..") {
		dir = o.Dir
	} else if rel != "." {
		dir = filepath.ToSlash(rel)
	}
	opts := sieve.Options{
		Root: o.Root, Dir: dir, Search: o.Search,
		Package: workspace.NewPackages(o.Root).Folder,
		Exists:  (&presence{root: o.Root}).of,
		Line:    sources.Line,
		Problem: to.Problem, Repeat: to.Repeat, Cycle: to.Cycle,
	}
	if o.Tally != nil {
		opts.Own, opts.Families = choose(o.Tally.Sieves, o.Sieves)
	}
	opts.Map = Mappings(o.Tally, o.Via, o.There, o.Root)
	if o.From != "" && o.From != o.Root {
		opts.Problem = func(p problem.Problem) { to.Problem(relativeTo(o.From, o.Root, p)) }
	}
	return sieve.New(family.All, opts)
}

// presence looks whether files exist. It caches one missing folder, because a log from
// another machine names thousands of files below it. The entry expires, because the
// task may create the folder.
type presence struct {
	root    string
	missing string // the folder, with a separator at its end; relative if below root
	until   time.Time
}

// missingFor is short beside what a person notices, and long beside the thousands of
// lines of one log that name the same folder.
const missingFor = 100 * time.Millisecond

// of reports whether a path exists, absolute or relative to the root.
func (x *presence) of(p string) bool {
	if x.missing != "" && strings.HasPrefix(p, x.missing) {
		if time.Now().Before(x.until) {
			return false
		}
		x.missing = ""
	}
	if x.there(p) {
		return true
	}
	for dir := filepath.Dir(p); len(dir) > 1 && !x.there(dir); dir = filepath.Dir(dir) {
		x.missing, x.until = dir+string(filepath.Separator), time.Now().Add(missingFor)
	}
	return false
}

func (x *presence) there(p string) bool {
	if !filepath.IsAbs(p) {
		p = x.root + string(filepath.Separator) + p
	}
	_, err := os.Stat(p)
	return err == nil
}

// Mappings returns the folders of a launcher, which is via in tally, in a container or on another host, with the local
// ones, and that of the workspace at a place, there; each may be "". The longer path comes first, because it is the more
// specific.
func Mappings(tally *tallyfile.Merged, via, there, root string) (mapped []sieve.Mapping) {
	if tally != nil {
		for from, to := range tally.Vias[via].Paths {
			if !filepath.IsAbs(to) {
				to = filepath.Join(root, to)
			}
			mapped = append(mapped, sieve.Mapping{From: from, To: to})
		}
	}
	slices.SortFunc(mapped, func(a, b sieve.Mapping) int { return len(b.From) - len(a.From) })
	if there != "" {
		mapped = append(mapped, sieve.Mapping{From: there, To: root})
	}
	return mapped
}

// relativeTo returns a problem whose places below root are relative to the
// folder from.
func relativeTo(from, root string, p problem.Problem) problem.Problem {
	move := func(file string) string {
		if file == "" || file[0] == '<' || filepath.IsAbs(file) {
			return file
		}
		rel, err := filepath.Rel(from, filepath.Join(root, filepath.FromSlash(file)))
		if err != nil {
			return file
		}
		return filepath.ToSlash(rel)
	}
	p.File = move(p.File)
	p.Related = slices.Clone(p.Related)
	for i := range p.Related {
		p.Related[i].File = move(p.Related[i].File)
	}
	p.MayBe = slices.Clone(p.MayBe)
	for i := range p.MayBe {
		p.MayBe[i] = move(p.MayBe[i])
	}
	return p
}

// Rules returns a sieve of a tally file as an engine takes it.
func Rules(s tallyfile.Sieve) sieve.Rules {
	r := sieve.Rules{Name: s.Name, Begin: s.Begin, End: s.End, Severities: s.Severities}
	for _, l := range s.Lines {
		r.Lines = append(r.Lines, sieve.Rule{Match: l.Match, Repeat: l.Repeat})
	}
	return r
}

// choose returns the tally files' own sieves and the built-in families for an
// output. Without names, or with AllSieves among them, these are all but the
// private ones. families is nil for all.
func choose(own []tallyfile.Sieve, names []string) (rules []sieve.Rules, families []string) {
	all := len(names) == 0 || slices.Contains(names, tallyfile.AllSieves)
	for _, s := range own {
		if slices.Contains(names, s.Name) || all && !s.Private {
			rules = append(rules, Rules(s))
		}
	}
	if all {
		return rules, nil
	}
	families = []string{}
	for _, name := range family.All.Families() {
		if slices.Contains(names, name) {
			families = append(families, name)
		}
	}
	return rules, families
}
