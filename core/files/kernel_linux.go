package files

import (
	"os"
	"syscall"
)

// kernelSystems are the magic numbers of file systems whose files the kernel makes up when they are read
// (statfs(2)): proc, sysfs, debugfs, tracefs, cgroup and cgroup2.
var kernelSystems = map[int64]bool{0x9fa0: true, 0x62656572: true, 0x64626720: true, 0x74726163: true, 0x27e0eb: true, 0x63677270: true}

// ofKernel reports whether an open file is in such a file system.
func ofKernel(f *os.File) bool {
	var st syscall.Statfs_t
	return syscall.Fstatfs(int(f.Fd()), &st) == nil && kernelSystems[int64(st.Type)]
}
