package tui

import (
	"slices"
	"strings"

	bubbleskey "charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidytally/tui/ink"
)

// maxTyped is the number of characters of a line that is typed: more than any
// command line that a person writes.
const maxTyped = 4096

// A field is a line that is being typed, with its own keys.
type field struct {
	in textinput.Model
	// own are the keys that mean something else than in other fields: enter and
	// esc at least.
	own []key
	// changed is called when the text has changed; may be nil.
	changed func()
	// before is the text that tab brings back while there is none; may be "".
	before string
	// suggest returns the words that may stand where the cursor is, for the word
	// before it; may be nil.
	suggest func(word string) []string
}

// newField makes a field with a text in it and the cursor at its end.
func newField(text string, own ...key) field {
	f := field{in: textinput.New(), own: own}
	f.in.CharLimit = maxTyped
	f.in.ShowSuggestions = true
	f.in.SetValue(text)
	f.in.CursorEnd()
	f.in.Focus()
	return f
}

// filterField makes the field of a page's filter. It is empty; tab brings the filter back that was
// there before. end closes it, clear empties the filter, and
// move moves the choice while the filter is typed.
func filterField(before string, end, clear func(), move func(rows int)) field {
	act := func(steps ...func()) func() tea.Cmd {
		return func() tea.Cmd {
			for _, step := range steps {
				step()
			}
			return nil
		}
	}
	f := newField("",
		key{names: []string{"enter"}, label: "keep the filter", act: act(end)},
		key{names: []string{"esc", "ctrl+c"}, label: "clear it", act: act(clear, end)},
		key{names: []string{"up"}, act: act(func() { move(-1) })},
		key{names: []string{"down"}, act: act(func() { move(1) })})
	f.before = before
	return f
}

// String returns the text.
func (f *field) String() string { return f.in.Value() }

// set replaces the text.
func (f *field) set(text string) {
	f.in.SetValue(text)
	f.in.CursorEnd()
}

// update takes a key press or pasted text.
func (f *field) update(msg tea.Msg) {
	before := f.in.Value()
	if k, ok := msg.(tea.KeyPressMsg); ok && before == "" && f.before != "" && k.String() == "tab" {
		f.set(f.before)
		f.before = ""
	} else {
		some := len(f.in.MatchedSuggestions()) > 0 // among none the input goes to one before the first
		f.in.KeyMap.NextSuggestion.SetEnabled(some)
		f.in.KeyMap.PrevSuggestion.SetEnabled(some)
		f.in, _ = f.in.Update(msg)
	}
	f.offer()
	if f.changed != nil && f.in.Value() != before {
		f.changed()
	}
}

// offer makes whole lines of the words that may stand at the cursor, as the
// input completes lines.
func (f *field) offer() {
	if f.suggest == nil {
		return
	}
	text := f.in.Value()
	at := strings.LastIndexAny(text, " ") + 1
	word := text[at:]
	var lines []string
	if word != "" && f.in.Position() == len([]rune(text)) {
		for _, w := range f.suggest(word) {
			if len(w) > len(word) && strings.HasPrefix(strings.ToLower(w), strings.ToLower(word)) {
				lines = append(lines, text[:at]+w)
			}
		}
	}
	if !slices.Equal(lines, f.in.AvailableSuggestions()) {
		f.in.SetSuggestions(lines)
	}
}

// show writes the text into a row with a cursor, scrolled so that the cursor is
// in view, and what tab would add.
func (f *field) show(r *ink.Row, columns int) {
	text, cursor := []rune(f.in.Value()), f.in.Position()
	from, shown := cursor, 0
	for from > 0 {
		if shown += ansi.StringWidth(string(text[from-1])); shown >= columns {
			break
		}
		from--
	}
	start := r.At()
	r.Put(string(text[from:cursor]), ink.Plain)
	room := func() int { return max(0, columns-(r.At()-start)) }
	if cursor < len(text) {
		r.Put(string(text[cursor]), ink.Reverse)
		r.Put(ansi.Truncate(string(text[cursor+1:]), room(), ""), ink.Plain)
		return
	}
	if rest := []rune(f.in.CurrentSuggestion()); len(rest) > len(text) {
		r.Put(string(rest[len(text)]), ink.Reverse)
		r.Put(ansi.Truncate(string(rest[len(text)+1:]), room(), ""), ink.Slate)
		return
	}
	r.Put(" ", ink.Reverse)
	if f.before != "" && len(text) == 0 {
		r.Put(ansi.Truncate(" tab: "+f.before, room(), "…"), ink.Slate)
	}
}

// editing are the keys of the input itself, for the help.
func (f *field) editing() []key {
	m := f.in.KeyMap
	row := func(b bubbleskey.Binding, help string) key { return key{names: b.Keys(), help: help} }
	keys := []key{
		row(m.WordBackward, "one word back"),
		row(m.WordForward, "one word on"),
		row(m.LineStart, "to the start of the line"),
		row(m.LineEnd, "to the end of the line"),
		row(m.DeleteWordBackward, "delete the word before the cursor"),
		row(m.DeleteBeforeCursor, "delete all before the cursor"),
		row(m.DeleteAfterCursor, "delete all behind the cursor"),
	}
	if f.suggest != nil {
		keys = append(keys, key{names: m.AcceptSuggestion.Keys(), label: "complete", help: "take the suggestion"})
	}
	return keys
}
