package run

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A task that runs after another one knows how that ended.
func TestAfterKnowsTheStatus(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.main]\nrun = \"exit 7\"\nafter = [\"#then\"]\n[task.then]\nrun = \"echo status $TIDYTALLY_STATUS\"\n", Options{})
	j := s.start("main")
	s.finish(j)
	<-j.Done()
	if got := outputOf(t, j.Steps[len(j.Steps)-1]); got != "status 7\n" {
		t.Errorf("it prints %q", got)
	}
}

// A task of the user's own shell knows what its start-up files set.
func TestLoginShell(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("SHELL", "/bin/bash")
	if err := os.WriteFile(filepath.Join(home, ".bash_profile"), []byte("alias fire='echo fired'\ncool() { echo \"cooled $1\"; }\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	s := with(t, "[task.own]\nrun = \"fire at 10; cool 'to 20'\"\nlogin = true\n[task.plain]\nrun = \"cool\"\n", Options{Terminal: true, Cols: 80, Rows: 24})
	j := s.start("own")
	if got := s.finish(j); got.Code != 0 {
		t.Errorf("exit %d", got.Code)
	}
	if got := strings.ReplaceAll(outputOf(t, j.Main), "\r\n", "\n"); got != "fired at 10\ncooled to 20\n" {
		t.Errorf("it prints %q", got)
	}
	if got := s.finish(s.start("plain")); got.Code != CodeNotFound {
		t.Errorf("without: exit %d", got.Code)
	}
}

// outputOf returns the output of a run.
func outputOf(t *testing.T, r *Run) string {
	t.Helper()
	data, err := os.ReadFile(r.Snapshot().Spool)
	if err != nil {
		t.Fatal(err)
	}
	return string(data)
}
