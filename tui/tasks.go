package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/bmatcuk/doublestar/v4"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/filter"
	"tidytally/core/printable"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/core/toolchain"
)

// tasksView is the state of the Tasks page.
type tasksView struct {
	rows    []taskRow
	tasks   []int // indexes into rows that are tasks
	chosen  int   // index into tasks
	top     int   // first row shown
	height  int   // rows shown
	shown   int
	longest int  // name, in columns
	hidden  bool // files made on the way are shown too
	details int  // 0 as the size allows, 1 shown, 2 not shown
	excerpt excerptOf

	grouping  grouping
	recent    []string     // ids of what ran last, as it was when the page opened
	compilers []*task.Task // for the file in hand, once they were asked
	opened    bool         // the compilers are shown

	finding bool
	find    input

	asking    bool
	arguments input
	recall    int
}

// grouping is what the tasks are gathered by.
type grouping int

const (
	byMember grouping = iota
	byKind
	bySource
)

func (g grouping) String() string {
	return [...]string{byMember: "member", byKind: "kind", bySource: "source"}[g]
}

// of names the group of a task.
func (g grouping) of(t *task.Task) string {
	switch g {
	case byKind:
		return string(t.Kind)
	case bySource:
		return t.Source
	}
	return t.Member()
}

// The groups above the others.
const (
	pinnedGroup = "\x00pinned"
	handGroup   = "\x00hand"
	recentGroup = "\x00recent"
)

// known gives the words for the filter's field is: that only the page knows.
func (m *Model) known(t *task.Task) (is []string) {
	if m.pinned(t) {
		is = append(is, "pinned")
	}
	if len(m.stale[t.ID()]) > 0 {
		is = append(is, "stale")
	}
	if r := m.last(t); r != nil {
		switch s := r.Snapshot(); {
		case !s.State.Ended():
			is = append(is, "running")
		case s.State == run.Failed:
			is = append(is, "failing")
		}
	}
	return is
}

// taskRow is a line of the list: a task, a heading, or what opens a group.
type taskRow struct {
	task  *task.Task
	marks []int // bytes of the name that the filter hit
	head  string
	files string
	opens string // what opens when the row is chosen
}

// arrange lays the tasks out anew: after a survey, and when the filter changes.
func (m *Model) arrange() {
	v := &m.tasks
	var keep string
	if t := v.current(); t != nil {
		keep = t.ID()
	} else if u := m.usual(); u != nil {
		keep = u.ID()
	}
	v.rows, v.tasks, v.shown, v.longest = nil, nil, 0, 10
	if m.survey == nil {
		return
	}
	q := filter.Parse(v.find.String(), task.FilterFields...)
	groups := map[string][]hit{}
	var order []string
	best := map[string]int{}
	add := func(t *task.Task, group string, score int, marks []int) {
		if _, seen := groups[group]; !seen {
			order = append(order, group)
		}
		groups[group] = append(groups[group], hit{t, marks, score})
		best[group] = max(best[group], score)
	}
	hand := m.inHand()
	if hand != "" && v.opened {
		for _, t := range v.compilers {
			v.shown++
			if score, marks, ok := q.Match(task.Known{Task: t, Is: m.known}); ok {
				add(t, handGroup, score, marks)
			}
		}
	}
	for _, t := range m.survey.Tasks {
		if t.Hidden && !v.hidden {
			continue
		}
		v.shown++
		score, marks, ok := q.Match(task.Known{Task: t, Is: m.known})
		if !ok {
			continue
		}
		group := v.grouping.of(t)
		switch {
		case m.pinned(t):
			group = pinnedGroup
		case hand != "" && forFile(t, hand):
			group = handGroup
		case q.Empty() && len(v.recent) > 0 && slices.Contains(v.recent[:min(len(v.recent), maxRecents)], t.ID()):
			group = recentGroup
		}
		add(t, group, score, marks)
	}
	if hand != "" && !v.opened && q.Empty() && toolchain.IsSource(hand) && groups[handGroup] == nil {
		order = append(order, handGroup)
		groups[handGroup] = nil
	}
	if !q.Empty() { // the best match comes first
		sort.SliceStable(order, func(i, j int) bool { return best[order[i]] > best[order[j]] })
	} else {
		rank := func(g string) int {
			if i := slices.Index([]string{pinnedGroup, handGroup, recentGroup}, g); i >= 0 {
				return i - 3
			}
			return max(0, slices.Index(task.Kinds, task.Kind(g)))
		}
		sort.SliceStable(order, func(i, j int) bool { return rank(order[i]) < rank(order[j]) })
		slices.SortStableFunc(groups[recentGroup], func(a, b hit) int {
			return slices.Index(v.recent, a.task.ID()) - slices.Index(v.recent, b.task.ID())
		})
	}
	for _, g := range order {
		hits := groups[g]
		if !q.Empty() {
			sort.SliceStable(hits, func(i, j int) bool { return hits[i].score > hits[j].score })
		}
		v.rows = append(v.rows, m.groupRow(g, hits))
		for _, h := range hits {
			v.tasks = append(v.tasks, len(v.rows))
			v.longest = max(v.longest, ansi.StringWidth(h.task.Name))
			v.rows = append(v.rows, taskRow{task: h.task, marks: h.marks})
		}
		if g == handGroup && !v.opened && q.Empty() && toolchain.IsSource(hand) {
			v.tasks = append(v.tasks, len(v.rows))
			v.rows = append(v.rows, taskRow{opens: "compilers and interpreters on this machine"})
		}
	}
	v.chosen = 0
	if q.Empty() || !v.finding {
		for i, r := range v.tasks {
			if t := v.rows[r].task; t != nil && t.ID() == keep {
				v.chosen = i
			}
		}
	}
	v.clamp(m)
}

