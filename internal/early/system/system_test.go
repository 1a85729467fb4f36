package system

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"
)

// asks runs a program of the system, and skips the test where there is none.
func asks(t *testing.T, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Env = append(os.Environ(), "LC_ALL=C")
	out, err := cmd.Output()
	if err != nil {
		t.Skip(err)
	}
	return string(out)
}

// child starts a process with a name that is hard to read.
func child(t *testing.T) *exec.Cmd {
	t.Helper()
	sleep, err := exec.LookPath("sleep")
	if err != nil {
		t.Skip(err)
	}
	name := t.TempDir() + "/a kiln) Z"
	if err := os.Symlink(sleep, name); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(name, "600")
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
	})
	return cmd
}

// What ps prints, which is read where there is no proc(5), says the same of a process as the system is asked here.
func TestProcessesAsPsSays(t *testing.T) {
	pid := child(t).Process.Pid
	is := func(p Process) bool { return p.PID == pid }
	all := Processes()
	i := slices.IndexFunc(all, is)
	if i < 0 {
		t.Skip("the system does not say which processes there are")
	}
	p := all[i]
	if p.Parent != os.Getpid() || p.Dead || p.Name != "a kiln) Z" {
		t.Errorf("it is %+v", p)
	}
	if found, ok := Find(pid); !ok || found != p {
		t.Errorf("asked alone it is %+v", found)
	}
	table := inTable(asks(t, "ps", append([]string{"-A"}, psColumns...)...))
	if j := slices.IndexFunc(table, is); j < 0 || table[j] != p {
		t.Errorf("by ps there is %+v", table)
	}
	if self, _ := Find(os.Getpid()); self.Group <= 0 || p.Group != self.Group {
		t.Errorf("the groups are %d and %d", self.Group, p.Group)
	}
}

// A process that has ended is dead until it is waited for, and then gone.
func TestDeadProcesses(t *testing.T) {
	cmd := child(t)
	pid := cmd.Process.Pid
	if _, ok := Find(pid); !ok {
		t.Skip("the system does not say which processes there are")
	}
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(time.Minute); ; time.Sleep(time.Millisecond) {
		if p, ok := Find(pid); ok && p.Dead {
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("it does not die")
		}
	}
	table := inTable(asks(t, "ps", append([]string{"-A"}, psColumns...)...))
	if i := slices.IndexFunc(table, func(p Process) bool { return p.PID == pid }); i < 0 || !table[i].Dead {
		t.Errorf("by ps it is not dead")
	}
	_ = cmd.Wait()
	if _, ok := Find(pid); ok {
		t.Error("it is there after it was waited for")
	}
}

// When a process started is the same at each time it is asked, and another for another one.
func TestStarted(t *testing.T) {
	pid := child(t).Process.Pid
	first := Started(pid)
	if first == "" {
		t.Skip("the system does not say it")
	}
	if again := Started(pid); again != first {
		t.Errorf("%q, then %q", first, again)
	}
	if parent := Started(os.Getppid()); parent == first {
		t.Errorf("another process started at %q, too", parent)
	}
	const never = 1 << 30
	if s := Started(never); s != "" {
		t.Errorf("a process that is not there started at %q", s)
	}
	if s := startIn(asks(t, "ps", "-p", fmt.Sprint(pid), "-o", "lstart=")); len(strings.Fields(s)) != 5 {
		t.Errorf("ps says %q", s)
	}
}

// The ports of a program that listens are found, by what other systems print for it as well.
func TestListening(t *testing.T) {
	var want []int
	for _, address := range []string{"127.0.0.1:0", "[::1]:0"} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			continue // no such network here
		}
		defer l.Close()
		want = append(want, l.Addr().(*net.TCPAddr).Port)
	}
	slices.Sort(want)
	got := Listening([]int{os.Getpid()})
	if len(got) == 0 {
		t.Skip("the system does not say it")
	}
	if !slices.Equal(got, want) {
		t.Errorf("ports %v, want %v", got, want)
	}
	if none := Listening(nil); len(none) != 0 {
		t.Errorf("no process listens on %v", none)
	}
	by := portsOfLsof(asks(t, "lsof", "-nP", "-a", "-iTCP", "-sTCP:LISTEN", "-Fpn"), []int{os.Getpid()})
	if !slices.Equal(by, want) {
		t.Errorf("by lsof %v, want %v", by, want)
	}
}

// The forms of manual pages: lsof(8), sockstat(1) of FreeBSD and of NetBSD, ps of macOS.
func TestPrintedForms(t *testing.T) {
	lsof := "p70\nf3\nn127.0.0.1:8080\nf4\nn[::1]:8080\np71\nf9\nn*:631\np72\nf3\nnlocalhost:notaport\n"
	if got := portsOfLsof(lsof, []int{70, 72}); !slices.Equal(got, []int{8080}) {
		t.Errorf("lsof: %v", got)
	}
	free := "potter   kiln serve 812   5  tcp4   127.0.0.1:3000        *:*\npotter   kiln       812   6  tcp6   ::1:3001              *:*\nroot     sshd       700   3  tcp4   *:22                  *:*\npotter   kiln       812   7  udp4   *:53                  *:*\n"
	if got := portsOfSockstat(free, []int{812}); !slices.Equal(got, []int{3000, 3001}) {
		t.Errorf("sockstat of FreeBSD: %v", got)
	}
	net := "USER     COMMAND    PID   FD PROTO  LOCAL ADDRESS         FOREIGN ADDRESS\npotter   kiln       812   5  tcp    127.0.0.1.3000        *.*\nroot     sshd       700   3  tcp    *.22                  *.*\n"
	if got := portsOfSockstat(net, []int{812, 700}); !slices.Equal(got, []int{22, 3000}) {
		t.Errorf("sockstat of NetBSD: %v", got)
	}
	mac := "    1     0     1 Ss   /sbin/launchd\n  501     1   501 S+   /Applications/Kiln Two.app/Contents/MacOS/Kiln Two\n  502   501   501 Z+   (sh)\n  503   501   501 S\n"
	got := inTable(mac)
	if len(got) != 3 || got[1] != (Process{PID: 501, Parent: 1, Group: 501, Name: "Kiln Two"}) || !got[2].Dead {
		t.Errorf("ps of macOS: %+v", got)
	}
}
