//go:build linux && !amd64 && !386 && !arm

package system

// Kernel sources, include/uapi/asm-generic/unistd.h, which younger architectures share.
var waitingCalls = calls{"63", []string{"22", "72", "73"}}
