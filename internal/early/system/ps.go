//go:build !linux

package system

import (
	"os/exec"
	"strconv"
)

// Executable returns "": other systems have no path that still works after the program's file was replaced.
func Executable() string { return "" }

// said returns the output of a program of the system; "" if the program is missing.
func said(name string, args ...string) string {
	cmd := exec.Command(name, args...)
	cmd.Env = []string{"LC_ALL=C", "PATH=/bin:/usr/bin:/sbin:/usr/sbin:/usr/local/bin:/usr/local/sbin"}
	out, _ := cmd.Output() // it fails where one of several processes is gone
	return string(out)
}

// Processes returns all processes.
func Processes() []Process { return inTable(said("/bin/ps", append([]string{"-A"}, psColumns...)...)) }

// Find returns the process with an id. It reports false if there is none, or the system does not say.
func Find(pid int) (Process, bool) {
	all := inTable(said("/bin/ps", append([]string{"-p", strconv.Itoa(pid)}, psColumns...)...))
	if len(all) == 0 {
		return Process{}, false
	}
	return all[0], true
}

// Started returns the start time of a process in the system's own form, which differs between processes that have the same id; "" if
// it is not known.
func Started(pid int) string {
	return startIn(said("/bin/ps", "-p", strconv.Itoa(pid), "-o", "lstart="))
}

// ReadsTerminal reports false: other systems do not say in which system call a process waits.
func ReadsTerminal(pid int, byKeys bool) bool { return false }
