package tui

import (
	"fmt"
	"path"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/filter"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/tui/ink"
)

const (
	// openMembers and openTasks are how many folders and tasks stand open in the list.
	// With more, each folder but the root is one row that opens.
	openMembers = 40
	openTasks   = 400
	// openTests is the number of tests of one file that stand singly in the list.
	openTests = 12
)

// folding lays out the list with folds: rows that stand for many tasks and open.
type folding struct {
	p      *tasksPage
	groups map[string][]hit
	folded map[string][]hit // by fold
}

// layOut makes the rows of the groups. Without a filter some are folded; a filter shows
// each task that passes it.
func (p *tasksPage) layOut(groups map[string][]hit, order []string, fold bool) {
	if !fold {
		for _, g := range order {
			p.addGroup(g, groups[g], fold)
		}
		return
	}
	f := folding{p: p, groups: groups, folded: map[string][]hit{}}
	order = f.takeFolded(order)
	tasks := 0
	var special, folders []string
	for _, g := range order {
		if strings.HasPrefix(g, "\x00") || g == "." || g == task.Personal {
			special = append(special, g)
			continue
		}
		folders = append(folders, g)
		tasks += len(groups[g])
	}
	for _, g := range special {
		p.addGroup(g, groups[g], true)
		f.below(g)
	}
	if len(folders) > openMembers || tasks > openTasks {
		p.rows = append(p.rows, taskRow{head: "folders"})
		f.tree("", folders)
	} else {
		for _, g := range folders {
			p.addGroup(g, groups[g], true)
			f.below(g)
		}
	}
	f.projects()
}

// addGroup adds the heading of a group and its tasks. Many tests of a file are folded.
func (p *tasksPage) addGroup(g string, hits []hit, fold bool) {
	p.rows = append(p.rows, p.groupRow(g, hits))
	p.addHits(g, hits, fold)
}

// addHits adds the tasks of a group.
func (p *tasksPage) addHits(g string, hits []hit, fold bool) {
	defer func() {
		if g == currentGroup && p.offersCompilers(filter.Parse(p.find.String(), task.FilterFields...)) {
			p.tasks = append(p.tasks, len(p.rows))
			p.rows = append(p.rows, taskRow{opens: "compilers and interpreters on this machine"})
		}
	}()
	tests := map[string][]hit{} // by file, those that are folded if they are many
	if fold {
		for _, h := range hits {
			if isSingleTest(h.task) {
				tests[h.task.File] = append(tests[h.task.File], h)
			}
		}
	}
	for _, h := range hits {
		file := h.task.File
		of := tests[file]
		if len(of) <= openTests || !isSingleTest(h.task) {
			p.addTask(h)
			continue
		}
		if of[0].task != h.task {
			continue // stands with the first
		}
		if p.addFold(taskRow{fold: "tests of " + file, opens: plural(len(of), "test") + " of " + path.Base(file), of: of}) {
			for _, h := range of {
				p.addTask(h)
			}
		}
	}
}

func (p *tasksPage) addTask(h hit) {
	p.tasks = append(p.tasks, len(p.rows))
	p.rows = append(p.rows, taskRow{task: h.task, marks: h.marks})
}

// isSingleTest reports whether a task is one test of a suite.
func isSingleTest(t *task.Task) bool {
	return t.Kind == task.Test && (strings.HasPrefix(t.Name, "test ") || strings.HasPrefix(t.Name, "benchmark "))
}

// addFold adds the row of a fold. It reports whether the fold is open.
func (p *tasksPage) addFold(row taskRow) bool {
	row.open = p.unfolded[row.fold]
	p.tasks = append(p.tasks, len(p.rows))
	p.rows = append(p.rows, row)
	return row.open
}

