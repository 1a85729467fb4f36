package plan

import (
	"cmp"
	"fmt"
	"hash/fnv"
	"slices"

	"tidytally/core/task"
)

// Split says how a test suite is split.
type Split struct {
	// AtOnce is how many files run at once; 0 for as many as there are slots.
	AtOnce int
	// Shard of Shards is the share that runs; both 0 for all. Shards count from 1.
	Shard, Shards int
	// Only names the ids of the files that run; nil for all.
	Only []string
	// Took returns how many seconds a file took when it ran last; 0 if that is not known.
	Took func(id string) float64
}

// Parts returns the tasks that run one file, or package, of a suite each.
func Parts(tasks []*task.Task, suite *task.Task) (parts []*task.Task) {
	for _, t := range tasks {
		if t.IsPartOf(suite) {
			parts = append(parts, t)
		}
	}
	return parts
}

// OfSuite returns the plan of a test suite whose files run one by one or several at once, the
// slowest first. All of them run, whatever fails. What the suite needs comes before each.
func OfSuite(tasks []*task.Task, suite *task.Task, how Split) (*Plan, error) {
	parts := Parts(tasks, suite)
	if len(parts) == 0 {
		return nil, fmt.Errorf("%s: it is not known which %s it has, so it cannot be split", suite.ShownID(), suite.PartWord())
	}
	whole := len(parts)
	if how.Took == nil {
		how.Took = func(string) float64 { return 0 }
	}
	if how.Only != nil {
		parts = slices.DeleteFunc(parts, func(t *task.Task) bool { return !slices.Contains(how.Only, t.ID()) })
		if len(parts) == 0 {
			return nil, fmt.Errorf("%s: none of the %s is there any more", suite.ShownID(), suite.PartWord())
		}
	}
	parts = how.share(parts)
	main := *suite
	main.Command, main.Script, main.With, main.RerunOn, main.RerunLearned, main.Before = task.Command{}, "", nil, nil, false, nil
	p := planner{find: finder(tasks), plan: &Plan{Task: &main, Files: len(parts), AllFiles: whole, AtOnce: how.AtOnce, KeepGoing: true}, index: map[stepKey]int{}}
	var all []int
	for _, t := range parts {
		part := *t
		part.Before, part.With = suite.Before, suite.With
		i, err := p.add(&part, Before, nil, 0)
		if err != nil {
			return nil, err
		}
		all = append(all, i)
	}
	at, err := p.add(&main, Main, all, 0)
	if err != nil {
		return nil, err
	}
	p.plan.Main = at
	return p.plan, p.finish()
}

// Digest identifies what the parts are divided into shards by: their ids and how long they
// took. Where it is the same, the shards fit together.
func (how *Split) Digest(parts []*task.Task) string {
	h := fnv.New32a()
	for _, t := range parts {
		fmt.Fprintf(h, "%s %g\n", t.ID(), how.Took(t.ID()))
	}
	return fmt.Sprintf("%08x", h.Sum32())
}

// share returns the parts of one shard. Each part goes to the shard that has the least to do
// so far, the slowest first, so that all take about as long. A part that never ran counts as
// an average one.
func (how *Split) share(parts []*task.Task) []*task.Task {
	seconds := map[*task.Task]float64{}
	sum, known := 0.0, 0
	for _, t := range parts {
		if s := how.Took(t.ID()); s > 0 {
			seconds[t] = s
			sum += s
			known++
		}
	}
	average := 1.0
	if known > 0 {
		average = sum / float64(known)
	}
	for _, t := range parts {
		if seconds[t] == 0 {
			seconds[t] = average
		}
	}
	slices.SortStableFunc(parts, func(a, b *task.Task) int { return cmp.Compare(seconds[b], seconds[a]) })
	if how.Shards < 1 {
		return parts
	}
	loads := make([]float64, how.Shards)
	var mine []*task.Task
	for _, t := range parts {
		least := 0
		for i := range loads {
			if loads[i] < loads[least] {
				least = i
			}
		}
		loads[least] += seconds[t]
		if least == how.Shard-1 {
			mine = append(mine, t)
		}
	}
	return mine
}
