package tui

import (
	"context"
	"path/filepath"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/survey"
	"tidytally/core/workspace"
)

// Open shows the interface on the workspace at root until the user quits. file is
// the current file, absolute, or empty. All that it started is stopped before it
// returns.
func Open(root, file string) error {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	m, err := newModel(root, file)
	if err != nil {
		return err
	}
	defer m.super.Close()
	if m.watcher, err = workspace.NewWatcher(root, matters, filepath.Dir(survey.PersonalFile())); err != nil {
		m.say(true, "changes of files are not seen: %v", err)
	} else {
		watching := make(chan struct{})
		go func() {
			m.watcher.Run(ctx, func(paths []string) {
				m.touched.add(paths)
				nudge(m.files)
			}, func() {
				m.touched.recheck()
				nudge(m.files)
			})
			close(watching)
		}()
		defer func() {
			cancel()
			<-watching
		}()
	}
	_, err = tea.NewProgram(m, tea.WithContext(ctx)).Run()
	return err
}
