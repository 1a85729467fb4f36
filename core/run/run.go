package run

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"a.early/keeper"
	"tidytally/core/crash"
	"tidytally/core/output"
	"tidytally/core/printable"
	"tidytally/core/problem"
	"tidytally/core/sieve"
)

// State is the state of a run.
type State string

// The states of a run.
const (
	Waiting State = "waiting" // for the steps before it
	Running State = "running"
	Up      State = "up" // long-running, and known to be up
	// Watching: it has ended, and is run again when its files change.
	Watching State = "watching"
	// Restarting: it failed unasked, and is started again in a moment.
	Restarting State = "starting again"
	OK         State = "ok"
	Failed     State = "failed"
	Stopped    State = "stopped" // by the user
	Skipped    State = "not run" // what comes before it failed
	// Left is a step that goes on at its batch system without this program.
	Left State = "goes on there"
)

// Ended reports whether the state is final.
func (s State) Ended() bool {
	return s != Waiting && s != Running && s != Up && s != Restarting && s != Watching
}

// Run is one execution of a task. Its methods are safe for concurrent use.
type Run struct {
	// Set before the run starts.
	ID       int
	Prepared *Prepared
	Args     []string
	super    *Supervisor
	job      *Job          // that started it
	users    int           // jobs that it is a step of; guarded by super.mu
	up       chan struct{} // closed when it is up for the first time
	handed   *handed       // to a batch system; nil for what runs by a process here
	past     *Past         // set when it does not run, as it is fresh: its last good run
	followed bool          // it goes on in another program

	recording sync.Mutex // held while the recorder is told of the end of a pass
	done      chan struct{}
	halt      chan struct{} // closed when it is to stop
	hurry     chan struct{} // closed when it is to start without a slot

	mu sync.Mutex // guards all fields below

	// The state of the run. The goroutine that executes the command changes it, and
	// Stop.
	state    State
	started  time.Time
	ended    time.Time
	overAt   time.Time // when it ended, if that was noticed later
	upSince  time.Time
	upBy     string // how it is known that it is up
	wasUp    bool   // up is closed
	asks     bool   // it waits for what is typed
	restarts int    // that failed one after the other
	retry    *time.Timer
	again    *rerun   // runs it again on change
	passes   []Pass   // that follow the first one: the newest of them
	pass     int      // how many have followed the first one
	waits    string   // what it waits for before it starts
	blamed   string   // why it was not run
	queued   *inQueue // for a slot, of queuedIn
	queuedIn *slots
	slot     bool // it holds one
	hurried  bool // hurry is closed
	address  string
	code     int
	signal   string
	fault    string // why it could not be executed, or that it timed out
	stopping bool
	timedOut bool
	version  int // grows with every change

	// The process, from its start to its end.
	program   string
	argv      []string
	environ   []string
	pid       int
	alone     bool   // the command has a process group of its own
	leave     func() // gives back its jobs
	elsewhere string // names it at its batch system, once that has it
	node      string // where that runs it
	watched   *watch // the trace of the command, or nil
	keeper    *keeper.Keeper
	usage     keeper.Usage // of the command that ended last
	terminal  *os.File
	unread    []byte // typed, and not written to the terminal yet
	typing    bool   // writeKeys runs

	// The output, as intake.go takes it.
	replay     func() ([]byte, error) // of a run of earlier whose output was not read yet
	spool      *output.Spool
	collected  sieve.Collector
	summaries  []sieve.Summary
	sieveFault string
	pause      *time.Timer
	rest       *time.Timer
	settled    bool      // nothing was printed for a while
	passFrom   int64     // the size of the output when the pass of a watching tool began
	endedFrom  int64     // the size of the output when the command was asked to end, and 1; 0 if it was not
	passBefore time.Time // when the pass before started
	heard      time.Time // time of the last output

	lines lines  // with a lock of its own
	sift  sifter // with locks of its own
}

