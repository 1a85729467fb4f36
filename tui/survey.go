package tui

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
	"tidytally/tui/ink"
)

const surveyName = "survey"

// surveyPage shows which files were read, what is wrong with them, and what was
// ignored by which rule.
type surveyPage struct {
	*desk
	plainPage
	rows   []surveyRow
	chosen int
	top    int
	opened map[string]bool // the rows that stand for many and are open
}

func newSurveyPage(d *desk) *surveyPage { return &surveyPage{desk: d} }

func (p *surveyPage) name() string { return surveyName }

func (p *surveyPage) goes() key {
	return key{names: []string{"v"}, label: surveyName, help: "the survey: what was read, what is wrong with it, what was ignored; and back"}
}

func (p *surveyPage) keys() []key {
	return []key{
		{names: []string{"enter", "e"}, label: "open", help: "open the editor at the fault or file, or what a row stands for", ofRow: true, act: p.open},
		{names: []string{"s"}, goal: toWrite, label: "switch rule", help: "switch the rule off, or on again; it is written into the tally file", ofRow: true, act: p.switchRule},
		{names: []string{"i"}, goal: toWrite, label: "ignore", help: "ignore a file or a folder; it is written into the tally file", ofRow: true, act: p.ignore},
	}
}

// surveyRow is a line of the page; one with a left text can be chosen, and one with
// a file be opened.
type surveyRow struct {
	head   string
	file   string
	line   int
	column int
	rule   string // that ignores something, or does not because it is switched off
	off    bool
	opens  string // the key of what opens: the row stands for many
	left   string
	middle string
	more   string // goes on from the middle of the row above
	right  string
	ink    ink.Ink
}

func (p *surveyPage) update(msg tea.Msg) tea.Cmd {
	switch msg.(type) {
	case tea.WindowSizeMsg:
		if p.snap.Survey == nil {
			return nil
		}
		p.show(p.makeRows())
		p.clamp()
	case surveyedMsg:
		p.show(p.makeRows())
		p.clamp()
	}
	return nil
}

func (p *surveyPage) makeRows() (rows []surveyRow) {
	s := p.snap.Survey
	if len(s.Faults) > 0 {
		rows = append(rows, surveyRow{head: plural(len(s.Faults), "fault")})
		rows = append(rows, p.faultRows()...)
	} else {
		rows = append(rows, surveyRow{head: "no faults"})
	}
	rows = append(rows, surveyRow{}, surveyRow{head: "read: " + plural(len(s.Read), "file")})
	rows = append(rows, p.readRows()...)
	if len(s.Folds) > 0 {
		rows = append(rows, surveyRow{}, surveyRow{head: "folded in the list"})
		for _, f := range s.Folds {
			name := folderWords(strings.TrimSuffix(f.Name, "/"))
			rows = append(rows, surveyRow{left: name, middle: f.Why, right: plural(f.Tasks, "task")})
		}
	}
	byRule := map[string][]workspace.Skip{}
	var rules []string
	for _, k := range s.Skipped {
		if byRule[k.Rule] == nil {
			rules = append(rules, k.Rule)
		}
		byRule[k.Rule] = append(byRule[k.Rule], k)
	}
	sort.Strings(rules)
	ignored := "nothing was ignored"
	if len(rules) > 0 {
		ignored = "ignored by " + plural(len(rules), "rule")
	}
	rows = append(rows, surveyRow{}, surveyRow{head: ignored})
	for _, rule := range rules {
		files := 0
		for _, k := range byRule[rule] {
			files += k.Files
		}
		where := byRule[rule][0].Path
		if n := len(byRule[rule]); n > 1 {
			where += fmt.Sprintf(" and %d more", n-1)
		}
		rows = append(rows, surveyRow{rule: rule, left: rule, middle: where, right: plural(files, "file")})
	}
	for _, rule := range s.Tally.Workspace.RulesOff {
		rows = append(rows, surveyRow{rule: rule, off: true, left: rule, middle: "switched off by " + workspace.TallyFile, ink: ink.Slate})
	}
	return rows
}

const (
	// manyFaults is the number of faults of one cause, and manyFiles that of files of one
	// source, from which one row stands for all.
	manyFaults = 4
	manyFiles  = 12
)

// causeOf returns what faults of one cause have in common.
func causeOf(f task.Fault) string {
	if _, cause, ok := strings.Cut(f.Message, ": "); ok {
		return cause
	}
	return f.Message
}

