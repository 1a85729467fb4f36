package system

// Kernel sources, arch/x86/entry/syscalls/syscall_32.tbl.
var waitingCalls = calls{"3", []string{"82", "142", "168", "256", "308", "309", "319", "413", "414"}}