// Snapshot is the state of a run at one moment.
type Snapshot struct {
	ID       int
	Prepared *Prepared
	Args     []string
	State    State
	Started  time.Time
	Ended    time.Time
	UpSince  time.Time
	UpBy     string // how it is known that it is up: "its ready line"
	Address  string // from the ready line, or of the port that it listens on
	Asks     bool   // it waits for what is typed on its terminal
	Restarts int    // how often it was started again
	WaitsFor string // of a run that waits: "a slot", or a step before it
	Blamed   string // of a run that was skipped: why
	Passes   []Pass // of a run that is run again on change: those behind the first one
	// Replayed is, of a run that was left out because the task is fresh, when its last good run
	// started, whose output and problems it has.
	Replayed time.Time
	// Code is the exit code for the shell: the task's own, 128 plus the signal, or
	// one for a command that never ran.
	Code     int
	Signal   string // that ended it, without SIG
	Fault    string
	Part     string // of a suite of which not all files ran: "1 of 2 files"
	TimedOut bool
	Stopping bool
	Followed bool // it goes on in another program
	// Elsewhere names a step that a batch system has: no other ever has that name. Node is the machine on which it runs, in the engine's words.
	Elsewhere string
	Node      string
	Bytes     int64
	Spool     string
	Problems  []problem.Problem
	// Before are the problems of the previous cycle of a watching tool.
	Before []problem.Problem
	Cycle  int
	// Summaries are the tools' own counts, with the numbers found.
	Summaries []sieve.Summary
	// CPU and Memory are what the command used: its processors' time, and the bytes of its
	// largest process.
	CPU    time.Duration
	Memory int64
	// Version grows with every change.
	Version int
}

// Pass is the number of the newest pass of a run that is run again on change; the first is 1.
func (s *Snapshot) Pass() int {
	if n := len(s.Passes); n > 0 {
		return s.Passes[n-1].Number
	}
	return 1
}

// Elapsed is how long the run took, or has taken by now. It is never negative: now may
// be the time of a picture that is older than the run.
func (s *Snapshot) Elapsed(now time.Time) time.Duration {
	switch {
	case s.Started.IsZero():
		return 0
	case s.Ended.IsZero():
		return max(0, now.Sub(s.Started))
	}
	return s.Ended.Sub(s.Started)
}

// Words describes the state in a few words: "failed (2)", "up", "ok, 1 of 2 files".
func (s *Snapshot) Words() string {
	if s.Part != "" && (s.State == OK || s.State == Failed) {
		return s.wordsOfState() + ", " + s.Part
	}
	return s.wordsOfState()
}

func (s *Snapshot) wordsOfState() string {
	switch {
	case s.State == Failed && s.Signal != "":
		return "failed (" + s.Signal + ")"
	case s.State == Failed && s.Code == CodeNotFound:
		return "not found"
	case s.State == Failed:
		return fmt.Sprintf("failed (%d)", s.Code)
	case s.Stopping && !s.State.Ended():
		return "stopping"
	case s.State == Waiting && s.WaitsFor != "":
		return "waits for " + s.WaitsFor
	case s.State == Watching && s.Signal != "":
		return "failed (" + s.Signal + "), watching"
	case s.State == Watching && s.Code != 0:
		return fmt.Sprintf("failed (%d), watching", s.Code)
	case s.State == Watching:
		return "ok, watching"
	case s.State == Running && s.Followed:
		return "running elsewhere"
	case s.State == Running && s.Node != "":
		return "running on " + s.Node
	case s.Asks:
		return "waits for input"
	case s.State == OK && !s.Replayed.IsZero():
		return "fresh"
	}
	return string(s.State)
}

// Closing says in one line how a run has ended, with what was found, and how many of the earlier problems were not
// checked: "ID failed (2) after 0.4 s: 3 errors".
func (s *Snapshot) Closing(found problem.Count, notChecked int) string {
	problems := found.With(notChecked)
	if s.State == Failed && s.Fault == "" && found.Total()+notChecked == 0 { // there is one
		problems = "no problem recognised"
	}
	return fmt.Sprintf("%s %s after %s: %s", s.Prepared.Task.ShownID(), s.Words(), printable.Duration(s.Ended.Sub(s.Started)), problems)
}

