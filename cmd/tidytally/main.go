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

	"tidytally/core/crash"
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

// callError is a mistake in the call, with which the usage is shown.
type callError struct{ error }

func (e *codeError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *codeError) Unwrap() error { return e.err }

func usageError(format string, args ...any) error {
	return &codeError{exitUsage, callError{fmt.Errorf(format, args...)}}
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
	if wantsVersion(args) {
		fmt.Fprintf(stdout, "tidytally %s\n", version())
		return 0
	}
	root := newRoot()
	root.SetArgs(withFilters(args))
	crash.Listen(func(err error) { fmt.Fprintf(stderr, "tidytally: %v\n", err) })
	var called *cobra.Command
	var err error
	if fault := crash.Contain("the command", func() { called, err = root.ExecuteContextC(context.Background()) }); fault != nil {
		fmt.Fprintf(stderr, "tidytally: %v\n", fault)
		return exitOwn
	}
	remembering.Wait()
	if err == nil {
		return 0
	}
	code := exitUsage // cobra's own errors are about the call
	var coded *codeError
	var call callError
	if errors.As(err, &coded) {
		code = coded.code
	} else {
		call.error = err
	}
	if text := err.Error(); text != "" {
		fmt.Fprintf(stderr, "tidytally: %s\n", text)
	}
	if call.error != nil || errors.As(err, &call) {
		fmt.Fprintf(stderr, "usage: %s\n%s --help tells more\n", called.UseLine(), called.CommandPath())
	}
	return code
}

// withFilters puts the words of a filter that begin with a minus behind the flags of
// list, which they are not: list -clean --json.
func withFilters(args []string) []string {
	at := 0
	for at < len(args) && strings.HasPrefix(args[at], "-") {
		if valued[args[at]] {
			at++
		}
		at++
	}
	if at >= len(args) || args[at] != "list" {
		return args
	}
	flags, words := slices.Clone(args[:at+1]), []string(nil)
	rest := args[at+1:]
	for i := 0; i < len(rest); i++ {
		switch a := rest[i]; {
		case a == "--":
			return slices.Concat(flags, []string{"--"}, words, rest[i+1:])
		case valued[a] && i+1 < len(rest):
			flags = append(flags, a, rest[i+1])
			i++
		case strings.HasPrefix(a, "--") || a == "-h":
			flags = append(flags, a)
		default:
			words = append(words, a)
		}
	}
	return slices.Concat(flags, []string{"--"}, words)
}

// valued are the flags of every command whose value is the next word.
var valued = map[string]bool{"-C": true, "--directory": true, "--color": true, "--log": true}

func newRoot() *cobra.Command {
	var file string
	var all shared
	root := &cobra.Command{
		Use:   "tidytally [DIR]",
		Short: "Find the tasks of a workspace, run them and tally their problems",
		Long: `Tidy Tally finds every task that a workspace declares, runs them, and turns what
compilers print into problems with a place in the source.

Without a subcommand it opens its pages on the workspace of DIR, or of the current folder.`,
		Args:              cobra.ArbitraryArgs, // the first may be a command that there is not
		SilenceErrors:     true,
		SilenceUsage:      true,
		CompletionOptions: cobra.CompletionOptions{DisableDefaultCmd: true},
		PersistentPreRunE: all.apply,
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := "."
			if len(args) > 0 {
				dir = args[0]
				if err := knownFolder(cmd, dir); err != nil {
					return err
				}
			}
			if len(args) > 1 {
				return usageError("one workspace at a time, and %q was given too", args[1])
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
	all.add(root)
	root.SetOut(stdout)
	root.SetErr(stderr)
	root.SetFlagErrorFunc(badFlag)
	root.SetHelpCommand(newHelp(root))
	root.AddCommand(newList(), newShow(), newPlan(), newTouched(), newRun(), newResume(), newHistory(), newDraw(), newSift(), newCheck(), newNew(), newLSP(), newDemo(), newSchema(tallyfile.WriteSchema), newMan(root), newCompletion(root))
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
