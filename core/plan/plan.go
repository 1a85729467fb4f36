// Package plan orders the steps of a run: which tasks come before one, beside it, and
// at the end whatever happened. It starts nothing.
package plan

import (
	"errors"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"sync"
	"time"

	"tidytally/core/task"
)

// Role is the reason why a step is in a plan.
type Role string

// The roles, in the order in which a plan lists them.
const (
	Before Role = "before"
	With   Role = "with"
	Main   Role = "task"
	After  Role = "after"
)

// Step is the run of one task in a plan.
type Step struct {
	Task *task.Task
	Role Role
	// After holds the indices of the steps that must have ended well before this one
	// starts. A long-running one must be up.
	After []int
	// With holds the indices of the steps that run beside this one.
	With []int
	// Of is, for the role After, the index of the step that this one follows.
	Of int
}

// Plan is the steps of the run of one task, in an order in which they could run one by
// one.
type Plan struct {
	Task  *task.Task
	Steps []Step
	Main  int // the index of the task itself
	// Files of AllFiles of a test suite run; both 0 if the plan is not a split suite.
	Files, AllFiles int
	// AtOnce bounds how many steps run at once; 0 leaves that to the slots.
	AtOnce int
	// KeepGoing runs the steps before the task whatever fails of them.
	KeepGoing bool
	// Anyway runs steps that are fresh too, where their tasks say that they are left out.
	Anyway bool
	// File is the current file of the steps, absolute, and Line a line of it, where that is not the workspace's; else "".
	File string
	Line int
}

// maxSteps bounds the steps of a plan.
const maxSteps = 10_000

// Error is a mistake in what tasks say of each other. Task is the one that says it, in the
// value that Field names.
type Error struct {
	Task    *task.Task
	Field   string
	Message string
	Cycle   bool // a task waits for itself
}

func (e *Error) Error() string { return e.Field + " of " + e.Task.ID() + ": " + e.Message }

// Of returns the plan of a task. tasks are those that it may name. A cycle, and a name of
// no task or of several, is an *Error.
func Of(tasks []*task.Task, t *task.Task) (*Plan, error) {
	return of(finder(tasks), t)
}

// finder returns a lookup that indexes tasks on first use.
func finder(tasks []*task.Task) func(id string) (*task.Task, error) {
	known := sync.OnceValue(func() *task.Finder { return task.NewFinder(tasks) })
	return func(id string) (*task.Task, error) { return known().Find(id) }
}

func of(find func(id string) (*task.Task, error), t *task.Task) (*Plan, error) {
	p := planner{find: find, plan: &Plan{Task: t}, index: map[stepKey]int{}}
	main, err := p.add(t, Main, nil, 0)
	if err != nil {
		return nil, err
	}
	p.plan.Main = main
	return p.plan, p.finish()
}

// finish adds what runs at the end.
func (p *planner) finish() error {
	for _, of := range p.cleaned {
		for _, id := range p.plan.Steps[of].Task.After {
			if _, err := p.named(p.plan.Steps[of].Task, "after", id, After, nil, of); err != nil {
				return err
			}
		}
	}
	return nil
}

// Concurrent reports whether steps of the plan may run at the same time.
func (p *Plan) Concurrent() bool {
	behind := make([]*big.Int, len(p.Steps)) // the steps that have ended when one starts, as bits
	early, late := new(big.Int), new(big.Int)
	for i := range p.Steps {
		s := &p.Steps[i]
		if s.Role == With || s.Task.LongRunning && s.Role == Before {
			return true
		}
		behind[i] = new(big.Int)
		if s.Role == After {
			behind[i].Set(early)
		}
		for _, j := range s.After {
			behind[i].SetBit(behind[i].Or(behind[i], behind[j]), j, 1)
		}
		seen := early
		if s.Role == After {
			seen = late
		}
		if new(big.Int).AndNot(seen, behind[i]).BitLen() > 0 {
			return true
		}
		seen.SetBit(seen, i, 1)
	}
	return false
}

// Longest returns how long the steps up to the task take at least, by how long each takes: over
// the longest path of those that wait for each other. It is 0 if a step on the way is not known.
// A step that stays up takes no time.
func (p *Plan) Longest(takes func(*task.Task) (time.Duration, bool)) time.Duration {
	ends := make([]time.Duration, len(p.Steps))
	for i := range p.Steps {
		s := &p.Steps[i]
		for _, k := range s.After {
			ends[i] = max(ends[i], ends[k])
		}
		if s.Role == With || s.Role == After || s.Task.LongRunning || s.Task.Reruns() {
			continue
		}
		d, known := takes(s.Task)
		if !known {
			return 0
		}
		ends[i] += d
	}
	return ends[p.Main]
}

type planner struct {
	find    func(id string) (*task.Task, error)
	plan    *Plan
	index   map[stepKey]int // of the steps that are there
	cleaned []int           // the steps that may have steps after them
	path    []link
}

