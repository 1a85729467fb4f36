package main

import (
	"github.com/spf13/cobra"

	"tidytally/core/run"
)

func newResume() *cobra.Command {
	return &cobra.Command{
		Use:   "resume",
		Short: "Take up what batch systems have run since Tidy Tally ended",
		Long: `Take up the jobs that went on at a batch system when the Tidy Tally that had begun them ended, and follow them to their end, as run does.
What has ended by now is taken into the history.`,
		Args: takes(0, 0, "nothing"),
		RunE: func(*cobra.Command, []string) error {
			c, err := newConductor(&runFlags{}, "", true, nil)
			if err != nil {
				return err
			}
			defer c.session.Close()
			c.woven.Store(true)
			code, err := c.conduct(func() ([]*run.Job, error) {
				jobs, err := c.session.TakeUp()
				switch {
				case err != nil:
					line(stderr, "%v", err)
				case len(jobs) == 0:
					line(stderr, "nothing goes on at a batch system")
				}
				return jobs, nil
			})
			if err == nil && code != 0 {
				err = &codeError{code: code}
			}
			return err
		},
	}
}