// Snapshot returns the current state of the run.
func (r *Run) Snapshot() Snapshot {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := Snapshot{
		ID: r.ID, Prepared: r.Prepared, Args: r.Args, State: r.state, Started: r.started, Ended: r.ended, UpSince: r.upSince,
		Address: r.address, UpBy: r.upBy, Asks: r.asks && !r.state.Ended(), Restarts: r.restarts, WaitsFor: r.waits, Blamed: r.blamed, Passes: slices.Clip(r.passes), CPU: r.usage.CPU, Memory: r.usage.Memory, Code: r.code, Signal: r.signal, Fault: r.fault, TimedOut: r.timedOut, Stopping: r.stopping, Version: r.version,
		Followed: r.followed, Elsewhere: r.elsewhere, Node: r.node,
		Problems: r.collected.Lend(),
		Before:   r.collected.Before, Cycle: r.collected.Cycle, Summaries: r.summaries,
	}
	if r.past != nil {
		s.Replayed, s.Part = r.past.Started, r.past.Part
	}
	if p := r.job.Plan; r.job.Main == r && p.Files < p.AllFiles {
		s.Part = fmt.Sprintf("%d of %d %s", p.Files, p.AllFiles, p.Task.PartWord())
	}
	if s.Fault == "" {
		s.Fault = r.sieveFault
	}
	if r.spool != nil {
		s.Bytes, s.Spool = r.spool.Size(), r.spool.Path()
		if f := r.spool.Fault(); f != "" && s.Fault == "" {
			s.Fault = f
		}
	}
	return s
}

// Done is closed when the run has ended.
func (r *Run) Done() <-chan struct{} { return r.done }

// start executes the command. An error ends the run.
func (r *Run) start() {
	if err := r.execute(); err != nil {
		r.cannotBegin(err)
	}
}

// cannotBegin ends the run, or its pass, by an error with which its command was not started.
func (r *Run) cannotBegin(err error) {
	r.mu.Lock()
	r.fault, r.code = err.Error(), codeOf(err)
	r.mu.Unlock()
	if !r.passEnded(Failed) {
		r.end(Failed)
	}
}

// cannotGoOn ends a run by a fault of the program; one that has ended stays as it is.
func (r *Run) cannotGoOn(fault error) {
	select {
	case <-r.done:
	default:
		r.Stop()
		r.cannotBegin(fault)
	}
}

// codeOf returns the exit code for a command that could not be executed.
func codeOf(err error) int {
	var se *StartError
	if errors.As(err, &se) {
		return se.Code
	}
	return CodeOwn
}

func (r *Run) execute() error {
	s := r.super
	env := append(os.Environ(), r.Prepared.Env...)
	argv, program, err := r.Prepared.resolve(env)
	if err != nil {
		return err
	}
	if err := r.openOutput(); err != nil {
		return err
	}
	if r.batched() {
		return r.handOver()
	}
	r.mu.Lock()
	r.environ, r.argv, r.program = withoutDoubles(append(env, "PWD="+r.Prepared.Dir)), argv, program
	if r.Prepared.directly {
		r.mu.Unlock()
		argv, env, ok := r.Prepared.direct(r.environ)
		r.mu.Lock()
		if ok {
			r.environ, r.argv, r.program = withoutDoubles(env), argv, "/bin/sh"
		}
	}
	r.mu.Unlock()
	if r.Prepared.Task.Reruns() && !s.opts.Once {
		if err := r.watchFiles(); err != nil {
			return err
		}
	}
	return r.command()
}