// stepKey identifies a step: a task may run once at the end besides.
type stepKey struct {
	task *task.Task
	late bool
}

// link is a step on the way to the one that is being added, with the value that leads on.
type link struct {
	task  *task.Task
	field string
}

// named adds the step that a value of a task names.
func (p *planner) named(by *task.Task, field, id string, role Role, after []int, of int) (int, error) {
	t, err := p.find(id)
	if err != nil {
		return 0, &Error{Task: by, Field: field, Message: err.Error()}
	}
	p.path = append(p.path, link{by, field})
	defer func() { p.path = p.path[:len(p.path)-1] }()
	return p.add(t, role, after, of)
}

// add adds the step of a task behind those that it needs, and returns its index.
func (p *planner) add(t *task.Task, role Role, after []int, of int) (int, error) {
	if err := p.cycle(t); err != nil {
		return 0, err
	}
	key := stepKey{t, role == After}
	if i, ok := p.index[key]; ok {
		return i, nil
	}
	if i, ok := p.index[stepKey{t, false}]; ok && len(p.path) > 0 && p.path[len(p.path)-1].field != "after" {
		return i, nil
	}
	if p.pending(t) {
		return -1, nil // partners that name each other
	}
	if len(p.plan.Steps)+len(p.path) >= maxSteps {
		return 0, &Error{Task: t, Field: "before", Message: fmt.Sprintf("the plan has more than %d steps", maxSteps)}
	}
	after = slices.Clone(after)
	needs := role // a step at the end brings what it needs to the end
	if role != After {
		needs = Before
	}
	for _, first := range []struct {
		field string
		ids   []string
	}{{"before", t.Before}, {"packages_before", p.upstream(t)}} {
		for _, id := range first.ids {
			i, err := p.named(t, first.field, id, needs, nil, of)
			if err != nil {
				return 0, err
			}
			if !slices.Contains(after, i) {
				after = append(after, i)
			}
		}
	}
	var partners []int
	for _, id := range t.With {
		i, err := p.named(t, "with", id, With, after, of)
		if err != nil {
			return 0, err
		}
		if i >= 0 && !slices.Contains(partners, i) {
			partners = append(partners, i)
		}
	}
	at := len(p.plan.Steps)
	p.plan.Steps = append(p.plan.Steps, Step{t, role, after, partners, of})
	p.index[key] = at
	if len(t.After) > 0 && role != After {
		p.cleaned = append(p.cleaned, at)
	}
	return at, nil
}

// upstream returns the tasks of other packages that come before a task: if it asks for them,
// or is itself there for such a task.
func (p *planner) upstream(t *task.Task) []string {
	if t.PackagesBefore != "" || len(p.path) > 0 && p.path[len(p.path)-1].field == "packages_before" {
		return t.Upstream
	}
	return nil
}

// pending reports whether a task's step is being added at this moment.
func (p *planner) pending(t *task.Task) bool {
	return slices.ContainsFunc(p.path, func(l link) bool { return l.task == t })
}

// cycle returns an error if a task waits for itself. Partners that name each other do not
// wait.
func (p *planner) cycle(t *task.Task) error {
	from := slices.IndexFunc(p.path, func(l link) bool { return l.task == t })
	if from < 0 {
		return nil
	}
	round := p.path[from:]
	waits := slices.IndexFunc(round, func(l link) bool { return l.field != "with" })
	if waits < 0 {
		return nil
	}
	// The same cycle is told in the same words wherever one enters it.
	first := 0
	for i := range round {
		if round[i].task.ID() < round[first].task.ID() {
			first = i
		}
	}
	round = slices.Concat(round[first:], round[:first])
	var names []string
	for _, l := range round {
		names = append(names, l.task.ID())
	}
	last := round[len(round)-1]
	return &Error{last.task, last.field, "cycle: " + strings.Join(append(names, names[0]), " → ") + "; take one of these out", true}
}

// Cycles returns the cycles among the tasks: each once, at the place of the value that closes
// it.
func Cycles(tasks []*task.Task) (faults []task.Fault) {
	find := finder(tasks)
	told := map[string]bool{}
	for _, t := range tasks {
		if len(t.Before)+len(t.With)+len(t.After) == 0 && (t.PackagesBefore == "" || len(t.Upstream) == 0) {
			continue
		}
		var mistake *Error
		if _, err := of(find, t); !errors.As(err, &mistake) || !mistake.Cycle || told[mistake.Message] {
			continue
		}
		told[mistake.Message] = true
		field := mistake.Field
		if field == "before" {
			field = "needs" // as the JSON calls it
		}
		by := mistake.Task
		if field == "packages_before" {
			by = t // others are there for its sake
		}
		o := by.Origin(field)
		faults = append(faults, task.Fault{File: o.File, Line: o.Line, Column: o.Column, Message: mistake.Error()})
	}
	return faults
}
