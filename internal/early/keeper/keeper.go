// Package keeper holds a small process between the program and each command that it runs.
// The keeper is the parent of the command and the reaper of all that it leaves behind
// (PR_SET_CHILD_SUBREAPER, prctl(2)), so that daemons and double forks are found whatever they
// do; and when the program ends, by KILL too, it ends all of them.
//
// The keeper is this program itself, called by another name. It is started before it is
// needed, because it takes as long to start as the program.
package keeper

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"a.early/system"
)

// name is what the keeper is called. It is not the program's, so that killing the program by
// its name leaves the keepers to do their work.
const name = "keeper-of-a-run"

// Command is a command to keep.
type Command struct {
	Path string // of the program
	Argv []string
	Env  []string
	Dir  string
	// Terminal says that standard input is a terminal, which becomes the controlling one of
	// a new session. Else Group says whether the command gets a process group of its own,
	// or is in the program's.
	Terminal, Group bool
	// Files are inherited by the command behind the usual three, the first as descriptor 3.
	Files []*os.File
}

// maxFiles bounds the files that a command inherits.
const maxFiles = 8

// wire is a command on its way to the keeper: in bytes, because words need not be UTF-8.
type wire struct {
	Path, Dir       []byte
	Argv, Env       [][]byte
	Terminal, Group bool
	Program         int // its process group
}

func toBytes(words []string) [][]byte {
	out := make([][]byte, len(words))
	for i, w := range words {
		out[i] = []byte(w)
	}
	return out
}

func toStrings(words [][]byte) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = string(w)
	}
	return out
}

// Keeper is a keeper process and the command in its care. Its methods are safe for concurrent
// use.
type Keeper struct {
	pid  int
	conn *net.UnixConn

	started atomic.Bool   // it holds a command
	command atomic.Int64  // its process id; 0 before it has started
	killed  atomic.Bool   // before that has ended
	gone    chan struct{} // closed when the keeper, and so all that it kept, has ended

	answers chan answer
	ended   chan struct{} // closed when the command has ended, or the keeper has
	status  syscall.WaitStatus
	usage   Usage
	lost    bool
	once    sync.Once
}

// answer is what a keeper tells: first whether the command started, then how it ended.
type answer struct {
	Started int    `json:"started,omitempty"` // process id
	Errno   int    `json:"errno,omitempty"`
	Error   string `json:"error,omitempty"`
	Ended   bool   `json:"ended,omitempty"`
	Status  uint32 `json:"status,omitempty"` // as wait(2) gives it
	Usage   Usage  `json:"usage"`
}

// Usage is what a command used, with the processes that it waited for.
type Usage struct {
	CPU    time.Duration `json:"cpu"`    // of the user's and the system's time
	Memory int64         `json:"memory"` // bytes of the largest of its processes
}

// ErrLost is returned when a keeper ended before its command did.
var ErrLost = errors.New("the process that watched over the run was killed")

// called is the program as it was called, absolute, as far as that can be told.
var called = func() string {
	if len(os.Args) == 0 {
		return ""
	}
	name, err := exec.LookPath(os.Args[0])
	if err != nil {
		return os.Args[0]
	}
	if full, err := filepath.Abs(name); err == nil {
		return full
	}
	return name
}()

// New starts a keeper, which waits for a command.
func New() (*Keeper, error) {
	pair, err := system.SocketPair()
	if err != nil {
		return nil, fmt.Errorf("socket: %w", err)
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "keeper"), os.NewFile(uintptr(pair[1]), "program")
	defer ours.Close()
	defer theirs.Close()
	conn, err := net.FileConn(ours)
	if err != nil {
		return nil, fmt.Errorf("socket: %w", err)
	}
	exe := system.Executable()
	if exe == "" {
		if exe, err = os.Executable(); err != nil { // there is no /proc
			exe = called
		}
	}
	// In a group of its own, so that it outlives a KILL to the program's, as "kill -9 %1" sends it.
	takesOver()
	cmd := &exec.Cmd{
		Path: exe, Args: []string{name}, Env: []string{"GOMAXPROCS=2"}, ExtraFiles: []*os.File{theirs}, Dir: "/",
		SysProcAttr: &syscall.SysProcAttr{Setpgid: true},
	}
	if err := cmd.Start(); err != nil {
		conn.Close()
		return nil, err
	}
	k := &Keeper{pid: cmd.Process.Pid, conn: conn.(*net.UnixConn), gone: make(chan struct{}), answers: make(chan answer, 1), ended: make(chan struct{})}
	known.keeper(k.pid, true)
	tellsOnce(func() { tellsApart.Store(held()[k.pid]) })
	heard := make(chan struct{})
	go func() {
		k.listen()
		close(heard)
	}()
	go func() {
		_ = cmd.Wait()                  // how it ended says nothing
		<-heard                         // the last answer may still be unread
		if k.lost && k.started.Load() { // it was killed: what it held is this program's now
			k.killed.Store(true)
			endOrphans()
		}
		known.keeper(k.pid, false)
		k.conn.Close()
		close(k.gone)
	}()
	return k, nil
}

