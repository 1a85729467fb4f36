package system

// Listening returns the TCP ports on which processes listen, the lowest first, by sockstat(1).
func Listening(pids []int) []int {
	if len(pids) == 0 {
		return nil
	}
	return portsOfSockstat(said("/usr/bin/sockstat", "-46ln", "-p", "tcp"), pids)
}
