package plan

import (
	"fmt"
	"time"

	"tidytally/core/task"
)

// State says what is known of a step before it runs.
type State string

// The states.
const (
	Needed  State = "run"     // something that it reads has changed, or it has not run yet
	Fresh   State = "fresh"   // nothing that it reads has changed since its last good run
	Up      State = "up"      // it stays up, and is up already
	Unknown State = "unknown" // nothing is known of what it reads
)

// Outlook is what is known of a step before it runs.
type Outlook struct {
	State State
	Since time.Time // of Fresh: the start of the last good run
	Why   []string
}

// OfLearned returns the outlook of a task that was watched. reasons say why a run would differ, and
// unknown why that cannot be decided.
func OfLearned(good time.Time, reasons []string, unknown string) Outlook {
	switch {
	case unknown != "":
		return Outlook{State: Unknown, Why: []string{unknown}}
	case len(reasons) == 0:
		return Outlook{State: Fresh, Since: good}
	}
	return Outlook{State: Needed, Why: reasons[:min(len(reasons), maxWhy)]}
}

// maxWhy bounds the files that are named as reasons.
const maxWhy = 5

// OutlookOf returns what is known of a task. good is the start of its last good run, zero if
// there was none; changed are the files that have changed since, as Stale returns them.
func OutlookOf(t *task.Task, good time.Time, changed []string) Outlook {
	switch {
	case t.Command.IsZero():
		return Outlook{State: Needed}
	case len(t.Reads) == 0:
		return Outlook{State: Unknown}
	case good.IsZero():
		return Outlook{State: Needed, Why: []string{"no good run is on record"}}
	}
	if len(changed) == 0 {
		return Outlook{State: Fresh, Since: good}
	}
	o := Outlook{State: Needed}
	for _, name := range changed[:min(len(changed), maxWhy)] {
		o.Why = append(o.Why, name+" changed")
	}
	if n := len(changed) - maxWhy; n > 0 {
		o.Why = append(o.Why, fmt.Sprintf("and %d more", n))
	}
	return o
}
