package tui

import (
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/bmatcuk/doublestar/v4"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/filter"
	"tidytally/core/plan"
	"tidytally/core/run"
	"tidytally/core/secret"
	"tidytally/core/task"
	"tidytally/core/toolchain"
)

const tasksName = "tasks"

// tasksPage shows every task, how its last run ended and how many problems it left.
type tasksPage struct {
	*desk
	plainPage

	// With the survey, the filter and the grouping.
	rows    []taskRow
	tasks   []int // indexes into rows of those that can be chosen
	counts  taskCount
	longest longest

	// With the keys.
	chosen       int  // index into tasks
	moved        bool // the user has chosen: until then the list stays at its top
	top          int  // first row shown
	grouping     grouping
	intermediate bool            // intermediate targets are shown too
	unfolded     map[string]bool // the folds that are open
	details      details
	find         field
	finding      bool
	arguments    field
	asking       bool
	asked        *task.Task          // whose arguments are typed
	presets      map[string][]string // kept for the task, by their names
	preset       field               // the name for a new one
	naming       bool
	where        string // the place of the run that is asked for; "" for here
	recalled     int    // which of the earlier arguments stand in the field

	recent    []string     // ids of what ran last, as it was when the program began
	compilers []*task.Task // for the current file, once they were asked
	opened    bool         // the compilers are shown
	excerpt   excerptOf
}

// longest holds the widths of the longest texts in the list, in cells.
type longest struct{ name, runs, about int }

func newTasksPage(d *desk) *tasksPage {
	return &tasksPage{desk: d, recent: slices.Clone(d.kept.Recent)}
}

func (p *tasksPage) name() string { return tasksName }

func (p *tasksPage) goes() key {
	return key{names: []string{"t"}, label: tasksName, help: "the tasks"}
}

// grouping is what the tasks are grouped by.
type grouping int

const (
	byFolder grouping = iota
	byKind
	bySource
	groupings // how many there are
)

func (g grouping) String() string {
	return [...]string{byFolder: "folder", byKind: "kind", bySource: "source"}[g]
}

// of names the group of a task.
func (g grouping) of(t *task.Task) string {
	switch g {
	case byKind:
		return string(t.Kind)
	case bySource:
		return t.Source
	}
	return t.Folder()
}

// details says whether the chosen task is described.
type details int

const (
	detailsAsFit details = iota // as the size of the window allows
	detailsShown
	detailsHidden
)

// The groups above the others.
const (
	pinnedGroup  = "\x00pinned"
	currentGroup = "\x00current" // for the current file
	recentGroup  = "\x00recent"
)

// taskRow is a line of the list: a task, a heading, or what opens a group.
type taskRow struct {
	task  *task.Task
	label string // the name, with more where two rows of a group have the same
	marks []int  // bytes of the label that the filter hit
	head  string
	files string
	opens string // what opens when the row is chosen
	fold  string // the key of the fold that the row stands for
	open  bool   // the fold is open
	of    []hit  // what it holds
}

// known returns the words for the filter's field is: that only the interface knows.
func (p *tasksPage) known(t *task.Task) (is []string) {
	if p.pinned(t) {
		is = append(is, "pinned")
	}
	if look := p.snap.Outlooks()[t.ID()]; look.Stale() {
		is = append(is, "stale")
	} else if look.State == plan.Fresh {
		is = append(is, "fresh")
	}
	if r := p.last(t); r != nil {
		switch s := r.Snapshot(); {
		case !s.State.Ended():
			is = append(is, "running")
		case s.State == run.Failed:
			is = append(is, "failing")
		}
	}
	return is
}

func (p *tasksPage) update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case surveyedMsg:
		p.arrange()
	case outlooksMsg:
		if strings.Contains(p.find.String(), "stale") {
			p.arrange()
		}
	case currentFileMsg:
		p.compilers, p.opened = nil, false
		p.arrange()
	case runChosenMsg:
		p.moved = true // who runs something is at that row
	case tea.WindowSizeMsg:
		p.top = 0 // as much of the top as the chosen row allows
	case wantTaskMsg:
		p.moved = true
		p.find.set("")
		p.arrange()
		p.chooseTask(msg.id)
		p.clamp()
	case wantArgumentsMsg:
		p.find.set("")
		p.arrange()
		p.chooseTask(msg.id)
		p.clamp()
		if t := p.current(); t == nil || t.ID() != msg.id {
			return nil
		}
		p.askArguments()
		p.arguments.set(task.QuoteArguments(msg.args))
		p.say(true, "what stands as %s was not kept: type it, then enter runs", secret.Hidden)
		if p.front() != tasksName {
			return p.goTo(tasksName)
		}
	case versionsMsg:
		p.openedCompilers(msg)
	}
	return nil
}

// current is the chosen task, or nil.
func (p *tasksPage) current() *task.Task {
	if p.chosen < len(p.tasks) {
		return p.rows[p.tasks[p.chosen]].task
	}
	return nil
}

