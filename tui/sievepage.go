package tui

import (
	"fmt"
	"path/filepath"
	"regexp"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/sieve"
	"tidytally/core/sift"
	"tidytally/core/tallyfile"
)

// sieveView is the state of the page on which a sieve of one's own is tried on
// the output of a run, while its expressions are changed.
type sieveView struct {
	name    string
	of      *run.Run
	chosen  int // the rule
	top     int // the first line of the sample that is shown
	editing bool
	edit    input

	made     string // what the lines below were made from
	bad      string // what is wrong with the expression that is being changed
	lines    []sieve.Tried
	problems []problem.Problem
}

const (
	// maxSample is how many lines of an output are tried.
	maxSample = 2000
)

// trySieve opens the page: with the only sieve there is, or the one chosen.
func (m *Model) trySieve() tea.Cmd {
	if m.output.run == nil || m.survey == nil {
		m.say(false, "a sieve is tried on the output of a run: run a task first")
		return nil
	}
	var answers []answer
	for _, s := range m.survey.Tally.Sieves {
		if s.Origin.File == "" {
			continue // of an editor's task: it is changed there
		}
		answers = append(answers, answer{s.Name, s.Origin.File, func(m *Model) tea.Cmd { return m.openSieve(s.Name) }})
	}
	switch len(answers) {
	case 0:
		m.say(false, "no tally file has a sieve: write [[sieve.NAME.lines]] with match = '(?P<message>.+)'")
		return nil
	case 1:
		return answers[0].act(m)
	}
	return m.ask("Which sieve is to be tried on this output?", answers...)
}

func (m *Model) openSieve(name string) tea.Cmd {
	m.sieves = sieveView{name: name, of: m.output.run}
	if m.page != sievePage {
		m.previous, m.page = m.page, sievePage
	}
	m.clamp()
	return nil
}

// sieve is the sieve that is being tried, as the tally file has it now.
func (m *Model) sieve() *tallyfile.Sieve {
	if m.survey == nil {
		return nil
	}
	for i := range m.survey.Tally.Sieves {
		if s := &m.survey.Tally.Sieves[i]; s.Name == m.sieves.name && s.Origin.File != "" {
			return s
		}
	}
	return nil
}

// try puts the sample through the sieve, unless nothing has changed.
func (m *Model) try(s *tallyfile.Sieve) {
	v := &m.sieves
	rules := sift.Rules(*s)
	v.bad = ""
	if v.editing && v.chosen < len(rules.Lines) {
		re, err := regexp.Compile(v.edit.String())
		if err != nil {
			v.bad = strings.TrimPrefix(err.Error(), "error parsing regexp: ")
			return // what matched before stays in sight
		}
		rules.Lines[v.chosen].Match = re
	}
	made := fmt.Sprintf("%p %d", v.of, v.of.Snapshot().Version)
	for _, l := range rules.Lines {
		made += fmt.Sprintf("\n%v %s", l.Repeat, l.Match)
	}
	if made == v.made {
		return
	}
	v.made = made
	var sample strings.Builder
	v.of.Output(func(x *output.Index) {
		for i := range min(x.Lines(), maxSample) {
			sample.WriteString(x.Line(i).Plain)
			sample.WriteByte('\n')
		}
	})
	v.lines, v.problems = sieve.Try(rules, []byte(strings.TrimRight(sample.String(), "\n")+"\n"))
}

func (v *sieveView) clamp(m *Model) {
	if s := m.sieve(); s != nil {
		v.chosen = max(0, min(v.chosen, len(s.Lines)-1))
	}
	v.top = max(0, min(v.top, len(v.lines)-1))
}

