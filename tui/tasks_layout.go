package tui

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"tidytally/core/plan"
	"tidytally/core/printable"
	"tidytally/core/run"
	"tidytally/core/task"
	"tidytally/tui/ink"
)

// tasksHead is the number of rows above the list: the filter and a blank.
const tasksHead = 2

// head is the number of rows above the list, with those of the greeting.
func (p *tasksPage) head() int {
	if p.greets {
		return tasksHead + len(greeting) + 1
	}
	return tasksHead
}

// greeting is shown at the first start, once.
var greeting = []string{
	"enter runs the chosen task and x stops it; o shows its output, y the tally of its problems",
	"/ finds a task by its letters, u runs the usual one, n makes a new one",
	"? lists every key, t comes back here, q quits",
}

// besideWidth is the width from which details stand beside a list.
const besideWidth = 180

// detailsHeight is the height from which details are shown without being asked for.
const detailsHeight = 30

func (p *tasksPage) heading(r *ink.Row) {
	r.Put("  "+tasksName, ink.Plain)
	right := ""
	if current := p.currentRel(); current != "" {
		word := "saved last "
		if p.snap.Chosen != "" {
			word = "current file "
		}
		right = word + ink.ShortPath(clean(current), 30) + "   "
	}
	if u := p.usual(); u != nil {
		right += "usual " + clean(shortID(u))
	}
	if r.At()+3+len(right) < p.width {
		r.Right(right, p.width-1, ink.Slate)
	}
}

func (p *tasksPage) showsDetails() bool {
	switch {
	case p.asking, p.details == detailsShown:
		return true
	case p.details == detailsHidden:
		return false
	}
	return p.height >= detailsHeight || p.width >= besideWidth
}

// beyond returns how many rows of the list are out of view.
func (p *tasksPage) beyond() (above, below int) {
	return edgesOf(p.top, p.listHeight(), len(p.rows))
}

func (p *tasksPage) edges() (above, below int) {
	above, below = p.beyond()
	if p.showsDetails() && p.width < besideWidth {
		below = 0 // the rule above the details says so
	}
	return above, below
}

// listHeight is the number of rows of the list.
func (p *tasksPage) listHeight() int {
	body := p.bodyHeight() - p.head()
	if !p.showsDetails() || p.width >= besideWidth {
		return max(1, body)
	}
	return max(2, body-max(7, body/3))
}

func (p *tasksPage) body() []string {
	lines := []string{p.findLine(), ""}
	if p.greets {
		for _, text := range greeting {
			lines = append(lines, p.row().To(4).Put(text, ink.Verdigris).String())
		}
		lines = append(lines, "")
	}
	if p.snap.Survey == nil {
		return append(lines, p.row().To(4).Put("reading the workspace …", ink.Slate).String())
	}
	if len(p.tasks) == 0 {
		return append(lines, p.noTasks()...)
	}
	width, height := p.width, p.listHeight()
	beside := p.showsDetails() && p.width >= besideWidth
	if beside {
		width = p.width * 11 / 20
	}
	c := p.columns(width)
	list := make([]string, 0, height)
	bottom := min(len(p.rows), p.top+height)
	labels := make([]string, 0, height)
	for _, row := range p.rows[p.top:bottom] {
		labels = append(labels, clean(row.label))
	}
	labels = ink.Distinct(labels, c.runs-c.name-2)
	for i := p.top; i < bottom; i++ {
		list = append(list, p.line(&p.rows[i], labels[i-p.top], i == p.chosenRow(), c))
	}
	if !p.showsDetails() {
		return append(lines, list...)
	}
	if beside {
		return append(lines, p.sideBySide(list, width, p.detailLines(p.width-width-3, height), height)...)
	}
	for len(list) < height {
		list = append(list, "")
	}
	_, below := p.beyond()
	lines = append(append(lines, list...), p.rule(below))
	return append(lines, p.detailLines(p.width, p.bodyHeight()-len(lines))...)
}

