package run

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"tidytally/core/problem"
)

// A run checks the files that it names or has problems in; a step that it did not come
// to, and what it was stopped before, it does not.
func TestReach(t *testing.T) {
	t.Parallel()
	scripts := map[string]string{
		"echoes":     "echo 'gcc -Wall -c core/coil.c -o build/coil.o'; echo '  CC      net/heat.o'",
		"folders":    "echo \"make[1]: Entering directory '$PWD/core'\"; echo 'cc -c coil.c'; echo \"make[1]: Leaving directory '$PWD/core'\"; echo 'cc -c heat.c'",
		"cmake":      "echo '[ 50%] Building C object CMakeFiles/kiln.dir/src/coil.c.o'; exit 1",
		"silent":     "true",
		"fails":      "echo 'a.py:3:1: E302 expected 2 blank lines'; exit 1",
		"failslater": "echo 'src/i.ts(1,2): error TS2304: Cannot find name x.'; exit 2",
		"stopped":    "echo 'cc -c core/coil.c'; echo 'src/i.ts(1,2): error TS2304: x'; sleep 60",
	}
	toml := "[task.compiler]\nrun = \"true core/coil.c\"\n"
	for name := range scripts {
		toml += fmt.Sprintf("[task.%s]\nrun = [\"sh\", \"%s\"]\n", name, name)
	}
	of := func(family, file string, severity problem.Severity) problem.Problem {
		return problem.Problem{Family: family, Severity: severity, Place: problem.Place{File: file, Line: 3}}
	}
	coil, heat := of("gnu", "core/coil.c", problem.Warning), of("gnu", "net/heat.c", problem.Warning)
	twin := of("gnu", "net/coil.c", problem.Warning)
	header := of("gnu", "core/coil.h", problem.Warning)
	header.Related = []problem.Related{{Place: problem.Place{File: "core/coil.c"}, Message: "included from here"}}
	style, typed := of("pycheck", "b.py", problem.Warning), of("tsc", "src/j.ts", problem.Error)
	broken := of("gnu", "net/heat.c", problem.Error)
	deleted := of("gnu", "core/never.c", problem.Warning)
	for _, c := range []struct {
		task  string
		p     problem.Problem
		since time.Duration // before now
		want  bool
	}{
		{"echoes", coil, 0, true},
		{"echoes", header, 0, true},
		{"echoes", heat, 0, true},
		{"echoes", of("gnu", "core/other.c", problem.Warning), 0, false},
		{"folders", coil, 0, true},
		{"folders", heat, 0, false},
		{"cmake", of("gnu", "src/coil.c", problem.Warning), 0, true},
		{"cmake", heat, 0, false},
		{"compiler", coil, 0, true},
		{"compiler", twin, 0, false},
		{"silent", coil, 0, false},
		{"silent", coil, time.Hour, true}, // edited since
		{"silent", broken, 0, true},       // what succeeds has no errors
		{"silent", style, 0, true},        // all steps ran
		{"silent", deleted, 0, true},
		{"fails", style, 0, true}, // the same tool spoke
		{"fails", typed, 0, false},
		{"fails", broken, 0, false},
		{"failslater", typed, 0, true},
		{"failslater", style, 0, false},
		{"stopped", coil, 0, false},
		{"stopped", typed, 0, false},
	} {
		s := with(t, toml, Options{})
		for _, name := range []string{"core/coil.c", "core/coil.h", "core/other.c", "net/heat.c", "net/coil.c", "src/coil.c", "src/j.ts", "b.py"} {
			file := filepath.Join(s.root, name)
			if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(file, nil, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		for name, script := range scripts {
			if err := os.WriteFile(filepath.Join(s.root, name), []byte(script), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		j := s.start(c.task)
		if c.task == "stopped" {
			eventually(t, "its words", func() bool { return len(j.Main.Snapshot().Problems) > 0 })
			if j.Main.Reach(time.Time{}).Checked(&c.p) {
				t.Errorf("%s: %s is gone while it runs", c.task, c.p.File)
			}
			j.Main.Stop()
		}
		s.finish(j)
		since := time.Now().Add(time.Minute)
		if c.since > 0 {
			since = time.Now().Add(-c.since)
		}
		if got := j.Main.Reach(since).Checked(&c.p); got != c.want {
			t.Errorf("%s: %s of %s is checked: %v", c.task, c.p.File, c.p.Family, got)
		}
	}
}

// A file that was edited between two runs was built by the second; one that is edited
// afterwards says nothing of it, however late one asks.
func TestEditedAfterTheRun(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.build]\nrun = \"true\"\n", Options{})
	file := filepath.Join(s.root, "a.c")
	if err := os.WriteFile(file, []byte("int x;\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	j := s.start("build")
	s.finish(j)
	started := j.Main.Snapshot().Started
	p := problem.Problem{Family: "gnu", Severity: problem.Warning, Message: "x"}
	p.File, p.Line = "a.c", 1
	for _, c := range []struct {
		edited time.Duration // after the start of the run
		want   bool
	}{{-time.Minute, true}, {time.Minute, false}, {-2 * time.Hour, false}} {
		at := started.Add(c.edited)
		if err := os.Chtimes(file, at, at); err != nil {
			t.Fatal(err)
		}
		if got := j.Main.Reach(started.Add(-time.Hour)).Checked(&p); got != c.want {
			t.Errorf("edited %s after its start: checked %v", c.edited, got)
		}
	}
}