// takeFolded takes the tasks of closed folds out of the groups.
func (f *folding) takeFolded(order []string) []string {
	var left []string
	for _, g := range order {
		if strings.HasPrefix(g, "\x00") {
			left = append(left, g)
			continue
		}
		var own []hit
		for _, h := range f.groups[g] {
			name := h.task.Fold
			if name != "" {
				f.folded[name] = append(f.folded[name], h)
			}
			if name == "" || strings.HasSuffix(name, "/") && f.p.unfolded[name] {
				own = append(own, h)
			}
		}
		if f.groups[g] = own; len(own) > 0 {
			left = append(left, g)
		}
	}
	// A fold needs its folder's heading.
	for name := range f.folded {
		if g := strings.TrimSuffix(name, "/"); g != name && !slices.Contains(left, g) {
			left = append(left, g)
		}
	}
	return left
}

// below adds the fold of what the targets of a folder lead to.
func (f *folding) below(g string) {
	name := survey.BelowFold(g)
	hits := f.folded[name]
	if len(hits) == 0 {
		return
	}
	var folders, names []string
	for _, h := range hits {
		if !slices.Contains(names, h.task.Name) {
			names = append(names, h.task.Name)
		}
		if folder := h.task.Folder(); !slices.Contains(folders, folder) {
			folders = append(folders, folder)
		}
	}
	f.p.addFold(taskRow{fold: name, opens: "the same in " + plural(len(folders), "folder") + " below", files: strings.Join(names, ", "), of: hits})
}

// projects adds the folds of other people's projects, at the end.
func (f *folding) projects() {
	head := false
	for _, fold := range f.p.snap.Survey.Folds {
		hits := f.folded[fold.Name]
		if fold.Why == survey.WhyBelow || len(hits) == 0 {
			continue
		}
		if !head {
			head = true
			f.p.rows = append(f.p.rows, taskRow{head: "other projects in the tree"})
		}
		if !f.p.addFold(taskRow{fold: fold.Name, opens: fold.Name, files: plural(len(hits), "task") + "   " + fold.Why, of: hits}) {
			continue
		}
		byFolder := map[string][]hit{}
		var order []string
		for _, h := range hits {
			g := h.task.Folder()
			if byFolder[g] == nil {
				order = append(order, g)
			}
			byFolder[g] = append(byFolder[g], h)
		}
		for _, g := range order {
			f.p.addGroup(g, byFolder[g], true)
		}
	}
}

// tree adds the folders below a prefix, each as one row that opens.
func (f *folding) tree(prefix string, folders []string) {
	var heads []string
	inner := map[string][]string{}
	for _, g := range folders {
		head, _, _ := strings.Cut(strings.TrimPrefix(g, prefix), "/")
		head = prefix + head
		if inner[head] == nil {
			heads = append(heads, head)
		}
		inner[head] = append(inner[head], g)
	}
	for _, head := range heads {
		of := inner[head]
		for len(of) > 1 || of[0] != head { // a folder that only leads to one other is no row
			next := commonFolder(of)
			if next == head {
				break
			}
			head = next
		}
		var hits []hit
		for _, g := range of {
			hits = append(hits, f.groups[g]...)
		}
		about := plural(len(hits), "task")
		if len(of) > 1 {
			about = plural(len(of), "folder") + ", " + about
		}
		if !f.p.addFold(taskRow{fold: "in " + head, opens: head, files: about, of: hits}) {
			continue
		}
		if own := f.groups[head]; len(own) > 0 {
			f.p.addHits(head, own, true) // the fold's row is the heading
		}
		f.below(head)
		if rest := slices.DeleteFunc(slices.Clone(of), func(g string) bool { return g == head }); len(rest) > 0 {
			f.tree(head+"/", rest)
		}
	}
}

// commonFolder returns the deepest folder that all of some folders are in, or are.
func commonFolder(folders []string) string {
	common := folders[0]
	for _, g := range folders[1:] {
		for common != g && !strings.HasPrefix(g, common+"/") {
			common = path.Dir(common)
		}
	}
	return common
}