// faultRows lists the faults; many of one cause are one row that opens.
func (p *surveyPage) faultRows() (rows []surveyRow) {
	one := func(f task.Fault) (of []surveyRow) {
		place := f.File
		if f.Line > 0 {
			place = fmt.Sprintf("%s:%d", f.File, f.Line)
		}
		for i, part := range wrap(clean(f.Message), p.width-p.middleColumn()-1) {
			if i == 0 {
				of = append(of, surveyRow{file: f.File, line: f.Line, column: f.Column, left: place, middle: part, ink: ink.Madder})
			} else {
				of = append(of, surveyRow{more: part, ink: ink.Madder})
			}
		}
		return of
	}
	byCause := map[string][]task.Fault{}
	for _, f := range p.snap.Survey.Faults {
		byCause[causeOf(f)] = append(byCause[causeOf(f)], f)
	}
	for _, f := range p.snap.Survey.Faults {
		cause := causeOf(f)
		switch of := byCause[cause]; {
		case len(of) < manyFaults:
			rows = append(rows, one(f)...)
		case of[0] == f:
			rows = append(rows, surveyRow{opens: "fault " + cause, left: fmt.Sprintf("%d places", len(of)), middle: cause, ink: ink.Madder})
			if p.opened["fault "+cause] {
				for _, f := range of {
					rows = append(rows, one(f)...)
				}
			}
		}
	}
	return rows
}

// readRows lists the files that were read; many of one source are one row that opens.
func (p *surveyPage) readRows() (rows []surveyRow) {
	one := func(r survey.Read) surveyRow {
		row := surveyRow{file: r.Path, left: r.Path, middle: r.Source, right: plural(r.Tasks, "task")}
		if r.PartOf != "" {
			row.right = ""
			row.middle += ", part of " + r.PartOf
		}
		return row
	}
	bySource, tasks := map[string][]survey.Read{}, map[string]int{}
	for _, r := range p.snap.Survey.Read {
		bySource[r.Source] = append(bySource[r.Source], r)
		tasks[r.Source] += r.Tasks
	}
	for _, r := range p.snap.Survey.Read {
		switch of := bySource[r.Source]; {
		case len(of) <= manyFiles:
			rows = append(rows, one(r))
		case of[0] == r:
			rows = append(rows, surveyRow{opens: "source " + r.Source, left: plural(len(of), "file"), middle: r.Source, right: plural(tasks[r.Source], "task")})
			if p.opened["source "+r.Source] {
				for _, r := range of {
					rows = append(rows, one(r))
				}
			}
		}
	}
	return rows
}

// move goes to a row that can be chosen, past headings and blanks.
func (p *surveyPage) move(rows int) {
	at := max(0, min(p.chosen+rows, len(p.rows)-1))
	step := 1
	if rows < 0 {
		step = -1
	}
	for _, s := range []int{step, -step} {
		for i := at; i >= 0 && i < len(p.rows); i += s {
			if p.rows[i].left != "" {
				p.chosen = i
				return
			}
		}
	}
}

func (p *surveyPage) scroll(rows int) { p.move(rows) }

// show takes the rows of a new survey. The chosen row stays chosen; at the top the
// choice stays at the top, so that a new fault is the first thing chosen.
func (p *surveyPage) show(rows []surveyRow) {
	choosable := func(r surveyRow) bool { return r.left != "" }
	if p.chosen <= slices.IndexFunc(p.rows, choosable) {
		p.chosen = 0
	} else if p.chosen < len(p.rows) {
		old := p.rows[p.chosen]
		same := slices.IndexFunc(rows, func(r surveyRow) bool { return r.left == old.left && r.middle == old.middle })
		if same >= 0 {
			p.chosen = same
		}
	}
	p.rows = rows
}

func (p *surveyPage) clamp() {
	p.chosen = max(0, min(p.chosen, len(p.rows)-1))
	if len(p.rows) > 0 && p.rows[p.chosen].left == "" {
		p.move(1)
	}
	p.top = scrollTo(p.top, p.bodyHeight()-1, len(p.rows), p.chosen)
	if p.chosen <= 1 {
		p.top = 0
	}
}

func (p *surveyPage) click(row int) bool {
	at := p.top + row - 1
	if row < 1 || at >= len(p.rows) || p.rows[at].left == "" {
		return false
	}
	p.chosen = at
	return true
}

func (p *surveyPage) edges() (above, below int) { return edgesOf(p.top, p.bodyHeight()-1, len(p.rows)) }

func (p *surveyPage) subject() *run.Run { return p.run }

func (p *surveyPage) heading(r *ink.Row) {
	r.Put("  "+surveyName, ink.Plain)
	if p.snap.Survey != nil {
		r.Right(plural(p.snap.Survey.Files, "file")+" seen in "+plural(len(p.snap.Survey.Folders), "folder")+", nothing was run", p.width-1, ink.Slate)
	}
}

