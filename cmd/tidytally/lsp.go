package main

import (
	"os"

	"github.com/spf13/cobra"

	"tidytally/lsp"
)

func newLSP() *cobra.Command {
	return &cobra.Command{
		Use:   "lsp",
		Short: "Serve an editor by the Language Server Protocol",
		Long: `Serve an editor by the Language Server Protocol (3.17) on standard input and output: the problems of runs
as diagnostics, tasks where they are declared, and help with tally files. An editor starts it; docs/editors.md tells how.`,
		Args: takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			if code := lsp.Serve(os.Stdin, taskOutput, version()); code != 0 {
				return &codeError{code: code}
			}
			return nil
		},
	}
}
