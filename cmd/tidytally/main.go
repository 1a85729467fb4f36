// Command tidytally finds the tasks of a workspace, runs them and tallies the
// problems they print.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"syscall"

	"github.com/spf13/cobra"

	"tidytally/core/printable"
	"tidytally/core/tallyfile"
)

// Exit codes of every subcommand but run, which passes the task's own code on.
const (
	exitFound = 1   // the work was done and found something wrong
	exitUsage = 2   // the call or a tally file is wrong
	exitOwn   = 125 // the tool itself failed
)

// codeError is an error with the exit code it ends the program with.
type codeError struct {
	code int
	err  error // nil when all has been said
}

func (e *codeError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *codeError) Unwrap() error { return e.err }

func usageError(format string, args ...any) error {
	return &codeError{exitUsage, fmt.Errorf(format, args...)}
}

func main() {
	root := newRoot()
	err := root.ExecuteContext(context.Background())
	if err == nil {
		return
	}
	code := exitUsage // cobra's own errors are about the call
	var coded *codeError
	if errors.As(err, &coded) {
		code = coded.code
	}
	if text := err.Error(); text != "" {
		fmt.Fprintln(os.Stderr, "tidytally: "+text)
	}
	os.Exit(code)
}

func newRoot() *cobra.Command {
	root := &cobra.Command{
		Use:           "tidytally",
		SilenceErrors: true,
		SilenceUsage:  true,
	}
	root.AddCommand(newList(), newShow(), newRun(), newSift(), newCheck(), newDemo(), newSchema(tallyfile.WriteSchema))
	return root
}

// clean keeps control sequences of a workspace or a process off the terminal.
func clean(s string) string { return printable.Text(s) }

// quietPipe takes the closing of our output's reader as the end it is.
func quietPipe(err error) error {
	if errors.Is(err, syscall.EPIPE) {
		return nil
	}
	if err != nil {
		return &codeError{exitOwn, err}
	}
	return nil
}

func open(root, file string) error { return nil }
