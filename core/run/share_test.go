package run

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

const sharedTasks = `
[task.server]
run = "echo started >> log; echo ready; sleep 600"
long_running = true
ready = "ready"
[task.needs]
run = "cat go > /dev/null"
before = ["#server"]
[task.beside]
run = "cat go2 > /dev/null"
with = ["#server"]
[task.gone]
run = "true"
before = ["#server", "#bad"]
[task.bad]
run = "exit 1"
`

// shared makes the tasks above, with two pipes that hold up needs and beside until let is
// called with go or go2.
func shared(t *testing.T) (s *setting, let func(string), started func() int) {
	s = with(t, sharedTasks, Options{Terminal: true})
	for _, name := range []string{"go", "go2"} {
		if err := syscall.Mkfifo(filepath.Join(s.root, name), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	let = func(name string) {
		if err := os.WriteFile(filepath.Join(s.root, name), nil, 0o600); err != nil {
			t.Error(err)
		}
	}
	started = func() int {
		data, _ := os.ReadFile(filepath.Join(s.root, "log"))
		return strings.Count(string(data), "started")
	}
	return s, let, started
}

func state(r *Run) State { return r.Snapshot().State }

// A task that is up is not started a second time for those that need it, and one that a
// person started goes on when they have ended.
func TestWhatIsUpIsNotStartedTwice(t *testing.T) {
	t.Parallel()
	s, let, started := shared(t)
	server := s.start("server").Main
	eventually(t, "the server", func() bool { return state(server) == Up })
	needs, beside := s.start("needs"), s.start("beside")
	eventually(t, "both tasks", func() bool { return state(needs.Main) == Running && state(beside.Main) == Running })
	let("go")
	let("go2")
	for _, j := range []*Job{needs, beside} {
		if snap := s.finish(j); snap.State != OK {
			t.Errorf("%s: %s", snap.Prepared.Task.Name, snap.Words())
		}
		if j.Steps[0] != server {
			t.Error("the step is not the server that is up")
		}
	}
	if snap := s.finish(s.start("gone")); snap.State != Skipped {
		t.Errorf("gone: %s", snap.Words())
	}
	if n := started(); n != 1 || state(server) != Up {
		t.Errorf("the server was started %d times and is %s", n, state(server))
	}
	server.Stop()
	<-server.Done()
	if n := len(s.super.Runs()); n != 5 {
		t.Errorf("%d runs are known, want the server, needs, beside, gone and bad", n)
	}
}

// A server that one task started and another uses as well ends with the last of the two,
// however the first one ends.
func TestTheLastUserStopsIt(t *testing.T) {
	t.Parallel()
	for _, stopped := range []bool{false, true} {
		s, let, started := shared(t)
		first := s.start("needs")
		eventually(t, "the first", func() bool { return state(first.Main) == Running })
		second := s.start("beside")
		eventually(t, "the second", func() bool { return state(second.Main) == Running })
		server := first.Steps[0]
		if stopped {
			first.Main.Stop()
		} else {
			let("go")
		}
		s.finish(first)
		if state(server) != Up {
			t.Errorf("the server is %s when the second task runs still", state(server))
		}
		let("go2")
		if snap := s.finish(second); snap.State != OK {
			t.Errorf("second: %s", snap.Words())
		}
		eventually(t, "the server's end", func() bool { return state(server).Ended() })
		if n := started(); n != 1 {
			t.Errorf("the server was started %d times", n)
		}
	}
}
