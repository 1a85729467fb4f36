package system

import "syscall"

// SocketPair returns two connected stream sockets, which are closed on exec.
func SocketPair() (pair [2]int, err error) {
	return syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM|syscall.SOCK_CLOEXEC, 0)
}
