//go:build !linux

package keeper

import "syscall"

// reap does nothing: other systems have no such thing, and daemons are not found there.
func reap() {}

func endsWithKeeper() *syscall.SysProcAttr { return &syscall.SysProcAttr{} }
