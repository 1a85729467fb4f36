package run

import "golang.org/x/sys/unix"

// Requests of ioctl(2): what a terminal is set to, and how many bytes can be read.
const (
	readTermios  = unix.TCGETS
	bytesWaiting = unix.TIOCINQ
)
