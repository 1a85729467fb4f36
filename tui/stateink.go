package tui

import (
	"tidytally/core/history"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/tui/ink"
)

// severityInk returns the ink of a severity.
func severityInk(s problem.Severity) ink.Ink {
	switch s {
	case problem.Error:
		return ink.Madder
	case problem.Warning:
		return ink.Ochre
	}
	return ink.Slate
}

// stateInk returns the ink of the state of a run.
func stateInk(s *run.Snapshot) ink.Ink {
	switch s.State {
	case run.OK, run.Up:
		return ink.Verdigris
	case run.Failed:
		return ink.Madder
	case run.Watching:
		if s.Code != 0 {
			return ink.Madder
		}
		return ink.Verdigris
	case run.Stopped, run.Skipped:
		return ink.Ochre
	}
	return ink.Plain
}

// pastInk returns the ink of the state of an earlier run.
func pastInk(r *history.Run) ink.Ink {
	switch r.State {
	case "ok":
		return ink.Verdigris
	case "failed", "timedOut":
		return ink.Madder
	case "running":
		return ink.Plain
	}
	return ink.Ochre
}
