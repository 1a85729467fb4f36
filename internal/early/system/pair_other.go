//go:build !linux

package system

import "syscall"

// SocketPair returns two connected stream sockets, which are closed on exec.
func SocketPair() (pair [2]int, err error) {
	syscall.ForkLock.RLock() // no program is started in between
	defer syscall.ForkLock.RUnlock()
	if pair, err = syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM, 0); err == nil {
		syscall.CloseOnExec(pair[0])
		syscall.CloseOnExec(pair[1])
	}
	return pair, err
}
