// Package system tells what the standard library does not about processes, sockets and memory. On Linux it reads proc(5); on other
// systems it runs ps(1) and the system's list of sockets. An answer is empty if the system does not know it. The package is in this
// module because keepers need it before other packages are initialized.
package system

// Process is an entry in the system's table of processes.
type Process struct {
	PID, Parent, Group int
	Dead               bool   // it has ended, and its parent has not waited for it
	Name               string // of its program
}
