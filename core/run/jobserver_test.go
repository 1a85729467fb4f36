package run

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/task"
)

func TestHowCommandsTakeJobs(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"make":                                  "",
		"make -j":                               "make",
		"make -j all -k":                        "make all -k",
		"make -kj -C part":                      "make -k -C part",
		"make -C job --jobs":                    "make -C job",
		"make -f j all":                         "",
		"make -j4":                              "own",
		"make -j 4 all":                         "own",
		"make --jobs=2":                         "own",
		"make -kj2":                             "own",
		"make all -- -j":                        "",
		"cmake --build out -j":                  "cmake --build out",
		"cmake --build out --parallel 3":        "own",
		"cmake --build out":                     "",
		"cmake --build out -- -j3":              "",
		"cmake -S . -B out -j":                  "",
		"cargo build":                           "cargo build",
		"cargo build -p jam --jobs 3":           "own",
		"cargo fmt":                             "",
		"ninja -C jobs":                         "ninja -C jobs",
		"ninja -j3":                             "own",
		"cd part && make -j all; echo '-j'":     "cd part && make all; echo '-j'",
		"make -j a && make  -j  b":              "make a && make  b",
		"make -j a && make -j2 b":               "own",
		"if true; then make -sj; fi":            "if true; then make -s; fi",
		"echo make -j":                          "",
		"make $(FLAGS) -j":                      "make $(FLAGS)",
		"make -j '":                             "",
		"FLAGS=-j make -j -C \"$dir\" \"a -j\"": "FLAGS=-j make -C \"$dir\" \"a -j\"",
	} {
		for _, c := range []task.Command{{Shell: text}, {Argv: strings.Fields(text)}} {
			if c.Shell == "" && strings.ContainsAny(text, "&;'\"$|") {
				continue
			}
			got, kind := pooled(c)
			word := got.String()
			switch kind {
			case ownJobs:
				word = "own"
			case noJobs:
				word = ""
			}
			if word != want {
				t.Errorf("%s: %q, want %q", text, word, want)
			}
		}
	}
}

// An older ninja gets its share behind its own name, wherever that stands.
func TestShareByNumber(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"ninja -C jobs":                        "ninja -j3 -C jobs",
		"cd my-ninja && ninja; echo ninja":     "cd my-ninja && ninja -j3; echo ninja",
		"ninja -t clean && /usr/bin/ninja all": "ninja -j3 -t clean && /usr/bin/ninja -j3 all",
	} {
		if got := withShare(task.Command{Shell: text}, "-j3").Shell; got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
	if got := withShare(task.Command{Argv: []string{"ninja", "all"}}, "-j3").String(); got != "ninja -j3 all" {
		t.Error(got)
	}
}

// work is a makefile of jobs that note when they begin and end.
const work = `all: a b c d e f
a b c d e f: ; @echo + >> ../log; sleep 0.1; echo - >> ../log
`

// most returns how many jobs ran at once at most, and how many ended.
func (s *setting) most() (most, ended int) {
	data, err := os.ReadFile(filepath.Join(s.root, "log"))
	if err != nil {
		s.t.Fatal(err)
	}
	now := 0
	for _, l := range strings.Fields(string(data)) {
		if l == "+" {
			now++
		} else {
			now--
			ended++
		}
		most = max(most, now)
	}
	return most, ended
}