func (m *Model) sieveBody() []string {
	v := &m.sieves
	s := m.sieve()
	if s == nil {
		return []string{"", m.ink.row(m.width).to(4).put("The tally file has no sieve "+clean(v.name)+" now, or it has a mistake; the survey (v) says which.", Plain).String()}
	}
	m.try(s)
	matched := 0
	for _, l := range v.lines {
		if l.Rule > 0 {
			matched++
		}
	}
	lines := []string{m.ink.row(m.width).put(fmt.Sprintf("%s from %d of %s of output", plural(len(v.problems), "problem"), matched, plural(len(v.lines), "line")), Slate).String(), ""}
	for i, l := range s.Lines {
		r := m.ink.row(m.width).to(4).put(fmt.Sprint(i+1), Slate).to(7)
		switch {
		case i == v.chosen && v.editing:
			v.edit.show(r, m.width-24)
		case i == v.chosen:
			r.put(clean(l.Match.String()), Reverse)
		default:
			r.put(clean(l.Match.String()), Plain)
		}
		if l.Repeat {
			r.put("   repeats", Slate)
		}
		lines = append(lines, r.String())
	}
	about := "enter changes the expression"
	switch {
	case v.bad != "":
		about = v.bad
	case v.editing:
		about = "enter writes it into " + s.Origin.File + ", esc leaves it as it was"
	}
	ink := Slate
	if v.bad != "" {
		ink = Madder
	}
	lines = append(lines, m.ink.row(m.width).to(7).put(clean(about), ink).String(), m.ink.write(strings.Repeat("┄", m.width), Slate))
	for i := v.top; i < len(v.lines) && len(lines) < m.bodyHeight(); i++ {
		lines = append(lines, m.triedLine(&v.lines[i]))
	}
	return lines
}

// triedLine shows a line of the sample: the number of the rule that took it, and
// what was captured.
func (m *Model) triedLine(l *sieve.Tried) string {
	r := m.ink.row(m.width)
	if l.Rule > 0 {
		r.to(4).put(fmt.Sprint(l.Rule), Verdigris)
	}
	r.to(6).put("¦ ", Slate)
	text := Slate
	if l.Rule > 0 {
		text = Plain
	}
	room := m.width
	var names []string
	for _, g := range l.Groups {
		names = append(names, g.Name)
	}
	said := strings.Join(names, " ")
	if said != "" {
		room = m.width - ansi.StringWidth(said) - 2
	}
	r.limit = room
	at := 0
	for _, g := range l.Groups {
		if g.Start < at {
			continue // a group in a group
		}
		r.put(clean(l.Text[at:g.Start]), text).put(clean(l.Text[g.Start:g.End]), Bold|Under)
		at = g.End
	}
	r.put(clean(l.Text[at:]), text)
	r.limit = m.width
	if said != "" {
		r.right(said, m.width-1, Slate)
	}
	return r.String()
}

// changeRule begins to change the chosen expression.
func (m *Model) changeRule() tea.Cmd {
	if s := m.sieve(); s != nil && m.sieves.chosen < len(s.Lines) {
		m.sieves.editing = true
		m.sieves.edit = newInput(s.Lines[m.sieves.chosen].Match.String())
	}
	return nil
}

// keepRule writes the changed expression into the tally file.
func (m *Model) keepRule() tea.Cmd {
	v := &m.sieves
	s := m.sieve()
	if s == nil || v.chosen >= len(s.Lines) {
		return nil
	}
	text := v.edit.String()
	if _, err := regexp.Compile(text); err != nil {
		m.say(true, "%v", err)
		v.editing = true
		return nil
	}
	o := s.Lines[v.chosen].Origin
	file := o.File
	if !filepath.IsAbs(file) {
		file = filepath.Join(m.root, filepath.FromSlash(file))
	}
	err := tallyfile.EditFile(file, func(data []byte) ([]byte, error) {
		return tallyfile.ReplaceAt(data, o.Line, o.Column, text)
	})
	if err != nil {
		m.say(true, "%v", err)
		return nil
	}
	m.say(false, "written into %s:%d", o.File, o.Line)
	m.touched.add([]string{o.File})
	return m.surveyCmd()
}
