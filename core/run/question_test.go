package run

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/core/plan"
	"tidytally/core/survey"
	"tidytally/core/task"
	"tidytally/internal/testtree"
)

// make and ninja say themselves whether there is something to do; a broken build file is not known.
func TestBuildToolsAreAsked(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		tool     string
		question task.Question
		file     string
		text     string
		broken   string
	}{
		{"make", task.Question{Command: task.Command{Argv: []string{"make", "--question", "out"}}}, "Makefile", "out: in\n\tcp in out\n", "out: in nowhere\n"},
		{"ninja", task.Question{Command: task.Command{Argv: []string{"ninja", "-n", "out"}}, Idle: "ninja: no work to do."}, "build.ninja", "rule copy\n  command = cp $in $out\nbuild out: copy in\n", "rule\n"},
	} {
		if _, err := exec.LookPath(c.tool); err != nil {
			continue
		}
		s := with(t, "[task.build]\nrun = [\""+c.tool+"\"]\n", Options{})
		testtree.Fill(t, s.root, map[string]string{c.file: c.text, "in": "1"})
		build := *s.tasks[0]
		build.Question = c.question
		ask := func() plan.Outlook {
			o, asks := s.super.ctx.Question(context.Background(), &build, time.Time{})
			if !asks {
				t.Fatalf("%s cannot be asked", c.tool)
			}
			return o
		}
		if o := ask(); o.State != plan.Needed || o.From != plan.FromTool {
			t.Errorf("%s, nothing built: %+v", c.tool, o)
		}
		s.finish(s.start("build"))
		if o := ask(); o.State != plan.Fresh {
			t.Errorf("%s, all built: %+v", c.tool, o)
		}
		s.write(c.file, c.broken)
		if o := ask(); o.State != plan.Unknown || !strings.Contains(strings.Join(o.Why, ""), c.tool) {
			t.Errorf("%s, broken: %+v", c.tool, o)
		}
	}
	s := with(t, "[task.other]\nrun = \"true\"\n", Options{})
	if _, asks := s.super.ctx.Question(context.Background(), s.tasks[0], time.Time{}); asks {
		t.Error("a command of one's own was asked")
	}
}

// go list tells which files a module's build reads; their times, and those of their folders, are compared with
// the last good run.
func TestFilesOfAModule(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("go"); err != nil {
		t.Skip(err)
	}
	s := with(t, "[task.build]\nrun = [\"go\", \"build\", \"./...\"]\n", Options{})
	testtree.Fill(t, s.root, map[string]string{"go.mod": "module kiln\n\ngo 1.24\n", "a.go": "package kiln\n", "sub/b.go": "package sub\n", "notes.txt": ""})
	found, err := survey.Of(s.root)
	if err != nil {
		t.Fatal(err)
	}
	build, err := task.Find(found.Tasks, "go.mod#build")
	if err != nil {
		t.Fatal(err)
	}
	ask := func(good time.Time) plan.Outlook {
		o, asks := s.super.ctx.Question(context.Background(), build, good)
		if !asks {
			t.Fatal("go cannot be asked")
		}
		return o
	}
	later := time.Now().Add(time.Minute)
	if o := ask(time.Time{}); o.State != plan.Needed {
		t.Errorf("never run: %+v", o)
	}
	if o := ask(later); o.State != plan.Fresh {
		t.Errorf("nothing changed: %+v", o)
	}
	at := later.Add(time.Minute)
	if err := os.Chtimes(filepath.Join(s.root, "sub/b.go"), at, at); err != nil {
		t.Fatal(err)
	}
	if o := ask(later); o.State != plan.Needed || strings.Join(o.Why, "") != "sub/b.go changed" {
		t.Errorf("a file changed: %+v", o)
	}
}