// sideBySide lays two columns of rows beside each other, the left one so many cells
// wide.
func (d *desk) sideBySide(left []string, width int, right []string, height int) (lines []string) {
	at := func(rows []string, i int) string {
		if i < len(rows) {
			return rows[i]
		}
		return ""
	}
	for i := range height {
		l := at(left, i)
		r := ansi.Truncate(at(right, i), d.width-width-3, "…")
		lines = append(lines, l+strings.Repeat(" ", max(0, width-ansi.StringWidth(l)))+d.ink.Write(" ¦ ", ink.Slate)+r)
	}
	return lines
}

// taskCount says where the tasks of the survey are: each is shown, stands in a closed fold, does not
// pass the filter, or is aside until h is pressed. others are rows for tasks that no file declares:
// the compilers for the current file.
type taskCount struct {
	all, shown, folded, filtered, aside, others int
}

func (c *taskCount) words(filter bool) string {
	text := fmt.Sprintf("%d of %s shown", c.shown, plural(c.all, "task"))
	if c.others > 0 {
		text += fmt.Sprintf(" and %s", plural(c.others, "compiler"))
	}
	if filter && c.filtered > 0 {
		text += fmt.Sprintf(", %d hidden by the filter", c.filtered)
	}
	if c.folded > 0 {
		text += fmt.Sprintf(", %d folded", c.folded)
	}
	return text
}

// findLine shows the filter, and how much it lets through.
func (p *tasksPage) findLine() string {
	r := p.row().Put("find ", ink.Slate)
	half := max(20, p.width*3/10)
	if p.finding {
		p.find.show(r, half-6)
	} else {
		r.Fit(p.find.String(), half-6, ink.Plain)
	}
	r.To(half)
	if p.snap.Survey == nil {
		return r.String()
	}
	r.Put(p.counts.words(p.find.String() != ""), ink.Slate)
	// The most important numbers come first, because a narrow row is cut at its end.
	if n := len(p.snap.Survey.Faults); n > 0 {
		r.Put("   ", ink.Plain).Put(plural(n, "fault"), ink.Madder)
	}
	if p.counts.aside > 0 {
		r.Put("   h ", ink.Plain).Put(fmt.Sprintf("shows %d hidden", p.counts.aside), ink.Slate)
	}
	if file, _ := p.snap.Survey.LeftOut(); file != "" {
		r.Put("   ", ink.Plain).Put(file+" is ignored, see v", ink.Ochre)
	} else if files, rules := p.snap.Survey.SkippedFiles(); files > 0 {
		r.Put(fmt.Sprintf("   %s ignored by %s", plural(files, "file"), plural(rules, "rule")), ink.Slate)
	}
	return r.String()
}

func (p *tasksPage) noTasks() []string {
	if p.counts.filtered > 0 {
		return p.paragraph(fmt.Sprintf("Nothing matches the filter; it hides %s.", plural(p.counts.filtered, "task")), "esc clears it.")[2:]
	}
	first := []string{"No tasks are declared here.", ""}
	if p.snap.Survey != nil && len(p.snap.Survey.Skipped) > 0 {
		first = append(strings.SplitAfter(p.snap.Survey.WhyEmpty(), "; "), "")
	}
	return p.paragraph(append(first,
		"Tidy Tally reads makefiles, package scripts, the build files of most languages, and its own tally",
		"file. Write one, and the task is here as soon as the file is saved:",
		"",
		"    # tidytally.toml",
		"    [task.hello]",
		`    run = "echo hello"`,
	)...)[2:]
}

// columns are where the parts of a task's row stand, in cells.
type columns struct {
	width, bar, name, runs, status, time, when, about int
}

// duration writes how long a run took, if there is room for that column.
func (c *columns) duration(r *ink.Row, d time.Duration, style ink.Ink) {
	if c.time < c.width {
		r.Right(printable.Duration(d), c.time+9, style)
	}
}

// leastWhen is the width in cells from which the list says when a task ran last.
const leastWhen = 110

