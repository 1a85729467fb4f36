package tui

import (
	"path/filepath"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/learn"
	"tidytally/core/plan"
)

// How the pages follow the session: it tells that there is news, and what has changed is told to them.

// Messages from what goes on beside the loop.
type (
	newsMsg   struct{}
	listenMsg struct{}
	tickMsg   time.Time
	editedMsg struct{ err error }
)

// nudge wakes whoever waits on a channel, once for any number of nudges.
func nudge(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// listen waits for news of the session.
func (d *desk) listen() tea.Cmd {
	return func() tea.Msg {
		<-d.news
		return newsMsg{}
	}
}

// tellFault says in the footing what a person should know of what goes on beside the loop. It is called from any goroutine.
func (d *desk) tellFault(err error) {
	select {
	case d.faults <- err:
		nudge(d.news)
	default: // enough is told
	}
}

// takeNews takes the newest snapshot of the session and tells the pages what has changed.
func (m *Model) takeNews() tea.Cmd {
	was := m.snap
	m.snap = m.session.Snapshot()
	m.gatherRuns()
	for len(m.faults) > 0 {
		m.say(true, "%v", <-m.faults)
	}
	var cmds []tea.Cmd
	if m.snap.Survey != was.Survey {
		m.lacking = nil
		cmds = append(cmds, m.tell(surveyedMsg{}))
	}
	if m.snap.Past != was.Past {
		cmds = append(cmds, m.tell(pastMsg{}))
	}
	if m.snap.Ahead != was.Ahead {
		cmds = append(cmds, m.tell(outlooksMsg{}))
	}
	if m.snap.File() != was.File() {
		cmds = append(cmds, m.tell(currentFileMsg{}))
	}
	if m.snap.Saves != was.Saves {
		cmds = append(cmds, m.tell(sourcesChangedMsg{}))
	}
	ended := m.newlyEnded()
	m.bringForward()
	cmds = append(cmds, m.tell(runsMsg{}))
	if m.rings(ended) {
		cmds = append(cmds, tea.Raw("\a"))
	}
	m.noteEnded()
	if m.snap.Survey != nil && !m.snap.Survey.Partial && !m.asked {
		m.asked = true
		cmds = append(cmds, m.takeUp)
	}
	if !m.ticking && m.goesOn() {
		m.ticking = true
		cmds = append(cmds, m.tick())
	}
	return tea.Batch(cmds...)
}

// goesOn reports whether something runs, here or elsewhere.
func (d *desk) goesOn() bool { return len(d.active())+len(d.session.Others()) > 0 }

// currentRel is the current file relative to the workspace, or "" if there is none
// in it.
func (d *desk) currentRel() string { return d.relative(d.snap.File()) }

// relative returns a path, absolute, relative to the workspace; "" for none, or one that is outside of it.
func (d *desk) relative(file string) string {
	if file == "" {
		return ""
	}
	rel, err := filepath.Rel(d.root, file)
	if err != nil || strings.HasPrefix(rel, "..") {
		return ""
	}
	return filepath.ToSlash(rel)
}

// inHandMsg is a file, absolute, that came into hand in a connected editor.
type inHandMsg string

// keepCurrent makes a file, absolute, the current one whatever is saved; "" is the one saved last.
func (d *desk) keepCurrent(file string) {
	d.session.Choose(file, 0)
	d.snap = d.session.Snapshot()
	d.tell(currentFileMsg{})
	if file == "" {
		d.say(false, "the current file is the one saved last")
	} else {
		d.say(false, "the current file is %s until f chooses another", d.currentRel())
	}
}

// fromWords says how it is known what a task reads.
func fromWords(o *plan.Outlook) string {
	switch o.From {
	case learn.Watched:
		return "learned by watching a run"
	case plan.FromTool:
		return "as its build tool says"
	}
	return "by what it declares"
}

// Messages that tell the pages what is new in the session.
type (
	pastMsg     struct{} // the history
	outlooksMsg struct{} // what runs would do
)
