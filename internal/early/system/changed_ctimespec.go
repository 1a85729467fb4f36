//go:build darwin || freebsd || netbsd

package system

import (
	"os"
	"syscall"
	"time"
)

// Changed returns the time of the last change of a file or its inode (st_ctime, stat(2)), which programs cannot set.
func Changed(info os.FileInfo) time.Time {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return time.Unix(st.Ctimespec.Unix())
	}
	return info.ModTime()
}