func (p *tasksPage) columns(width int) columns {
	c := columns{width: width, bar: 9}
	if width < 100 {
		c.bar = 4
	}
	c.name = c.bar + 2
	status, times, when := 0, 0, 0
	if p.anyState() {
		times = 10
		status = p.statusWidth() + 1 + times
		if p.snap.Past != nil && width >= leastWhen {
			when = 13
		}
	}
	// Names and descriptions are cut last.
	name, command, about := p.longest.name+2, p.longest.runs+2, p.longest.about
	over := c.name + name + command + status + when + about + 1 - width
	if over > 0 && when > 0 {
		over, when = over-when, 0
	}
	cut := func(column *int, least int) {
		if by := min(over, *column-least); by > 0 {
			*column, over = *column-by, over-by
		}
	}
	cut(&command, leastCommand)
	if over > 0 && about > 0 && about-over < leastAbout && times > 0 {
		status, over, times = status-times, over-times, 0
	}
	cut(&about, leastAbout)
	if over > 0 { // the command has the room of both
		if about = 0; status > 0 && times == 0 {
			status, times = status+10, 10
		}
		command = max(leastCommand, min(p.longest.runs+2, width-c.name-name-status))
		over = c.name + name + command + status - width
	}
	if over > 0 && command-over < leastTold {
		over, command = over-command, 0
	}
	cut(&command, 0)
	cut(&name, leastName)
	c.runs = c.name + name
	c.status = c.runs + command
	c.time = c.width // out of the row
	if times > 0 {
		c.time = c.status + status - times
	}
	if when > 0 {
		c.when = c.status + status + 1
	}
	c.about = width
	if about > 0 {
		c.about = c.status + status + when + 1
	}
	return c
}

// The least widths of columns, in cells.
const (
	leastCommand = 16
	leastTold    = 8 // of a command: less says nothing
	leastAbout   = 24
	leastName    = 12
)

// statusWidth is the width of the words for how the last runs in view went.
func (p *tasksPage) statusWidth() int {
	most := 8
	for i := p.top; i < min(len(p.rows), p.top+p.listHeight()); i++ {
		t := p.rows[i].task
		if t == nil {
			continue
		}
		words := ""
		if last := p.last(t); last != nil {
			s := last.Snapshot()
			words = s.Words()
			if s.State == run.Up {
				words = p.since(&s)
			}
			if _, togo, ok := p.toGo(&s); ok {
				words = strings.Repeat("━", progressCells) + " " + togo
				words = words[:max(0, len(words)-10)] // it reaches over the column of times
			}
		} else if before := p.lastOf(t); before != nil {
			words = before.Words()
		}
		width := ansi.StringWidth(words)
		width += len(p.staleWords(t))
		most = max(most, width)
	}
	return most
}

// progressCells is the length of a ruled line that shows progress.
const progressCells = 10

// anyState reports whether there is something to say of any task's last run.
func (p *tasksPage) anyState() bool {
	if len(p.runs) > 0 {
		return true
	}
	for _, look := range p.snap.Outlooks() {
		if look.Stale() {
			return true
		}
	}
	if p.snap.Past != nil && len(p.snap.Past.Last) > 0 {
		return true
	}
	for i := p.top; i < min(len(p.rows), p.top+p.listHeight()); i++ {
		if t := p.rows[i].task; t != nil && p.lacks(t) != nil {
			return true
		}
	}
	return false
}

