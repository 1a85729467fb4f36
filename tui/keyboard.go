package tui

import (
	"errors"
	"os"
	"os/exec"
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/run"
	"tidytally/core/task"
)

// typingTo returns the run that has the keyboard, or nil.
func (d *desk) typingTo() *run.Run {
	if d.typed != nil && d.typed.Snapshot().State.Ended() {
		d.typed = nil
	}
	return d.typed
}

// giveKeyboard gives the keyboard to the run of the chosen task, or the one that is shown.
func (d *desk) giveKeyboard() tea.Cmd {
	r := d.of()
	if r == nil || r.Snapshot().State.Ended() {
		d.say(false, "nothing of it is running")
		return nil
	}
	d.typed = r
	if d.run != r {
		d.choose(r)
	}
	return nil
}

// giveKeyboardThere does so and shows what the task prints.
func (d *desk) giveKeyboardThere() tea.Cmd {
	d.giveKeyboard()
	if d.typed == nil {
		return nil
	}
	return d.goTo(outputName)
}

// of returns the run that the page is about: the newest of the chosen task, or the one
// shown.
func (d *desk) of() *run.Run {
	if d.picked || d.run == nil {
		return d.lastOfChosen()
	}
	return d.run
}

// typeToTask sends a key to the task that has the keyboard.
func (m *Model) typeToTask(k tea.KeyPressMsg) tea.Cmd {
	if k.String() == "ctrl+o" {
		m.typed = nil
		return nil
	}
	if bytes := keyBytes(k); len(bytes) > 0 {
		m.typeKeys(bytes)
	}
	return nil
}

// typeKeys sends keys to the task that has the keyboard, and says what was not taken.
func (m *Model) typeKeys(keys []byte) {
	if err := m.typed.Type(keys); err != nil && !errors.Is(err, run.ErrNoTerminal) { // it has just ended
		m.say(true, "%v", err)
	}
}

// keySequences are what a terminal sends for keys without a character (ECMA-48, and xterm's
// control sequences for the cursor keys).
var keySequences = map[rune]string{
	tea.KeyEnter: "\r", tea.KeyTab: "\t", tea.KeyBackspace: "\x7f", tea.KeyEscape: "\x1b", tea.KeySpace: " ",
	tea.KeyUp: "\x1b[A", tea.KeyDown: "\x1b[B", tea.KeyRight: "\x1b[C", tea.KeyLeft: "\x1b[D", tea.KeyHome: "\x1b[H", tea.KeyEnd: "\x1b[F",
	tea.KeyInsert: "\x1b[2~", tea.KeyDelete: "\x1b[3~", tea.KeyPgUp: "\x1b[5~", tea.KeyPgDown: "\x1b[6~",
}

// keyBytes returns what a terminal sends for a key; none for one that sends nothing.
func keyBytes(k tea.KeyPressMsg) []byte {
	text := k.Text
	switch {
	case k.Mod&tea.ModCtrl != 0 && k.Code >= '@' && k.Code < 0x7f:
		text = string(rune(k.Code & 0x1f))
	case k.Mod&tea.ModCtrl != 0 && k.Code == tea.KeySpace:
		text = "\x00"
	case text == "" && keySequences[k.Code] != "":
		text = keySequences[k.Code]
	case text == "" && k.Code < utf8.MaxRune && k.Code >= ' ':
		text = string(k.Code)
	}
	if k.Mod&tea.ModAlt != 0 && text != "" {
		text = "\x1b" + text
	}
	return []byte(text)
}

// openAddress opens the address of a task that is up in the browser: $BROWSER, or what the
// desktop has for it.
func (d *desk) openAddress() tea.Cmd {
	r := d.of()
	if r == nil || r.Snapshot().Address == "" {
		d.say(false, "it has told no address")
		return nil
	}
	address := r.Snapshot().Address
	if !strings.Contains(address, "://") {
		address = "http://" + address
	}
	argv, err := task.SplitWords(os.Getenv("BROWSER"))
	if err != nil || len(argv) == 0 {
		argv = []string{"xdg-open"}
	}
	cmd := exec.Command(argv[0], append(argv[1:], address)...)
	if err := cmd.Start(); err != nil {
		d.say(true, "%s: %v; $BROWSER names another program", argv[0], err)
		return nil
	}
	d.say(false, "%s is opened", address)
	return func() tea.Msg {
		_ = cmd.Wait() // how it ended is between it and the user
		return nil
	}
}