// command starts the command of the run: once, or again.
func (r *Run) command() error {
	s := r.super
	r.mu.Lock()
	argv, program, env := r.argv, r.program, slices.Clone(r.environ)
	r.mu.Unlock()
	share, err := r.share(argv, program, env)
	if err != nil {
		return &StartError{CodeOwn, "the budget of jobs: " + err.Error()}
	}
	r.mu.Lock()
	r.leave = share.leave
	r.mu.Unlock()
	if r.Prepared.remote != nil {
		if r.Prepared.remote.place.Carry {
			if err := r.Prepared.remote.carry(r); err != nil {
				share.leave()
				return &StartError{CodeOwn, err.Error()}
			}
		}
		share.argv = r.Prepared.remote.argv(s.opts.Terminal, s.connection(r.Prepared.remote))
	}
	program, argv, w := r.watch(share.argv, program)
	r.mu.Lock()
	r.watched = w
	r.mu.Unlock()
	cmd := keeper.Command{Path: program, Argv: argv, Dir: r.Prepared.Dir, Env: withoutDoubles(share.env), Files: share.files}
	if s.opts.Terminal {
		err = r.executeOnTerminal(cmd)
	} else {
		err = r.executePlain(cmd)
	}
	for _, f := range share.files {
		f.Close()
	}
	if err != nil {
		share.leave()
		return &StartError{CodeCannotRun, fmt.Sprintf("%s: %v", cmd.Argv[0], err)}
	}
	if d := r.Prepared.Timeout; d > 0 {
		crash.Go("a run", func() { r.endAfter(d, r.keeperNow()) }, nil)
	}
	if r.Prepared.Task.LongRunning && r.Prepared.Ready == nil {
		crash.Go("a run", func() { r.awaitUpWithoutReady(r.keeperNow()) }, nil)
	}
	return nil
}

// endAfter ends the command that a keeper holds when it has run for so long.
func (r *Run) endAfter(d time.Duration, k *keeper.Keeper) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-k.Gone():
		return
	case <-r.done:
		return
	case <-timer.C:
	}
	r.mu.Lock()
	r.timedOut = true
	again := r.again != nil
	r.mu.Unlock()
	if again {
		r.endPass(k)
	} else {
		r.Stop()
	}
}

// withoutDoubles returns an environment in which each variable stands once: the last counts,
// as in exec.Cmd.
func withoutDoubles(env []string) []string {
	last := make(map[string]int, len(env))
	for i, v := range env {
		name, _, _ := strings.Cut(v, "=")
		last[name] = i
	}
	out := make([]string, 0, len(last))
	for i, v := range env {
		if name, _, _ := strings.Cut(v, "="); last[name] == i {
			out = append(out, v)
		}
	}
	return out
}

// executeOnTerminal runs the command on a pseudo-terminal, in a session of its own.
func (r *Run) executeOnTerminal(cmd keeper.Command) error {
	master, slave, err := pty.Open()
	if err != nil {
		return fmt.Errorf("pseudo-terminal: %w", err)
	}
	cols, rows := r.super.size()
	if err := pty.Setsize(master, &pty.Winsize{Cols: uint16(cols), Rows: uint16(rows)}); err != nil {
		master.Close()
		slave.Close()
		return fmt.Errorf("pseudo-terminal: %w", err)
	}
	// The library makes the master blocking, so that a deadline has no effect.
	if conn, err := master.SyscallConn(); err == nil {
		_ = conn.Control(func(fd uintptr) { _ = syscall.SetNonblock(int(fd), true) })
	}
	// No COLUMNS and LINES: programs that wrap by them do not wrap by hand.
	cmd.Env = append(cmd.Env, "TERM=xterm-256color")
	cmd.Terminal = true
	k, err := r.begin(cmd, [3]*os.File{slave, slave, slave}, master)
	slave.Close()
	if err != nil {
		master.Close()
		return err
	}
	crash.Go("a run", r.watchInput, nil)
	read := make(chan struct{})
	var over ending
	crash.Go("a run", func() {
		r.readAll(master, &over)
		close(read)
	}, nil)
	crash.Go("the end of a run", func() {
		status, err := k.Wait()
		// The rest of the terminal's buffer belongs to the run. But other processes
		// may hold the terminal open without ever writing.
		over.begin(master)
		<-read
		// Nobody else may use the file while it is closed.
		r.mu.Lock()
		r.terminal = nil
		master.Close()
		r.mu.Unlock()
		r.exited(status, err)
	}, r.cannotGoOn)
	return nil
}

