package survey

import (
	"os"
	"testing"
)

// The tests see nothing of what the user has for every workspace.
func TestMain(m *testing.M) {
	os.Exit(func() int {
		home, err := os.MkdirTemp("", "tidytally-survey-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(home)
		os.Setenv("XDG_CONFIG_HOME", home+"/config")
		os.Setenv("XDG_CACHE_HOME", home+"/cache")
		minCached = 1
		return m.Run()
	}())
}
