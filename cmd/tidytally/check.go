package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tidytally/core/survey"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

func newCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check [FILE…]",
		Short: "Check tally files",
		Long:  "Check the tally files of the workspace, or those given. What is wrong is printed with its place; the exit code is then 1.",
		RunE: func(cmd *cobra.Command, args []string) error {
			var faults []task.Fault
			if len(args) == 0 {
				s, err := surveyHere()
				if err != nil {
					return err
				}
				faults = tallyFaults(s)
			}
			for _, name := range args {
				data, err := os.ReadFile(name)
				if err != nil {
					return &codeError{exitUsage, err}
				}
				faults = append(faults, tallyfile.Parse(filepath.ToSlash(name), data).Faults...)
			}
			for _, f := range faults {
				fmt.Println(clean(strings.Replace(f.String(), ": ", ": error: ", 1)))
			}
			if len(faults) > 0 {
				return &codeError{code: exitFound}
			}
			return nil
		},
	}
}

// tallyFaults are the faults of a survey that stand in tally files.
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