// executePlain runs the command on a pipe. Both outputs go through it, so that their
// order is kept.
func (r *Run) executePlain(cmd keeper.Command) error {
	pr, pw, err := os.Pipe()
	if err != nil {
		return fmt.Errorf("pipe: %w", err)
	}
	in := r.super.opts.Stdin
	if in == nil {
		if in, err = os.Open(os.DevNull); err != nil {
			return err
		}
		defer in.Close()
	}
	// In a group of its own it could not read from the terminal, nor would the terminal's
	// signals reach it: it shares ours, as it would in a pipe of the shell.
	cmd.Group = !term.IsTerminal(int(in.Fd()))
	k, err := r.begin(cmd, [3]*os.File{in, pw, pw}, nil)
	pw.Close()
	if err != nil {
		pr.Close()
		return err
	}
	read := make(chan struct{})
	var over ending
	crash.Go("a run", func() {
		r.readAll(pr, &over)
		pr.Close() // a task that goes on writing gets SIGPIPE, as in a pipe of the shell
		close(read)
	}, nil)
	crash.Go("the end of a run", func() {
		status, err := k.Wait()
		over.begin(pr)
		<-read
		r.exited(status, err)
	}, r.cannotGoOn)
	return nil
}

// begin starts the command in the care of a keeper.
func (r *Run) begin(cmd keeper.Command, files [3]*os.File, terminal *os.File) (*keeper.Keeper, error) {
	k, err := r.super.keeper()
	if err != nil {
		return nil, err
	}
	now := time.Now() // before it can have made anything
	pid, err := k.Start(cmd, files)
	if err != nil {
		k.Dismiss()
		return nil, err
	}
	r.mu.Lock()
	r.pid, r.keeper, r.terminal = pid, k, terminal
	r.alone = cmd.Terminal || cmd.Group
	r.state = Running
	if r.started.IsZero() {
		r.started = now
	}
	stopping := r.stopping // asked for while the process was being made
	r.mu.Unlock()
	if rec := r.super.opts.Recorder; rec != nil {
		rec.Began(r)
	}
	r.super.changed(r)
	if stopping {
		r.super.stops.Go(r.stop)
	}
	return k, nil
}

// When the task has ended, other processes may hold its output open, and go on printing: it is read until it was
// silent for endOfOutput, or for mostOfOutput.
const (
	endOfOutput  = 200 * time.Millisecond
	mostOfOutput = 5 * time.Second
)

// ending says since when a task has ended whose output is still read.
type ending struct{ since atomic.Int64 } // nanoseconds since 1970; 0 while the task goes on

// begin says that the task has ended.
func (e *ending) begin(from *os.File) {
	now := time.Now()
	e.since.Store(now.UnixNano())
	_ = from.SetReadDeadline(now.Add(endOfOutput)) // closed: all was read
}

// goesOn sets the time until which more must come. It reports whether more is waited for.
func (e *ending) goesOn(from *os.File) bool {
	since := e.since.Load()
	if since == 0 {
		return true
	}
	if time.Since(time.Unix(0, since)) > mostOfOutput {
		return false
	}
	_ = from.SetReadDeadline(time.Now().Add(endOfOutput))
	return true
}

