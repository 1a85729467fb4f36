package tui

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/sieve"
	"tidytally/core/sift"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/tui/ink"
)

const sieveName = "sieve"

// sievePage tries a sieve of the user own on the output of a run, line by line,
// while its expressions are changed.
type sievePage struct {
	*desk
	plainPage
	sieve   string // its name
	of      *run.Run
	chosen  int // the rule
	top     int // the first line of the sample in view
	editing bool
	edit    field

	// The last trial and its result.
	made     string
	bad      string // what is wrong with the expression that is being changed
	lines    []sieve.Tried
	problems []problem.Problem
}

func newSievePage(d *desk) *sievePage { return &sievePage{desk: d} }

func (p *sievePage) name() string { return sieveName }

// goes has no key: a sieve is chosen first.
func (p *sievePage) goes() key { return key{} }

func (p *sievePage) keys() []key {
	return []key{
		{names: []string{"enter", "e"}, goal: toWrite, label: "change", help: "change the expression; what it matches is seen while it is typed", ofRow: true, act: p.change},
		{names: []string{"s"}, goal: toWrite, help: "try a sieve of your own on this output, and change its expressions", ofRow: true, act: p.try, on: []string{tallyName, outputName, sieveName}},
	}
}

// maxSample is the number of lines of an output that are tried: each key press tries
// them all.
const maxSample = 20_000

// try opens the page: with the only sieve there is, or the one that is chosen.
func (p *sievePage) try() tea.Cmd {
	if p.run == nil || p.snap.Survey == nil {
		p.say(false, "a sieve is tried on the output of a run: run a task first")
		return nil
	}
	var answers []answer
	for _, s := range p.snap.Survey.Tally.Sieves {
		if s.Origin.File == "" {
			continue // of an editor's task: it is changed there
		}
		answers = append(answers, answer{s.Name, s.Origin.File, func() tea.Cmd { return p.open(s.Name) }})
	}
	switch len(answers) {
	case 0:
		p.say(false, "no tally file defines a sieve: write [[sieve.NAME.lines]] with match = '(?P<message>.+)'")
		return nil
	case 1:
		return answers[0].act()
	}
	return p.ask("Which sieve is to be tried on this output?", answers...)
}

func (p *sievePage) open(name string) tea.Cmd {
	*p = sievePage{desk: p.desk, sieve: name, of: p.run}
	if p.front() == sieveName {
		return nil
	}
	return p.goTo(sieveName)
}

// current is the sieve that is tried, as the tally file has it now; nil if it is gone.
func (p *sievePage) current() *tallyfile.Sieve {
	if p.snap.Survey == nil {
		return nil
	}
	for i := range p.snap.Survey.Tally.Sieves {
		if s := &p.snap.Survey.Tally.Sieves[i]; s.Name == p.sieve && s.Origin.File != "" {
			return s
		}
	}
	return nil
}

// sample puts the output through the sieve, unless nothing has changed.
func (p *sievePage) sample(s *tallyfile.Sieve) {
	rules := sift.Rules(*s)
	p.bad = ""
	if p.editing && p.chosen < len(rules.Lines) {
		re, err := regexp.Compile(p.edit.String())
		if err != nil {
			p.bad = strings.TrimPrefix(err.Error(), "error parsing regexp: ")
			return // what matched before stays in view
		}
		rules.Lines[p.chosen].Match = re
	}
	made := fmt.Sprintf("%p %d", p.of, p.of.Snapshot().Version)
	for _, l := range rules.Lines {
		made += fmt.Sprintf("\n%v %s", l.Repeat, l.Match)
	}
	if made == p.made {
		return
	}
	p.made = made
	var sample strings.Builder
	p.of.Output(func(x *output.Index) {
		for i := range min(x.Lines(), maxSample) {
			sample.WriteString(x.Line(i).Plain)
			sample.WriteByte('\n')
		}
	})
	p.lines, p.problems = sieve.Try(rules, []byte(strings.TrimRight(sample.String(), "\n")+"\n"))
}

// move goes from rule to rule by single steps, and through the sample by larger ones.
func (p *sievePage) move(rows int) {
	if rows == 1 || rows == -1 {
		p.chosen += rows
	} else {
		p.top += rows
	}
}

func (p *sievePage) scroll(rows int) { p.top += rows }

func (p *sievePage) clamp() {
	if s := p.current(); s != nil {
		p.chosen = max(0, min(p.chosen, len(s.Lines)-1))
	}
	p.top = max(0, min(p.top, len(p.lines)-1))
}

func (p *sievePage) click(int) bool { return false }

