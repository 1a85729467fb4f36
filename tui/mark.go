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
	"tidytally/core/tallyfile"
	"tidytally/core/workspace"
	"tidytally/tui/ink"
)

const markName = "mark"

// markPage makes a sieve from a line of output: its parts are marked, and the expression is written
// from the marks and tried on all that was printed.
type markPage struct {
	*desk
	plainPage
	of     *run.Run
	lines  []string // of the output, without styles
	chosen int      // the line that the expression is made from
	word   int      // that is marked next
	marks  []sieve.Mark
	naming bool
	label  field

	// Derived from the marks.
	expression string
	tried      []sieve.Tried
	problems   []problem.Problem
}

func newMarkPage(d *desk) *markPage { return &markPage{desk: d} }

func (p *markPage) name() string { return markName }

// goes has no key: the output is chosen first.
func (p *markPage) goes() key { return key{} }

// markNames are what a part of a line can be, by the digits that mark it.
var markNames = []string{"file", "line", "column", "severity", "code", "message", sieve.Varies}

func (p *markPage) keys() []key {
	keys := []key{
		{names: []string{"m"}, goal: toWrite, label: "make a sieve", when: p.unread, help: "make a sieve from a line of this output", ofRow: true, act: p.begin, on: []string{tallyName, outputName}},
		{names: []string{"enter"}, goal: toWrite, label: "write it", help: "write the sieve into the tally file", act: p.nameIt},
		{names: []string{"left"}, goal: toWrite, label: "word", help: "the word before", act: p.step(-1)},
		{names: []string{"right"}, goal: toWrite, help: "the next word", act: p.step(1)},
		{names: []string{"backspace"}, goal: toWrite, label: "take off", help: "take the mark off the word", act: p.takeOff},
	}
	for i, name := range markNames {
		help := "the word is the " + name
		switch name {
		case "message":
			help = "the message begins at the word"
		case sieve.Varies:
			help = "the word is another in each line, and says nothing"
		}
		keys = append(keys, key{names: []string{fmt.Sprint(i + 1)}, goal: toWrite, label: name, help: help, act: func() tea.Cmd { return p.mark(name) }})
	}
	return keys
}

// unread reports whether the run that is shown failed, and nothing was recognised in what it printed.
func (p *markPage) unread() bool {
	if p.run == nil {
		return false
	}
	s := p.run.Snapshot()
	return s.State == run.Failed && len(s.Problems) == 0
}

// begin opens the page, at the last line of output that says something.
func (p *markPage) begin() tea.Cmd {
	if p.run == nil || p.snap.Survey == nil {
		p.say(false, "a sieve is made from the output of a run: run a task first")
		return nil
	}
	*p = markPage{desk: p.desk, of: p.run}
	p.run.Output(func(x *output.Index) {
		from := max(0, x.Printed()-maxSample)
		for i := from; i < x.Printed(); i++ {
			p.lines = append(p.lines, x.Line(i).Plain)
		}
	})
	for i := len(p.lines) - 1; i >= 0; i-- { // the last one with a place, else the last with letters
		guessed := sieve.Guess(p.lines[i])
		if slices.ContainsFunc(guessed, func(m sieve.Mark) bool { return m.Name == "file" }) && slices.ContainsFunc(guessed, func(m sieve.Mark) bool { return m.Name == "line" }) {
			p.chosen = i
			break
		}
		if p.chosen == 0 && len(guessed) > 0 {
			p.chosen = i
		}
	}
	if len(p.lines) == 0 {
		p.say(false, "it printed nothing")
		return nil
	}
	p.guess()
	return p.goTo(markName)
}

// guess marks the chosen line anew.
func (p *markPage) guess() {
	p.marks, p.word = sieve.Guess(p.lines[p.chosen]), 0
	p.try()
}

// try makes the expression and tries it on all lines.
func (p *markPage) try() {
	p.expression = sieve.Expression(p.lines[p.chosen], p.marks)
	re, err := regexp.Compile(p.expression)
	if err != nil { // a line that is no text
		p.tried, p.problems = nil, nil
		return
	}
	rules := sieve.Rules{Name: "mark", Lines: []sieve.Rule{{Match: re}}}
	p.tried, p.problems = sieve.Try(rules, []byte(strings.Join(p.lines, "\n")+"\n"))
}

// words of a line: what stands between white space and the signs around places.
var markWords = regexp.MustCompile(`[^\s:()\[\]<>"',;]+`)

func (p *markPage) words() [][]int { return markWords.FindAllStringIndex(p.lines[p.chosen], -1) }

func (p *markPage) step(by int) func() tea.Cmd {
	return func() tea.Cmd {
		p.word = max(0, min(p.word+by, len(p.words())-1))
		return nil
	}
}

// mark says what the word at the cursor is.
func (p *markPage) mark(name string) tea.Cmd {
	words := p.words()
	if p.word >= len(words) {
		return nil
	}
	m := sieve.Mark{Name: name, Start: words[p.word][0], End: words[p.word][1]}
	line := p.lines[p.chosen]
	switch name {
	case "message":
		m.End = len(line)
	case "line", "column":
		if strings.Trim(line[m.Start:m.End], "0123456789") != "" {
			p.say(true, "%s is no number", line[m.Start:m.End])
			return nil
		}
	}
	for i, o := range p.marks { // what is marked in the message goes before it
		if o.Name == "message" && o.Start < m.End && m.Start < o.End && m.End < o.End {
			for _, w := range words[p.word+1:] {
				p.marks[i].Start = w[0]
				break
			}
		}
	}
	p.marks = slices.DeleteFunc(p.marks, func(o sieve.Mark) bool {
		return o.Name == name && name != sieve.Varies || o.Start < m.End && m.Start < o.End
	})
	p.marks = append(p.marks, m)
	p.word = min(p.word+1, len(words)-1)
	p.try()
	return nil
}