// toggleFold opens or closes the fold that is chosen, or closes the one that the chosen task
// stands in.
func (p *tasksPage) toggleFold() tea.Cmd {
	if p.chosen >= len(p.tasks) {
		return nil
	}
	for at := p.tasks[p.chosen]; at >= 0; at-- {
		row := p.rows[at]
		if row.fold == "" || at < p.tasks[p.chosen] && !row.open {
			continue
		}
		if p.unfolded == nil {
			p.unfolded = map[string]bool{}
		}
		p.unfolded[row.fold] = !row.open
		p.arrange()
		p.chooseFold(row.fold)
		p.clamp()
		return nil
	}
	p.say(false, "nothing is folded here")
	return nil
}

// chooseFold chooses the row of a fold.
func (p *tasksPage) chooseFold(fold string) {
	for i, at := range p.tasks {
		if p.rows[at].fold == fold {
			p.chosen = i
		}
	}
}

// nextMember goes to the next heading or folder row, or to the one before.
func (p *tasksPage) nextMember(by int) func() tea.Cmd {
	return func() tea.Cmd {
		at := p.chosenRow()
		for i := at + by; i >= 0 && i < len(p.rows); i += by {
			row := p.rows[i]
			switch {
			case strings.HasPrefix(row.fold, "in "):
				p.chosen, p.moved = slices.Index(p.tasks, i), true
				return nil
			case row.task == nil && row.fold == "" && row.opens == "":
				next := slices.IndexFunc(p.tasks, func(t int) bool { return t > i })
				if next >= 0 && (by > 0 || p.tasks[next] < at) {
					p.chosen, p.moved = next, true
					return nil
				}
			}
		}
		return nil
	}
}

// foldLine lays out the row of a fold: what it stands for, and the worst of its last runs.
func (p *tasksPage) foldLine(tr *taskRow, chosen bool, c columns) string {
	r := p.ink.Row(c.width)
	var worst problem.Count
	running := 0
	for _, last := range p.lastIn(tr.of) {
		if k := p.session.Verdict(last).Count; k.Errors > worst.Errors || k.Errors == worst.Errors && k.Warnings > worst.Warnings {
			worst = k
		}
		if !last.Snapshot().State.Ended() {
			running++
		}
	}
	worstStrokes(r, worst, c.bar-1)
	style, name := ink.Plain, clean(tr.opens)
	if chosen {
		style = ink.Reverse
	}
	if !tr.open {
		name += " …"
	}
	r.To(c.bar).Put("¦ ", ink.Slate).Put(name, style).Put("   "+tr.files, ink.Slate)
	if running > 0 {
		r.Put(fmt.Sprintf("   %d running", running), ink.Plain)
	}
	return r.String()
}

// lastIn returns the newest runs of those of some tasks that ran. They are looked up from the
// few that ran: a fold may hold thousands, and this happens at each frame.
func (p *tasksPage) lastIn(of []hit) (runs []*run.Run) {
	for _, all := range p.runs {
		last := all[len(all)-1]
		ran := last.Prepared.Task
		if slices.ContainsFunc(of, func(h hit) bool { return h.task.Name == ran.Name && h.task.File == ran.File }) {
			runs = append(runs, last)
		}
	}
	return runs
}

// foldDetails describe the chosen fold: the tasks that it stands for, with their folders.
func (p *tasksPage) foldDetails(width, height int) []string {
	if p.chosen >= len(p.tasks) || p.rows[p.tasks[p.chosen]].fold == "" {
		return nil
	}
	row := p.rows[p.tasks[p.chosen]]
	lines := []string{p.ink.Row(width).Put(row.opens, ink.Bold).Put("   "+row.files, ink.Slate).String()}
	byFolder := map[string][]string{}
	var order []string
	for _, h := range row.of {
		folder := h.task.Folder()
		if byFolder[folder] == nil {
			order = append(order, folder)
		}
		byFolder[folder] = append(byFolder[folder], clean(h.task.Name))
	}
	for _, folder := range order {
		if len(lines) >= height {
			break
		}
		r := p.ink.Row(width).To(2)
		r.Fit(ink.ShortPath(clean(folder), 30), 32, ink.Slate)
		lines = append(lines, r.Put(strings.Join(byFolder[folder], "  "), ink.Plain).String())
	}
	return lines
}
