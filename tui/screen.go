package tui

import (
	"io"
	"os"
	"os/exec"
	"os/signal"
	"syscall"

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

// followSize sends the size of the terminal whenever it may have changed, until done is closed.
func followSize(done <-chan struct{}, send func(tea.Msg)) {
	changed := make(chan os.Signal, 1)
	signal.Notify(changed, syscall.SIGWINCH, syscall.SIGCONT)
	defer signal.Stop(changed)
	for {
		select {
		case <-changed:
			send(screenSize())
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
