package tui

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/tallyfile"
	"tidytally/tui/ink"
)

// help lays the keys of the page, and the settings of the tally file, over it.
type help struct {
	open    bool
	finding bool
	find    field // what is looked for
	top     int
}

func (h *help) field() *field {
	if h.finding {
		return &h.find
	}
	return nil
}

func (m *Model) toggleHelp() tea.Cmd {
	m.help = help{open: !m.help.open}
	return nil
}

// helpKey takes a key while the help is open, and reports whether it meant the help.
// Any other key leaves it.
func (m *Model) helpKey(name string) bool {
	page := m.bodyHeight() - 2
	switch name {
	case "up":
		m.help.top--
	case "down":
		m.help.top++
	case "pgup":
		m.help.top -= page
	case "pgdown", "space":
		m.help.top += page
	case "/":
		m.help.finding = true
		m.help.find = newField(m.help.find.String(),
			key{names: []string{"esc", "ctrl+c"}, label: "leave", help: "leave the help", act: m.toggleHelp},
			key{names: []string{"enter"}, label: "keep", help: "keep what was found", act: func() tea.Cmd {
				m.help.finding = false
				return nil
			}})
	case "esc":
		m.help = help{}
	case "?", "q", "ctrl+c":
		return false
	default:
		m.help = help{}
		return false
	}
	return true
}

// helpLines lays out all keys of the page and the settings that have the words that
// are looked for.
func (m *Model) helpLines() []string {
	words := strings.Fields(strings.ToLower(m.help.find.String()))
	var lines []string
	add := func(name, about string, column int) {
		for _, w := range words {
			if !strings.Contains(strings.ToLower(name+" "+about), w) {
				return
			}
		}
		for i, text := range wrap(about, m.width-column-1) {
			r := m.row().To(4)
			if i == 0 {
				r.Put(name, ink.Bold)
			}
			lines = append(lines, r.To(column).Put(text, ink.Plain).String())
		}
	}
	const keyColumn, settingColumn = 18, 32
	for _, k := range m.allKeys() {
		add(strings.Join(k.names, ", "), k.help, keyColumn)
	}
	add("mouse", "click chooses, double click runs or opens, the wheel scrolls", keyColumn)
	head := func(text string) string { return m.row().To(2).Put(text, ink.Bold).String() }
	if len(words) == 0 {
		for _, k := range (&field{in: newField("").in}).editing() {
			add(strings.Join(k.names, ", "), "while typing: "+k.help, settingColumn)
		}
		return append(lines, "", head("/ looks for a setting of tidytally.toml"))
	}
	if len(lines) > 0 {
		lines = append(lines, "")
	}
	lines = append(lines, head("settings of tidytally.toml"))
	before := len(lines)
	for _, s := range tallyfile.Settings() {
		add(s.Name, s.About, settingColumn)
	}
	if len(lines) == before {
		lines = append(lines, m.row().To(4).Put("none has these words", ink.Slate).String())
	}
	return lines
}

// helpBody is the help over a page.
func (m *Model) helpBody() []string {
	h := &m.help
	r := m.row().Put("Keys of the page "+m.at.name(), ink.Bold)
	if h.finding {
		r.Put("   find ", ink.Slate)
		h.find.show(r, 40)
	} else if text := h.find.String(); text != "" {
		r.Put("   find ", ink.Slate).Put(text, ink.Plain)
	}
	lines := m.helpLines()
	height := max(1, m.bodyHeight()-2)
	h.top = max(0, min(h.top, len(lines)-height))
	if len(lines) > height {
		r.Right(fmt.Sprintf("%d to %d of %d, down for more", h.top+1, h.top+height, len(lines)), m.width-1, ink.Slate)
		lines = lines[h.top : h.top+height]
	}
	return append([]string{r.String(), ""}, lines...)
}
