//go:build linux || openbsd

package system

import (
	"os"
	"syscall"
	"time"
)

// Changed is when a file or what is known of it, such as its name, changed last (stat(2)): no program can set it back.
func Changed(info os.FileInfo) time.Time {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return time.Unix(st.Ctim.Unix())
	}
	return info.ModTime()
}
