package run

import (
	"time"

	"tidytally/core/output"
)

// Follow makes a run of one that goes on in another program on this machine, which writes what it prints into the file spool,
// from the byte start on. Its output and problems are those of that file as of the last Catch. It is not among Runs, and Stop does nothing.
func (s *Supervisor) Follow(p Past, spool string, start int64) (*Run, error) {
	from, err := output.OpenSpool(spool, start)
	if err != nil {
		return nil, err
	}
	r := s.pastRun(p)
	r.state, r.ended, r.replay = Running, time.Time{}, nil
	r.done = make(chan struct{})
	r.followed = true
	r.keepOutput(from)
	return r, nil
}

// Followed reports whether the run goes on in another program.
func (r *Run) Followed() bool { return r.followed }

// One Catch reads at most maxPieces pieces of pieceSize bytes.
const (
	pieceSize = 64 << 10
	maxPieces = 16
)

// Catch takes what a followed run has printed since, and reports whether it was anything. It must not be called by two goroutines
// at once.
func (r *Run) Catch() bool {
	buf := make([]byte, pieceSize)
	for i := range maxPieces {
		n, _ := r.spool.ReadAt(buf, r.spool.Size()) // what cannot be read now is read the next time
		if n == 0 {
			return i > 0
		}
		_ = r.take(buf[:n]) // it has no other receiver
	}
	return true
}

// Over ends a followed run as it ended in its program.
func (r *Run) Over(p Past) {
	for r.Catch() {
	}
	r.sift.close()
	r.mu.Lock()
	r.code, r.signal, r.fault, r.overAt = p.Code, p.Signal, p.Fault, p.Ended
	r.mu.Unlock()
	r.finish(p.State)
	_ = r.spool.Close() // it belongs to the other program
	close(r.done)
	close(r.job.done)
	r.super.changed(r)
}

// Drop ends the following of a run, of whose end nothing is known.
func (r *Run) Drop() {
	r.Over(Past{State: Stopped, Ended: time.Now(), Fault: "it went on in another program, of which nothing is known now"})
}
