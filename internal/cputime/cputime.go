// Package cputime measures processor time for tests. Unlike time on the wall, it does
// not grow while other processes run.
package cputime

import (
	"syscall"
	"testing"
	"time"
)

// Used returns the processor time that this process has used.
func Used(t testing.TB) time.Duration {
	t.Helper()
	var u syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &u); err != nil {
		t.Fatal(err)
	}
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}
