package run

import (
	"os"

	"golang.org/x/sys/unix"
)

// whenClosed returns a file that can be read from once somebody who wrote a file has closed it
// (inotify(7)).
func whenClosed(name string) (*os.File, error) {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	if err != nil {
		return nil, err
	}
	f := os.NewFile(uintptr(fd), "inotify")
	if _, err := unix.InotifyAddWatch(fd, name, unix.IN_CLOSE_WRITE); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}