// takesOver makes this program the reaper of what a keeper that is killed leaves behind, once.
var takesOver = sync.OnceFunc(reapAbove)

// children are what is known of the children of this program.
type children struct {
	mu      sync.Mutex   // guards the fields below
	keepers map[int]bool // those that have not ended, as far as that was noticed
	// strays are processes that came to this program from elsewhere while all keepers lived, such as a browser whose
	// starter has ended: they belong to no run.
	strays map[int]bool
}

var known = children{keepers: map[int]bool{}, strays: map[int]bool{}}

func (c *children) keeper(pid int, lives bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if lives {
		c.keepers[pid] = true
	} else {
		delete(c.keepers, pid)
	}
}

// changed is called when a child has ended: it waits for those without another waiter, and finds strays.
func (c *children) changed() {
	c.mu.Lock()
	defer c.mu.Unlock()
	adopted := orphans()
	for pid := range c.keepers {
		if syscall.Kill(pid, 0) != nil || isDead(pid) {
			return // they may be of this one
		}
	}
	clear(c.strays)
	for _, pid := range adopted {
		c.strays[pid] = true
	}
}

// left returns what keepers that were killed have left.
func (c *children) left() []int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.DeleteFunc(orphans(), func(pid int) bool { return c.strays[pid] })
}

// tellsApart is set where the children that this program has started can be told from others: package os holds file
// descriptors of them since Linux 5.4.
var (
	tellsApart atomic.Bool
	tellsOnce  = new(sync.Once).Do
)

// orphans returns the children of this program that it did not start. Of those that it did start, package os holds a file
// descriptor until they are waited for (pidfd_open(2)). Orphans that have ended are waited for, by their ids.
func orphans() (pids []int) {
	if !tellsApart.Load() {
		return nil
	}
	// A child that is started meanwhile is held since its beginning, and one that ends meanwhile was held before.
	before, all, after := held(), system.Processes(), held()
	for _, p := range all {
		if p.Parent != os.Getpid() || before[p.PID] || after[p.PID] {
			continue
		}
		if p.Dead {
			var status syscall.WaitStatus
			_, _ = syscall.Wait4(p.PID, &status, syscall.WNOHANG, nil) // nothing else waits for it
			continue
		}
		pids = append(pids, p.PID)
	}
	return pids
}

// orphansFor is how long processes are given to end by KILL.
const orphansFor = 5 * time.Second

// endOrphans ends what killed keepers have left, and all below it.
func endOrphans() {
	signal := func(sig syscall.Signal) (some bool) {
		for _, root := range known.left() {
			some = true
			for _, pid := range append(below(root), root) {
				_ = syscall.Kill(pid, sig) // gone already
			}
		}
		return some
	}
	if !signal(syscall.SIGTERM) {
		return
	}
	signal(syscall.SIGCONT)
	began, sig := time.Now(), syscall.Signal(0)
	for time.Since(began) < orphansFor {
		time.Sleep(killEvery)
		if time.Since(began) > mercy {
			sig = syscall.SIGKILL
		}
		if !signal(sig) {
			return
		}
	}
}

// listen takes the keeper's answers until it ends.
func (k *Keeper) listen() {
	defer close(k.answers)
	defer k.once.Do(func() {
		k.lost = true
		close(k.ended)
	})
	in := json.NewDecoder(k.conn)
	for {
		var a answer
		if in.Decode(&a) != nil {
			return
		}
		if a.Ended {
			k.once.Do(func() {
				k.status, k.usage = syscall.WaitStatus(a.Status), a.Usage
				close(k.ended)
			})
			continue
		}
		k.answers <- a
	}
}

