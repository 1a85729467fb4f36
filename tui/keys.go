package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/crash"
	"tidytally/core/task"
	"tidytally/tui/ink"
)

// allKeys returns the keys that work on the page in front, in the order of the
// help: its own, those of other pages that work here too, those that go to pages, and
// the shell's.
func (m *Model) allKeys() []key {
	keys := slices.DeleteFunc(slices.Clone(m.at.keys()), func(k key) bool { return len(k.on) > 0 && !slices.Contains(k.on, m.at.name()) })
	var anywhere []key
	for _, p := range m.pages {
		for _, k := range p.keys() {
			switch {
			case p == m.at:
			case slices.Contains(k.on, m.at.name()):
				keys = append(keys, k)
			case k.anywhere && k.except != m.at.name():
				anywhere = append(anywhere, k)
			}
		}
	}
	keys = append(keys, anywhere...)
	keys = append(keys, key{names: []string{"x"}, goal: toRun, label: "stop", help: "stop the task that runs: first its own signal, then TERM, then KILL", act: m.stop, ofRow: true, when: m.stops},
		key{names: []string{"space"}, goal: toRun, label: "more", help: "all that can be done with the chosen row now, each with its key; typing finds", act: m.offerActions})
	for _, p := range m.pages {
		k := p.goes()
		k.goal = toGo
		if len(k.names) == 0 || p != m.at && len(k.on) > 0 && !slices.Contains(k.on, m.at.name()) {
			continue
		}
		k.act = func() tea.Cmd {
			if k.ofRun && p != m.at && !m.turnToChosen() {
				return nil
			}
			if p == m.at && p == m.pages[0] { // it was never left
				return nil
			}
			return m.goTo(p.name())
		}
		if p == m.at {
			k.label, k.ofRow = "", false
		}
		keys = append(keys, k)
	}
	page := max(1, m.bodyHeight()-1)
	move := func(rows int) func() tea.Cmd {
		return func() tea.Cmd {
			m.at.move(rows)
			return nil
		}
	}
	return append(keys,
		key{names: []string{"esc"}, goal: toMove, help: "clear the filter, or go back", act: m.back},
		key{names: []string{"up"}, goal: toMove, help: "by a row", act: move(-1)},
		key{names: []string{"down"}, goal: toMove, act: move(1)},
		key{names: []string{"pgup"}, goal: toMove, help: "by a page", act: move(-page)},
		key{names: []string{"pgdown"}, goal: toMove, act: move(page)},
		key{names: []string{"home"}, goal: toMove, help: "to the first row, or the last; an output is followed from there", act: move(-allRows)},
		key{names: []string{"end"}, goal: toMove, act: move(allRows)},
		key{names: []string{"ctrl+z"}, goal: toWrite, help: "take back what was written into a tally file last", act: m.undo},
		key{names: []string{"?"}, goal: toFind, label: "all keys", help: "these keys, and back", act: m.toggleHelp},
		key{names: []string{"q", "ctrl+c"}, goal: toRun, help: "quit", act: m.quit},
	)
}

// allRows is a move beyond any page.
const allRows = 1 << 30

// bound returns what a key does on the page in front, or nil.
func (m *Model) bound(name string) *key {
	keys := m.allKeys()
	if i := slices.IndexFunc(keys, func(k key) bool { return k.has(name) }); i >= 0 {
		return &keys[i]
	}
	return nil
}

// press takes a key.
func (m *Model) press(k tea.KeyPressMsg) tea.Cmd {
	name := k.String()
	wasQuitting := m.quitting
	m.quitting = false
	m.notice, m.bad, m.greets = "", false, false
	if k.Text != "" && (m.typed != nil || m.typing()) {
		crash.Key("…") // it may be part of a secret
	} else {
		crash.Key(name)
	}
	if m.typingTo() != nil {
		return m.typeToTask(k)
	}
	if f := m.field(); f != nil {
		for _, own := range f.own {
			if own.has(name) {
				return own.act()
			}
		}
		f.update(k)
		return nil
	}
	if m.choice != nil {
		return m.answer(name)
	}
	b := m.bound(name)
	if b == nil {
		if t := m.taskOnKey(name); t != nil {
			return m.start(t, nil)
		}
		return nil
	}
	if name == "q" || name == "ctrl+c" {
		m.quitting = wasQuitting
	}
	return b.act()
}

// taskOnKey returns the task to which a tally file gives a key, or nil.
func (m *Model) taskOnKey(name string) *task.Task {
	if m.snap.Survey == nil {
		return nil
	}
	for _, t := range m.snap.Survey.Tasks {
		if t.Key != "" && strings.EqualFold(t.Key, name) {
			return t
		}
	}
	return nil
}

// footingKeys are the keys that the last line shows: of the question, the field or
// the page, whichever is in front. The last one is always there.
func (m *Model) footingKeys() []key {
	var keys []key
	if m.typingTo() != nil {
		return []key{{names: []string{"ctrl+o"}, label: "takes the keyboard back from the task"}}
	}
	if m.quitting {
		return []key{{names: []string{"q"}, label: "stop all and quit"}, {names: []string{"esc"}, label: "stay"}}
	}
	if m.choice != nil && m.choice.find == nil {
		keys = m.choice.keys()
	} else if f := m.field(); f != nil {
		keys = append(slices.Clone(f.own), f.editing()...)
	} else {
		keys = m.allKeys()
	}
	keys = slices.DeleteFunc(keys, func(k key) bool { return k.label == "" || k.when != nil && !k.when() })
	late := slices.DeleteFunc(slices.Clone(keys), func(k key) bool { return !k.late })
	keys = slices.DeleteFunc(keys, func(k key) bool { return k.late })
	return slices.Insert(keys, len(keys)-1, late...)
}

// keyLine writes the keys that matter, as many as fit.
func (m *Model) keyLine() string {
	keys := m.footingKeys()
	width := func(k key) int { return len(k.names[0]) + 1 + len(k.label) + 3 }
	last := keys[len(keys)-1]
	keys = keys[:len(keys)-1]
	room := m.width - width(last)
	r := m.row()
	for _, k := range keys {
		if room -= width(k); room < 0 {
			break
		}
		r.Put(k.names[0], ink.Slate).Put(" "+k.label+"   ", ink.Plain)
	}
	return r.Put(last.names[0], ink.Slate).Put(" "+last.label, ink.Plain).String()
}
