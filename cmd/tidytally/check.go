package main

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tidytally/core/files"
	"tidytally/core/learn"
	"tidytally/core/sieve"
	"tidytally/core/sift"
	"tidytally/core/survey"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

func newCheck() *cobra.Command {
	var name, sample, reads string
	c := &cobra.Command{
		Use:   "check [FILE…]",
		Short: "Check tally files",
		Long: `Check the tally files of the workspace, or those given. What is wrong is printed with its place; the exit code is then 1.
It prints what [teach] tables find. With --sample, a [sieve] is tried on a file of output, line by line.
With --reads, what a task declares that it reads and makes is compared with what a watched run of it did:`,
		Example: `  tidytally check --sieve kilnsim --sample kiln.log
  tidytally run build --learn && tidytally check --reads build`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if sample != "" {
				return trySieve(args, name, sample)
			}
			if reads != "" {
				return checkReads(reads)
			}
			s, err := surveyHere()
			if err != nil {
				return err
			}
			faults, taught := tallyFaults(s), s.Taught
			if len(args) > 0 {
				faults, taught = nil, nil
			}
			for _, name := range args {
				data, err := readNamed(name)
				if err != nil {
					return &codeError{exitUsage, err}
				}
				f := tallyfile.Parse(filepath.ToSlash(name), data)
				found := f.Faults
				if own, ok := s.InTallyFile(name); ok {
					found = own // with what is wrong in the workspace's view
				}
				for _, t := range s.Taught {
					for _, own := range f.Teaches {
						if own.Name == t.Teach {
							taught = append(taught, t)
						}
					}
				}
				faults = append(faults, found...)
			}
			for _, f := range faults {
				printFault(f)
			}
			for _, t := range taught {
				line(stderr, "teach %s: %s gives %s", t.Teach, t.File, cmp.Or(strings.Join(t.Tasks, ", "), "no task"))
			}
			if len(faults) > 0 {
				return &codeError{code: exitFound}
			}
			return nil
		},
	}
	c.Flags().StringVar(&sample, "sample", "", "try a sieve on a `FILE` of output")
	c.Flags().StringVar(&name, "sieve", "", "the `NAME` of the sieve to try, where there are several")
	c.Flags().StringVar(&reads, "reads", "", "compare what the task `ID` declares that it reads and makes with its last watched run")
	_ = c.RegisterFlagCompletionFunc("reads", completeID) // the flag is there
	return c
}

// readNamed reads a file that the call names. The error names it.
func readNamed(name string) ([]byte, error) {
	data, err := files.Read(name, files.Limit)
	var refused *files.Refused
	if errors.As(err, &refused) {
		err = fmt.Errorf("%s %w", name, err)
	}
	return data, err
}

// checkReads compares what a task declares with what its last watched run read and made.
func checkReads(id string) error {
	s, t, err := taskHere(id)
	if err != nil {
		return err
	}
	k := learnedHere(s.Root)[t.ID()][learn.Watched]
	switch {
	case k == nil:
		return usageError("%s was not watched yet: tidytally run %s --learn", t.ShownID(), task.Quote(t.ShownID()))
	case k.Never != "":
		line(stderr, "of the watched run: %s", k.Never)
	}
	faults := s.Undeclared(t, k)
	for _, f := range faults {
		printFault(f)
	}
	if len(faults) > 0 {
		return &codeError{code: exitFound}
	}
	line(stderr, "%s reads and makes what it declares", t.ShownID())
	return nil
}

// trySieve prints what each line of a sample matches.
func trySieve(files []string, name, sample string) error {
	here, err := os.Getwd()
	if err != nil {
		return &codeError{exitOwn, err}
	}
	sieves := survey.SievesFor(here)
	if len(files) > 0 {
		sieves = nil
	}
	for _, f := range files {
		data, err := readNamed(f)
		if err != nil {
			return &codeError{exitUsage, err}
		}
		parsed := tallyfile.Parse(filepath.ToSlash(f), data)
		for _, fault := range parsed.Faults {
			printFault(fault)
		}
		sieves = append(sieves, parsed.Sieves...)
	}
	var chosen *tallyfile.Sieve
	var names []string
	for i := range sieves {
		names = append(names, sieves[i].Name)
		if sieves[i].Name == name || name == "" && len(sieves) == 1 {
			chosen = &sieves[i]
		}
	}
	if chosen == nil {
		return usageError("--sieve %s: choose one of: %s", name, strings.Join(names, ", "))
	}
	data, err := readNamed(sample)
	if err != nil {
		return &codeError{exitUsage, err}
	}
	lines, problems := sieve.Try(sift.Rules(*chosen), data)
	for i, l := range lines {
		took := "-"
		if l.Rule > 0 {
			took = fmt.Sprintf("line %d", l.Rule)
		}
		var groups []string
		for _, g := range l.Groups {
			groups = append(groups, g.Name+"="+task.Quote(l.Text[g.Start:g.End]))
		}
		line(stdout, "%5d  %-7s %s", i+1, took, l.Text)
		if len(groups) > 0 {
			line(stdout, "%15s%s", "", strings.Join(groups, "  "))
		}
	}
	for _, p := range problems {
		line(stdout, "%s", p.GNU())
	}
	return nil
}

// printFault prints a fault as a compiler prints an error.
func printFault(f task.Fault) { line(stdout, "%s", strings.Replace(f.String(), ": ", ": error: ", 1)) }

// tallyFaults returns the faults of a survey that are in tally files.
func tallyFaults(s *survey.Survey) (faults []task.Fault) {
	for _, f := range s.Faults {
		if filepath.Base(f.File) == workspace.TallyFile {
			faults = append(faults, f)
		}
	}
	return faults
}

func absFile(name string) (string, error) {
	abs, err := filepath.Abs(name)
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(abs); err != nil {
		return "", err
	}
	return abs, nil
}
