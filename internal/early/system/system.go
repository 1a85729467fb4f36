// Package system asks the operating system what the standard library does not: about processes, their files and their memory.
// The file proc_linux.go answers on Linux by proc(5); ps.go answers elsewhere by ps(1), as POSIX has it, and by what lists the
// sockets of the system. Each answer is less where the system does not know: an empty list, or "". It is in this module because
// keepers need it before other packages are initialized.
package system

// Process is what is known of a process.
type Process struct {
	PID, Parent, Group int
	Dead               bool   // and not waited for yet
	Name               string // of its program
}