// Start starts the command on the files, which are its standard input, output and error. It
// returns the process id. An error is as of exec.Cmd.Start.
func (k *Keeper) Start(c Command, files [3]*os.File) (pid int, err error) {
	text, err := json.Marshal(wire{[]byte(c.Path), []byte(c.Dir), toBytes(c.Argv), toBytes(c.Env), c.Terminal, c.Group, syscall.Getpgrp()})
	if err != nil {
		return 0, err
	}
	message := append(binary.BigEndian.AppendUint32(nil, uint32(len(text))), text...)
	var fds []int
	for _, f := range append(files[:], c.Files...) {
		fds = append(fds, int(f.Fd()))
	}
	rights := syscall.UnixRights(fds...)
	k.started.Store(true)
	n, _, err := k.conn.WriteMsgUnix(message, rights, nil)
	for err == nil && n < len(message) {
		var more int
		more, err = k.conn.Write(message[n:])
		n += more
	}
	if err != nil {
		return 0, ErrLost
	}
	a, ok := <-k.answers
	switch {
	case !ok:
		return 0, ErrLost
	case a.Errno != 0:
		return 0, &os.PathError{Op: "fork/exec", Path: c.Path, Err: syscall.Errno(a.Errno)}
	case a.Error != "":
		return 0, errors.New(a.Error)
	}
	k.command.Store(int64(a.Started))
	return a.Started, nil
}

// Wait waits until the command has ended, and returns its status. Processes that it started
// may still run.
func (k *Keeper) Wait() (syscall.WaitStatus, error) {
	<-k.ended
	if k.lost {
		return 0, ErrLost
	}
	return k.status, nil
}

// Usage returns what the command used. It must be called after Wait.
func (k *Keeper) Usage() Usage { return k.usage }

// Gone is closed when nothing that the command started is left.
func (k *Keeper) Gone() <-chan struct{} { return k.gone }

// Dismiss ends a keeper that was never given a command. Of one that was, it ends all that it
// keeps.
func (k *Keeper) Dismiss() { k.conn.Close() }

// Kept returns the processes that the keeper holds, those nearest to it first.
func (k *Keeper) Kept() []int {
	if !k.killed.Load() {
		pids := below(k.pid)
		if len(pids) > 0 || listsProcesses() {
			return pids
		}
		select {
		case <-k.ended:
		default:
			if pid := int(k.command.Load()); pid != 0 {
				return []int{pid} // all that is known where the system does not say which processes there are
			}
		}
		return nil
	}
	var all []int
	for _, pid := range known.left() {
		all = append(append(all, pid), below(pid)...)
	}
	return all
}

// isDead reports whether a process has ended and is not waited for yet.
func isDead(pid int) bool {
	p, ok := system.Find(pid)
	return ok && p.Dead
}

// listsProcesses reports whether the system says which processes there are.
func listsProcesses() bool {
	_, ok := system.Find(os.Getpid())
	return ok
}

// below returns the processes below one.
func below(pid int) (pids []int) {
	children := map[int][]int{}
	for _, p := range system.Processes() {
		if !p.Dead {
			children[p.Parent] = append(children[p.Parent], p.PID)
		}
	}
	pids = children[pid]
	for i := 0; i < len(pids); i++ {
		for _, child := range children[pids[i]] {
			if !slices.Contains(pids, child) {
				pids = append(pids, child)
			}
		}
	}
	return pids
}

// receive reads a command, the process group of the program, and the command's files.
func receive(conn *net.UnixConn) (c Command, program int, files []int, err error) {
	buf, oob := make([]byte, 64<<10), make([]byte, syscall.CmsgSpace(maxFiles*4))
	n, oobn, _, _, err := conn.ReadMsgUnix(buf, oob)
	if err != nil || n == 0 {
		return c, 0, nil, io.EOF
	}
	messages, err := syscall.ParseSocketControlMessage(oob[:oobn])
	if err != nil || len(messages) != 1 {
		return c, 0, nil, io.EOF
	}
	if files, err = syscall.ParseUnixRights(&messages[0]); err != nil || len(files) < 3 {
		return c, 0, nil, io.EOF
	}
	text := buf[:n]
	rest := func(until int) error {
		if len(text) >= until {
			return nil
		}
		more := make([]byte, until-len(text))
		_, err := io.ReadFull(conn, more)
		text = append(text, more...)
		return err
	}
	if err := rest(4); err != nil {
		return c, 0, nil, err
	}
	if err := rest(4 + int(binary.BigEndian.Uint32(text))); err != nil {
		return c, 0, nil, err
	}
	var w wire
	if err := json.Unmarshal(text[4:], &w); err != nil {
		return c, 0, nil, err
	}
	return Command{Path: string(w.Path), Argv: toStrings(w.Argv), Env: toStrings(w.Env), Dir: string(w.Dir), Terminal: w.Terminal, Group: w.Group}, w.Program, files, nil
}