// chooseTask chooses the task with an id, if it is in the list.
func (p *tasksPage) chooseTask(id string) {
	for i, r := range p.tasks {
		if t := p.rows[r].task; t != nil && t.ID() == id {
			p.chosen = i
		}
	}
}

func (p *tasksPage) move(rows int) {
	p.chosen += rows
	p.moved = true
}

func (p *tasksPage) scroll(rows int) { p.move(rows) }

func (p *tasksPage) clamp() {
	p.chosen = max(0, min(p.chosen, len(p.tasks)-1))
	p.top = scrollTo(p.top, p.listHeight(), len(p.rows), p.chosenRow())
	if p.chosen == 0 {
		p.top = 0 // the heading of the first group is in view with its first task
	}
	before := p.task
	p.task = p.current()
	if p.task != before && p.task != nil && (before == nil || before.ID() != p.task.ID()) {
		p.picked = true
	}
}

func (p *tasksPage) chosenRow() int {
	if p.chosen < len(p.tasks) {
		return p.tasks[p.chosen]
	}
	return 0
}

func (p *tasksPage) click(row int) bool {
	at := p.top + row - p.head()
	if row < p.head() || row >= p.head()+p.listHeight() || at >= len(p.rows) {
		return false
	}
	i := slices.Index(p.tasks, at)
	if i < 0 {
		return false
	}
	p.chosen, p.moved = i, true
	return true
}

func (p *tasksPage) field() *field {
	switch {
	case p.naming:
		return &p.preset
	case p.asking:
		return &p.arguments
	case p.finding:
		return &p.find
	}
	return nil
}

func (p *tasksPage) subject() *run.Run { return p.lastOfChosen() }

// lastOfChosen is the newest run of the chosen task, or nil.
func (d *desk) lastOfChosen() *run.Run {
	if d.task == nil {
		return nil
	}
	return d.last(d.task)
}

func (p *tasksPage) clear() bool {
	if p.find.String() == "" {
		return false
	}
	p.find.set("")
	p.arrange()
	return true
}

// hit is a task that passes the filter.
type hit struct {
	task  *task.Task
	marks []int
	score int
}

// maxRecents is the number of tasks run last that stand above the others: a glance.
const maxRecents = 5

// arrange lays the tasks out: after a survey, and when the filter changes.
func (p *tasksPage) arrange() {
	kept, before := taskRow{}, p.chosen
	if p.moved && before < len(p.tasks) {
		kept = p.rows[p.tasks[before]]
	} else if u := p.usual(); u != nil {
		kept.task = u
	}
	p.rows, p.tasks, p.counts, p.longest = nil, nil, taskCount{}, longest{name: 10}
	if p.snap.Survey == nil {
		return
	}
	q := filter.Parse(p.find.String(), task.FilterFields...)
	groups, order := p.group(q)
	offersCompilers := p.offersCompilers(q)
	if offersCompilers && groups[currentGroup] == nil {
		order = append(order, currentGroup)
	}
	order = p.sortGroups(q, groups, order)
	for _, g := range order {
		p.counts.folded += len(groups[g])
	}
	p.layOut(groups, order, q.Empty() && p.grouping == byFolder)
	p.relabel()
	for _, r := range p.tasks {
		if t := p.rows[r].task; t != nil {
			p.longest.name = max(p.longest.name, ansi.StringWidth(clean(p.rows[r].label)))
			p.longest.runs = max(p.longest.runs, ansi.StringWidth(t.Runs()))
			p.longest.about = max(p.longest.about, ansi.StringWidth(t.About))
			p.counts.folded--
			if !slices.Contains(p.compilers, t) {
				p.counts.shown++
			} else {
				p.counts.others++
			}
		}
	}
	p.counts.filtered = p.counts.all - p.counts.shown - p.counts.folded - p.counts.aside
	p.chosen = 0
	if q.Empty() || !p.finding {
		if i := slices.IndexFunc(p.tasks, func(at int) bool { return p.rows[at].same(&kept) }); i >= 0 {
			p.chosen = i
		} else if p.moved { // what takes its place
			p.chosen = before
		}
	}
	p.clamp()
}

// same reports whether a row stands for what another did in an earlier list.
func (r *taskRow) same(was *taskRow) bool {
	if r.task == nil || was.task == nil {
		return r.task == was.task && r.fold+r.opens != "" && r.fold == was.fold && (r.fold != "" || r.opens == was.opens)
	}
	return r.task.ID() == was.task.ID()
}

// relabel gives the tasks their labels: the name, with the file or the folder where two tasks of a
// group have the same.
func (p *tasksPage) relabel() {
	for at := 0; at < len(p.rows); {
		end := at + 1
		for end < len(p.rows) && (p.rows[end].task != nil || p.rows[end].opens != "") {
			end++
		}
		byName := map[string][]*taskRow{}
		for i := at; i < end; i++ {
			if r := &p.rows[i]; r.task != nil {
				r.label = r.task.Name
				byName[r.label] = append(byName[r.label], r)
			}
		}
		for _, alike := range byName {
			if len(alike) > 1 {
				labelAlike(alike)
			}
		}
		at = end
	}
}

