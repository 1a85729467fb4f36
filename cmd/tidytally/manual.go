package main

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
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
			for _, c := range append([]*cobra.Command{root}, root.Commands()...) {
				if !c.IsAvailableCommand() && c != root {
					continue
				}
				if err := os.WriteFile(filepath.Join(args[0], pageName(c)+".1"), manual(c), 0o644); err != nil {
					return &codeError{exitOwn, err}
				}
			}
			return nil
		},
	}
}

func pageName(c *cobra.Command) string { return strings.ReplaceAll(c.CommandPath(), " ", "-") }

// manual is the page of a command, for man(7). A library that makes such pages from Markdown takes a millisecond of every start.
func manual(c *cobra.Command) []byte {
	var b bytes.Buffer
	at := builtFrom()
	if at.IsZero() {
		at = time.Now()
	}
	fmt.Fprintf(&b, ".TH %s 1 %s \"Tidy Tally\" \"Tidy Tally\"\n", strings.ToUpper(pageName(c)), at.Format(time.DateOnly))
	fmt.Fprintf(&b, ".SH NAME\n%s \\- %s\n.SH SYNOPSIS\n.B %s\n", roff(pageName(c)), roff(c.Short), roff(c.UseLine()))
	section := func(title, text string) {
		if text != "" {
			fmt.Fprintf(&b, ".SH %s\n%s\n", title, text)
		}
	}
	section("DESCRIPTION", roff(cmp.Or(c.Long, c.Short)))
	section("OPTIONS", flagsOf(c.NonInheritedFlags()))
	section("OPTIONS OF ALL COMMANDS", flagsOf(c.InheritedFlags()))
	if c.Example != "" {
		section("EXAMPLES", ".nf\n"+roff(c.Example)+"\n.fi")
	}
	var others []string
	if c.HasParent() {
		others = append(others, pageName(c.Parent()))
	}
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() {
			others = append(others, pageName(sub))
		}
	}
	for i, other := range others {
		others[i] = ".BR " + roff(other) + " (1)"
	}
	section("SEE ALSO", strings.Join(others, ",\n"))
	return b.Bytes()
}

// flagsOf are tagged paragraphs.
func flagsOf(flags *pflag.FlagSet) string {
	var all []string
	flags.VisitAll(func(f *pflag.Flag) {
		value, about := pflag.UnquoteUsage(f)
		name := "\\fB" + roff("--"+f.Name) + "\\fR"
		if f.Shorthand != "" {
			name = "\\fB" + roff("-"+f.Shorthand) + "\\fR, " + name
		}
		if value != "" {
			name += " \\fI" + roff(value) + "\\fR"
		}
		if d := f.DefValue; d != "" && d != "false" && d != "0" && d != "[]" {
			about += " (default: " + d + ")"
		}
		all = append(all, ".TP\n"+name+"\n"+roff(about))
	})
	return strings.Join(all, "\n")
}

// roff escapes a text for groff(7): backslashes and hyphens, and a point or quote at the beginning of a line, which would be a request.
func roff(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`, "\n.", "\n\\&.", "\n'", "\n\\&'").Replace(text)
	if strings.HasPrefix(text, ".") || strings.HasPrefix(text, "'") {
		text = `\&` + text
	}
	return text
}

// shells are those that completion is written for.
func shells(root *cobra.Command) map[string]func(io.Writer) error {
	return map[string]func(io.Writer) error{
		"bash": func(w io.Writer) error {
			if _, err := io.WriteString(w, bashWords); err != nil {
				return err
			}
			return root.GenBashCompletionV2(w, true)
		},
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
