package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"
)

// newMan writes the manual pages, for packages.
func newMan(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:     "man DIR",
		Short:   "Write the manual pages into a folder",
		Long:    `Write a manual page for each command into a folder, which is made if it is not there.`,
		Example: `  tidytally man man/man1 && man ./man/man1/tidytally-run.1`,
		Args:    takes(1, 1, "the folder DIR"),
		RunE: func(_ *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return &codeError{exitUsage, err}
			}
			header := doc.GenManHeader{Section: "1", Source: "Tidy Tally", Manual: "Tidy Tally"}
			if at := builtFrom(); !at.IsZero() {
				header.Date = &at
			}
			root.DisableAutoGenTag = true
			if err := doc.GenManTree(root, &header, args[0]); err != nil {
				return &codeError{exitOwn, err}
			}
			return nil
		},
	}
}

// shells are those that completion is written for.
func shells(root *cobra.Command) map[string]func(io.Writer) error {
	return map[string]func(io.Writer) error{
		"bash": func(w io.Writer) error { return root.GenBashCompletionV2(w, true) },
		"zsh":  root.GenZshCompletion,
		"fish": func(w io.Writer) error { return root.GenFishCompletion(w, true) },
	}
}

func newCompletion(root *cobra.Command) *cobra.Command {
	of := shells(root)
	names := sortedKeys(of)
	return &cobra.Command{
		Use:   "completion SHELL",
		Short: "Print completion for a shell: bash, zsh or fish",
		Long:  `Print what a shell needs to complete commands, flags, task ids and arguments. The packages bring it along; else:`,
		Example: `  bash   tidytally completion bash > ~/.local/share/bash-completion/completions/tidytally
  zsh    tidytally completion zsh > ~/.zfunc/_tidytally        (with ~/.zfunc in $fpath)
  fish   tidytally completion fish > ~/.config/fish/completions/tidytally.fish`,
		Args:      takes(1, 1, "the name of a shell: "+strings.Join(names, ", ")),
		ValidArgs: names,
		RunE: func(_ *cobra.Command, args []string) error {
			write := of[filepath.Base(args[0])]
			if write == nil {
				return usageError("completion for %s is not known; there is: %s", args[0], strings.Join(names, ", "))
			}
			if err := write(stdout); err != nil {
				return quietPipe(fmt.Errorf("completion: %w", err))
			}
			return nil
		},
	}
}