// labelAlike tells rows apart whose tasks have the same name.
func labelAlike(rows []*taskRow) {
	for _, lead := range []func(*task.Task) (before, after string){
		func(t *task.Task) (string, string) { return "", " (" + path.Base(t.File) + ")" },
		func(t *task.Task) (string, string) { return strings.TrimSuffix(shortID(t), t.Name), "" },
		func(t *task.Task) (string, string) { return t.File + "#", "" },
	} {
		seen := map[string]bool{}
		for _, r := range rows {
			before, after := lead(r.task)
			seen[before+after] = true
		}
		if len(seen) < len(rows) {
			continue
		}
		for _, r := range rows {
			before, after := lead(r.task)
			r.label = before + r.task.Name + after
			for i := range r.marks {
				r.marks[i] += len(before)
			}
		}
		return
	}
}

// offersCompilers reports whether a row offers the compilers for the current file.
func (p *tasksPage) offersCompilers(q filter.Query) bool {
	current := p.currentRel()
	return current != "" && !p.opened && q.Empty() && toolchain.IsSource(current)
}

// group puts the tasks that pass the filter into groups. order has the groups as
// they came.
func (p *tasksPage) group(q filter.Query) (groups map[string][]hit, order []string) {
	groups = map[string][]hit{}
	p.counts.all = len(p.snap.Survey.Tasks)
	var hidden []*task.Task // that the filter names
	put := func(t *task.Task, group string) {
		score, marks, ok := q.Match(task.Known{Task: t, Is: p.known})
		if !ok {
			return
		}
		if _, seen := groups[group]; !seen {
			order = append(order, group)
		}
		groups[group] = append(groups[group], hit{t, marks, score})
	}
	current := p.currentRel()
	if current != "" && p.opened {
		for _, t := range p.compilers {
			put(t, currentGroup)
		}
	}
	recent := p.recent[:min(len(p.recent), maxRecents)]
	for _, t := range p.snap.Survey.Tasks {
		group := p.grouping.of(t)
		switch {
		case t.Aside() && !p.intermediate:
			if q.Empty() {
				p.counts.aside++
			} else if _, _, ok := q.Match(task.Known{Task: t, Is: p.known}); ok {
				p.counts.aside++
				if q.Plainly(t.Name) {
					hidden = append(hidden, t)
				}
			}
			continue
		case p.pinned(t):
			group = pinnedGroup
		case current != "" && isFor(t, current):
			group = currentGroup
		case q.Empty() && len(recent) > 0 && slices.Contains(recent, t.ID()):
			group = recentGroup
		}
		put(t, group)
	}
	if len(order) == 0 { // nothing else passes
		for _, t := range hidden {
			put(t, p.grouping.of(t))
		}
		p.counts.aside -= len(hidden)
	}
	return groups, order
}

// sortGroups orders the groups and the tasks in them. With a filter the best match
// comes first.
func (p *tasksPage) sortGroups(q filter.Query, groups map[string][]hit, order []string) []string {
	if q.Empty() {
		rank := func(g string) int {
			if i := slices.Index([]string{pinnedGroup, currentGroup, recentGroup}, g); i >= 0 {
				return i - 3
			}
			return max(0, slices.Index(task.Kinds, task.Kind(g)))
		}
		sort.SliceStable(order, func(i, j int) bool { return rank(order[i]) < rank(order[j]) })
		slices.SortStableFunc(groups[recentGroup], func(a, b hit) int {
			return slices.Index(p.recent, a.task.ID()) - slices.Index(p.recent, b.task.ID())
		})
		return order
	}
	best := map[string]int{}
	for g, hits := range groups {
		sort.SliceStable(hits, func(i, j int) bool { return hits[i].score > hits[j].score })
		best[g] = hits[0].score
	}
	sort.SliceStable(order, func(i, j int) bool { return best[order[i]] > best[order[j]] })
	return order
}

// isFor reports whether a task is meant for a file.
func isFor(t *task.Task, file string) bool {
	for _, pattern := range t.For {
		subject := filepath.Base(file)
		if strings.Contains(pattern, "/") {
			subject = file
		}
		if ok, _ := doublestar.Match(pattern, subject); ok {
			return true
		}
	}
	return false
}

// groupRow is the heading of a group.
func (p *tasksPage) groupRow(g string, hits []hit) taskRow {
	switch g {
	case pinnedGroup:
		return taskRow{head: "pinned"}
	case recentGroup:
		return taskRow{head: "run last"}
	case currentGroup:
		return taskRow{head: "for " + filepath.Base(p.currentRel()), files: p.currentRel()}
	}
	if p.grouping != byFolder {
		return taskRow{head: g, files: plural(len(hits), "task")}
	}
	var files []string
	for _, h := range hits {
		for _, f := range []string{h.task.File, h.task.Origin("name").File} {
			if f := filepath.Base(f); !slices.Contains(files, f) {
				files = append(files, f)
			}
		}
	}
	name := g
	if g == "." {
		name = p.snap.Survey.Name
	}
	return taskRow{head: name, files: strings.Join(files, ", ")}
}