// hit is a task that passes the filter.
type hit struct {
	task  *task.Task
	marks []int
	score int
}

// maxRecents is how many of the tasks run last stand above the others.
const maxRecents = 5

// forFile tells whether a task is meant for a file.
func forFile(t *task.Task, file string) bool {
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
func (m *Model) groupRow(g string, hits []hit) taskRow {
	switch g {
	case pinnedGroup:
		return taskRow{head: "pinned"}
	case recentGroup:
		return taskRow{head: "run last"}
	case handGroup:
		return taskRow{head: "for " + clean(filepath.Base(m.inHand())), files: clean(m.inHand())}
	}
	if m.tasks.grouping != byMember {
		return taskRow{head: clean(g), files: plural(len(hits), "task")}
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
		name = m.survey.Name
	}
	return taskRow{head: clean(name), files: clean(strings.Join(files, ", "))}
}

func (m *Model) nextGrouping() tea.Cmd {
	m.tasks.grouping = (m.tasks.grouping + 1) % 3
	m.arrange()
	m.say(false, "the tasks stand by %s", m.tasks.grouping)
	return nil
}

// current is the chosen task, or nil.
func (v *tasksView) current() *task.Task {
	if v.chosen < len(v.tasks) {
		return v.rows[v.tasks[v.chosen]].task
	}
	return nil
}

func (v *tasksView) move(rows int) { v.chosen += rows }

func (v *tasksView) clamp(m *Model) {
	v.chosen = max(0, min(v.chosen, len(v.tasks)-1))
	v.height = m.listHeight()
	v.top = scrollTo(v.top, v.height, len(v.rows), v.chosenRow())
	// The heading of the first member is seen with its first task.
	if v.chosen == 0 {
		v.top = 0
	}
}

func (v *tasksView) chosenRow() int {
	if v.chosen < len(v.tasks) {
		return v.tasks[v.chosen]
	}
	return 0
}

// scrollTo gives the first row to show so that a row is seen.
func scrollTo(top, height, count, row int) int {
	top = min(top, row)
	top = max(top, row-height+1)
	return max(0, min(top, count-height))
}

func (v *tasksView) click(row int) bool {
	at := v.top + row - tasksHead
	if row < tasksHead || row >= tasksHead+v.height || at >= len(v.rows) {
		return false
	}
	for i, r := range v.tasks {
		if r == at {
			v.chosen = i
			return true
		}
	}
	return false
}

// tasksHead is the number of rows above the list: the filter and a blank.
const tasksHead = 2

// besideWidth is from where the details stand beside the list.
const besideWidth = 180

func (m *Model) showsDetails() bool {
	if m.tasks.asking {
		return true
	}
	switch m.tasks.details {
	case 1:
		return true
	case 2:
		return false
	}
	return m.height >= 30 || m.width >= besideWidth
}

// listHeight is the number of rows of the list.
func (m *Model) listHeight() int {
	body := m.bodyHeight() - tasksHead
	if !m.showsDetails() || m.width >= besideWidth {
		return max(1, body)
	}
	return max(2, body-max(7, body/3))
}

func (m *Model) tasksBody() []string {
	v := &m.tasks
	lines := []string{m.findLine(), ""}
	if m.survey == nil {
		return append(lines, m.ink.row(m.width).to(4).put("reading the workspace …", Slate).String())
	}
	if len(v.tasks) == 0 {
		return append(lines, m.noTasks()...)
	}
	width := m.width
	beside := m.showsDetails() && m.width >= besideWidth
	if beside {
		width = m.width * 11 / 20
	}
	c := m.taskColumns(width)
	list := make([]string, 0, v.height)
	for i := v.top; i < min(len(v.rows), v.top+v.height); i++ {
		list = append(list, m.taskLine(&v.rows[i], i == v.chosenRow(), c))
	}
	if !m.showsDetails() {
		return append(lines, list...)
	}
	if beside {
		details := m.detailLines(m.width-width-3, v.height)
		for i := range v.height {
			left, right := "", ""
			if i < len(list) {
				left = list[i]
			}
			if i < len(details) {
				right = details[i]
			}
			lines = append(lines, left+strings.Repeat(" ", max(0, width-ansi.StringWidth(left)))+m.ink.write(" ¦ ", Slate)+right)
		}
		return lines
	}
	for len(list) < v.height {
		list = append(list, "")
	}
	lines = append(lines, list...)
	lines = append(lines, m.ink.write(strings.Repeat("┄", m.width), Slate))
	return append(lines, m.detailLines(m.width, m.bodyHeight()-len(lines))...)
}

// findLine shows the filter, and how much it lets through.
func (m *Model) findLine() string {
	v := &m.tasks
	r := m.ink.row(m.width)
	r.put("find ", Slate)
	half := max(20, m.width*3/10)
	if v.finding {
		v.find.show(r, half-6)
	} else {
		r.fit(v.find.String(), half-6, Plain)
	}
	r.to(half)
	if m.survey != nil {
		passed := 0
		for _, i := range v.tasks {
			if v.rows[i].task != nil {
				passed++
			}
		}
		text := fmt.Sprintf("%d of %d shown", passed, v.shown)
		if len(v.find.text) > 0 && passed < v.shown {
			text += fmt.Sprintf(", %d hidden by the filter", v.shown-passed)
		}
		r.put(text, Slate)
		files, rules := 0, map[string]bool{}
		for _, s := range m.survey.Skipped {
			files += s.Files
			rules[s.Rule] = true
		}
		if files > 0 {
			r.put(fmt.Sprintf("   %s kept out by %s", plural(files, "file"), plural(len(rules), "rule")), Slate)
		}
		if n := len(m.survey.Faults); n > 0 {
			r.put("   ", Plain).put(plural(n, "fault"), Madder)
		}
	}
	return r.String()
}

func (m *Model) noTasks() []string {
	say := func(text string) string { return m.ink.row(m.width).to(4).put(text, Plain).String() }
	if m.tasks.shown > 0 {
		return []string{
			say(fmt.Sprintf("Nothing matches the filter; it hides %s.", plural(m.tasks.shown, "task"))),
			say("esc clears it."),
		}
	}
	return []string{
		say("No tasks are declared here."),
		"",
		say("Tidy Tally reads makefiles, package scripts, the build files of most languages, and its own tally"),
		say("file. Write one, and the task is here as soon as the file is saved:"),
		"",
		say("    # tidytally.toml"),
		say("    [task.hello]"),
		say(`    run = "echo hello"`),
	}
}

// columns are where the parts of a task's row stand.
type columns struct {
	width, bar, name, runs, status, time, about int
}

func (m *Model) taskColumns(width int) columns {
	c := columns{width: width, bar: 9}
	if width < 100 {
		c.bar = 4
	}
	c.name = c.bar + 2
	c.runs = c.name + min(m.tasks.longest, max(12, width/5)) + 2
	status, times := 14, 10
	c.time = width - times
	about := 0
	if width >= 120 {
		about = width * 3 / 10
	}
	c.status = width - about - times - status
	c.time = width - about - times
	c.about = width - about + 1
	return c
}

// what is what a task is seen to run: the script itself where the command only
// names it.
func what(t *task.Task) string {
	if t.Source == "npm" {
		return t.Script
	}
	return t.Command.String()
}

func (m *Model) taskLine(tr *taskRow, chosen bool, c columns) string {
	r := m.ink.row(c.width)
	if tr.opens != "" {
		ink := Slate
		if chosen {
			ink = Reverse
		}
		return r.to(c.bar).put("¦ ", Slate).put(tr.opens+" …", ink).String()
	}
	if tr.task == nil {
		return r.to(c.name-2).put(tr.head, Bold).put("  "+tr.files, Slate).String()
	}
	t := tr.task
	last := m.last(t)
	var snap run.Snapshot
	if last != nil {
		snap = last.Snapshot()
		count := m.compared(last).count
		ink, n := Madder, count.Errors
		if n == 0 {
			ink, n = Ochre, count.Warnings
		}
		text, width := m.ink.strokes(n, c.bar-1, ink)
		r.to(c.bar - 1 - width)
		r.b.WriteString(text)
		r.at += width
	}
	r.to(c.bar).put("¦ ", Slate)
	if chosen {
		r.fit(ansi.Truncate(clean(t.Name), c.runs-c.name-2, "…"), c.runs-c.name, Reverse)
		r.fit(clean(what(t)), c.status-c.runs-1, Reverse)
	} else {
		m.markedName(r, clean(t.Name), tr.marks, c.runs-c.name)
		r.fit(clean(what(t)), c.status-c.runs-1, Slate)
	}
	r.to(c.status)
	changed := len(m.stale[t.ID()])
	if changed > 0 && (last == nil || snap.State == run.OK) {
		r.put(fmt.Sprintf("stale (%d)", changed), Ochre)
	} else if last == nil {
		r.put("never run", Slate)
	} else {
		words := snap.Words()
		if snap.State == run.Up {
			words = m.standing(&snap)
		}
		r.put(words, stateInk(snap.State))
		if snap.State != run.Up && snap.State != run.Waiting && snap.State != run.Skipped {
			r.right(printable.Duration(snap.Elapsed(m.now)), c.time+9, Plain)
		}
	}
	if c.about < c.width && t.About != "" {
		r.to(c.about).put(clean(t.About), Slate)
	}
	return r.String()
}

// markedName writes a name with the bytes that the filter hit underlined.
func (m *Model) markedName(r *row, name string, marks []int, columns int) {
	if len(marks) == 0 {
		r.fit(ansi.Truncate(name, columns-2, "…"), columns, Plain)
		return
	}
	start := r.at
	hit := map[int]bool{}
	for _, i := range marks {
		hit[i] = true
	}
	for i, c := range name {
		if r.at-start >= columns-2 {
			break
		}
		ink := Plain
		if hit[i] {
			ink = Bold | Under
		}
		r.put(string(c), ink)
	}
	r.fit("", columns-(r.at-start), Plain)
}

// detailLines describe the chosen task.
func (m *Model) detailLines(width, height int) []string {
	t := m.tasks.current()
	if t == nil || height < 1 {
		return nil
	}
	var lines []string
	add := func(r *row) { lines = append(lines, r.String()) }
	add(m.ink.row(width).put(clean(t.Name), Bold).put("   "+clean(t.About), Slate))
	if m.tasks.asking {
		lines = append(lines, m.argumentLines(t, width)...)
	}
	label := func(name string) *row { return m.ink.row(width).to(2).put(name, Slate).to(12) }
	half := width
	if width >= 100 {
		half = width / 2
	}
	two := func(r *row, name, value string) *row {
		if half == width {
			add(r)
			return label(name).put(value, Plain)
		}
		return r.to(half).put(name+" ", Slate).put(value, Plain)
	}
	r := label("runs")
	r.limit = half - 2
	r.put(clean(t.Command.String()), Plain)
	r.limit = width
	dir := t.Dir
	if dir == "." {
		dir = "the workspace's root"
	}
	add(two(r, "in", clean(dir)))
	if t.Script != "" && t.Source != "make" { // a recipe is in the excerpt
		script := strings.Split(t.Script, "\n")
		text := clean(script[0])
		if len(script) > 1 {
			text += fmt.Sprintf(" … and %s", plural(len(script)-1, "more line"))
		}
		add(label("that is").put(text, Plain))
	}
	o := t.Origin("name")
	r = label(string(o.Manner))
	r.limit = half - 2
	r.put(clean(place(o)), Plain)
	if o.Note != "" {
		r.put("  "+clean(o.Note), Slate)
	}
	r.limit = width
	if args := argWords(t); args != "" {
		r = two(r, "takes", args)
	}
	add(r)
	if len(t.Prerequisites) > 0 {
		add(label("before").put(clean(strings.Join(t.Prerequisites, "  ")), Plain))
	}
	for _, v := range survey.Values(t) {
		switch v.Field {
		case "name", "command", "script", "dir", "about", "args", "needs", "kind", "longRunning":
			continue
		}
		add(label(v.Field).put(clean(v.Text), Plain).put("   "+clean(v.Origin.String()), Slate))
	}
	for field, o := range t.Origins {
		if o.Manner == task.Adjusted && (field == "about" || field == "command" || field == "dir") {
			add(label("adjusted").put(field, Plain).put("   "+clean(place(o)), Slate))
		}
	}
	if changed := m.stale[t.ID()]; len(changed) > 0 {
		text := strings.Join(changed[:min(3, len(changed))], " ")
		if n := len(changed) - 3; n > 0 {
			text += fmt.Sprintf(" and %d more", n)
		}
		add(label("stale").put(plural(len(changed), "file")+" changed since its last good run: ", Ochre).put(clean(text), Plain))
	}
	if last := m.last(t); last != nil {
		s := last.Snapshot()
		if s.Fault != "" {
			add(label("fault").put(clean(s.Fault), Madder))
		}
	}
	if left := height - len(lines) - 1; left >= 1 {
		lines = append(lines, "")
		lines = append(lines, m.tasks.excerpt.lines(m, o, width, min(left, 12))...)
	}
	return lines[:min(len(lines), height)]
}

func place(o task.Origin) string {
	if o.Line == 0 {
		return o.File
	}
	return fmt.Sprintf("%s:%d", o.File, o.Line)
}

func argWords(t *task.Task) string {
	var words []string
	for _, a := range t.Args {
		w := a.Name
		if a.Default != "" {
			w += "=" + task.Quote(a.Default)
		}
		words = append(words, clean(w))
	}
	return strings.Join(words, "  ")
}

// excerptOf keeps the lines of a declaring file around a declaration, so that
// the file is read once.
type excerptOf struct {
	origin task.Origin
	text   []string
	from   int
}

func (x *excerptOf) lines(m *Model, o task.Origin, width, count int) []string {
	if x.origin != o || x.text == nil {
		x.origin, x.text, x.from = o, []string{}, max(1, o.Line)
		if data, err := os.ReadFile(filepath.Join(m.root, filepath.FromSlash(o.File))); err == nil && len(data) < 8<<20 {
			all := strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n")
			if o.Line-1 < len(all) {
				x.text = all[max(0, o.Line-1):min(len(all), max(0, o.Line-1)+20)]
			}
		}
	}
	var out []string
	for i, text := range x.text {
		if i == count || i > 0 && strings.TrimSpace(text) == "" {
			break
		}
		out = append(out, m.ink.row(width).right(fmt.Sprint(x.from+i), 5, Slate).put(" ¦ ", Slate).put(clean(strings.ReplaceAll(text, "\t", "    ")), Plain).String())
	}
	return out
}

// runChosen runs the chosen task.
func (m *Model) runChosen() tea.Cmd {
	v := &m.tasks
	if v.chosen < len(v.tasks) && v.rows[v.tasks[v.chosen]].opens != "" {
		return m.openCompilers()
	}
	t := v.current()
	if t == nil {
		return nil
	}
	for _, name := range run.Asks(t) {
		if !slices.ContainsFunc(t.Args, func(a task.Arg) bool { return a.Name == name && a.Default != "" }) {
			return m.askArguments()
		}
	}
	return m.start(t, nil)
}

func (m *Model) runUsual() tea.Cmd {
	if u := m.usual(); u != nil {
		return m.start(u, nil)
	}
	return m.chooseUsual()
}

func (m *Model) beginFind() tea.Cmd {
	if m.page == outputPage {
		m.output.finding = true
		m.output.find = newInput(m.output.find.String())
		return nil
	}
	if m.page == tallyPage {
		m.tally.finding = true
		m.tally.find = newInput(m.tally.find.String())
		return nil
	}
	m.tasks.finding = true
	return nil
}

func (m *Model) toggleDetails() tea.Cmd {
	if m.showsDetails() {
		m.tasks.details = 2
	} else {
		m.tasks.details = 1
	}
	m.clamp()
	return nil
}

func (m *Model) toggleHidden() tea.Cmd {
	m.tasks.hidden = !m.tasks.hidden
	m.arrange()
	return nil
}

// askArguments opens the line for arguments, with those of the last run.
func (m *Model) askArguments() tea.Cmd {
	t := m.tasks.current()
	if t == nil {
		return nil
	}
	m.tasks.asking, m.tasks.finding = true, false
	text := ""
	m.tasks.recall = 0
	if rec := m.records[t.ID()]; rec != nil && len(rec.earlier) > 0 {
		text = task.QuoteAll(rec.earlier[len(rec.earlier)-1])
		m.tasks.recall = len(rec.earlier) - 1
	} else if asks := run.Asks(t); len(asks) > 0 {
		text = asks[0] + "="
	}
	m.tasks.arguments = newInput(text)
	m.clamp()
	return nil
}

// recallArguments goes through the arguments of earlier runs.
func (m *Model) recallArguments(older bool) {
	t := m.tasks.current()
	rec := m.records[t.ID()]
	if rec == nil || len(rec.earlier) == 0 {
		return
	}
	if older {
		m.tasks.recall = max(0, m.tasks.recall-1)
	} else {
		m.tasks.recall = min(len(rec.earlier)-1, m.tasks.recall+1)
	}
	m.tasks.arguments = newInput(task.QuoteAll(rec.earlier[m.tasks.recall]))
}

// argumentLines show the line for arguments and what it will run.
func (m *Model) argumentLines(t *task.Task, width int) []string {
	r := m.ink.row(width).to(2).put("arguments", Slate).to(12)
	m.tasks.arguments.show(r, width-14)
	will := m.ink.row(width).to(2).put("will run", Slate).to(12)
	words, err := task.SplitWords(m.tasks.arguments.String())
	if err != nil {
		will.put(err.Error(), Madder)
	} else {
		ctx := m.super.Context()
		if p, err := ctx.Prepare(t, words); err != nil {
			will.put(clean(err.Error()), Madder)
		} else {
			will.put(clean(p.Display), Bold)
		}
	}
	hint := m.ink.row(width).to(12).put("enter runs it, esc leaves, up and down bring back earlier arguments", Slate)
	return []string{r.String(), will.String(), hint.String()}
}

func (m *Model) runWithArguments() tea.Cmd {
	t := m.tasks.current()
	if t == nil {
		return nil
	}
	words, err := task.SplitWords(m.tasks.arguments.String())
	if err != nil {
		m.say(true, "%v", err)
		m.tasks.asking = true
		return nil
	}
	return m.start(t, words)
}

// copyCommand copies the line that does the same in a shell at the root.
func (m *Model) copyCommand() tea.Cmd {
	t := m.tasks.current()
	if t == nil {
		return nil
	}
	var args []string
	if rec := m.records[t.ID()]; rec != nil {
		args = rec.lastArgs
	}
	ctx := m.super.Context()
	p, err := ctx.Prepare(t, args)
	if err != nil {
		m.say(true, "%v", err)
		return nil
	}
	text := p.Display
	if rel, err := filepath.Rel(m.root, p.Dir); err == nil && rel != "." {
		text = "(cd " + task.Quote(rel) + " && " + text + ")"
	}
	m.say(false, "copied: %s", text)
	return tea.SetClipboard(text)
}

// openDeclaration opens the editor where the chosen task is written down.
func (m *Model) openDeclaration() tea.Cmd {
	t := m.tasks.current()
	if t == nil {
		return nil
	}
	o := t.Origin("name")
	return m.openEditor(o.File, o.Line, o.Column)
}

// stopChosen stops the run that the page is about.
func (m *Model) stopChosen() tea.Cmd {
	var r *run.Run
	if m.page == tasksPage || m.page == valuesPage {
		if t := m.tasks.current(); t != nil {
			r = m.last(t)
		}
	} else {
		r = m.output.run
	}
	if r == nil || r.Snapshot().State.Ended() && !r.HasLeftovers() {
		m.say(false, "nothing of it is running")
		return nil
	}
	r.Stop()
	return nil
}
