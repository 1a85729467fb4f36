// Package plan orders the steps of a run: what comes before a task, beside it, and
// at the end whatever happened.
package plan

import (
	"fmt"
	"strings"

	"tidytally/core/task"
)

// Role is the reason why a step is in a plan.
type Role string

// The roles, in the order in which they run.
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
}

// Of returns the steps of the run of a task: each once, behind those that it needs.
// A cycle, or a name of no task, is an error.
func Of(tasks []*task.Task, t *task.Task) ([]Step, error) {
	p := planner{tasks: tasks, done: map[*task.Task]bool{}}
	if err := p.before(t); err != nil {
		return nil, err
	}
	for _, list := range []struct {
		ids  []string
		role Role
	}{{t.With, With}, {nil, Main}, {t.After, After}} {
		if list.role == Main {
			p.steps = append(p.steps, Step{t, Main})
			continue
		}
		for _, id := range list.ids {
			other, err := task.Find(tasks, id)
			if err != nil {
				return nil, fmt.Errorf("%s of %s: %w", list.role, t.ID(), err)
			}
			p.steps = append(p.steps, Step{other, list.role})
		}
	}
	return p.steps, nil
}

type planner struct {
	tasks []*task.Task
	steps []Step
	done  map[*task.Task]bool
	path  []*task.Task
}

// before adds the tasks that run before one, the deepest first.
func (p *planner) before(t *task.Task) error {
	for i, on := range p.path {
		if on == t {
			var names []string
			for _, x := range p.path[i:] {
				names = append(names, x.ID())
			}
			return fmt.Errorf("cycle: %s → %s; take one of these out of before", strings.Join(names, " → "), t.ID())
		}
	}
	p.path = append(p.path, t)
	defer func() { p.path = p.path[:len(p.path)-1] }()
	for _, id := range t.Before {
		other, err := task.Find(p.tasks, id)
		if err != nil {
			return fmt.Errorf("before of %s: %w", t.ID(), err)
		}
		if p.done[other] {
			continue
		}
		if err := p.before(other); err != nil {
			return err
		}
		p.done[other] = true
		p.steps = append(p.steps, Step{other, Before})
	}
	return nil
}
