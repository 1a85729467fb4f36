package plan

import (
	"fmt"
	"slices"
	"time"

	"tidytally/core/learn"
	"tidytally/core/task"
)

// State says what is known of a step before it runs.
type State string

// The states.
const (
	Needed  State = "run"     // something that it reads has changed, or it has not run yet
	Fresh   State = "fresh"   // nothing that it reads has changed since its last good run
	Up      State = "up"      // it stays up, and is up already
	Unknown State = "unknown" // nothing is known of what it reads
)

// FromTool is the origin of what the build tool said when it was asked.
const FromTool learn.Origin = "asked"

// Outlook is what is known of a step before it runs.
type Outlook struct {
	State State
	Since time.Time // of Fresh: the start of the last good run
	Run   int64     // of Fresh: that run's number in the history; 0 if it is not kept
	Why   []string
	// Reasons is the number of reasons, of which Why has the first ones.
	Reasons int
	// From says how it is known what the task reads; "" where that is not known.
	From learn.Origin
	// Ran says that there is a record of a good run: without one, Needed is no news.
	Ran bool
}

// Stale reports whether something has changed since the last good run.
func (o *Outlook) Stale() bool { return o.State == Needed && o.Ran }

// maxWhy bounds the reasons of an outlook.
const maxWhy = 5

// OutlookOf returns what is known of a task in the workspace at root, absolute. records are those of its
// last good run; now is what a run would be given. What the tally file declares goes before what was seen;
// what was inferred goes with it.
func OutlookOf(t *task.Task, records learn.Records, root string, now func() (learn.Setting, error)) Outlook {
	if t.Command.IsZero() {
		return Outlook{State: Needed}
	}
	origins := []learn.Origin{learn.Watched}
	if len(t.Reads) > 0 {
		origins = []learn.Origin{learn.Declared}
		if t.Origin("reads").Manner == task.Inferred && records[learn.Watched] != nil {
			origins = append(origins, learn.Watched)
		}
	}
	if records[origins[0]] == nil {
		if len(t.Reads) > 0 {
			return Outlook{State: Needed, Why: []string{"no good run is on record"}, From: learn.Declared}
		}
		return Outlook{State: Unknown}
	}
	set, err := now()
	if err != nil {
		return Outlook{State: Unknown, Why: []string{err.Error()}}
	}
	var o Outlook
	for _, origin := range origins {
		o = differs(records[origin], root, set)
		if o.State != Fresh {
			break
		}
	}
	return o
}

func differs(k *learn.Known, root string, now learn.Setting) Outlook {
	o := Outlook{From: k.Origin, Ran: true, Run: k.Run}
	reasons, unknown := k.Differs(root, now)
	switch {
	case unknown != "":
		o.State, o.Why = Unknown, []string{unknown}
	case len(reasons) == 0:
		o.State, o.Since = Fresh, k.Started
	default:
		o.State, o.Reasons, o.Why = Needed, len(reasons), reasons[:min(len(reasons), maxWhy)]
		if n := len(reasons) - maxWhy; n > 0 {
			o.Why = append(o.Why, fmt.Sprintf("and %d more", n))
		}
	}
	return o
}

// Follow changes looks, the outlooks of the steps: a fresh step becomes unknown if a step that it waits for will
// make a file anew that it reads. known returns the records of a task by its id.
func (p *Plan) Follow(looks []Outlook, known func(id string) learn.Records) {
	makes := map[string][]int{} // the steps that will make a file anew, by the file's path
	note := func(i int) {
		for _, k := range known(p.Steps[i].Task.ID()) {
			for j := range k.Stamps {
				if s := &k.Stamps[j]; s.Role == learn.Made {
					makes[s.Path] = append(makes[s.Path], i)
				}
			}
		}
	}
	for i := range p.Steps {
		if looks[i].State == Fresh && len(makes) > 0 {
			if before, file := p.made(i, makes, known); before >= 0 {
				looks[i] = Outlook{
					State: Unknown, From: looks[i].From, Ran: true,
					Why: []string{fmt.Sprintf("%s makes %s before it", p.Steps[before].Task.Name, file)},
				}
				note(i)
			}
		} else if looks[i].State == Needed {
			note(i)
		}
	}
}

// made returns the first file that step i reads and a step that it waits for makes, with that step; -1 if there
// is none.
func (p *Plan) made(i int, makes map[string][]int, known func(id string) learn.Records) (before int, file string) {
	waits := map[int]bool{}
	for next := slices.Clone(p.Steps[i].After); len(next) > 0; next = next[1:] {
		if k := next[0]; !waits[k] {
			waits[k] = true
			next = append(next, p.Steps[k].After...)
		}
	}
	before = -1
	for _, k := range known(p.Steps[i].Task.ID()) {
		for j := range k.Stamps {
			s := &k.Stamps[j]
			if s.Role == learn.Made || before >= 0 && s.Path >= file {
				continue
			}
			if at := slices.IndexFunc(makes[s.Path], func(k int) bool { return waits[k] }); at >= 0 {
				before, file = makes[s.Path][at], s.Path
			}
		}
	}
	return before, file
}
