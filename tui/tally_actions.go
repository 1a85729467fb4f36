package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/run"
)

func (p *tallyPage) keys() []key {
	return append([]key{
		{names: []string{"enter"}, label: "open in editor", when: p.any, help: "open the editor at the place of the problem", ofRow: true, act: p.openPlace},
		{names: []string{"/"}, goal: toFind, label: "find", when: p.any, help: "filter the problems: words, file: code: sev: is:new, - for not", act: p.beginFind},
		{names: []string{"g"}, goal: toFind, label: "order", when: p.any, help: "show the problems by file, by severity, by task or as they came", act: p.nextOrder},
		{names: []string{"n"}, goal: toFind, help: "next problem", anywhere: true, except: tasksName, act: func() tea.Cmd { return p.step(1) }},
		{names: []string{"N"}, goal: toFind, help: "previous problem", anywhere: true, except: tasksName, act: func() tea.Cmd { return p.step(-1) }},
		{names: []string{"i"}, goal: toRun, help: "give the task the keyboard; ctrl+o takes it back", ofRow: true, when: p.isRunning, act: p.giveKeyboardThere},
		{names: []string{"f"}, goal: toFind, help: "make the file of the problem the current file", ofRow: true, when: p.some, act: p.keepFile},
		{names: []string{"w"}, help: "who changed the line of the problem last", ofRow: true, when: p.some, act: p.whoChanged},
		{names: []string{"D"}, goal: toRun, help: "run the task's program under a debugger that stops at the problem", ofRow: true, when: p.some, act: p.debugProblem},
		{names: []string{"R"}, goal: toRun, label: "this test alone", when: p.ofTest, help: "run the test that failed again, alone", ofRow: true, act: p.runTest},
		{names: []string{"c"}, goal: toWrite, label: "copy", late: true, help: "copy place and message", ofRow: true, when: p.some, act: p.copyProblem},
	}, append(p.runKeys(), p.suiteKeys()...)...)
}

// nextOrder shows the problems in another order.
func (p *tallyPage) nextOrder() tea.Cmd {
	p.order = (p.order + 1) % tallyOrders
	p.refresh()
	p.say(false, "the problems stand %s", p.order)
	return nil
}

// beginFind opens the filter.
func (p *tallyPage) beginFind() tea.Cmd {
	p.find = filterField(p.find.String(), func() {
		p.finding = false
		p.refresh()
	}, func() { p.find.set("") }, p.move)
	p.find.changed = p.refresh
	p.find.suggest = p.filterWords
	p.finding = true
	p.refresh()
	return nil
}

// filterWords suggests the fields of the filter, and the values of some of them.
func (p *tallyPage) filterWords(word string) (words []string) {
	name, _, valued := strings.Cut(word, ":")
	if !valued {
		for _, f := range problem.FilterFields {
			words = append(words, f+":")
		}
		return words
	}
	seen := map[string]bool{}
	add := func(value string) {
		if value != "" && !seen[value] && !strings.Contains(value, " ") {
			seen[value] = true
			words = append(words, name+":"+value)
		}
	}
	switch name {
	case "is":
		for _, s := range []problem.State{problem.New, problem.Still, problem.Gone, problem.NotChecked} {
			add(stateWord(s))
		}
	case "sev":
		for _, s := range []problem.Severity{problem.Error, problem.Warning, problem.Note} {
			add(s.String())
		}
	default:
		for i := range p.problems {
			values, _ := p.problems[i].Field(name)
			for _, v := range values {
				add(v)
			}
		}
	}
	return words
}

