package run

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"tidytally/core/plan"
	"tidytally/core/task"
)

// gate makes pipes at which tasks wait, and returns how to open one.
func (s *setting) gate(names ...string) (open func(name string)) {
	s.t.Helper()
	for _, name := range names {
		if err := syscall.Mkfifo(filepath.Join(s.root, name), 0o600); err != nil {
			s.t.Fatal(err)
		}
	}
	return func(name string) {
		if err := os.WriteFile(filepath.Join(s.root, name), nil, 0o600); err != nil {
			s.t.Error(err)
		}
	}
}

// says returns how a run stands in words.
func says(r *Run) string {
	s := r.Snapshot()
	return s.Words()
}

// states lists the steps of a job with their states.
func states(j *Job) string {
	var out []string
	for _, r := range j.Steps {
		out = append(out, r.Prepared.Task.Name+" "+says(r))
	}
	return strings.Join(out, ", ")
}

const crossing = `
[workspace]
slots = 2
[task.a]
run = "cat a > /dev/null"
[task.b]
run = "cat b > /dev/null"
[task.c]
run = "cat c > /dev/null"
[task.ab]
run = "cat ab > /dev/null"
before = ["#a", "#b"]
[task.all]
run = "echo all"
before = ["#ab", "#c"]
`

// Steps run side by side as far as they need nothing of each other and slots are free; the
// others wait in the order of the plan.
func TestStepsRunSideBySide(t *testing.T) {
	t.Parallel()
	s := with(t, crossing, Options{})
	open := s.gate("a", "b", "c", "ab")
	j := s.start("all")
	for _, step := range []struct{ open, want string }{
		{"", "a running, b running, ab waits for tidytally.toml#a, c waits for a slot, all waits for tidytally.toml#ab"},
		{"b", "a running, b ok, ab waits for tidytally.toml#a, c running, all waits for tidytally.toml#ab"},
		{"a", "a ok, b ok, ab running, c running, all waits for tidytally.toml#ab"},
		{"c", "a ok, b ok, ab running, c ok, all waits for tidytally.toml#ab"},
		{"ab", "a ok, b ok, ab ok, c ok, all ok"},
	} {
		if step.open != "" {
			open(step.open)
		}
		eventually(t, step.want, func() bool { return states(j) == step.want })
	}
	s.finish(j)
}

// A task that a person starts waits for a slot too; it can be started beyond the budget, and
// stopped while it waits.
func TestWaitingForASlot(t *testing.T) {
	t.Parallel()
	s := with(t, crossing, Options{})
	open := s.gate("a", "b", "c", "ab")
	a, b, c, c2 := s.start("a"), s.start("b"), s.start("c"), s.start("c")
	eventually(t, "the wait", func() bool {
		return says(c.Main) == "waits for a slot" && says(c2.Main) == "waits for a slot"
	})
	if a.Main.Hurry() {
		t.Error("what runs was said to wait")
	}
	c2.Main.Stop()
	if got := s.finish(c2); got.State != Stopped || !got.Started.Equal(got.Ended) {
		t.Errorf("stopped while it waited: %s", got.Words())
	}
	if !c.Main.Hurry() {
		t.Error("it did not wait")
	}
	eventually(t, "the start beyond the budget", func() bool { return state(c.Main) == Running })
	late := s.start("c")
	open("a") // three run on two slots: none is free by this
	s.finish(a)
	eventually(t, "the wait", func() bool { return says(late.Main) == "waits for a slot" })
	open("b")
	s.finish(b)
	eventually(t, "its turn", func() bool { return state(late.Main) == Running })
	late.Main.Stop()
	c.Main.Stop()
	s.finish(late)
	s.finish(c)
	if used := s.super.slots.spare(9); used != 2 {
		t.Errorf("%d slots are free in the end", used)
	}
}

// A task that has partners and no command lasts as long as they do; one that fails or is
// stopped takes the others along.
func TestGroups(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.one]
run = "cat one > /dev/null"
[task.two]
run = "cat two > /dev/null"
[task.falls]
run = "cat falls; exit 3"
[task.dies]
run = "exit 4"
[task.stays]
run = "echo stays; sleep 600"
long_running = true
ready = "stays"
[task.ends]
with = ["#one", "#two"]
[task.fails]
with = ["#stays", "#falls"]
[task.dev]
with = ["#stays", "#one"]
[task.lost]
with = ["#stays"]
before = ["#dies"]
[task.outer]
run = "cat two"
with = ["#fails"]
`, Options{})
	open := s.gate("one", "two", "falls")
	j := s.start("ends")
	eventually(t, "all", func() bool { return states(j) == "one running, two running, ends running" })
	open("one")
	eventually(t, "one", func() bool { return states(j) == "one ok, two running, ends running" })
	open("two")
	if s.finish(j); states(j) != "one ok, two ok, ends ok" {
		t.Errorf("each ends well: %s", states(j))
	}

	j = s.start("fails")
	eventually(t, "all", func() bool { return states(j) == "stays up, falls running, fails running" })
	open("falls")
	if got := s.finish(j); states(j) != "stays stopped, falls failed (3), fails failed (3)" || got.Fault != "tidytally.toml#falls failed (3)" {
		t.Errorf("one fails: %s; %s", states(j), got.Fault)
	}

	for i, name := range []string{"dev", "stays", "one"} { // whichever is stopped
		j = s.start("dev")
		eventually(t, "all", func() bool { return states(j) == "stays up, one running, dev running" })
		j.Steps[[]int{2, 0, 1}[i]].Stop()
		if s.finish(j); states(j) != "stays stopped, one stopped, dev stopped" {
			t.Errorf("%s is stopped: %s", name, states(j))
		}
	}

	j = s.start("lost")
	if s.finish(j); states(j) != "dies failed (4), stays not run, lost not run" || j.Main.Snapshot().Blamed != "tidytally.toml#dies failed (4)" {
		t.Errorf("a step before fails: %s, %s", states(j), j.Main.Snapshot().Blamed)
	}

	j = s.start("outer")
	eventually(t, "all", func() bool { return states(j) == "stays up, falls running, fails running, outer running" })
	j.Main.Stop()
	if s.finish(j); states(j) != "stays stopped, falls stopped, fails stopped, outer stopped" {
		t.Errorf("a group beside another task: %s", states(j))
	}
}

// A step after another one gets its exit code, and runs even if that was never begun.
func TestAfterStepsOfSteps(t *testing.T) {
	t.Parallel()
	s := with(t, `
