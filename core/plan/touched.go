package plan

import (
	"fmt"
	"path/filepath"
	"slices"

	"tidytally/core/learn"
	"tidytally/core/task"
)

// Touch says whether the result of a task may differ between two states of the workspace.
type Touch string

// The touches.
const (
	Touched   Touch = "touched"
	Untouched Touch = "untouched"
	NotKnown  Touch = "unknown" // its reads are not known
)

// Touching says whether a task is touched, and why.
type Touching struct {
	State   Touch
	Why     []string // the first maxWhy reasons
	Reasons int      // how many there are
}

// Differences are those between the files of the workspace and an earlier state of them. Paths are relative to the workspace.
type Differences interface {
	// Of says how a file differs; "" if it does not.
	Of(name string) string
	// Names returns the paths of the files that differ, in order.
	Names() []string
	// In reports whether names were added to a folder or removed from it.
	In(dir string) bool
	// Files returns the paths of the files in a folder that are not ignored.
	Files(dir string) []string
}

// TouchedSince returns the touching of tasks by their ids. plans must have each task that is asked for, and each one with records,
// because it may make a file that another one reads. now returns the setting of a run of a task.
//
// A task is touched if a file differs that it reads or that declares it, if a step of its plan is touched, or if a touched task
// makes a file that it reads.
func TouchedSince(d Differences, plans map[string]*Plan, records map[string]learn.Records, root string, now func(*task.Task) (learn.Setting, error)) map[string]Touching {
	return allTouched(plans, records, func(t *task.Task) Touching { return touching(d, t, records[t.ID()], root, now) })
}

// TouchedSinceRun is like TouchedSince, but compares each task with its last good run, by its outlook.
func TouchedSinceRun(plans map[string]*Plan, records map[string]learn.Records, outlook func(*task.Task) Outlook) map[string]Touching {
	return allTouched(plans, records, func(t *task.Task) Touching {
		o := outlook(t)
		switch {
		case t.Command.IsZero(), o.State == Fresh:
			return Touching{State: Untouched}
		case o.Stale():
			return Touching{State: Touched, Why: o.Why, Reasons: o.Reasons}
		case len(o.Why) == 0:
			o.Why = []string{neverWatched}
		}
		return Touching{State: NotKnown, Why: o.Why, Reasons: len(o.Why)}
	})
}

const neverWatched = "never watched (run --learn), and it declares no reads"

// allTouched returns the touching of plans. one returns that of a single task, without its plan and other tasks.
func allTouched(plans map[string]*Plan, records map[string]learn.Records, one func(*task.Task) Touching) map[string]Touching {
	own := map[string]Touching{}
	for _, p := range plans {
		for i := range p.Steps {
			if t := p.Steps[i].Task; own[t.ID()].State == "" {
				own[t.ID()] = one(t)
			}
		}
	}
	spread(own, records)
	out := map[string]Touching{}
	for id, p := range plans {
		out[id] = ofPlan(p, own)
	}
	return out
}

// touching returns the touching of a single task.
func touching(d Differences, t *task.Task, records learn.Records, root string, now func(*task.Task) (learn.Setting, error)) Touching {
	var reasons []string
	declares := map[string]bool{t.File: true}
	for _, o := range t.Origins {
		declares[o.File] = true
	}
	for name := range declares {
		if reason := d.Of(name); name != "" && reason != "" {
			reasons = append(reasons, reason+", which declares it")
		}
	}
	if len(t.Reads) > 0 {
		dir := filepath.Join(root, filepath.FromSlash(t.Dir))
		for _, name := range d.Names() {
			if learn.Takes(root, dir, t.Reads, name) {
				reasons = append(reasons, d.Of(name))
			}
		}
	}
	unknown := ""
	if len(t.Reads) == 0 || t.Origin("reads").Manner == task.Inferred { // inferred reads are a part of all
		k := records[learn.Watched]
		switch {
		case k != nil:
			reasons = append(reasons, k.Touched(d.Of, d.In)...)
			if set, err := now(t); err != nil {
				unknown = err.Error()
			} else if reason := k.Outdated(root, set, d.Files); reason != "" {
				unknown = reason + " since it was watched, so that it may read other files"
			}
		case !t.Command.IsZero():
			unknown = neverWatched
		}
	}
	slices.Sort(reasons)
	reasons = slices.Compact(reasons)
	switch {
	case len(reasons) > 0:
		return touched(reasons)
	case unknown != "":
		return Touching{State: NotKnown, Why: []string{unknown}, Reasons: 1}
	}
	return Touching{State: Untouched}
}

func touched(reasons []string) Touching {
	return Touching{State: Touched, Why: reasons[:min(len(reasons), maxWhy)], Reasons: len(reasons)}
}

// spread marks the tasks that read a file that a touched or unknown task makes.
func spread(own map[string]Touching, records map[string]learn.Records) {
	makers := map[string][]string{} // of a path
	for id := range own {
		for _, k := range records[id] {
			for i := range k.Stamps {
				if s := &k.Stamps[i]; s.Role == learn.Made && !slices.Contains(makers[s.Path], id) {
					makers[s.Path] = append(makers[s.Path], id)
				}
			}
		}
	}
	pass := func(state Touch, mark func(reason string) Touching) {
		for again := true; again; {
			again = false
			for id, t := range own {
				if t.State == Touched || t.State == state {
					continue
				}
				if reason := byMaker(id, state, own, records[id], makers); reason != "" {
					own[id], again = mark(reason), true
				}
			}
		}
	}
	pass(Touched, func(reason string) Touching { return touched([]string{reason}) })
	pass(NotKnown, func(reason string) Touching {
		return Touching{State: NotKnown, Why: []string{reason + ", and whether it is touched is not known"}, Reasons: 1}
	})
}

// byMaker returns a reason if a task reads a file that another task in the given state makes; else "".
func byMaker(id string, state Touch, own map[string]Touching, records learn.Records, makers map[string][]string) string {
	for _, k := range records {
		for i := range k.Stamps {
			s := &k.Stamps[i]
			if s.Role == learn.Made || s.Role == learn.Removed {
				continue
			}
			for _, maker := range makers[s.Path] {
				if maker != id && own[maker].State == state {
					_, name := task.SplitID(maker)
					return fmt.Sprintf("%s makes %s", name, s.Path)
				}
			}
		}
	}
	return ""
}

// ofPlan merges the touching of a task with that of the other steps of its plan.
func ofPlan(p *Plan, own map[string]Touching) Touching {
	all := own[p.Task.ID()]
	for i := range p.Steps {
		step := p.Steps[i].Task
		t := own[step.ID()]
		if step.ID() == p.Task.ID() || t.State == Untouched || all.State == Touched && t.State != Touched {
			continue
		}
		if all.State != Touched && t.State == Touched || all.State == Untouched {
			all = Touching{State: t.State}
		}
		for _, why := range t.Why {
			if all.Reasons++; len(all.Why) < maxWhy {
				all.Why = append(slices.Clip(all.Why), step.Name+": "+why)
			}
		}
	}
	return all
}