func (p *sievePage) field() *field {
	if p.editing {
		return &p.edit
	}
	return nil
}

func (p *sievePage) subject() *run.Run { return p.run }

func (p *sievePage) heading(r *ink.Row) {
	r.Put("  "+sieveName+" ", ink.Plain).Put(p.sieve, ink.Bold)
	if p.of != nil {
		r.Put("  tried on the output of ", ink.Plain).Put(shortID(p.of.Prepared.Task), ink.Bold)
	}
}

func (p *sievePage) body() []string {
	s := p.current()
	if s == nil {
		return p.paragraph("The tally file has no sieve " + p.sieve + " now, or it has a mistake; the survey (v) says which.")[1:]
	}
	p.sample(s)
	matched := 0
	for _, l := range p.lines {
		if l.Rule > 0 {
			matched++
		}
	}
	lines := []string{p.row().Put(fmt.Sprintf("%s from %d of %s of output", plural(len(p.problems), "problem"), matched, plural(len(p.lines), "line")), ink.Slate).String(), ""}
	for i, l := range s.Lines {
		r := p.row().To(4).Put(fmt.Sprint(i+1), ink.Slate).To(7)
		switch {
		case i == p.chosen && p.editing:
			p.edit.show(r, p.width-24)
		case i == p.chosen:
			r.Put(l.Match.String(), ink.Reverse)
		default:
			r.Put(l.Match.String(), ink.Plain)
		}
		if l.Repeat {
			r.Put("   repeats", ink.Slate)
		}
		lines = append(lines, r.String())
	}
	about, style := "enter changes the expression", ink.Slate
	switch {
	case p.bad != "":
		about, style = p.bad, ink.Madder
	case p.editing:
		about = "enter writes it into " + s.Origin.File
	}
	lines = append(lines, p.row().To(7).Put(about, style).String(), p.rule(0))
	for i := p.top; i < len(p.lines) && len(lines) < p.bodyHeight(); i++ {
		lines = append(lines, p.triedLine(&p.lines[i]))
	}
	return lines
}

// triedLine shows a line of the sample: the number of the rule that took it, and what
// was captured.
func (p *sievePage) triedLine(l *sieve.Tried) string {
	r := p.row()
	style := ink.Slate
	if l.Rule > 0 {
		r.To(4).Put(fmt.Sprint(l.Rule), ink.Verdigris)
		style = ink.Plain
	}
	r.To(6).Put("¦ ", ink.Slate)
	var names []string
	for _, g := range l.Groups {
		names = append(names, g.Name)
	}
	captured := strings.Join(names, " ")
	if captured != "" {
		r.Limit = p.width - ansi.StringWidth(captured) - 2
	}
	at := 0
	for _, g := range l.Groups {
		if g.Start < at {
			continue // a group in a group
		}
		r.Put(l.Text[at:g.Start], style).Put(l.Text[g.Start:g.End], ink.Bold|ink.Under)
		at = g.End
	}
	r.Put(l.Text[at:], style)
	r.Limit = p.width
	if captured != "" {
		r.Right(captured, p.width-1, ink.Slate)
	}
	return r.String()
}

// change begins to change the chosen expression.
func (p *sievePage) change() tea.Cmd {
	s := p.current()
	if s == nil || p.chosen >= len(s.Lines) {
		return nil
	}
	p.editing = true
	of := s.Lines[p.chosen]
	p.edit = newField(of.Match.String(),
		key{names: []string{"enter"}, label: "write", act: func() tea.Cmd { return p.keep(of.Origin, of.Match.String()) }},
		key{names: []string{"esc", "ctrl+c"}, label: "cancel", act: func() tea.Cmd {
			p.editing = false
			return nil
		}})
	return nil
}

// keep writes the changed expression into the tally file, at the place where it was, if it still stands there.
func (p *sievePage) keep(o task.Origin, was string) tea.Cmd {
	s := p.current()
	if s == nil || !slices.ContainsFunc(s.Lines, func(l tallyfile.SieveLine) bool { return l.Origin == o && l.Match.String() == was }) {
		p.editing = false
		p.say(true, "%s was changed meanwhile: nothing is written", o.File)
		return nil
	}
	text := p.edit.String()
	if _, err := regexp.Compile(text); err != nil {
		p.say(true, "%v", err)
		return nil
	}
	p.editing = false
	return p.editFile(o.File, fmt.Sprintf("line %d", o.Line), func(data []byte) ([]byte, error) {
		return tallyfile.ReplaceAt(data, o.Line, o.Column, text)
	})
}
