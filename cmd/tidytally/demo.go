package main

import (
	"fmt"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"tidytally/core/output"
	"tidytally/core/workspace"
	"tidytally/demo"
)

func newDemo() *cobra.Command {
	var dir string
	var tour, week bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Lay out the emberclay workspace and open it",
		Args:  takes(0, 0, ""),
		RunE: func(cmd *cobra.Command, args []string) error {
			at := dir
			if at == "" {
				tmp, err := output.NewFolder("tidytally-demo-")
				if err != nil {
					return &codeError{exitOwn, err}
				}
				defer tmp.Remove()
				at = filepath.Join(tmp.Path(), "emberclay")
			}
			if err := demo.Lay(at); err != nil {
				return &codeError{exitUsage, err}
			}
			root, err := workspace.Root(at)
			if err != nil {
				return &codeError{exitOwn, err}
			}
			if tour {
				if err := demo.Tour(stdout, root); err != nil {
					return &codeError{exitFound, fmt.Errorf("tour: %w", err)}
				}
				return nil
			}
			if week {
				store, err := openHistory(root)
				if err != nil {
					return err
				}
				err = demo.Week(store, root, time.Now())
				store.Close()
				if err != nil {
					return &codeError{exitOwn, err}
				}
			}
			return open(root, "")
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "lay it out in `D` and leave it there")
	c.Flags().BoolVar(&week, "history", false, "with a week of made-up runs")
	c.Flags().BoolVar(&tour, "tour", false, "run a full example without a terminal")
	return c
}
