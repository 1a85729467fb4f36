package run

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"tidytally/core/crash"
	"tidytally/core/task"
)

// jobserver gives slots that nobody uses to tools that run jobs side by side (GNU make manual,
// "POSIX Jobserver Interaction"). Each run has a fifo of its own, so that what a tool held when
// it was killed is not lost. A tool has one job for free: the slot of its run.
type jobserver struct {
	slots *slots
	dir   string

	mu      sync.Mutex // guards the fields below and the clients
	clients []*client
	serving bool
}

// client is a run that may take more jobs.
type client struct {
	path  string
	fd    int // of the fifo, for both ends, without blocking
	given int // slots that it holds, or that wait for it in the fifo
	idle  int // ticks since something in the fifo was taken
	last  int // what was in the fifo then

	catching sync.WaitGroup
	catches  bool
}

// tokenEvery is how often the fifos are looked at while there are clients: no event says that
// a token was taken. A token that nobody takes for idleTicks goes to those who want one.
const (
	tokenEvery = 10 * time.Millisecond
	idleTicks  = 5
)

// join makes a fifo for a run. leave must be called when the run has ended.
func (s *jobserver) join(id int) (*client, error) {
	c := &client{path: filepath.Join(s.dir, "jobs-"+strconv.Itoa(id))}
	_ = os.Remove(c.path) // of an earlier pass
	if err := unix.Mkfifo(c.path, 0o600); err != nil {
		return nil, fmt.Errorf("%s: %w", c.path, err)
	}
	var err error
	if c.fd, err = unix.Open(c.path, unix.O_RDWR|unix.O_NONBLOCK|unix.O_CLOEXEC, 0); err != nil {
		return nil, fmt.Errorf("%s: %w", c.path, err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.clients = append(s.clients, c)
	s.offer(c)
	if !s.serving {
		s.serving = true
		crash.Go("the job server", s.serve, nil)
	}
	return c, nil
}

// leave gives back all that a client held.
func (s *jobserver) leave(c *client) {
	s.mu.Lock()
	s.clients = slices.DeleteFunc(s.clients, func(x *client) bool { return x == c })
	s.mu.Unlock()
	c.catching.Wait() // nobody may use the descriptor any more
	unix.Close(c.fd)
	_ = os.Remove(c.path) // the folder goes anyway
	s.slots.give(c.given)
}

// serve moves tokens while there are clients.
func (s *jobserver) serve() {
	tick := time.NewTicker(tokenEvery)
	defer tick.Stop()
	for range tick.C {
		s.mu.Lock()
		if len(s.clients) == 0 {
			s.serving = false
			s.mu.Unlock()
			return
		}
		s.balance()
		s.mu.Unlock()
	}
}

// balance takes tokens back that others need, and offers those that are free. The lock is
// held.
func (s *jobserver) balance() {
	wanted := s.slots.wanted() > 0
	hungry := false
	for _, c := range s.clients {
		n := c.waiting()
		if n > c.given { // it wrote more than it was given
			c.take(n - c.given)
			n = c.given
		}
		if c.idle++; n != c.last {
			c.idle, c.last = 0, n
		}
		if wanted && !c.catches {
			c.catches = true
			c.catching.Go(func() { s.catch(c) })
		}
		hungry = hungry || n == 0
	}
	for _, c := range s.clients {
		n := c.last
		if n > 1 && c.idle > 0 { // given back by the tool
			s.back(c, n-1)
		}
		if c.last > 0 && (wanted || hungry && c.idle >= idleTicks) {
			s.back(c, c.last)
			c.idle = -4 * idleTicks // it is not asked again soon
		}
	}
	for _, c := range s.clients {
		if c.last == 0 && c.idle >= 0 {
			s.offer(c)
		}
	}
}

// catch takes tokens that a tool gives back, while a task waits for a slot: the tool would take
// them again at once for its next job.
func (s *jobserver) catch(c *client) {
	for {
		s.mu.Lock()
		if s.slots.wanted() == 0 || !slices.Contains(s.clients, c) {
			c.catches = false
			s.mu.Unlock()
			return
		}
		s.mu.Unlock()
		ready := []unix.PollFd{{Fd: int32(c.fd), Events: unix.POLLIN}}
		if n, err := unix.Poll(ready, int(tokenEvery.Milliseconds())); n == 1 && err == nil && c.take(1) == 1 {
			s.mu.Lock()
			own := c.given > 0 // else it wrote more than it was given
			if own {
				c.given--
			}
			s.mu.Unlock()
			if own {
				s.slots.give(1)
			}
		}
	}
}

// offer puts a token that nobody needs into a client's fifo.
func (s *jobserver) offer(c *client) {
	if s.slots.spare(1) == 0 {
		return
	}
	if n, err := unix.Write(c.fd, []byte{'+'}); n != 1 || err != nil {
		s.slots.give(1)
		return
	}
	c.given++
	c.idle, c.last = 0, c.last+1
}

// back takes tokens out of a client's fifo.
func (s *jobserver) back(c *client, n int) {
	got := c.take(n)
	c.given -= got
	c.last -= got
	s.slots.give(got)
}

// waiting returns how many tokens lie in the fifo.
func (c *client) waiting() int {
	n, err := unix.IoctlGetInt(c.fd, bytesWaiting)
	if err != nil {
		return 0
	}
	return n
}

func (c *client) take(n int) int {
	got, err := unix.Read(c.fd, make([]byte, n))
	if err != nil {
		return 0 // the tool was faster
	}
	return got
}

// ends opens the ends of a client's fifo for its tool, which takes them for its own.
func (c *client) ends() (read, write *os.File, err error) {
	// As files of their own: the tool may set how they block.
	if read, err = openFifo(c.path, unix.O_RDONLY); err != nil {
		return nil, nil, err
	}
	if write, err = openFifo(c.path, unix.O_WRONLY); err != nil {
		read.Close()
		return nil, nil, err
	}
	return read, write, nil
}

// openFifo opens an end of a fifo that blocks.
func openFifo(path string, how int) (*os.File, error) {
	fd, err := unix.Open(path, how|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return os.NewFile(uintptr(fd), path), nil
}

// The first of the two descriptors at which a command finds its fifo.
const jobsFD = 3

// sharing is a command as it runs when it takes part in the budget of jobs.
type sharing struct {
	argv  []string
	env   []string
	files []*os.File // that it inherits behind the usual three
	leave func()     // must be called when it has ended
}

// share makes the command that is about to run take part in the budget of jobs, if it can.
func (r *Run) share(argv []string, program string, env []string) (sharing, error) {
	alone := sharing{argv, env, nil, func() {}}
	kind, command := r.Prepared.jobs, r.Prepared.pooled
	if kind == noJobs || kind == ownJobs || !r.holdsSlot() || strings.Contains(lookup(env, "MAKEFLAGS"), "--jobserver-") {
		return alone, nil
	}
	if kind == ninjaJobs && !ninjaTakesPart(program, len(command.Argv) == 0) {
		return r.shareByNumber(command, env), nil
	}
	s := &r.super.jobserver
	c, err := s.join(r.ID)
	if err != nil {
		return alone, err
	}
	x := sharing{command.Words(), env, nil, func() { s.leave(c) }}
	if kind == ninjaJobs {
		x.env = append(slices.Clip(env), "MAKEFLAGS="+lookup(env, "MAKEFLAGS")+" -j --jobserver-auth=fifo:"+c.path)
		return x, nil
	}
	read, write, err := c.ends()
	if err != nil {
		s.leave(c)
		return alone, err
	}
	name := "MAKEFLAGS"
	if kind == cargoJobs {
		name = "CARGO_MAKEFLAGS"
	}
	// GNU make takes a first word without a minus for letters of options.
	x.env = append(slices.Clip(env), fmt.Sprintf("%s=%s -j --jobserver-auth=%d,%d", name, lookup(env, name), jobsFD, jobsFD+1))
	x.files = []*os.File{read, write}
	return x, nil
}

// shareByNumber gives a tool that knows no jobserver its share by -j: what is free when it
// starts.
func (r *Run) shareByNumber(command task.Command, env []string) sharing {
	free := r.super.slots.spare(r.super.Slots())
	command = withShare(command, "-j"+strconv.Itoa(1+free))
	return sharing{command.Words(), env, nil, func() { r.super.slots.give(free) }}
}

// ninjaTakesPart asks a ninja for its version: clients of the jobserver since 1.13.
func ninjaTakesPart(program string, byShell bool) bool {
	if byShell {
		program = "ninja"
	}
	out, err := exec.Command(program, "--version").Output()
	if err != nil {
		return false
	}
	var major, minor int
	_, err = fmt.Sscanf(string(out), "%d.%d", &major, &minor)
	return err == nil && (major > 1 || minor >= 13)
}