// readAll reads the output until it ends, or until whoever receives it is gone. After
// the end of the task a deadline is set. If it passes while the receiver is slow, what
// is there is still read. Another goroutine takes the output, so that the task can go on writing.
func (r *Run) readAll(from *os.File, over *ending) {
	f := newFeed()
	taken := make(chan struct{})
	crash.Go("a run", func() {
		defer close(taken)
		for b := f.next(); b != nil; b = f.next() {
			if r.take(b) != nil {
				f.end()
				_ = from.SetReadDeadline(time.Now()) // nobody wants more
				return
			}
		}
	}, nil)
	buf := make([]byte, 64<<10)
	for {
		n, err := from.Read(buf)
		if !f.add(buf[:n]) {
			break
		}
		late := errors.Is(err, os.ErrDeadlineExceeded) && readable(from)
		if err != nil && !late {
			break
		}
		if (n > 0 || late) && !over.goesOn(from) {
			r.tell(fmt.Errorf("its output was cut %d s after its end: something that it left behind goes on printing", int(mostOfOutput.Seconds())))
			break
		}
	}
	f.end()
	<-taken
}

// readable reports whether a file has bytes to read right now.
func readable(f *os.File) (yes bool) {
	conn, err := f.SyscallConn()
	if err != nil {
		return false
	}
	_ = conn.Control(func(fd uintptr) {
		poll := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLIN}}
		n, err := unix.Poll(poll, 0)
		yes = err == nil && n > 0 && poll[0].Revents&unix.POLLIN != 0
	}) // closed: nothing is there
	return yes
}

// exited records how the command ended. err is set if that is not known.
func (r *Run) exited(ws syscall.WaitStatus, err error) {
	state := OK
	r.leave()
	r.mu.Lock()
	r.usage = r.keeper.Usage()
	switch {
	case err != nil:
		r.fault, r.code, state = err.Error(), CodeOwn, Failed
	case ws.Signaled():
		r.signal = signalName(ws.Signal())
		r.code = 128 + int(ws.Signal())
		state = Failed
	case ws.ExitStatus() != 0:
		r.code = ws.ExitStatus()
		state = Failed
	}
	if r.stopping {
		state = Stopped
	}
	if setup := r.Prepared.Task.Setup; state == Failed && (r.code == CodeNotFound || !setup.Above) {
		r.mu.Unlock() // the disk is asked
		missing := setup.Missing(r.Prepared.Dir)
		r.mu.Lock()
		if missing != "" {
			r.fault = r.Prepared.Task.File + ": " + missing
		}
	}
	remote := r.Prepared.remote
	if state == Failed && remote != nil {
		r.mu.Unlock()
		code, signal, fault := remote.ended(r)
		r.mu.Lock()
		if r.code, r.signal = code, signal; fault != "" {
			r.fault = fault
		}
		if r.code == 0 {
			state = OK
		}
	}
	if remote != nil && remote.place.Carry && !r.stopping {
		r.mu.Unlock()
		err := remote.fetch(r)
		r.mu.Lock()
		if err != nil && state == OK {
			state, r.code, r.fault = Failed, CodeOwn, err.Error()
		}
	}
	if r.timedOut {
		state, r.fault = Failed, fmt.Sprintf("stopped after its time-out of %s", r.Prepared.Timeout)
	}
	again := r.startsAgain(state)
	w := r.watched
	r.watched = nil
	r.mu.Unlock()
	r.learn(w, state == OK)
	if again {
		r.super.changed(r)
		return
	}
	if !r.passEnded(state) {
		r.end(state)
	}
}

func (r *Run) end(state State) {
	r.mu.Lock()
	wasWatching, replayed := r.state == Watching, r.past != nil
	r.mu.Unlock()
	if !wasWatching {
		r.sift.close()
	}
	r.awaitRecorded() // the last pass is kept
	r.finish(state)
	r.job.ended(r, state)
	r.giveSlot()
	if rec := r.super.opts.Recorder; rec != nil && !wasWatching && state != Skipped && state != Left && !replayed {
		rec.Ended(r)
	}
	close(r.done)
	r.super.changed(r)
}

// finish gives the run its last state.
func (r *Run) finish(state State) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.quiet()
	if r.state, r.ended = state, time.Now(); !r.overAt.IsZero() {
		r.ended = r.overAt
	}
	if r.started.IsZero() {
		r.started = r.ended
	}
	r.version++
}
