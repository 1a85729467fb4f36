package system

// Listening returns the TCP ports on which processes listen, the lowest first, by lsof(8).
func Listening(pids []int) []int {
	if len(pids) == 0 {
		return nil
	}
	return portsOfLsof(said("/usr/sbin/lsof", "-nP", "-a", "-iTCP", "-sTCP:LISTEN", "-Fpn"), pids)
}
