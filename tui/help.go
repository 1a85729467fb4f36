package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/tallyfile"
	"tidytally/tui/ink"
)

// help lays the keys of the page, and the settings of the tally file, over it. What is typed finds
// some of them.
type help struct {
	open bool
	find field // what is looked for
	top  int
}

func (h *help) field() *field { return &h.find }

func (m *Model) toggleHelp() tea.Cmd {
	if m.help = (help{open: !m.help.open}); !m.help.open {
		return nil
	}
	scroll := func(by func() int) func() tea.Cmd {
		return func() tea.Cmd {
			m.help.top += by()
			return nil
		}
	}
	page := func() int { return m.bodyHeight() - 2 }
	m.help.find = newField("",
		key{names: []string{"?", "enter"}, label: "back", act: m.toggleHelp},
		key{names: []string{"esc", "ctrl+c"}, act: m.leaveHelp},
		key{names: []string{"q"}, act: m.quitHelp},
		key{names: []string{"down"}, label: "further down", act: scroll(func() int { return 1 })},
		key{names: []string{"up"}, act: scroll(func() int { return -1 })},
		key{names: []string{"pgdown"}, act: scroll(page)},
		key{names: []string{"pgup"}, act: scroll(func() int { return -page() })})
	m.help.find.changed = func() { m.help.top = 0 }
	return nil
}

// leaveHelp takes away what was typed, or leaves the help.
func (m *Model) leaveHelp() tea.Cmd {
	if m.help.find.String() != "" {
		m.help.find.set("")
		return nil
	}
	return m.toggleHelp()
}

// quitHelp leaves the help, unless something is typed: then q is a letter of it.
func (m *Model) quitHelp() tea.Cmd {
	if text := m.help.find.String(); text != "" {
		m.help.find.set(text + "q")
		return nil
	}
	return m.toggleHelp()
}

const keyColumn, settingColumn = 18, 32

// helpLines lays out all keys of the page by what one wants to do, those of the workspace's tasks, and
// the settings that have the words that are looked for.
func (m *Model) helpLines() []string {
	words := strings.Fields(strings.ToLower(m.help.find.String()))
	var lines []string
	found := func(name, about string, column int) (rows []string) {
		for _, w := range words {
			if !strings.Contains(strings.ToLower(name+" "+about), w) {
				return nil
			}
		}
		for i, text := range wrap(about, m.width-column-1) {
			r := m.row().To(4)
			if i == 0 {
				r.Put(name, ink.Bold)
			}
			rows = append(rows, r.To(column).Put(text, ink.Plain).String())
		}
		return rows
	}
	section := func(head string, rows []string) {
		if len(rows) == 0 {
			return
		}
		if len(lines) > 0 {
			lines = append(lines, "")
		}
		lines = append(append(lines, m.row().To(2).Put(head, ink.Slate).String()), rows...)
	}
	keys := m.allKeys()
	these := func(wanted func(k *key) bool) (rows []string) {
		for i, k := range keys {
			if !wanted(&k) || k.help == "" {
				continue
			}
			names := slices.Clone(k.names)
			for _, next := range keys[i+1:] {
				if next.help != "" {
					break
				}
				names = append(names, next.names...)
			}
			about := k.help
			if k.here != nil {
				if here := k.here(); here != "" {
					about += "; here: " + here
				}
			}
			rows = append(rows, found(strings.Join(names, ", "), about, keyColumn)...)
		}
		return rows
	}
	section("with the chosen row", these(func(k *key) bool { return k.ofRow && k.applies() }))
	for _, g := range goals {
		rows := these(func(k *key) bool { return !k.ofRow && k.goal == g.of })
		if g.of == toRun {
			rows = append(rows, m.taskKeys(found)...)
		}
		if g.of == toMove {
			rows = append(rows, found("mouse", "click chooses, double click runs or opens, the wheel scrolls", keyColumn)...)
		}
		section(g.head, rows)
	}
	section("on other rows", these(func(k *key) bool { return k.ofRow && !k.applies() }))
	if len(words) > 0 {
		var rows []string
		for _, p := range m.pages {
			for _, k := range p.keys() {
				if p != m.at && !k.anywhere && !slices.Contains(k.on, m.at.name()) && k.help != "" {
					rows = append(rows, found(k.names[0]+" on "+p.name(), k.help, keyColumn)...)
				}
			}
		}
		section("on other pages", rows)
	}
	var typing []string
	for _, k := range (&field{in: newField("").in}).editing() {
		typing = append(typing, found(strings.Join(k.names, ", "), k.help, settingColumn)...)
	}
	section("while typing", typing)
	if len(words) == 0 {
		return append(lines, "", m.row().To(2).Put("type to find a key, or a setting of tidytally.toml", ink.Slate).String())
	}
	var settings []string
	for _, s := range tallyfile.Settings() {
		settings = append(settings, found(s.Name, s.About, settingColumn)...)
	}
	section("settings of tidytally.toml", settings)
	if len(lines) == 0 {
		return []string{m.row().To(4).Put("no key and no setting has these words", ink.Slate).String()}
	}
	return lines
}

// taskKeys lists the keys that tally files give to tasks.
func (m *Model) taskKeys(found func(name, about string, column int) []string) (rows []string) {
	if m.snap.Survey == nil {
		return nil
	}
	for _, t := range m.snap.Survey.Tasks {
		if t.Key != "" {
			rows = append(rows, found(strings.ToLower(t.Key), "run "+shortID(t)+", as "+t.Origin("key").File+" says", keyColumn)...)
		}
	}
	return rows
}

// helpBody is the help over a page.
func (m *Model) helpBody() []string {
	h := &m.help
	r := m.row().Put("Keys of the page "+m.at.name(), ink.Bold)
	h.find.show(r.Put("   find ", ink.Slate), m.width/4)
	lines := m.helpLines()
	height := max(1, m.bodyHeight()-2)
	h.top = max(0, min(h.top, len(lines)-height))
	if len(lines) > height {
		r.Right(fmt.Sprintf("%d to %d of %d", h.top+1, h.top+height, len(lines)), m.width-1, ink.Slate)
		lines = lines[h.top : h.top+height]
	}
	return append([]string{r.String(), ""}, lines...)
}