[task.seed]
run = "exit 5"
after = ["#sweep"]
[task.sweep]
run = "echo status $TIDYTALLY_STATUS"
[task.all]
run = "true"
before = ["#seed"]
after = ["#wipe"]
[task.wipe]
run = "echo wiped"
`, Options{})
	j := s.start("all")
	s.finish(j)
	if got := states(j); got != "seed failed (5), all not run, sweep ok, wipe ok" {
		t.Errorf("got %s", got)
	}
	for _, r := range j.Steps[2:] {
		if text := printed(t, r.Snapshot()); text != "status 5\n" && text != "wiped\n" {
			t.Errorf("%s printed %q", r.Prepared.Task.Name, text)
		}
	}
}

// A plan of many steps comes to its end, each step once.
func TestManySteps(t *testing.T) {
	t.Parallel()
	text := "[workspace]\nslots = 8\n"
	var names []string
	for i := range 60 {
		name := "t" + string(rune('a'+i/10)) + string(rune('0'+i%10))
		text += "[task." + name + "]\nrun = \"echo x >> " + name + ".log\"\n"
		if i >= 10 {
			text += "before = [\"#" + names[i-10] + "\", \"#" + names[i-7] + "\"]\n"
		}
		names = append(names, name)
	}
	text += "[task.all]\nbefore = [\"#" + strings.Join(names, "\", \"#") + "\"]\n"
	s := with(t, text, Options{})
	j := s.start("all")
	if got := s.finish(j); got.State != OK || len(j.Steps) != 61 {
		t.Fatalf("%s with %d steps", got.Words(), len(j.Steps))
	}
	for i, name := range names {
		data, err := os.ReadFile(filepath.Join(s.root, name+".log"))
		if err != nil || string(data) != "x\n" {
			t.Errorf("%s: %q, %v", name, data, err)
		}
		if i >= 10 {
			k, _ := task.Find(s.tasks, names[i-10])
			for _, r := range j.Steps {
				if r.Prepared.Task == k && r.Snapshot().Ended.After(j.Steps[indexOf(j, name)].Snapshot().Started) {
					t.Errorf("%s began before %s had ended", name, k.Name)
				}
			}
		}
	}
}

func indexOf(j *Job, name string) int {
	for i, r := range j.Steps {
		if r.Prepared.Task.Name == name {
			return i
		}
	}
	return -1
}

// All files of a suite run, so many at a time, and the suite fails with those that fail.
func TestSplitSuites(t *testing.T) {
	t.Parallel()
	s := with(t, `
[workspace]
slots = 8
[task.suite]
run = "never"
[task.f0]
run = "cat a > /dev/null"
[task.f1]
run = "cat b > /dev/null; exit 3"
[task.f2]
run = "cat c > /dev/null"
`, Options{})
	open := s.gate("a", "b", "c")
	for _, k := range s.tasks[1:] {
		k.PartOf = "suite"
	}
	p, err := plan.OfSuite(s.tasks, s.tasks[0], plan.Split{AtOnce: 2})
	if err != nil {
		t.Fatal(err)
	}
	j, err := s.super.StartPlan(p, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, step := range []struct{ open, want string }{
		{"", "f0 running, f1 running, f2 waits for a slot, suite waits for tidytally.toml#f0"},
		{"b", "f0 running, f1 failed (3), f2 running, suite waits for tidytally.toml#f0"},
		{"c", "f0 running, f1 failed (3), f2 ok, suite waits for tidytally.toml#f0"},
		{"a", "f0 ok, f1 failed (3), f2 ok, suite failed (3)"},
	} {
		if step.open != "" {
			open(step.open)
		}
		eventually(t, step.want, func() bool { return states(j) == step.want })
	}
	got := s.finish(j)
	if got.Fault != "1 of 3 failed" {
		t.Errorf("the suite says %q", got.Fault)
	}
	for _, r := range j.Steps {
		if part := r.Snapshot(); part.Started.Before(got.Started) || part.Ended.After(got.Ended) {
			t.Errorf("the suite took from %v to %v, and %s from %v to %v", got.Started, got.Ended, part.Prepared.Task.Name, part.Started, part.Ended)
		}
	}
	var files []string
	j.Files(func(k *task.Task, seconds float64, good bool) {
		files = append(files, fmt.Sprint(k.Name, good, seconds > 0))
	})
	if got := strings.Join(files, " "); got != "f0true true f1false true f2true true" {
		t.Errorf("files: %s", got)
	}
	if free := s.super.slots.spare(99); free != 8 {
		t.Errorf("%d slots are free in the end", free)
	}
}
