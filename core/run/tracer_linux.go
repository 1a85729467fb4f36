package run

import "errors"

// noTracer says why runs cannot be watched where strace is missing.
func noTracer() error {
	return errors.New("strace is not on the path, by which a run is watched: " + remedy("strace"))
}
