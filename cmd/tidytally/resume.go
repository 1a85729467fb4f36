package main

import (
	"os"

	"github.com/spf13/cobra"

	"tidytally/core/keep"
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
			how := &runFlags{history: openBeside()}
			s, err := surveyHere()
			if err != nil {
				return err
			}
			ctx, err := runContext(s, "")
			if err != nil {
				return err
			}
			kept, _ := keep.Load(s.Root) // without it nothing is known of earlier runs
			keys := &keyboard{in: int(os.Stdin.Fd())}
			code, err := conduct(s, ctx, run.Options{Stdin: os.Stdin, Once: true}, how, keys, true, kept, func(super *run.Supervisor) ([]*run.Job, error) {
				jobs, err := super.TakeUp()
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
