// Command tidytally finds the tasks of a workspace, runs them and tallies the
// problems they print.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	early "a.early"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tidytally/core/tallyfile"
	"tidytally/core/workspace"
	"tidytally/tui"
)

// Exit codes of every subcommand. run passes the task's own code on instead.
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
	early.Restore()
	// Handling SIGPIPE turns a write to a closed pipe into an error, on which the
	// program ends quietly. Ignoring the signal would be inherited by tasks.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGPIPE)
	os.Exit(execute(os.Args[1:]))
}

// execute runs the command line and returns the exit code.
func execute(args []string) int {
	root := newRoot()
	root.SetArgs(withFilters(args))
	err := root.ExecuteContext(context.Background())
	if err == nil {
		return 0
	}
	code := exitUsage // cobra's own errors are about the call
	var coded *codeError
	if errors.As(err, &coded) {
		code = coded.code
	}
	if text := err.Error(); text != "" {
		fmt.Fprintf(stderr, "tidytally: %s\n", text)
	}
	return code
}

// withFilters puts the words of a filter that begin with a minus behind the flags of
// list, which they are not: list -clean --json.
func withFilters(args []string) []string {
	if len(args) == 0 || args[0] != "list" {
		return args
	}
	var flags, words []string
	for i, a := range args[1:] {
		switch {
		case a == "--":
			return slices.Concat([]string{"list"}, flags, []string{"--"}, words, args[i+2:])
		case strings.HasPrefix(a, "--") || a == "-h":
			flags = append(flags, a)
		default:
			words = append(words, a)
		}
	}
	return slices.Concat([]string{"list"}, flags, []string{"--"}, words)
}

func newRoot() *cobra.Command {
	var file string
	root := &cobra.Command{
		Use:   "tidytally [DIR]",
		Short: "Find the tasks of a workspace, run them and tally their problems",
		Long: `Tidy Tally finds every task that a workspace declares, runs them, and turns what
compilers print into problems with a place in the source.

Without a subcommand it opens its pages on the workspace of DIR, or of the current folder.`,
		Args:          cobra.MaximumNArgs(1),
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := "."
			if len(args) > 0 {
				dir = args[0]
			}
			root, err := workspace.Root(dir)
			if err != nil {
				return &codeError{exitUsage, err}
			}
			if file != "" {
				if file, err = absFile(file); err != nil {
					return &codeError{exitUsage, err}
				}
			}
			return open(root, file)
		},
	}
	root.Flags().StringVar(&file, "file", "", "the current `file`")
	root.SetOut(stdout)
	root.SetErr(stderr)
	root.AddCommand(newList(), newShow(), newPlan(), newRun(), newHistory(), newDraw(), newSift(), newCheck(), newDemo(), newSchema(tallyfile.WriteSchema))
	return root
}

// open shows the interface, which needs a terminal.
func open(root, file string) error {
	if !term.IsTerminal(int(os.Stdin.Fd())) || !term.IsTerminal(int(os.Stdout.Fd())) {
		return usageError("the pages need a terminal; without one use list, run, sift or demo --tour")
	}
	if err := tui.Open(root, file); err != nil {
		return &codeError{exitOwn, err}
	}
	return nil
}
