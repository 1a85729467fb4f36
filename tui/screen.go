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

// screen hides from Bubble Tea that the output is a terminal. Bubble Tea would read its size on several goroutines without a
// lock; followSize does it on one.
type screen struct{ io.Writer }

// screenSize returns the size of the terminal in cells, or 80 by 24 if it is unknown.
func screenSize() tea.WindowSizeMsg {
	cols, rows, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil || cols <= 0 || rows <= 0 {
		return tea.WindowSizeMsg{Width: 80, Height: 24}
	}
	return tea.WindowSizeMsg{Width: cols, Height: rows}
}

// rests is the delay between a new size and a full redraw. Output for the old size may reach a terminal that has the new one
// already. It can leave rows in wrong places, and the scroll region of the old size.
const rests = 300 * time.Millisecond

// wholeScrolls resets the scroll region to the whole screen (DECSTBM, VT510 manual).
const wholeScrolls = "\x1b[r"

// followSize sends each new size of the terminal, and a full redraw after it, until done is closed.
func followSize(done <-chan struct{}, send func(tea.Msg)) {
	changed := make(chan os.Signal, 1)
	signal.Notify(changed, syscall.SIGWINCH, syscall.SIGCONT)
	defer signal.Stop(changed)
	rest := time.NewTimer(rests)
	rest.Stop() // nothing has changed yet
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

// onTheScreen runs a program on the whole terminal. Afterwards it sends the message of done and the size of the terminal.
func onTheScreen(cmd *exec.Cmd, done tea.ExecCallback) tea.Cmd {
	cmd.Stdout = os.Stdout
	return tea.ExecProcess(cmd, func(err error) tea.Msg {
		return tea.BatchMsg{func() tea.Msg { return done(err) }, func() tea.Msg { return screenSize() }}
	})
}
