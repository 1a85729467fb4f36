//go:build !linux

package run

import "errors"

// noTracer says why runs cannot be watched.
func noTracer() error {
	return errors.New("this system has no tracer by which a run is watched: what a task declares with reads and makes counts")
}