func (p *markPage) takeOff() tea.Cmd {
	if words := p.words(); p.word < len(words) {
		at := words[p.word]
		p.marks = slices.DeleteFunc(p.marks, func(o sieve.Mark) bool { return o.Start < at[1] && at[0] < o.End })
		p.try()
	}
	return nil
}

// nameIt asks for the name of the sieve.
func (p *markPage) nameIt() tea.Cmd {
	if len(p.problems) == 0 {
		p.say(true, "it finds nothing: mark a file or a message")
		return nil
	}
	p.label = newField(fileWord(p.of.Prepared.Task.Name),
		key{names: []string{"enter"}, label: "write it", act: p.write},
		key{names: []string{"esc", "ctrl+c"}, label: "cancel", act: func() tea.Cmd {
			p.naming = false
			return nil
		}})
	p.naming = true
	return nil
}

func (p *markPage) write() tea.Cmd {
	name := p.label.String()
	if name == "" {
		p.say(true, "a sieve needs a name")
		return nil
	}
	p.naming = false
	cmd, ok := p.writeTally(workspace.TallyFile, "the sieve "+name+", which finds "+plural(len(p.problems), "problem")+" here", func(data []byte) ([]byte, error) {
		return tallyfile.Add(data, tallyfile.SieveText(name, p.expression))
	})
	if !ok {
		return nil
	}
	return tea.Batch(p.goTo(outputName), cmd)
}

func (p *markPage) move(rows int) {
	if len(p.lines) == 0 {
		return
	}
	before := p.chosen
	p.chosen = max(0, min(p.chosen+rows, len(p.lines)-1))
	if p.chosen != before {
		p.guess()
	}
}

func (p *markPage) scroll(rows int) { p.move(rows) }
func (p *markPage) clamp()          {}

func (p *markPage) click(row int) bool {
	top := p.top()
	if at := top + row - markHead; row >= markHead && at < len(p.lines) {
		p.move(at - p.chosen)
		return true
	}
	return false
}

func (p *markPage) edges() (above, below int) { return edgesOf(p.top(), p.listHeight(), len(p.lines)) }

func (p *markPage) field() *field {
	if p.naming {
		return &p.label
	}
	return nil
}

func (p *markPage) subject() *run.Run { return p.run }

func (p *markPage) heading(r *ink.Row) {
	r.Put("  a sieve from the output of ", ink.Plain)
	if p.of != nil {
		r.Put(shortID(p.of.Prepared.Task), ink.Bold)
	}
}

// markHead is the number of rows above the lines of output.
const markHead = 7

func (p *markPage) listHeight() int { return max(1, p.bodyHeight()-markHead) }

func (p *markPage) top() int {
	return max(0, min(p.chosen-p.listHeight()/2, len(p.lines)-p.listHeight()))
}

func (p *markPage) body() []string {
	if len(p.lines) == 0 {
		return p.paragraph(noRunYet)
	}
	matched := 0
	for _, l := range p.tried {
		if l.Rule > 0 {
			matched++
		}
	}
	head := p.row()
	if p.naming {
		p.label.show(head.Put("name of the sieve ", ink.Slate), p.width/2)
	} else {
		head.Put(fmt.Sprintf("%s from %d of %s of output", plural(len(p.problems), "problem"), matched, plural(len(p.lines), "line")), ink.Slate)
	}
	text, names := p.markedLine()
	lines := []string{head.String(), "", text, names, "", p.row().To(4).Put(p.expression, ink.Bold).String(), p.rule(0)}
	for i := p.top(); i < len(p.lines) && len(lines) < p.bodyHeight(); i++ {
		r := p.row()
		style := ink.Slate
		if i < len(p.tried) && p.tried[i].Rule > 0 {
			r.To(4).Put("+", ink.Verdigris)
			style = ink.Plain
		}
		r.To(6).Put("¦ ", ink.Slate)
		if i == p.chosen {
			style = ink.Reverse
		}
		lines = append(lines, r.Put(p.lines[i], style).String())
	}
	return lines
}

// markedLine shows the chosen line with its marks and the word at the cursor, and below each mark what
// it is.
func (p *markPage) markedLine() (text, names string) {
	line := p.lines[p.chosen]
	r, below := p.row().To(4), p.row()
	var word []int
	if words := p.words(); p.word < len(words) {
		word = words[p.word]
	}
	// Only what is around the cursor fits of a long line.
	from := 0
	if word != nil {
		for ansi.StringWidth(clean(line[from:word[1]])) > p.width-12 {
			from += len(string([]rune(line[from:])[:1]))
		}
	}
	for i, c := range line {
		if i < from {
			continue
		}
		style := ink.Plain
		for _, m := range p.marks {
			if m.Start <= i && i < m.End {
				style = ink.Bold | ink.Under
				if i == max(m.Start, from) {
					below.To(r.At()).Put(m.Name, ink.Verdigris)
				}
			}
		}
		if word != nil && word[0] <= i && i < word[1] {
			style = ink.Reverse
		}
		r.Put(string(c), style)
	}
	return r.String(), below.String()
}
