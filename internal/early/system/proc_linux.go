package system

import (
	"bufio"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Executable returns a path that executes this program even after its file was replaced; "" if /proc is hidden.
func Executable() string {
	const self = "/proc/self/exe"
	if _, err := os.Stat(self); err != nil {
		return ""
	}
	return self
}

// stat returns the name in /proc/PID/stat, which may contain any bytes, and the fields after it.
func stat(pid string) (fields []string, name string, ok bool) {
	data, err := os.ReadFile("/proc/" + pid + "/stat")
	text := string(data)
	open, end := strings.IndexByte(text, '('), strings.LastIndexByte(text, ')')
	if err != nil || open < 0 || end < open {
		return nil, "", false
	}
	return strings.Fields(text[end+1:]), text[open+1 : end], true
}

// one returns a process by its id.
func one(pid string) (p Process, ok bool) {
	fields, name, ok := stat(pid)
	if !ok || len(fields) < 3 {
		return p, false
	}
	p.Name, p.Dead = name, fields[0] == "Z"
	for i, to := range []struct {
		field string
		to    *int
	}{{pid, &p.PID}, {fields[1], &p.Parent}, {fields[2], &p.Group}} {
		n, err := strconv.Atoi(to.field)
		if err != nil || n < 0 && i == 0 {
			return p, false
		}
		*to.to = n
	}
	return p, true
}

// Processes returns all processes.
func Processes() (all []Process) {
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return nil
	}
	for _, e := range entries {
		if name := e.Name(); name[0] < '0' || name[0] > '9' {
			continue
		}
		if p, ok := one(e.Name()); ok { // else it is gone
			all = append(all, p)
		}
	}
	return all
}

// Find returns the process with an id. It reports false if there is none, or the system does not say.
func Find(pid int) (Process, bool) { return one(strconv.Itoa(pid)) }

// Started returns the start time of a process in the system's own form, which differs between processes that have the same id; "" if
// it is not known.
func Started(pid int) string {
	const start = 19 // behind the name: field 22
	fields, _, ok := stat(strconv.Itoa(pid))
	if !ok || len(fields) <= start {
		return ""
	}
	return fields[start]
}

// Listening returns the TCP ports on which processes listen, the lowest first.
func Listening(pids []int) (ports []int) {
	sockets := map[string]bool{}
	for _, pid := range pids {
		dir := "/proc/" + strconv.Itoa(pid) + "/fd"
		entries, err := os.ReadDir(dir)
		if err != nil {
			continue // it has ended
		}
		for _, e := range entries {
			if to, err := os.Readlink(filepath.Join(dir, e.Name())); err == nil {
				if inode, ok := strings.CutPrefix(to, "socket:["); ok {
					sockets[strings.TrimSuffix(inode, "]")] = true
				}
			}
		}
	}
	if len(sockets) == 0 {
		return nil
	}
	for _, name := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		f, err := os.Open(name)
		if err != nil {
			continue
		}
		lines := bufio.NewScanner(f)
		for lines.Scan() {
			const state, inode, listens = 3, 9, "0A"
			fields := strings.Fields(lines.Text())
			if len(fields) <= inode || fields[state] != listens || !sockets[fields[inode]] {
				continue
			}
			if port, err := strconv.ParseInt(fields[1][strings.LastIndexByte(fields[1], ':')+1:], 16, 32); err == nil && !slices.Contains(ports, int(port)) {
				ports = append(ports, int(port))
			}
		}
		f.Close()
	}
	slices.Sort(ports)
	return ports
}

// ReadsTerminal reports whether a process waits for input from a terminal: in read(2), or if byKeys is set, in select(2) or its like
// while standard input is a terminal (proc(5), /proc/PID/syscall). byKeys is for terminals that are not in canonical mode.
func ReadsTerminal(pid int, byKeys bool) bool {
	dir := "/proc/" + strconv.Itoa(pid)
	call, err := os.ReadFile(dir + "/syscall")
	if err != nil {
		return false
	}
	words := strings.Fields(string(call))
	if len(words) < 2 {
		return false // it is running
	}
	fd := "0"
	switch {
	case words[0] == waitingCalls.read:
		n, err := strconv.ParseInt(words[1], 0, 64)
		if err != nil {
			return false
		}
		fd = strconv.FormatInt(n, 10)
	case !byKeys || !slices.Contains(waitingCalls.wait, words[0]):
		return false
	}
	to, err := os.Readlink(dir + "/fd/" + fd)
	return err == nil && strings.HasPrefix(to, "/dev/pts/")
}

// calls are the numbers of read(2), and of select, poll and their like.
type calls struct {
	read string
	wait []string
}
