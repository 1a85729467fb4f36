package system

import (
	"path"
	"slices"
	"strconv"
	"strings"
)

// The parsers of ps, lsof and sockstat are compiled on every system, so that they are tested on each.

// psColumns make a table of processes without a heading (POSIX.1-2017, ps; state is an addition of all systems).
var psColumns = []string{"-o", "pid=", "-o", "ppid=", "-o", "pgid=", "-o", "state=", "-o", "comm="}

// inTable parses the output of ps with psColumns.
func inTable(text string) (all []Process) {
	for line := range strings.Lines(text) {
		fields := strings.Fields(line)
		if len(fields) < 5 {
			continue // a process that ends may have no name
		}
		var p Process
		for i, to := range []*int{&p.PID, &p.Parent, &p.Group} {
			n, err := strconv.Atoi(fields[i])
			if err != nil {
				n = -1
			}
			*to = n
		}
		if p.PID <= 0 || p.Parent < 0 || p.Group < 0 {
			continue
		}
		p.Dead = strings.HasPrefix(fields[3], "Z")
		p.Name = path.Base(strings.Join(fields[4:], " ")) // macOS prints the whole path
		all = append(all, p)
	}
	return all
}

// startIn parses the output of ps for lstart: "Wed Dec  2 06:28:38 2026".
func startIn(text string) string { return strings.Join(strings.Fields(text), " ") }

// portOf returns the port of an address such as "127.0.0.1:8080", "*:8080" or "[::1]:8080".
func portOf(address string) (int, bool) {
	port, err := strconv.Atoi(address[strings.LastIndexByte(address, ':')+1:])
	return port, err == nil && port > 0 && port <= 65535
}

// sorted returns ports once each, the lowest first.
func sorted(ports []int) []int {
	slices.Sort(ports)
	return slices.Compact(ports)
}

// portsOfLsof parses the output of lsof(8) with -Fpn, one field a line: p is a process id, n an address of that process.
func portsOfLsof(text string, pids []int) (ports []int) {
	wanted := false
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "p"):
			pid, err := strconv.Atoi(line[1:])
			wanted = err == nil && slices.Contains(pids, pid)
		case wanted && strings.HasPrefix(line, "n"):
			if port, ok := portOf(line[1:]); ok {
				ports = append(ports, port)
			}
		}
	}
	return sorted(ports)
}

// portsOfSockstat parses the output of sockstat(1): user, command, process, descriptor, protocol, local and foreign address. The
// columns are counted from the protocol because a command may contain blanks.
func portsOfSockstat(text string, pids []int) (ports []int) {
	for line := range strings.Lines(text) {
		fields := strings.Fields(line)
		protocol := slices.IndexFunc(fields, func(f string) bool { return f == "tcp" || f == "tcp4" || f == "tcp6" || f == "tcp46" })
		if protocol < 2 || protocol+1 >= len(fields) {
			continue
		}
		pid, err := strconv.Atoi(fields[protocol-2])
		if err != nil || !slices.Contains(pids, pid) {
			continue
		}
		address := fields[protocol+1]
		if dot := strings.LastIndexByte(address, '.'); !strings.Contains(address, ":") && dot > 0 { // NetBSD: 127.0.0.1.8080
			address = address[:dot] + ":" + address[dot+1:]
		}
		if port, ok := portOf(address); ok {
			ports = append(ports, port)
		}
	}
	return sorted(ports)
}
