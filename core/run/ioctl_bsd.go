//go:build darwin || freebsd || netbsd || openbsd

package run

import "golang.org/x/sys/unix"

// Requests of ioctl(2): what a terminal is set to, and how many bytes can be read (FIONREAD, sys/filio.h).
const (
	readTermios  = unix.TIOCGETA
	bytesWaiting = 0x4004667f
)
