package system

// Kernel sources, arch/arm/tools/syscall.tbl.
var waitingCalls = calls{"3", []string{"142", "168", "252", "335", "336", "346", "413", "414"}}
