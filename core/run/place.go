package run

import (
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"tidytally/core/crash"
	"tidytally/core/printable"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// Commands that run elsewhere: on another machine by a remote shell, or in a container. A guard there, a few lines for
// sh(1), marks all that the command starts by a variable, so that a stop finds it whatever became of it, and
// keeps an exit code that the remote shell's client uses for itself.

// remote is how a prepared command runs elsewhere.
type remote struct {
	place *tallyfile.Place
	dir   string // there
	token string // of the run
	line  string // the command for the shell there
	env   []string
}

// markVariable marks the processes of a run there.
const markVariable = "TIDYTALLY_PLACE_RUN"

// codeLost is the exit code of ssh(1) for an error of its own.
const codeLost = 255

// goTo makes a prepared command one that runs at a place.
func (p *Prepared) goTo(place *tallyfile.Place, root string) error {
	dir := p.Dir
	if place.Folder != "" {
		rel, err := filepath.Rel(root, p.Dir)
		if err != nil || !filepath.IsLocal(rel) {
			return fmt.Errorf("the folder %s is outside of the workspace, and where that is there is not known", p.Dir)
		}
		dir = path.Join(place.Folder, filepath.ToSlash(rel))
	}
	var token [16]byte
	if _, err := rand.Read(token[:]); err != nil {
		return err
	}
	f := &remote{place: place, dir: dir, token: hex.EncodeToString(token[:]), env: slices.Clone(p.Env)}
	for _, name := range place.Env {
		if value, set := os.LookupEnv(name); set {
			f.env = append(f.env, name+"="+value)
		}
	}
	if f.line = p.Command.Shell; len(p.Command.Argv) > 0 {
		f.line = "exec " + task.QuoteAll(p.Command.Argv)
	}
	p.remote, p.Env = f, nil
	shown := "cd " + task.Quote(dir) + " && " + p.Command.String()
	if engineOf(place) != nil {
		p.Display = task.QuoteAll(place.Command.Words()) + " --wrap " + task.Quote(shown) + "  # as part of an array, with a guard that tells how it ended"
		return nil
	}
	words := append(slices.Clone(place.Command.Words()), f.last(shown)...)
	p.Display = task.QuoteAll(words) + "  # with a guard that tells how it ended and stops it"
	p.Command = task.Command{Argv: append(slices.Clone(place.Command.Words()), f.last(f.guard())...)}
	return nil
}

// remoteDir returns the workspace's folder at the place where a command runs; "" for here.
func (p *Prepared) remoteDir() string {
	if p.remote == nil {
		return ""
	}
	return p.remote.place.Folder
}

// last returns what follows the place's own command so that a shell there runs a script.
func (f *remote) last(script string) []string {
	if f.place.Words {
		return []string{"sh", "-c", script}
	}
	return []string{"exec sh -c " + task.Quote(script)}
}

// note is the file there that keeps an exit code.
func (f *remote) note() string { return `"${TMPDIR:-/tmp}/tidytally-` + f.token + `"` }

// guard is the script that runs the command.
func (f *remote) guard() string {
	var b strings.Builder
	fmt.Fprintf(&b, "cd %s || exit %d; ", task.Quote(f.dir), CodeOwn)
	fmt.Fprintf(&b, "%s=%s; export %s; ", markVariable, f.token, markVariable)
	for _, v := range f.env {
		name, value, _ := strings.Cut(v, "=")
		fmt.Fprintf(&b, "%s=%s; export %s; ", name, task.Quote(value), name)
	}
	fmt.Fprintf(&b, "sh -c %s; code=$?; ", task.Quote(f.line))
	fmt.Fprintf(&b, "[ $code != %d ] || (umask 077; echo $code > %s); exit $code", codeLost, f.note())
	return b.String()
}

// argv returns the command line, by a shared connection if there is one, with a terminal if it has one
// here.
func (f *remote) argv(terminal bool, w *connection) []string {
	words := slices.Clone(f.place.Command.Words())
	if isSSH(words) {
		var more []string
		if terminal {
			more = append(more, "-tt")
		}
		words = slices.Insert(words, 1, append(more, w.options()...)...)
	}
	return append(words, f.last(f.guard())...)
}

func isSSH(words []string) bool { return len(words) > 1 && path.Base(words[0]) == "ssh" }

// asksWithin is how long a place may take to answer about a run.
const asksWithin = 15 * time.Second

// ask runs a script at the place, beside the command, and returns what it printed.
func (f *remote) ask(r *Run, script string, within time.Duration) (string, error) {
	words := slices.Clone(f.place.Command.Words())
	if isSSH(words) {
		words = slices.Insert(words, 1, append([]string{"-o", "BatchMode=yes"}, r.super.connection(f).options()...)...)
	}
	said, faults, err := commandOutput(within, maxAnswer, func(cmd *exec.Cmd) { cmd.Dir = r.Prepared.Dir }, append(words, f.last(script)...)...)
	if err != nil {
		err = fmt.Errorf("%w: %s", err, firstLine(faults))
	}
	return said, err
}

// awaitPlace waits until the place of a command is there, where its place says that steps wait. It returns false if the run was stopped before.
func (r *Run) awaitPlace() bool {
	f := r.Prepared.remote
	if f == nil || !f.place.Waits || engineOf(f.place) != nil { // the engine itself says whether it takes a job
		return true
	}
	for pause := retryFirst; ; pause = min(2*pause, retryLast) {
		err := f.reachable(r)
		if err == nil {
			return true
		}
		r.waitsFor(f.place.Name + ": " + printable.Text(err.Error()))
		select {
		case <-r.halt:
			return false
		case <-time.After(pause):
		}
	}
}

// reachable returns an error that says why the place is not there, as its own question says, or a command that does nothing there.
func (f *remote) reachable(r *Run) error {
	if f.place.There.IsZero() {
		_, err := f.ask(r, "true", asksWithin)
		return err
	}
	said, faults, err := commandOutput(asksWithin, maxAnswer, func(cmd *exec.Cmd) { cmd.Dir = r.Prepared.Dir }, f.place.There.Words()...)
	if first := firstLine(faults + "\n" + said); err != nil && first != "" {
		return errors.New(first)
	}
	return err
}

// ended returns how a command there has ended, once its client has here. fault says what a person should know.
func (f *remote) ended(r *Run) (code int, signal, fault string) {
	r.mu.Lock()
	code, signal, stopping := r.code, r.signal, r.stopping
	r.mu.Unlock()
	switch {
	case signal != "":
		return code, signal, "" // the client itself died of it
	case code > 128 && code < 128+65:
		return code, signalName(syscall.Signal(code - 128)), ""
	case code != codeLost || stopping || !isSSH(f.place.Command.Words()):
		return code, "", ""
	}
	said, err := f.ask(r, "cat "+f.note()+" 2>/dev/null && rm -f "+f.note()+" || echo none", asksWithin)
	if kept, no := strconv.Atoi(strings.TrimSpace(said)); err == nil && no == nil {
		return kept, "", ""
	}
	if err != nil {
		return code, "", fmt.Sprintf("%s cannot be reached, or the connection was lost; what runs there is not known (%v)", f.place.Name, err)
	}
	left := f.stop(r)
	if left == "" {
		left = "nothing of it runs there any more"
	}
	return code, "", fmt.Sprintf("the connection to %s was lost before it ended; %s", f.place.Name, left)
}

// stopper ends all that a run has started at a place: it finds the processes by the mark in their environment
// (proc(5)), sends the run's own signal, then TERM, then KILL, and prints those that are left.
const stopper = `mark=$1 grace=$2; shift 2
left() { grep -lF "$mark" /proc/[0-9]*/environ 2>/dev/null | sed 's,^/proc/,,; s,/environ$,,'; }
for signal in "$@"; do
	pids=$(left); [ -n "$pids" ] || exit 0
	kill -s "$signal" $pids 2>/dev/null
	n=0; while [ $n -lt "$grace" ]; do [ -n "$(left)" ] || exit 0; sleep 0.1; n=$((n+1)); done
done
left`

// stop ends a command there with all that it started. It returns what could not be done; "" if all is gone.
func (f *remote) stop(r *Run) string {
	tenths := max(1, int(r.Prepared.Grace/(100*time.Millisecond)))
	script := "sh -c " + task.Quote(stopper) + " stopper " + markVariable + "=" + f.token + " " + strconv.Itoa(tenths) + " " + task.Quote(r.Prepared.Signal) + " TERM KILL"
	said, err := f.ask(r, script, asksWithin+3*r.Prepared.Grace)
	switch left := strings.Fields(said); {
	case err != nil:
		return fmt.Sprintf("%s does not answer; what runs there goes on, marked with %s=%s (%v)", f.place.Name, markVariable, f.token, err)
	case len(left) > 0:
		return fmt.Sprintf("at %s still runs after KILL: process %s", f.place.Name, strings.Join(left, ", "))
	}
	return ""
}

// connection is one to a place that several commands share: a master of ssh(1), ControlMaster in
// ssh_config(5).
type connection struct {
	dir    string // of the socket
	master *exec.Cmd
	ended  chan struct{}
}

// opensWithin is how long a shared connection may take to open. Without one each command has its own, and may
// ask for a password in its terminal.
const opensWithin = 10 * time.Second

// connection returns the shared connection to the place of a command; it opens it when it is used first.
func (s *Supervisor) connection(f *remote) *connection {
	words := f.place.Command.Words()
	if !isSSH(words) || slices.ContainsFunc(words, func(w string) bool { return strings.Contains(w, "ControlPath") || w == "-S" }) {
		return nil
	}
	s.connecting.Lock()
	defer s.connecting.Unlock()
	if w, known := s.connections[f.place.Name]; known && w.open() {
		return w
	}
	if s.connections == nil {
		s.connections = map[string]*connection{}
	}
	w := connect(words)
	s.connections[f.place.Name] = w
	return w
}

func connect(words []string) *connection {
	dir, err := os.MkdirTemp("", "tt-") // the path of a socket has a hundred bytes at most
	if err != nil {
		return nil
	}
	w := &connection{dir: dir, ended: make(chan struct{})}
	w.master = exec.Command(words[0], slices.Concat([]string{"-o", "BatchMode=yes", "-o", "ControlMaster=yes", "-o", "ControlPersist=no", "-o", "ControlPath=" + w.socket(), "-N"}, words[1:])...)
	w.master.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if w.master.Start() != nil {
		os.RemoveAll(dir)
		return nil
	}
	crash.Go("a place", func() {
		_ = w.master.Wait() // that it has ended counts
		os.RemoveAll(dir)
		close(w.ended)
	}, nil)
	late := time.After(opensWithin)
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for {
		if _, err := os.Stat(w.socket()); err == nil {
			return w
		}
		select {
		case <-w.ended:
			return w
		case <-late:
			w.close()
			return w
		case <-tick.C:
		}
	}
}

func (w *connection) socket() string { return filepath.Join(w.dir, "s") }

// open reports whether the connection goes on.
func (w *connection) open() bool {
	if w == nil {
		return false
	}
	select {
	case <-w.ended:
		return false
	default:
		return true
	}
}

// options are those by which ssh uses the connection.
func (w *connection) options() []string {
	if !w.open() {
		return nil
	}
	return []string{"-o", "ControlMaster=no", "-o", "ControlPath=" + w.socket()}
}

func (w *connection) close() {
	if w.open() {
		_ = syscall.Kill(-w.master.Process.Pid, syscall.SIGTERM) // it may just have ended
		<-w.ended
	}
}

// slotsAt returns the slots of a place.
func (s *Supervisor) slotsAt(p *tallyfile.Place) *slots {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.placeSlots == nil {
		s.placeSlots = map[string]*slots{}
	}
	if s.placeSlots[p.Name] == nil {
		name := p.Name
		s.placeSlots[name] = &slots{limit: func() int {
			ctx := s.Context()
			if n := ctx.Tally.Places[name].Slots; n > 0 {
				return n
			}
			return anyNumber
		}}
	}
	return s.placeSlots[p.Name]
}

// anyNumber is a number of slots that is never reached.
const anyNumber = 1 << 20
