package tui

import (
	"io"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
	"time"

	tea "charm.land/bubbletea/v2"
	"golang.org/x/term"
)

// screen is the terminal as the library of the interface is given it: something to write to, whose size it does not ask
// for. It would do so on several goroutines that share it without a lock.
type screen struct{ io.Writer }

// screenSize returns the size of the terminal in cells, as a message; with what most terminals have where it is not known.
func screenSize() tea.WindowSizeMsg {
	cols, rows, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil || cols <= 0 || rows <= 0 {
		return tea.WindowSizeMsg{Width: 80, Height: 24}
	}
	return tea.WindowSizeMsg{Width: cols, Height: rows}
}

// rests is how long a terminal is at rest before it is drawn anew. What was drawn for the old size may have come when it had
// the new one: then rows are where they do not belong, and the region that scrolls is still that of the old size, so that
// all that follows is torn, too.
const rests = 300 * time.Millisecond

// wholeScrolls makes the whole screen the region that scrolls (DECSTBM, ECMA-48's private use; VT510 manual).
const wholeScrolls = "\x1b[r"

// followSize sends the size of the terminal whenever it may have changed, and has all drawn anew when it rests, until
// done is closed.
func followSize(done <-chan struct{}, send func(tea.Msg)) {
	changed := make(chan os.Signal, 1)
	signal.Notify(changed, syscall.SIGWINCH, syscall.SIGCONT)
	defer signal.Stop(changed)
	rest := time.NewTimer(rests)
	defer rest.Stop()
	for {
		select {
		case <-changed:
			send(screenSize())
			rest.Reset(rests)
		case <-rest.C:
			send(tea.RawMsg{Msg: wholeScrolls})
			send(tea.ClearScreen())
		case <-done:
			return
		}
	}
}

// onTheScreen runs a program on the whole terminal, and then hands on what done returns, and the size that the terminal has
// by then.
func onTheScreen(cmd *exec.Cmd, done tea.ExecCallback) tea.Cmd {
	cmd.Stdout = os.Stdout
	return tea.ExecProcess(cmd, func(err error) tea.Msg {
		return tea.BatchMsg{func() tea.Msg { return done(err) }, func() tea.Msg { return screenSize() }}
	})
}
