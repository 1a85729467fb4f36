package run

import (
	"strconv"
	"time"

	"a.early/keeper"
	"a.early/system"

	"tidytally/core/task"
)

// A long-running task is up by its ready line. One that declares none is up as soon as one of
// its processes listens on a port, or when it has printed nothing for a while.
const (
	lookEvery   = 200 * time.Millisecond // for a port, until the task is up
	lookAtLeast = 10 * time.Second       // the longest time between two looks after that
	quietAfter  = 3 * time.Second
)

// awaitUpWithoutReady looks until the run is up or has ended. For one that is up as it was quiet
// it looks on, less and less often: a slow server opens its port after a while of silence.
func (r *Run) awaitUpWithoutReady(kept *keeper.Keeper) {
	every, quiet, began := lookEvery, r.super.opts.UpWhenQuiet, time.Now()
	look := time.NewTimer(every)
	defer look.Stop()
	for {
		select {
		case <-r.done:
			return
		case <-look.C:
		}
		r.mu.Lock()
		state, again, silent := r.state, r.keeper != kept, time.Since(later(r.heard, began))
		r.mu.Unlock()
		if again || state != Running && state != Up {
			return
		}
		if ports := system.Listening(kept.Kept()); len(ports) > 0 {
			r.markUp("as it listens on port "+strconv.Itoa(ports[0]), "localhost:"+strconv.Itoa(ports[0]))
			return
		}
		if state == Up {
			every = min(2*every, lookAtLeast)
		} else if silent >= quiet {
			r.markUp("as it was quiet for "+quiet.String(), "")
		}
		look.Reset(every)
	}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// markUp marks the run as up; by says how that was detected. address may be "".
func (r *Run) markUp(by, address string) {
	r.mu.Lock()
	switch r.state {
	case Running:
		r.state, r.upSince, r.upBy, r.address = Up, time.Now(), by, address
		if !r.wasUp {
			r.wasUp = true
			close(r.up)
		}
	case Up:
		r.upBy, r.address = by, address
	}
	r.version++
	r.mu.Unlock()
	r.super.changed(r)
}

// A long-running task that fails unasked is started again if it says so, after a while that
// doubles each time. One that then stayed up for long enough begins anew.
const (
	maxRestarts   = 5
	firstRestart  = time.Second
	restartsAfter = time.Minute
)

// startsAgain starts a run again that has failed, if its task says so. It reports whether it
// will. The lock is held.
func (r *Run) startsAgain(state State) bool {
	if state != Failed || r.Prepared.Task.Restart != task.OnFailure || r.timedOut {
		return false
	}
	if !r.upSince.IsZero() && time.Since(r.upSince) >= restartsAfter {
		r.restarts = 0
	}
	if r.restarts >= maxRestarts {
		return false
	}
	pause := firstRestart << r.restarts
	r.restarts++
	r.state, r.upSince, r.address = Restarting, time.Time{}, ""
	r.version++
	r.retry = time.AfterFunc(pause, func() {
		r.mu.Lock()
		stopping := r.stopping
		r.mu.Unlock()
		if stopping {
			r.end(Stopped)
			return
		}
		if err := r.command(); err != nil {
			r.cannotBegin(err)
		}
	})
	return true
}
