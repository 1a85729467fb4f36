//go:build !linux

package keeper

import "syscall"

// reap does nothing: other systems have no such thing, and daemons are not found there.
func reap() {}

// reapAbove does nothing: what a keeper that is killed leaves is not found there.
func reapAbove() {}

// held returns nothing: there are no such descriptors.
func held() map[int]bool { return nil }

func endsWithKeeper() *syscall.SysProcAttr { return &syscall.SysProcAttr{} }
