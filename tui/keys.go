package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/tallyfile"
)

// A binding is a row of the table of keys, from which the footing and the help
// are made.
type binding struct {
	keys  []string
	pages []page // where it works; everywhere when empty
	// label is the word in the footing; without one the key stands in the
	// help alone.
	label string
	help  string
	act   func(*Model) tea.Cmd
}

var bindings []binding

func init() {
	on := func(p ...page) []page { return p }
	bindings = []binding{
		{[]string{"enter"}, on(tasksPage), "run", "run the chosen task", (*Model).runChosen},
		{[]string{"enter"}, on(tallyPage), "open in editor", "open the editor at the place of the problem", (*Model).openPlace},
		{[]string{"enter", "e"}, on(surveyPage), "open in editor", "open the editor at the fault or file", (*Model).openSurveyed},
		{[]string{"s"}, on(tallyPage, outputPage), "", "try a sieve of your own on this output, and change its expressions", (*Model).trySieve},
		{[]string{"enter", "e"}, on(sievePage), "change", "change the expression; what it matches is seen while it is typed", (*Model).changeRule},
		{[]string{"s"}, on(surveyPage), "switch rule", "switch the rule off, or on again; it is written into the tally file", (*Model).switchRule},
		{[]string{"i"}, on(surveyPage), "leave out", "leave a file or a folder out; it is written into the tally file", (*Model).leaveOut},
		{[]string{"enter", "e"}, on(valuesPage), "open in editor", "open the editor where the value comes from, or go to the task that is called", (*Model).openValue},
		{[]string{"enter"}, on(outputPage), "", "go to the tally, to the problem chosen", (*Model).toTally},
		{[]string{"a"}, on(tasksPage), "arguments", "run with arguments", (*Model).askArguments},
		{[]string{"/"}, on(tasksPage), "find", "filter the tasks: words, kind: in: from: name: runs: is:, - for not", (*Model).beginFind},
		{[]string{"/"}, on(tallyPage), "find", "filter the problems: words, file: code: sev: is:entered, - for not", (*Model).beginFind},
		{[]string{"g"}, on(tallyPage), "order", "show the problems by file, by severity, by task or as they came", (*Model).nextOrder},
		{[]string{"/"}, on(outputPage), "find", "find a text in the output", (*Model).beginFind},
		{[]string{"."}, on(outputPage), "", "next place of the text", (*Model).findNext},
		{[]string{","}, on(outputPage), "", "place of the text before", (*Model).findPrevious},
		{[]string{"n"}, nil, "", "next problem", (*Model).nextProblem},
		{[]string{"N"}, nil, "", "previous problem", (*Model).previousProblem},
		{[]string{"r"}, on(tallyPage, outputPage), "run again", "run the task again, with the same arguments", (*Model).runAgain},
		{[]string{"x"}, nil, "stop", "stop the task that runs: first its own signal, then TERM, then KILL", (*Model).stopChosen},
		{[]string{"y"}, nil, "tally", "the tally of problems, and back", goTo(tallyPage)},
		{[]string{"o"}, nil, "output", "the output, and back", goTo(outputPage)},
		{[]string{"u"}, on(tasksPage), "usual", "run the usual task", (*Model).runUsual},
		{[]string{"U"}, on(tasksPage), "", "choose the usual task, and where the choice is kept", (*Model).chooseUsual},
		{[]string{"p"}, on(tasksPage), "", "pin the task on top, or let it go", (*Model).pinChosen},
		{[]string{"g"}, on(tasksPage), "", "gather the tasks by member, by kind or by source", (*Model).nextGrouping},
		{[]string{"f"}, on(tasksPage, tallyPage), "", "keep the file in hand, or let it go; on the tally the file of the problem", (*Model).holdFile},
		{[]string{"c"}, on(tasksPage), "copy", "copy the command", (*Model).copyCommand},
		{[]string{"c"}, on(tallyPage), "copy", "copy place and message", (*Model).copyProblem},
		{[]string{"e"}, on(tasksPage), "", "open the editor where the task is declared", (*Model).openDeclaration},
		{[]string{"tab"}, on(tasksPage, valuesPage), "values", "every value of the task with its origin, and back", goTo(valuesPage)},
		{[]string{"d"}, on(tasksPage), "", "show or hide the details", (*Model).toggleDetails},
		{[]string{"h"}, on(tasksPage), "", "show or hide files made on the way", (*Model).toggleHidden},
		{[]string{"["}, on(outputPage, tallyPage), "", "the run before", (*Model).olderRun},
		{[]string{"]"}, on(outputPage, tallyPage), "", "the run after", (*Model).newerRun},
		{[]string{"t"}, on(outputPage, tallyPage, surveyPage, valuesPage, sievePage), "tasks", "the tasks", goTo(tasksPage)},
		{[]string{"v"}, nil, "survey", "the survey: what was read, what is wrong with it, what was kept out; and back", goTo(surveyPage)},
		{[]string{"esc"}, nil, "", "clear the filter, or go back", (*Model).back},
		{[]string{"up"}, nil, "", "one row up", move(-1)},
		{[]string{"down"}, nil, "", "one row down", move(1)},
		{[]string{"pgup"}, nil, "", "one page up", movePage(-1)},
		{[]string{"pgdown", "space"}, nil, "", "one page down", movePage(1)},
		{[]string{"home"}, nil, "", "to the first row", move(-1 << 30)},
		{[]string{"end"}, nil, "", "to the last row; the output is followed from there", move(1 << 30)},
		{[]string{"?"}, nil, "all keys", "these keys, and back", (*Model).toggleHelp},
		{[]string{"q", "ctrl+c"}, nil, "", "quit", (*Model).quit},
	}
}