// step goes to the next problem, or the one before. From a page without problems it
// goes to the tally.
func (p *tallyPage) step(by int) tea.Cmd {
	if len(p.places) == 0 {
		p.say(false, "there are no problems to go to")
		return nil
	}
	var cmd tea.Cmd
	if p.front() != tallyName && p.front() != outputName {
		cmd = p.goTo(tallyName)
		by = 0 // the first step shows the problem that is chosen
	}
	for i := p.chosen; ; {
		i += by
		if i < 0 || i >= len(p.places) {
			p.say(false, "no more problems that way")
			break
		}
		if p.rows[p.places[i]].state != problem.Gone {
			p.chosen, p.moved = i, true
			break
		}
		if by == 0 {
			by = 1
		}
	}
	p.clamp()
	if q := p.current(); p.front() == outputName && q.printed != nil && q.run == p.run {
		line := 0
		q.run.Output(func(x *output.Index) { line = x.LineAt(q.printed.Output.StartByte) })
		p.tell(wantLineMsg{line})
		first, _, _ := strings.Cut(q.p.Message, "\n")
		p.say(false, "problem %d of %d: %s", p.position(), p.total(), first)
	}
	return cmd
}

// openPlace opens the editor at the chosen problem.
func (p *tallyPage) openPlace() tea.Cmd {
	row := p.current()
	if row == nil {
		return nil
	}
	if row.p.File == "" {
		p.say(true, "the problem names no file")
		return nil
	}
	line, _ := p.placeNow(row)
	return p.openEditor(row.p.File, line, row.p.Column)
}

// debugProblem starts a debugger on the program of the task that reported the chosen problem.
func (p *tallyPage) debugProblem() tea.Cmd {
	row := p.current()
	if row == nil || row.run == nil || row.p.File == "" || row.p.Line == 0 {
		p.say(false, "choose a problem with a line in a file")
		return nil
	}
	line, _ := p.placeNow(row)
	return p.startDebugger(row.run.Prepared.Task, run.Place{File: p.absolute(row.p.File), Line: line})
}

// any reports whether there are problems, shown or hidden.
func (p *tallyPage) any() bool { return len(p.places)+p.hidden > 0 }

// ofTest reports whether the chosen problem is of a test.
func (p *tallyPage) ofTest() bool {
	row := p.current()
	return row != nil && row.run != nil && row.p.Test != ""
}

// runTest runs the test that failed with the chosen problem again, alone.
func (p *tallyPage) runTest() tea.Cmd {
	row := p.current()
	if row == nil || row.run == nil {
		p.say(false, "choose a problem of a test that failed")
		return nil
	}
	of := row.run.Prepared.Task
	if of.Of != "" {
		return p.runAgain() // it is alone already
	}
	t, err := run.OneTest(of, row.p)
	if err != nil {
		p.say(true, "%v", err)
		return nil
	}
	return p.startMade(t)
}

// keepFile makes the file of the chosen problem the current one.
func (p *tallyPage) keepFile() tea.Cmd {
	row := p.current()
	if row == nil || row.p.File == "" {
		p.say(false, "choose a problem that names a file")
		return nil
	}
	p.keepCurrent(p.absolute(row.p.File))
	return nil
}

// placeNow returns the line of a problem as the file is now. If the file has changed
// since, the note says so: the place moves with the text of the line if it can.
func (p *tallyPage) placeNow(row *problemRow) (line int, note string) {
	q := row.p
	if q.LineText == "" || q.Line == 0 || row.state == problem.Gone {
		return q.Line, ""
	}
	s := p.sources.read(q.File)
	if s.fault != "" || q.Line <= len(s.lines) && problem.TrimSource(s.lines[q.Line-1]) == q.LineText {
		return q.Line, ""
	}
	if now := s.find(q.LineText, q.Line); now > 0 {
		return now, fmt.Sprintf("the file has changed since the run: line %d was line %d", now, q.Line)
	}
	return q.Line, "the file has changed since the run, and this line with it; it said: " + q.LineText
}

// copyProblem copies place and message of the chosen problem.
func (p *tallyPage) copyProblem() tea.Cmd {
	row := p.current()
	if row == nil {
		return nil
	}
	text := clean(row.p.GNU())
	p.say(false, "copied: %s", text)
	return tea.SetClipboard(text)
}

func (p *tallyPage) rowName() string {
	if row := p.current(); row != nil {
		first, _, _ := strings.Cut(row.p.Message, "\n")
		return strings.TrimPrefix(row.p.Place.String()+": ", ": ") + first
	}
	return ""
}

// some reports whether a problem is chosen.
func (p *tallyPage) some() bool { return p.current() != nil }
