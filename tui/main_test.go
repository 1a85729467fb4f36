package tui

import (
	"fmt"
	"os"
	"testing"
)

// The tests see nothing of what the user has for every workspace.
func TestMain(m *testing.M) {
	os.Exit(func() int {
		home := fmt.Sprintf("%s/tidytally-tui-%010d", os.TempDir(), os.Getpid()) // of the same length each time
		if err := os.Mkdir(home, 0o700); err != nil {
			panic(err)
		}
		defer os.RemoveAll(home)
		os.Setenv("XDG_CONFIG_HOME", home+"/config")
		os.Setenv("XDG_STATE_HOME", home+"/state")
		return m.Run()
	}())
}
