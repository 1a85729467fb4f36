package tui

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/tallyfile"
	"tidytally/core/workspace"
)

// surveyView is the state of the Survey page.
type surveyView struct {
	rows   []surveyRow
	chosen int
	top    int
}

// surveyRow is a line of the page; one with a file can be opened.
type surveyRow struct {
	head   string
	file   string
	line   int
	column int
	rule   string // that kept something out, or does not as it is switched off
	off    bool
	left   string
	middle string
	right  string
	ink    Ink
}

func (m *Model) surveyRows() []surveyRow {
	s := m.survey
	if s == nil {
		return nil
	}
	var rows []surveyRow
	if len(s.Faults) > 0 {
		rows = append(rows, surveyRow{head: plural(len(s.Faults), "fault")})
		for _, f := range s.Faults {
			place := f.File
			if f.Line > 0 {
				place = fmt.Sprintf("%s:%d", f.File, f.Line)
			}
			rows = append(rows, surveyRow{file: f.File, line: f.Line, column: f.Column, left: place, middle: f.Message, ink: Madder})
		}
	} else {
		rows = append(rows, surveyRow{head: "no faults"})
	}
	rows = append(rows, surveyRow{}, surveyRow{head: "read: " + plural(len(s.Read), "file")})
	for _, r := range s.Read {
		rows = append(rows, surveyRow{file: r.Path, left: r.Path, middle: r.Source, right: plural(r.Tasks, "task")})
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
	kept := "nothing was kept out"
	if len(rules) > 0 {
		kept = "kept out by " + plural(len(rules), "rule")
	}
	rows = append(rows, surveyRow{}, surveyRow{head: kept})
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
		rows = append(rows, surveyRow{rule: rule, off: true, left: rule, middle: "switched off by " + workspace.TallyFile, ink: Slate})
	}
	return rows
}

// move goes to a row that can be chosen, past headings and blanks.
func (v *surveyView) move(rows int) {
	at := max(0, min(v.chosen+rows, len(v.rows)-1))
	step := 1
	if rows < 0 {
		step = -1
	}
	for _, s := range []int{step, -step} {
		for i := at; i >= 0 && i < len(v.rows); i += s {
			if v.rows[i].left != "" {
				v.chosen = i
				return
			}
		}
	}
}

// show takes the rows of a new survey. The chosen row stays chosen; at the top
// the choice stays at the top, so that a new fault is the first thing chosen.
func (v *surveyView) show(rows []surveyRow) {
	choosable := func(r surveyRow) bool { return r.left != "" }
	if v.chosen <= slices.IndexFunc(v.rows, choosable) {
		v.chosen = 0
	} else if v.chosen < len(v.rows) {
		old := v.rows[v.chosen]
		same := slices.IndexFunc(rows, func(r surveyRow) bool { return r.left == old.left && r.middle == old.middle })
		if same >= 0 {
			v.chosen = same
		}
	}
	v.rows = rows
}

func (v *surveyView) clamp(m *Model) {
	v.chosen = max(0, min(v.chosen, len(v.rows)-1))
	if len(v.rows) > 0 && v.rows[v.chosen].left == "" {
		v.move(1)
	}
	v.top = scrollTo(v.top, m.bodyHeight()-1, len(v.rows), v.chosen)
	if v.chosen <= 1 {
		v.top = 0
	}
}

func (v *surveyView) click(row int) bool {
	if at := v.top + row - 1; row >= 1 && at < len(v.rows) {
		if v.rows[at].left == "" {
			return false
		}
		v.chosen = at
		return true
	}
	return false
}

func (m *Model) surveyBody() []string {
	v := &m.surveys
	lines := []string{""}
	left := max(28, m.width*2/5)
	for i := v.top; i < min(len(v.rows), v.top+m.bodyHeight()-1); i++ {
		s := v.rows[i]
		r := m.ink.row(m.width)
		if s.head != "" || s.left == "" {
			lines = append(lines, r.to(2).put(s.head, Bold).String())
			continue
		}
		ink := Plain
		if i == v.chosen {
			ink = Reverse
		}
		r.to(4).fit(shortPath(clean(s.left), left-6), left-6, ink).to(left)
		if s.right != "" {
			r.limit = m.width - 12
		}
		r.put(clean(s.middle), s.ink)
		r.limit = m.width
		if s.right != "" {
			r.right(s.right, m.width-1, Slate)
		}
		lines = append(lines, r.String())
	}
	return lines
}

// openSurveyed opens the editor at the chosen fault or file.
func (m *Model) openSurveyed() tea.Cmd {
	v := &m.surveys
	if v.chosen >= len(v.rows) || v.rows[v.chosen].file == "" {
		return nil
	}
	s := v.rows[v.chosen]
	return m.openEditor(s.file, s.line, s.column)
}

// switchRule switches the chosen rule off, or on again: a built-in one by its
// name, an ignore file by its path, a pattern of the tally file by taking it out.
func (m *Model) switchRule() tea.Cmd {
	v := &m.surveys
	if v.chosen >= len(v.rows) || v.rows[v.chosen].rule == "" {
		m.say(false, "choose a rule: they stand below the files that were read")
		return nil
	}
	row := v.rows[v.chosen]
	if row.off {
		return m.editTally(row.rule+" holds again", func(data []byte) ([]byte, error) {
			return tallyfile.Remove(data, "workspace", "rules_off", row.rule)
		})
	}
	if pattern, own := strings.CutPrefix(row.rule, workspace.TallyFile+": ignore "); own {
		return m.editTally(pattern+" is no longer ignored", func(data []byte) ([]byte, error) {
			return tallyfile.Remove(data, "workspace", "ignore", pattern)
		})
	}
	name, builtIn := strings.CutPrefix(row.rule, "built-in: ")
	if !builtIn {
		name, _, _ = strings.Cut(name, ":") // the ignore file, without the line
	}
	return m.editTally(name+" keeps nothing out; s switches it on again", func(data []byte) ([]byte, error) {
		return tallyfile.Append(data, "workspace", "rules_off", name)
	})
}

// leaveOut asks which path of the chosen row is to be ignored.
func (m *Model) leaveOut() tea.Cmd {
	v := &m.surveys
	if v.chosen >= len(v.rows) || v.rows[v.chosen].file == "" || filepath.IsAbs(v.rows[v.chosen].file) {
		m.say(false, "choose a file of the workspace that is to be left out")
		return nil
	}
	file := v.rows[v.chosen].file
	leave := func(pattern, about string) answer {
		return answer{pattern, about, func(m *Model) tea.Cmd {
			return m.editTally(pattern+" is ignored", func(data []byte) ([]byte, error) {
				return tallyfile.Append(data, "workspace", "ignore", pattern)
			})
		}}
	}
	answers := []answer{leave(file, "this file")}
	for dir := path.Dir(file); dir != "."; dir = path.Dir(dir) {
		answers = append(answers, leave(dir, "the folder and all below it"))
	}
	answers = append(answers, leave("**/"+path.Base(file), "every file of this name"))
	return m.ask("What is to be left out?", answers...)
}
