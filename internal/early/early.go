// Package early is initialized before any other package that is not the standard library's:
// packages are initialized in the order of their import paths, as far as their imports allow
// (Go 1.21 release notes, "Package initialization order"). That is why it is in a module of
// its own, with this name, and the package keeper with it.
//
// One library asks the terminal multiplexer for its colours while it is initialized: it
// executes what is called tmux on the path, at each start of the program, for --help too. It
// does so only if TMUX is set, which this package prevents.
package early

import "syscall"

const variable = "TMUX"

var value, set = syscall.Getenv(variable)

func init() {
	_ = syscall.Unsetenv(variable) // fails for names that are wrong
}

// Restore gives the environment back what was taken from it. It is called first thing in
// main, before anything is started that inherits the environment.
func Restore() {
	if set {
		_ = syscall.Setenv(variable, value)
	}
}