// line lays out a row of the list.
func (p *tasksPage) line(tr *taskRow, label string, chosen bool, c columns) string {
	r := p.ink.Row(c.width)
	if tr.fold != "" {
		return p.foldLine(tr, chosen, c)
	}
	if tr.opens != "" {
		style := ink.Slate
		if chosen {
			style = ink.Reverse
		}
		return r.To(c.bar).Put("¦ ", ink.Slate).Put(tr.opens+" …", style).String()
	}
	if tr.task == nil {
		return r.To(c.name-2).Put(tr.head, ink.Bold).Put("  "+tr.files, ink.Slate).String()
	}
	t := tr.task
	last := p.last(t)
	if last != nil {
		worstStrokes(r, p.session.Verdict(last).Count, c.bar-1)
	}
	r.To(c.bar).Put("¦ ", ink.Slate)
	if chosen {
		r.Fit(label, c.runs-c.name, ink.Reverse)
		r.Fit(t.Runs(), c.status-c.runs-1, ink.Reverse)
	} else {
		markedName(r, label, marksIn(label, tr), c.runs-c.name)
		r.Fit(t.Runs(), c.status-c.runs-1, ink.Slate)
	}
	r.To(c.status)
	p.status(r, t, last, c)
	if c.about < c.width && t.About != "" {
		r.To(c.about).Put(t.About, ink.Slate)
	}
	return r.String()
}

// staleWords says in the list that a task is stale, and for how many reasons; "" if it is not.
func (p *tasksPage) staleWords(t *task.Task) string {
	if look := p.snap.Outlooks()[t.ID()]; look.Stale() {
		return fmt.Sprintf(" stale (%d)", look.Reasons)
	}
	return ""
}

// status writes how a task's last run ended, or that the task is stale.
func (p *tasksPage) status(r *ink.Row, t *task.Task, last *run.Run, c columns) {
	var snap run.Snapshot
	if last != nil {
		snap = last.Snapshot()
	}
	stale := func() { r.Put(p.staleWords(t), ink.Ochre) }
	switch {
	case last == nil:
		before := p.lastOf(t)
		if before == nil {
			if stale(); p.lacks(t) != nil {
				r.Put("not ready", ink.Ochre)
			}
		} else {
			r.Put(before.Words(), pastInk(before))
			stale()
			c.duration(r, before.Elapsed(p.now), ink.Slate)
			if c.when > 0 {
				r.To(c.when).Put(ago(before.Start, p.now), ink.Slate)
			}
		}
	case snap.State == run.Up:
		r.Put(p.since(&snap), stateInk(&snap))
	case snap.State == run.Running && p.progress(r, &snap, c):
	default:
		r.Put(snap.Words(), stateInk(&snap))
		if snap.State == run.OK {
			stale()
		}
		if c.when > 0 && snap.State.Ended() && !snap.Started.IsZero() {
			defer func() { r.To(c.when).Put(ago(snap.Started, p.now), ink.Slate) }()
		}
		if snap.State != run.Waiting && snap.State != run.Skipped {
			c.duration(r, snap.Elapsed(p.now), ink.Plain)
		}
	}
}

// progress draws a ruled line that fills, against the median of earlier good runs. It returns
// false where they say nothing.
func (p *tasksPage) progress(r *ink.Row, s *run.Snapshot, c columns) bool {
	done, words, ok := p.toGo(s)
	if !ok {
		return false
	}
	filled := min(progressCells, int(done*progressCells))
	r.Put(strings.Repeat("━", filled), ink.Plain).Put(strings.Repeat("╌", progressCells-filled), ink.Slate).Put(" "+words, ink.Slate)
	return true
}

// marksIn returns the marks of a row that are in what is left of its label.
func marksIn(label string, tr *taskRow) (marks []int) {
	whole := clean(tr.label)
	for _, m := range tr.marks {
		if m < len(label) && m < len(whole) && label[:m+1] == whole[:m+1] {
			marks = append(marks, m)
		}
	}
	return marks
}

// markedName writes a name with the bytes that the filter hit underlined.
func markedName(r *ink.Row, name string, marks []int, columns int) {
	if len(marks) == 0 {
		r.Fit(name, columns, ink.Plain)
		return
	}
	start := r.At()
	hit := map[int]bool{}
	for _, i := range marks {
		hit[i] = true
	}
	for i, c := range name {
		if r.At()-start >= columns-2 {
			break
		}
		style := ink.Plain
		if hit[i] {
			style = ink.Bold | ink.Under
		}
		r.Put(string(c), style)
	}
	r.Fit("", columns-(r.At()-start), ink.Plain)
}

