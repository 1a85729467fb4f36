//go:build !linux

package system

import (
	"os/exec"
	"strconv"
)

// Executable is "": other systems have no path that outlives the replacement of a program's file.
func Executable() string { return "" }

// said is what a program of the system prints; "" if it is not there.
func said(name string, args ...string) string {
	cmd := exec.Command(name, args...)
	cmd.Env = []string{"LC_ALL=C", "PATH=/bin:/usr/bin:/sbin:/usr/sbin:/usr/local/bin:/usr/local/sbin"}
	out, _ := cmd.Output() // it fails where one of several processes is gone
	return string(out)
}

// Processes returns all processes.
func Processes() []Process { return inTable(said("/bin/ps", append([]string{"-A"}, psColumns...)...)) }

// Find returns the process with an id; false if there is none.
func Find(pid int) (Process, bool) {
	all := inTable(said("/bin/ps", append([]string{"-p", strconv.Itoa(pid)}, psColumns...)...))
	if len(all) == 0 {
		return Process{}, false
	}
	return all[0], true
}

// Started says when a process started, in words of the system; "" if that is not known.
func Started(pid int) string {
	return startIn(said("/bin/ps", "-p", strconv.Itoa(pid), "-o", "lstart="))
}

// ReadsTerminal reports false: other systems do not say in which call a process waits.
func ReadsTerminal(pid int, byKeys bool) bool { return false }
