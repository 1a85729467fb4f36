package tui

import (
	"context"
	"os"
	"os/signal"
	"slices"
	"strings"
	"sync"
	"syscall"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"tidytally/core/crash"
	"tidytally/core/hand"
	"tidytally/core/keep"
	"tidytally/core/session"
)

// Open shows the interface on the workspace at root until the user quits. file is
// the current file, absolute, or empty. All that it started is stopped before it
// returns.
func Open(root, file string) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	m, err := newModel(root, session.Options{File: file, Follow: true})
	if err != nil {
		return err
	}
	defer m.session.Close()
	// A terminal that goes away, and every way of asking the program to end, stops all
	// that it started; asked again, it goes on doing so.
	signals := make(chan os.Signal, 1)
	signal.Notify(signals, syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	defer signal.Stop(signals)
	m.greets = keep.FirstStart()
	crash.Listen(m.tellFault)
	m.session.OpenHistory()
	size := screenSize()
	program := tea.NewProgram(m, tea.WithContext(ctx), tea.WithOutput(screen{os.Stdout}), tea.WithWindowSize(size.Width, size.Height), tea.WithoutSignalHandler(), tea.WithColorProfile(colours()), tea.WithFPS(framesPerSecond))
	if m.host, err = hand.Listen(root, func(file string) { program.Send(inHandMsg(file)) }); err == nil {
		defer m.host.Close()
	} // else another Tidy Tally has the editors
	var beside sync.WaitGroup
	beside.Go(func() {
		select {
		case <-signals:
			program.Quit()
		case <-ctx.Done():
		}
	})
	beside.Go(func() { followSize(ctx.Done(), program.Send) })
	_, err = program.Run()
	cancel()
	beside.Wait()
	return err
}

// colours returns what the terminal can show, by the environment and the terminal's
// description. A multiplexer is not asked, because that would execute it: it tells of more
// colours itself, when the screen is drawn.
func colours() colorprofile.Profile {
	env := slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "TMUX=") })
	return colorprofile.Detect(os.Stdout, env)
}

// framesPerSecond is how often the screen is drawn at most: twice as often costs as much
// again while nothing happens, and no eye sees it.
const framesPerSecond = 30