// inList are the values of a task that the list and the first rows of the details
// show.
var inList = map[string]bool{
	"name": true, "command": true, "script": true, "dir": true, "about": true, "args": true, "needs": true, "kind": true, "longRunning": true,
}

// label begins a row of details.
func (d *desk) label(width int, name string, style ink.Ink) *ink.Row {
	return d.ink.Row(width).To(2).Put(name, style).To(12)
}

// detailLines describe the chosen task.
func (p *tasksPage) detailLines(width, height int) []string {
	t := p.current()
	if p.asking {
		t = p.asked
	}
	if height < 1 {
		return nil
	}
	if t == nil {
		return p.foldDetails(width, height)
	}
	var lines []string
	add := func(r *ink.Row) { lines = append(lines, r.String()) }
	label := func(name string) *ink.Row { return p.label(width, name, ink.Slate) }
	p.titleLines(t, width, add)
	if p.asking {
		lines = append(lines, p.argumentLines(t, width)...)
	}
	half := width
	if width >= 100 {
		half = width / 2
	}
	// two puts a second value on a row, or on the next one if there is no room.
	two := func(r *ink.Row, name, value string) *ink.Row {
		if half == width {
			add(r)
			return label(name).Put(value, ink.Plain)
		}
		return r.To(half).Put(name+" ", ink.Slate).Put(value, ink.Plain)
	}
	r := label("runs")
	r.Limit = half - 2
	r.Put(t.Command.String(), ink.Plain)
	r.Limit = width
	add(two(r, "in", folderWords(t.Dir)))
	if t.Script != "" && !t.ScriptInFile {
		script := strings.Split(t.Script, "\n")
		text := script[0]
		if len(script) > 1 {
			text += fmt.Sprintf(" … and %s", plural(len(script)-1, "more line"))
		}
		add(label("that is").Put(text, ink.Plain))
	}
	o := t.Origin("name")
	r = label(string(o.Manner))
	r.Limit = half - 2
	r.Put(placeOf(o), ink.Plain)
	if o.Note != "" {
		r.Put("  "+o.Note, ink.Slate)
	}
	r.Limit = width
	if args := argWords(t); args != "" {
		r = two(r, "takes", args)
	}
	add(r)
	if len(t.Prerequisites) > 0 {
		add(label("before").Put(strings.Join(t.Prerequisites, "  "), ink.Plain))
	}
	if m := p.lacks(t); m != nil {
		text := m.What
		if m.Command != "" {
			text += "; I runs what brings it: " + m.Command
		}
		add(label("not ready").Put(text, ink.Ochre))
	}
	if look := p.snap.Outlooks()[t.ID()]; look.From != "" {
		from := "   " + fromWords(&look)
		switch {
		case look.State == plan.Fresh:
			add(label("fresh").Put("nothing that it read has changed since "+printable.Moment(look.Since, p.now), ink.Verdigris).Put(from, ink.Slate))
		case look.State == plan.Unknown:
			add(label("unknown").Put(strings.Join(look.Why, ", "), ink.Slate).Put(from, ink.Slate))
		case look.Stale():
			add(label("stale").Put(strings.Join(look.Why, ", "), ink.Ochre).Put(from, ink.Slate))
		}
	}
	if last := p.last(t); last != nil {
		s := last.Snapshot()
		if s.Fault != "" {
			add(label("fault").Put(s.Fault, ink.Madder))
		}
		if s.State == run.Skipped && s.Blamed != "" {
			add(label("not run").Put(s.Blamed, ink.Ochre))
		}
	}
	for _, v := range p.snap.Survey.Values(t) {
		if !inList[v.Field] {
			add(label(v.Field).Put(v.Text, ink.Plain).Put("   "+v.Origin.String(), ink.Slate))
		}
	}
	for _, field := range []string{"about", "command", "dir"} {
		if o := t.Origins[field]; o.Manner == task.Adjusted {
			add(label("adjusted").Put(field, ink.Plain).Put("   "+placeOf(o), ink.Slate))
		}
	}
	if left := height - len(lines) - 1; left >= 1 {
		lines = append(lines, "")
		lines = append(lines, p.excerpt.lines(p.desk, o, width, min(left, maxExcerpt))...)
	}
	return lines[:min(len(lines), height)]
}