// Several makes at once never run more jobs than there are slots, and use those that there
// are; one that is killed while it holds some takes none away; what was given back is used by
// the others.
func TestMakesShareABudget(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("make"); err != nil {
		t.Skip("make is not installed")
	}
	text := "[workspace]\nslots = 4\n"
	for i, form := range []string{`["make", "-j"]`, `"make -j -k"`, `"true && make --jobs all"`} {
		text += fmt.Sprintf("[task.m%d]\nrun = %s\nin = \"m%d\"\nenv = { MAKEFLAGS = \"\", MAKELEVEL = \"\" }\n", i, form, i)
	}
	text += "[task.all]\nbefore = [\"#m0\", \"#m1\", \"#m2\"]\n[task.hold]\nrun = [\"make\", \"-j\", \"hold\"]\nin = \"m0\"\nenv = { MAKEFLAGS = \"\" }\n"
	s := with(t, text, Options{})
	for i := range 3 {
		s.write(fmt.Sprintf("m%d/Makefile", i), work+"hold: h1 h2 h3 h4 h5\nh1 h2 h3 h4 h5: ; @echo $@; sleep 600\n")
	}
	// A make that holds all is stopped.
	hold := s.start("hold").Main
	eventually(t, "four jobs", func() bool {
		snap := hold.Snapshot()
		return snap.Spool != "" && strings.Count(printed(t, snap), "h") == 4
	})
	hold.Stop()
	<-hold.Done()

	j := s.start("all")
	if got := s.finish(j); got.State != OK {
		for _, r := range j.Steps {
			t.Errorf("%s: %s", says(r), printed(t, r.Snapshot()))
		}
	}
	if most, ended := s.most(); most < 3 || most > 4 || ended != 18 {
		t.Errorf("%d jobs at once, %d in all", most, ended)
	}
	for _, r := range j.Steps[:3] {
		if text := printed(t, r.Snapshot()); strings.Contains(text, "warning") {
			t.Errorf("make says %q", text)
		}
	}
	// The last one alone gets all that the others have given back.
	if err := os.Remove(filepath.Join(s.root, "log")); err != nil {
		t.Fatal(err)
	}
	s.write("m1/Makefile", strings.Replace(work, "sleep 0.1", "n=0; until [ $$(grep -c + ../log) -ge 4 ] || [ $$n = 300 ]; do sleep 0.1; n=$$((n+1)); done", 1))
	s.finish(s.start("m1"))
	if most, ended := s.most(); most != 4 || ended != 6 {
		t.Errorf("alone: %d jobs at once, %d in all", most, ended)
	}
	if free := s.super.slots.spare(9); free != 4 {
		t.Errorf("%d slots are free in the end", free)
	}
	if files, _ := filepath.Glob(filepath.Join(s.super.spools.Path(), "jobs-*")); len(files) > 0 {
		t.Errorf("left over: %v", files)
	}
}

// A task that waits for a slot comes before more jobs of a make that runs.
func TestTasksComeBeforeJobs(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("make"); err != nil {
		t.Skip("make is not installed")
	}
	s := with(t, `
[workspace]
slots = 3
[task.many]
run = ["make", "-j"]
env = { MAKEFLAGS = "" }
[task.one]
run = "echo one"
`, Options{})
	var jobs, rules strings.Builder
	for i := range 900 { // half a minute, so that on a busy machine, too, the task has many chances at a token
		fmt.Fprintf(&jobs, " j%d", i)
		fmt.Fprintf(&rules, "j%d: ; @echo $@; sleep 0.1\n", i)
	}
	s.write("Makefile", "all:"+jobs.String()+"\n"+rules.String())
	many := s.start("many").Main
	eventually(t, "some jobs", func() bool {
		snap := many.Snapshot()
		return snap.Spool != "" && strings.Count(printed(t, snap), "j") >= 3
	})
	one := s.start("one")
	if got := s.finish(one); got.State != OK || many.Snapshot().State != Running {
		t.Errorf("%s, while the make is %s", got.Words(), says(many))
	}
	many.Stop()
	<-many.Done()
}

// A client that takes tokens and stops, or writes more than it was given, harms nobody for
// longer than it runs.
func TestBadClients(t *testing.T) {
	s := with(t, `
[workspace]
slots = 3
[task.hoards]
run = ["cargo", "build"]
[task.floods]
run = ["cargo", "check"]
[task.one]
run = "echo one"
`, Options{})
	s.write("bin/cargo", `#!/bin/sh
case $1 in
build) dd bs=1 count=2 <&3 2>/dev/null >/dev/null; echo holds; kill -STOP $$;;
check) printf '++++++++++++++++' >&4; echo wrote; sleep 600;;
esac
`)
	if err := os.Chmod(filepath.Join(s.root, "bin/cargo"), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Setenv("PATH", filepath.Join(s.root, "bin")+":"+os.Getenv("PATH"))
	hoards := s.start("hoards").Main
	eventually(t, "the hoard", func() bool { snap := hoards.Snapshot(); return snap.Spool != "" && printed(t, snap) == "holds\n" })
	one := s.start("one")
	eventually(t, "the wait", func() bool { return says(one.Main) == "waits for a slot" })
	hoards.Stop()
	if got := s.finish(one); got.State != OK {
		t.Error(got.Words())
	}
	<-hoards.Done()
	floods := s.start("floods").Main
	eventually(t, "the flood", func() bool { snap := floods.Snapshot(); return snap.Spool != "" && printed(t, snap) == "wrote\n" })
	if got := s.finish(s.start("one")); got.State != OK {
		t.Error(got.Words())
	}
	floods.Stop()
	<-floods.Done()
	eventually(t, "the return of all slots", func() bool {
		n := s.super.slots.spare(9)
		s.super.slots.give(n)
		return n == 3
	})
}
