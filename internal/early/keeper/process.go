package keeper

import (
	"encoding/json"
	"net"
	"os"
	"os/signal"
	"runtime"
	"sync"
	"syscall"
	"time"

	"a.early/system"
)

// A process that is called by the keeper's name is a keeper and nothing else. It begins before
// the packages of other modules are initialized (see the package early), which is most of the
// program's start.
func init() {
	if len(os.Args) == 1 && os.Args[0] == name {
		keep()
		os.Exit(0)
	}
}

// Processes left when the program ends get TERM, and KILL after mercy. killEvery is how
// often KILL is sent while something is left: processes that fork without end.
const (
	mercy     = 700 * time.Millisecond
	killEvery = 20 * time.Millisecond
)

// keep is the life of a keeper.
func keep() {
	// The parent-death signal of the command hangs on the thread that started it.
	runtime.LockOSThread()
	reap()
	// Signals that the terminal sends to the program's group are caught and dropped. Ignored
	// signals would be inherited by the command; caught ones are not.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGINT, syscall.SIGQUIT, syscall.SIGHUP, syscall.SIGTERM, syscall.SIGTSTP, syscall.SIGTTIN, syscall.SIGTTOU, syscall.SIGPIPE, syscall.SIGUSR1, syscall.SIGUSR2, syscall.SIGALRM)
	socket := os.NewFile(3, "program")
	any, err := net.FileConn(socket)
	if err != nil {
		return
	}
	socket.Close()
	conn := any.(*net.UnixConn)
	c, program, files, err := receive(conn)
	if err != nil {
		return // the program has ended, or does not need a keeper
	}
	out := json.NewEncoder(conn)
	attr := &syscall.ProcAttr{Dir: c.Dir, Env: c.Env, Sys: endsWithKeeper()}
	for _, fd := range files {
		attr.Files = append(attr.Files, uintptr(fd))
	}
	if c.Terminal {
		attr.Sys.Setsid, attr.Sys.Setctty = true, true
	} else {
		attr.Sys.Setpgid = true
		if !c.Group {
			attr.Sys.Pgid = program
		}
	}
	pid, err := syscall.ForkExec(c.Path, c.Argv, attr)
	for _, fd := range files {
		syscall.Close(fd)
	}
	if err != nil {
		a := answer{Error: err.Error()}
		if errno, ok := err.(syscall.Errno); ok {
			a.Errno = int(errno)
		}
		_ = out.Encode(a)
		return
	}
	var mu sync.Mutex // of out
	tell := func(a answer) {
		mu.Lock()
		defer mu.Unlock()
		_ = out.Encode(a) // the program has ended: nobody wants to know
	}
	tell(answer{Started: pid})
	go func() {
		var one [1]byte
		_, _ = conn.Read(one[:]) // returns when the program has ended
		all := []int{pid}
		if c.Terminal || c.Group {
			all = append(all, -pid)
		}
		endAll(all)
	}()
	for {
		var status syscall.WaitStatus
		var used syscall.Rusage
		got, err := syscall.Wait4(-1, &status, 0, &used)
		switch {
		case err == syscall.EINTR:
		case err != nil:
			return // nothing is left
		case got == pid:
			tell(answer{Ended: true, Status: uint32(status), Usage: Usage{
				CPU:    time.Duration(used.Utime.Nano() + used.Stime.Nano()),
				Memory: system.PeakMemory(&used),
			}})
		}
	}
}

// endAll ends all processes that the keeper holds, and exits. If the system does not list processes, it signals others instead: ids,
// or negative ids of groups, as in kill(2). The keeper exits before if nothing is left, and after orphansFor if it cannot know.
func endAll(others []int) {
	listed := listsProcesses()
	signalAll := func(sig syscall.Signal) {
		pids := others
		if listed {
			pids = below(os.Getpid())
		}
		for _, pid := range pids {
			_ = syscall.Kill(pid, sig) // gone already
		}
	}
	signalAll(syscall.SIGTERM)
	signalAll(syscall.SIGCONT) // stopped processes take their TERM
	time.Sleep(mercy)
	for began := time.Now(); listed || time.Since(began) < orphansFor; time.Sleep(killEvery) {
		signalAll(syscall.SIGKILL)
	}
	os.Exit(1)
}
