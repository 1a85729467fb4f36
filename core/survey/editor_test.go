package survey

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write what was understood of the editors' files anew")

// understood writes what a survey says of its tasks, a value a line.
func understood(s *Survey) string {
	var b strings.Builder
	for _, t := range s.Tasks {
		for _, v := range s.Values(t) {
			fmt.Fprintf(&b, "%-14s  %-50s  %s\n", v.Field, v.Text, v.Origin)
		}
		b.WriteByte('\n')
	}
	for _, f := range s.Faults {
		fmt.Fprintln(&b, "fault", f)
	}
	for _, sieve := range s.Tally.Sieves {
		for _, l := range sieve.Lines {
			fmt.Fprintf(&b, "sieve %s: %s\n", sieve.Name, l.Match)
		}
	}
	return b.String()
}

// The task files of twelve editors that do not exist, each of another shape. What is
// understood of each stands beside it; -update writes it again, and then it must be
// read.
func TestTaskFilesOfEditorsAreUnderstood(t *testing.T) {
	t.Parallel()
	folders, err := filepath.Glob("../reader/editorfile/testdata/editors/*")
	if err != nil || len(folders) < 12 {
		t.Fatalf("%v, %d editors", err, len(folders))
	}
	for _, dir := range folders {
		want := filepath.Join(dir, "understood.txt")
		abs, err := filepath.Abs(dir)
		if err != nil {
			t.Fatal(err)
		}
		s, err := Of(abs)
		if err != nil {
			t.Fatal(err)
		}
		got := understood(s)
		if *update {
			if err := os.WriteFile(want, []byte(got), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		text, err := os.ReadFile(want)
		if err != nil || string(text) != got {
			t.Errorf("%s: %v, understood is\n%s", dir, err, got)
		}
	}
}

func TestFilesOfOtherPurposesGiveNoTask(t *testing.T) {
	t.Parallel()
	abs, err := filepath.Abs("../reader/editorfile/testdata/other")
	if err != nil {
		t.Fatal(err)
	}
	s, err := Of(abs)
	if err != nil {
		t.Fatal(err)
	}
	if s.Files < 22 {
		t.Fatalf("only %d files", s.Files)
	}
	for _, task := range s.Tasks {
		t.Errorf("%s: %s", task.ID(), task.Command)
	}
	for _, f := range s.Faults {
		t.Errorf("fault %s", f)
	}
}
