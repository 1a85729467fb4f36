package run

import (
	"encoding/json"
	"strings"
	"testing"

	"tidytally/core/plan"
	"tidytally/core/task"
)

// Environment files give variables that a process takes, or an error with the line.
func FuzzVariables(f *testing.F) {
	f.Add("# of the kiln\nexport A=1\nB = 'two words'\nC=\"x\"\n\nD=")
	f.Add("=x")
	f.Add("A")
	f.Add("A=\x00")
	f.Fuzz(func(t *testing.T, text string) {
		env, err := variablesIn(".env", text)
		if err != nil {
			if !strings.HasPrefix(err.Error(), ".env:") {
				t.Fatalf("%q: %v", text, err)
			}
			return
		}
		for _, v := range env {
			if name, _, ok := strings.Cut(v, "="); !ok || name == "" || strings.ContainsAny(v, "\x00\n") {
				t.Fatalf("%q gives %q", text, v)
			}
		}
	})
}

// The note of a job that a batch system has is whole, or refused: whatever stands there, taking it up does not fail later.
func FuzzNote(f *testing.F) {
	whole, err := json.Marshal(note{&plan.Plan{Task: &task.Task{Name: "all"}, Steps: []plan.Step{{Task: &task.Task{Name: "one"}, Role: plan.Before}, {Task: &task.Task{Name: "all"}, Role: plan.Main, After: []int{0}}}, Main: 1}, []string{"x"}})
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole)
	f.Add([]byte(`{"plan": {"Steps": [{}], "Main": 0}}`))
	f.Add([]byte(`{"plan": {"Steps": [{"Task": {}, "After": [7]}], "Main": 0}}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		n, err := readNote(text)
		if err != nil {
			return
		}
		s, err := NewSupervisor(Context{Root: t.TempDir()}, Options{})
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		j, err := s.assemble(n.Plan, n.Args)
		if err != nil {
			return
		}
		for i := range j.Steps {
			for _, k := range n.Plan.Steps[i].After {
				_ = j.bothHanded(i, k)
			}
		}
	})
}
