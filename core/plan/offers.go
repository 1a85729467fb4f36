package plan

import (
	"path/filepath"
	"slices"
	"strings"

	"tidytally/core/learn"
	"tidytally/core/task"
)

// Offer says that one task reads what another one makes, and does not name it.
type Offer struct {
	Task   *task.Task // that reads
	Before *task.Task // that makes
	Files  []string   // relative to the workspace
	// Launches says that the task executes one of the files.
	Launches bool
}

// Offers returns the tasks that should come before t as it reads or executes what they make, as far
// as their last good runs and their declarations tell, and that are not in its plan yet. known
// returns the records of a task; program is the file that t executes, absolute, "" if that is not known.
func Offers(tasks []*task.Task, t *task.Task, known func(id string) learn.Records, root, program string) (offers []Offer) {
	uses, own := map[string]bool{}, map[string]bool{} // with whether it is executed
	sought := map[string]bool{}                       // was not there
	for _, k := range known(t.ID()) {
		for i := range k.Stamps {
			switch s := &k.Stamps[i]; {
			case filepath.IsAbs(s.Path) || s.Path == ".":
			case s.Role == learn.Runs:
				uses[s.Path] = true
			case s.Role == learn.Read && s.Hash != 0:
				uses[s.Path] = uses[s.Path] || false
			case s.Role == learn.Missing:
				sought[s.Path] = true
			case s.Role == learn.Made:
				own[s.Path] = true
			}
		}
	}
	if rel, err := filepath.Rel(root, program); program != "" && err == nil && filepath.IsLocal(rel) {
		uses[filepath.ToSlash(rel)] = true
	}
	for name := range own {
		delete(uses, name)
		delete(sought, name)
	}
	if len(uses)+len(sought) == 0 {
		return nil
	}
	have := map[*task.Task]bool{}
	if p, err := Of(tasks, t); err == nil {
		for i := range p.Steps {
			have[p.Steps[i].Task] = true
		}
	}
	best := map[string]*Offer{} // by file
	for _, maker := range tasks {
		if maker == t || maker.Kind == task.Clean || maker.LongRunning || maker.Command.IsZero() || maker.PartOf != "" {
			continue
		}
		o := &Offer{Task: t, Before: maker}
		for _, name := range makesOf(maker, known(maker.ID()), root, uses, sought) {
			o.Files = append(o.Files, name)
			o.Launches = o.Launches || uses[name]
		}
		for _, name := range o.Files {
			if best[name] == nil || o.before(best[name], have) {
				best[name] = o
			}
		}
	}
	for _, o := range best {
		if !have[o.Before] && !slices.ContainsFunc(offers, func(other Offer) bool { return other.Before == o.Before }) && !leadsTo(tasks, o.Before, t) {
			slices.Sort(o.Files)
			offers = append(offers, *o)
		}
	}
	slices.SortFunc(offers, func(a, b Offer) int { return strings.Compare(a.Before.ID(), b.Before.ID()) })
	return offers
}

// before reports whether an offer goes before another one for the same file: what is in the plan already,
// then a build, then what makes more of it, then the shorter name.
func (o *Offer) before(other *Offer, have map[*task.Task]bool) bool {
	if a, b := have[o.Before], have[other.Before]; a != b {
		return a
	}
	if a, b := o.Before.Kind == task.Build, other.Before.Kind == task.Build; a != b {
		return a
	}
	if len(o.Files) != len(other.Files) {
		return len(o.Files) > len(other.Files)
	}
	a, b := o.Before.ID(), other.Before.ID()
	return len(a) < len(b) || len(a) == len(b) && a < b
}

// makesOf returns those of some files that a task makes: files that are used, and those that were sought
// and that it is known to have made.
func makesOf(t *task.Task, records learn.Records, root string, used, sought map[string]bool) (names []string) {
	made := map[string]bool{}
	for _, k := range records {
		for i := range k.Stamps {
			if s := &k.Stamps[i]; s.Role == learn.Made {
				made[s.Path] = true
			}
		}
	}
	dir := filepath.Join(root, filepath.FromSlash(t.Dir))
	for name := range sought {
		if made[name] && !used[name] {
			names = append(names, name)
		}
	}
	for name := range used {
		if made[name] || len(t.Makes) > 0 && learn.Takes(root, dir, t.Makes, name) {
			names = append(names, name)
		}
	}
	return names
}

// leadsTo reports whether the plan of one task has another one in it, or is none.
func leadsTo(tasks []*task.Task, from, to *task.Task) bool {
	p, err := Of(tasks, from)
	return err != nil || slices.ContainsFunc(p.Steps, func(s Step) bool { return s.Task == to })
}
