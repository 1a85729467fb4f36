package task

import (
	"fmt"
	"sort"
	"strings"
)

// Finder finds tasks among many by their ids.
type Finder struct {
	tasks []*Task
	exact map[string]*Task // by both forms of the id
	named map[string][]*Task
}

// NewFinder makes a finder for tasks, which must not change while it is used.
func NewFinder(tasks []*Task) *Finder {
	f := &Finder{tasks: tasks, exact: make(map[string]*Task, len(tasks)), named: make(map[string][]*Task, len(tasks))}
	for _, t := range tasks {
		for _, id := range []string{t.ID(), t.ShownID()} {
			if f.exact[id] == nil {
				f.exact[id] = t
			}
		}
		f.named[t.Name] = append(f.named[t.Name], t)
	}
	return f
}

// Find finds one task among tasks, as a Finder does, which is for many.
func Find(tasks []*Task, id string) (*Task, error) {
	for _, t := range tasks {
		if t.ID() == id || t.ShownID() == id {
			return t, nil
		}
	}
	return byShortID(tasks, tasks, id)
}

// Find finds a task by its id or a short form of it: the name, or the end of
// the folder or file with '#' and the name, if only one listed task is meant. An
// ambiguous one is an error that lists the candidates, an unknown one lists the nearest three.
func (f *Finder) Find(id string) (*Task, error) {
	if t := f.exact[id]; t != nil {
		return t, nil
	}
	_, name := SplitID(id)
	return byShortID(f.tasks, f.named[name], id)
}

// byShortID finds a task by the short form of its id among those that may have it; tasks are all.
func byShortID(tasks, may []*Task, id string) (*Task, error) {
	file, name := SplitID(id)
	var hits []*Task
	for _, t := range may {
		if t.Name != name {
			continue
		}
		if file == "" || endsPath(t.File, file) || endsPath(t.Folder(), file) {
			hits = append(hits, t)
		}
	}
	if len(hits) > 1 {
		// Listed tasks come before hidden ones.
		var open []*Task
		for _, t := range hits {
			if !t.Hidden {
				open = append(open, t)
			}
		}
		if len(open) == 1 {
			hits = open
		}
	}
	switch len(hits) {
	case 1:
		return hits[0], nil
	case 0:
		return nil, fmt.Errorf("no task %s%s", id, nearest(tasks, id))
	}
	ids := make([]string, len(hits))
	for i, t := range hits {
		ids[i] = "\n  " + t.ShownID()
	}
	return nil, fmt.Errorf("%s could be any of these; say which:%s", id, strings.Join(ids, ""))
}

// endsPath reports whether path is tail or ends in "/" and tail.
func endsPath(path, tail string) bool {
	tail = strings.TrimSuffix(strings.TrimPrefix(tail, "./"), "/")
	return path == tail || strings.HasSuffix(path, "/"+tail)
}

// nearest words the three ids that are most like the one asked for.
func nearest(tasks []*Task, id string) string {
	file, name := SplitID(id)
	type near struct {
		id       string
		distance int
	}
	all := make([]near, 0, len(tasks))
	for _, t := range tasks {
		if !t.Hidden {
			d := 4 * Distance(name, t.Name)
			if file != "" { // among names that are as near, the nearer file
				d += min(3, Distance(file, t.File))
			}
			all = append(all, near{t.ShownID(), d})
		}
	}
	if len(all) == 0 {
		return ": the workspace declares none"
	}
	sort.SliceStable(all, func(i, j int) bool { return all[i].distance < all[j].distance })
	text := "; the nearest are:"
	for _, n := range all[:min(3, len(all))] {
		text += "\n  " + n.id
	}
	return text
}

// Distance is the number of single-letter edits, swaps of neighbours included,
// from a to b; letters' case does not count.
func Distance(a, b string) int {
	x, y := []rune(strings.ToLower(a)), []rune(strings.ToLower(b))
	if len(x) > 100 || len(y) > 100 {
		return max(len(x), len(y))
	}
	before, last, now := make([]int, len(y)+1), make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(x); i++ {
		now[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			now[j] = min(last[j]+1, now[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
		}
		before, last, now = last, now, before
	}
	return last[len(y)]
}

// Nearest returns the candidate that is most like a word, if one is near.
func Nearest(word string, candidates []string) (string, bool) {
	best, distance := "", max(2, len(word)/3)+1
	for _, c := range candidates {
		if d := Distance(word, c); d < distance {
			best, distance = c, d
		}
	}
	return best, best != ""
}
