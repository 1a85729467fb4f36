package system

// Kernel sources, arch/x86/entry/syscalls/syscall_64.tbl.
var waitingCalls = calls{"0", []string{"7", "23", "232", "270", "271", "281"}}