func (p *surveyPage) body() []string {
	lines := []string{""}
	left := p.middleColumn()
	for i := p.top; i < min(len(p.rows), p.top+p.bodyHeight()-1); i++ {
		s := p.rows[i]
		r := p.row()
		if s.more != "" {
			lines = append(lines, r.To(left).Put(s.more, s.ink).String())
			continue
		}
		if s.left == "" {
			lines = append(lines, r.To(2).Put(s.head, ink.Bold).String())
			continue
		}
		style := ink.Plain
		if i == p.chosen {
			style = ink.Reverse
		}
		name := ink.ShortPath(clean(s.left), left-8)
		if s.opens != "" && !p.opened[s.opens] {
			name += " …"
		}
		r.To(4).Fit(name, left-6, style).To(left)
		if s.right != "" {
			r.Limit = p.width - 12
		}
		r.Put(s.middle, s.ink)
		r.Limit = p.width
		if s.right != "" {
			r.Right(s.right, p.width-1, ink.Slate)
		}
		lines = append(lines, r.String())
	}
	return lines
}

// middleColumn is where the middle of a row begins, in cells.
func (p *surveyPage) middleColumn() int { return max(28, p.width*2/5) }

// current is the chosen row; an empty one if there is none.
func (p *surveyPage) current() surveyRow {
	if p.chosen < len(p.rows) {
		return p.rows[p.chosen]
	}
	return surveyRow{}
}

// open opens the editor at the chosen fault or file.
func (p *surveyPage) open() tea.Cmd {
	s := p.current()
	if s.opens != "" {
		if p.opened == nil {
			p.opened = map[string]bool{}
		}
		p.opened[s.opens] = !p.opened[s.opens]
		p.rows = p.makeRows()
		p.chosen = max(0, slices.IndexFunc(p.rows, func(r surveyRow) bool { return r.opens == s.opens }))
		p.clamp()
		return nil
	}
	if s.file == "" {
		return nil
	}
	return p.openEditor(s.file, s.line, s.column)
}

// switchRule switches the chosen rule off, or on again: a built-in one by its name,
// an ignore file by its path, a pattern of the tally file by taking it out.
func (p *surveyPage) switchRule() tea.Cmd {
	row := p.current()
	if row.rule == "" {
		p.say(false, "choose a rule: they stand below the files that were read")
		return nil
	}
	if row.off {
		return p.sure("Is "+row.rule+" to hold again?", row.rule+" holds again", func(data []byte) ([]byte, error) {
			return tallyfile.Remove(data, "rules_off", row.rule)
		})
	}
	if pattern, own := strings.CutPrefix(row.rule, workspace.TallyFile+": ignore "); own {
		return p.sure("Is "+pattern+" no longer to be ignored?", pattern+" is no longer ignored", func(data []byte) ([]byte, error) {
			return tallyfile.Remove(data, "ignore", pattern)
		})
	}
	name, builtIn := strings.CutPrefix(row.rule, "built-in: ")
	if !builtIn {
		name, _, _ = strings.Cut(name, ":") // the ignore file, without the line
	}
	return p.sure("Is the rule "+name+" to ignore nothing here?", name+" ignores nothing; s switches it on again", func(data []byte) ([]byte, error) {
		return tallyfile.Append(data, "rules_off", name)
	})
}

// ignore asks which path of the chosen row is to be ignored.
func (p *surveyPage) ignore() tea.Cmd {
	file := p.current().file
	if file == "" || filepath.IsAbs(file) {
		p.say(false, "choose a file of the workspace that is to be ignored")
		return nil
	}
	ignore := func(pattern, about string) answer {
		return answer{pattern, about, func() tea.Cmd {
			return p.editTally(pattern+" is ignored", func(data []byte) ([]byte, error) {
				return tallyfile.Append(data, "ignore", pattern)
			})
		}}
	}
	answers := []answer{ignore(file, "this file")}
	for dir := path.Dir(file); dir != "."; dir = path.Dir(dir) {
		answers = append(answers, ignore(dir, "the folder and all below it"))
	}
	answers = append(answers, ignore("**/"+path.Base(file), "every file of this name"))
	return p.ask("What is to be ignored? It is written into "+workspace.TallyFile+", for everybody who works here.", answers...)
}

// sure asks before a change is written that is one key away.
func (p *surveyPage) sure(question, done string, change func([]byte) ([]byte, error)) tea.Cmd {
	return p.ask(question,
		answer{"yes", "written into " + workspace.TallyFile + ", for everybody who works here", func() tea.Cmd { return p.editTally(done, change) }},
		answer{"no", "nothing is written", func() tea.Cmd { return nil }})
}
