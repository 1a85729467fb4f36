package run_test

import (
	"fmt"
	"os"

	"tidytally/core/output"
	"tidytally/core/run"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// A supervisor runs tasks and watches over them; Close stops all that they started.
func Example() {
	root, err := os.MkdirTemp("", "emberclay-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(root)
	super, err := run.NewSupervisor(run.Context{Root: root, Tally: &tallyfile.Merged{}}, run.Options{})
	if err != nil {
		panic(err)
	}
	defer super.Close()
	t := &task.Task{Name: "check", File: "tidytally.toml", Dir: ".", Command: task.Command{Shell: "echo 'coil.c:9:1: error: no coil'; exit 3"}}
	job, err := super.Start([]*task.Task{t}, t, nil)
	if err != nil {
		panic(err)
	}
	<-job.Done()
	s := job.Main.Snapshot()
	fmt.Println(s.Words())
	for _, p := range s.Problems {
		fmt.Println(p.GNU())
	}
	job.Main.Output(func(x *output.Index) { fmt.Println(x.Line(0).Plain) })
	// Output:
	// failed (3)
	// coil.c:9:1: error: no coil
	// coil.c:9:1: error: no coil
}