// titleLines write the name of a task and what it does, on as many rows as that takes.
func (p *tasksPage) titleLines(t *task.Task, width int, add func(*ink.Row)) {
	r := p.ink.Row(width).Put(t.Name, ink.Bold)
	at := r.At() + 3
	if width-at < leastAbout && ansi.StringWidth(clean(t.About)) > width-at {
		add(r)
		r, at = p.ink.Row(width), 2
	}
	for i, part := range wrap(clean(t.About), width-at) {
		if i > 0 {
			add(r)
			r = p.ink.Row(width)
		}
		r.To(at).Put(part, ink.Slate)
	}
	add(r)
}

// placeOf is the file and line of an origin.
func placeOf(o task.Origin) string {
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
		words = append(words, w)
	}
	return strings.Join(words, "  ")
}

const (
	// maxExcerpt is the number of lines of a declaration that are shown.
	maxExcerpt = 12
	// maxExcerptFile is the size in bytes from which a file is not read for it.
	maxExcerptFile = 8 << 20
)

// excerptOf keeps the lines of a declaring file around a declaration, so that the
// file is read once.
type excerptOf struct {
	origin task.Origin
	late   *lateFile // nil once it was read
	text   []string
	from   int
}

func (x *excerptOf) lines(d *desk, o task.Origin, width, count int) []string {
	if x.origin != o || x.text == nil {
		x.origin, x.text, x.from = o, []string{}, max(1, o.Line)
		x.late = d.readBeside(d.absolute(o.File), maxExcerptFile)
	}
	if x.late != nil && isDone(x.late.read) {
		if x.late.err == nil {
			all := strings.Split(strings.ReplaceAll(string(x.late.data), "\r\n", "\n"), "\n")
			if from := max(0, o.Line-1); from < len(all) {
				x.text = all[from:min(len(all), from+maxExcerpt)]
			}
		}
		x.late = nil
	}
	var out []string
	for i, text := range x.text {
		if i == count || i > 0 && strings.TrimSpace(text) == "" {
			break
		}
		out = append(out, d.ink.Row(width).Right(fmt.Sprint(x.from+i), 5, ink.Slate).Put(" ¦ ", ink.Slate).Put(strings.ReplaceAll(text, "\t", "    "), ink.Plain).String())
	}
	return out
}

// argumentLines show the line for arguments and what it will run.
func (p *tasksPage) argumentLines(t *task.Task, width int) []string {
	r := p.label(width, "arguments", ink.Slate)
	p.arguments.show(r, width-14)
	if p.naming {
		name := p.label(width, "keep as", ink.Slate)
		p.preset.show(name, width-14)
		return []string{r.String(), name.String(), ""}
	}
	will := p.label(width, "will run", ink.Slate)
	words, err := task.SplitWords(p.arguments.String())
	if err != nil {
		will.Put(err.Error(), ink.Madder)
		return []string{r.String(), will.String(), ""}
	}
	ctx := p.session.Context()
	if prepared, err := ctx.Prepare(p.atPlace(t), words); err != nil {
		will.Put(err.Error(), ink.Madder)
	} else {
		will.Put(prepared.Display, ink.Bold)
	}
	lines := []string{r.String(), will.String()}
	if len(ctx.Tally.Places) > 0 {
		at := p.label(width, "at", ink.Slate).Put(cmp.Or(p.where, "this machine"), ink.Plain).Put("   ctrl+p goes elsewhere", ink.Slate)
		lines = []string{r.String(), at.String(), will.String()}
	}
	if len(p.presets) > 0 {
		kept := p.label(width, "kept", ink.Slate).Put(strings.Join(slices.Sorted(maps.Keys(p.presets)), "  "), ink.Plain).Put("   ctrl+t takes one", ink.Slate)
		lines = append(lines, kept.String())
	}
	return append(lines, "")
}