func goTo(p page) func(*Model) tea.Cmd {
	return func(m *Model) tea.Cmd { return m.goTo(p) }
}

func move(rows int) func(*Model) tea.Cmd {
	return func(m *Model) tea.Cmd { return m.move(rows) }
}

func movePage(pages int) func(*Model) tea.Cmd {
	return func(m *Model) tea.Cmd { return m.move(pages * max(1, m.bodyHeight()-1)) }
}

// bound finds what a key does on a page.
func bound(key string, on page) *binding {
	for i := range bindings {
		b := &bindings[i]
		if (len(b.pages) == 0 || slices.Contains(b.pages, on)) && slices.Contains(b.keys, key) {
			return b
		}
	}
	return nil
}

// keyLine writes the keys that matter on a page, as many as fit. The last one
// opens the help and is always there.
func (m *Model) keyLine() string {
	if m.choice != nil { // no other key means anything
		return m.ink.row(m.width).put("enter", Slate).put(" take it   ", Plain).put("esc", Slate).put(" leave it", Plain).String()
	}
	var labels [][2]string
	for _, b := range bindings {
		if b.label == "" || len(b.pages) > 0 && !slices.Contains(b.pages, m.page) || b.label == m.page.name() {
			continue
		}
		labels = append(labels, [2]string{b.keys[0], b.label})
	}
	width := func(l [2]string) int { return len(l[0]) + 1 + len(l[1]) + 3 }
	last := labels[len(labels)-1]
	labels = labels[:len(labels)-1]
	room := m.width - width(last)
	r := m.ink.row(m.width)
	for _, l := range labels {
		if room -= width(l); room < 0 {
			break
		}
		r.put(l[0], Slate).put(" "+l[1]+"   ", Plain)
	}
	return r.put(last[0], Slate).put(" "+last[1], Plain).String()
}

// helpLines lays out all keys of the page, and the settings of the tally file:
// those that have the words that are looked for.
func (m *Model) helpLines() []string {
	words := strings.Fields(strings.ToLower(m.helpFind.String()))
	var lines []string
	add := func(name, about string, column int) {
		for _, w := range words {
			if !strings.Contains(strings.ToLower(name+" "+about), w) {
				return
			}
		}
		for i, text := range wrap(about, m.width-column-1) {
			r := m.ink.row(m.width).to(4)
			if i == 0 {
				r.put(name, Bold)
			}
			lines = append(lines, r.to(column).put(text, Plain).String())
		}
	}
	for _, b := range bindings {
		if len(b.pages) == 0 || slices.Contains(b.pages, m.page) {
			add(strings.Join(b.keys, ", "), b.help, 18)
		}
	}
	add("mouse", "click chooses, double click runs or opens, the wheel scrolls", 18)
	head := func(text string) string { return m.ink.row(m.width).to(2).put(text, Bold).String() }
	if len(words) == 0 {
		return append(lines, "", head("/ looks for a setting of tidytally.toml"))
	}
	if len(lines) > 0 {
		lines = append(lines, "")
	}
	lines = append(lines, head("settings of tidytally.toml"))
	before := len(lines)
	for _, s := range tallyfile.Settings() {
		add(s.Name, s.About, 32)
	}
	if len(lines) == before {
		lines = append(lines, m.ink.row(m.width).to(4).put("none has these words", Slate).String())
	}
	return lines
}

// helpBody is the help over a page.
func (m *Model) helpBody() []string {
	r := m.ink.row(m.width).put("Keys of the page "+m.page.name(), Bold)
	if m.helpFinding || len(m.helpFind.text) > 0 {
		r.put("   find ", Slate)
		m.helpFind.show(r, 40)
	}
	lines := m.helpLines()
	height := max(1, m.bodyHeight()-2)
	m.helpTop = max(0, min(m.helpTop, len(lines)-height))
	if len(lines) > height {
		r.right(fmt.Sprintf("%d to %d of %d, down for more", m.helpTop+1, m.helpTop+height, len(lines)), m.width-1, Slate)
		lines = lines[m.helpTop : m.helpTop+height]
	}
	return append([]string{r.String(), ""}, lines...)
}
