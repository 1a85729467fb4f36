package tui

import (
	"fmt"
	"io"
	"os"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/output"
	"tidytally/core/run"
)

func (p *outputPage) keys() []key {
	return append([]key{
		{names: []string{"enter"}, help: "go to the tally, to the problem chosen", ofRow: true, act: func() tea.Cmd { return p.goTo(tallyName) }},
		{names: []string{"i"}, goal: toRun, help: "give the task the keyboard; ctrl+o takes it back", ofRow: true, when: p.isRunning, act: p.giveKeyboard},
		{names: []string{"/"}, goal: toFind, label: "find", help: "find a text in the output", act: p.beginFind},
		{names: []string{"w"}, goal: toWrite, help: "write the output into a file, as it was printed", ofRow: true, act: p.beginWrite},
		{names: []string{"."}, goal: toFind, help: "next place of the text", act: func() tea.Cmd { return p.findText(true) }},
		{names: []string{","}, goal: toFind, help: "place of the text before", act: func() tea.Cmd { return p.findText(false) }},
	}, p.runKeys()...)
}

// beginFind opens the line for the text that is looked for.
func (p *outputPage) beginFind() tea.Cmd {
	p.find = newField(p.find.String(),
		key{names: []string{"enter"}, label: "find", act: func() tea.Cmd {
			p.finding = false
			return p.findText(true)
		}},
		key{names: []string{"esc", "ctrl+c"}, label: "cancel", act: func() tea.Cmd {
			p.finding = false
			p.find.set("")
			return nil
		}})
	p.finding = true
	return nil
}

// findText goes to the next place of the text that is looked for, or the one before.
func (p *outputPage) findText(forward bool) tea.Cmd {
	want := p.find.String()
	if p.run == nil || want == "" {
		return nil
	}
	from := p.top
	if p.found >= p.top && p.found < p.top+p.textHeight() {
		from = p.found - 1
		if forward {
			from = p.found + 1
		}
	}
	all, before, more := 0, 0, false
	p.found = -1 // what did not begin has no output
	p.run.Output(func(x *output.Index) {
		if p.found = x.Find(want, from, forward); p.found >= 0 {
			all, before, more = x.Count(want, p.found)
		}
	})
	if p.found < 0 {
		p.say(true, "%q is nowhere in the output", want)
		return nil
	}
	p.showLine(p.found)
	of := fmt.Sprint(all)
	if more {
		of += " or more"
	}
	p.say(false, "line %d, %d of %s with %q", p.found+1, before, of, want)
	return nil
}

// beginWrite opens the line for the name of a file to write the output to.
func (p *outputPage) beginWrite() tea.Cmd {
	if p.run == nil {
		return nil
	}
	name := fileWord(p.run.Prepared.Task.Name) + ".log"
	end := func() tea.Cmd {
		p.writing = false
		return nil
	}
	of := p.run
	p.file = newField(name,
		key{names: []string{"enter"}, label: "write it", act: func() tea.Cmd {
			p.writing = false
			p.write(of, p.file.String())
			return nil
		}},
		key{names: []string{"esc", "ctrl+c"}, label: "cancel", act: end})
	p.writing = true
	return nil
}

// write copies what a run has printed so far, byte by byte, into a file that is not there yet.
func (p *outputPage) write(of *run.Run, name string) {
	path := p.absolute(name)
	from, err := os.Open(of.Snapshot().Spool)
	if err == nil {
		defer from.Close()
		var to *os.File
		if to, err = os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644); err == nil {
			_, err = io.Copy(to, from)
			if closed := to.Close(); err == nil {
				err = closed
			}
		}
	}
	if err != nil {
		p.say(true, "%v", err)
		return
	}
	p.say(false, "written to %s", path)
}
