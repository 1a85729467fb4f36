package keeper

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

// start starts a shell command in a keeper, and returns what it prints.
func start(t *testing.T, script string) (*Keeper, *os.File) {
	t.Helper()
	k, err := New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(k.Dismiss)
	in, err := os.Open(os.DevNull)
	if err != nil {
		t.Fatal(err)
	}
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { r.Close() })
	if _, err := k.Start(Command{Path: "/bin/sh", Argv: []string{"sh", "-c", script}, Env: os.Environ(), Dir: "/", Group: true}, [3]*os.File{in, w, w}); err != nil {
		t.Fatal(err)
	}
	in.Close()
	w.Close()
	return k, r
}

func await(t *testing.T, what string, done <-chan struct{}) {
	t.Helper()
	select {
	case <-done:
	case <-time.After(time.Minute):
		t.Fatalf("%s does not come", what)
	}
}

func TestStatusAndEnd(t *testing.T) {
	for script, want := range map[string]string{"exit 7": "exit 7", "kill -9 $$": "signal 9", "true": "exit 0"} {
		k, _ := start(t, script)
		ws, err := k.Wait()
		got := fmt.Sprintf("exit %d", ws.ExitStatus())
		if ws.Signaled() {
			got = fmt.Sprintf("signal %d", ws.Signal())
		}
		if got != want || err != nil {
			t.Errorf("%s: %s, %v", script, got, err)
		}
		await(t, "the keeper's end", k.Gone())
	}
}

// What left its session and environment is still held after the command has ended, and ends
// with the program.
func TestDaemonsAreHeld(t *testing.T) {
	k, out := start(t, "(env -i setsid sh -c 'trap \"\" TERM; echo up; exec sleep 600' &)")
	if ws, err := k.Wait(); ws.ExitStatus() != 0 || err != nil {
		t.Fatalf("the command: %v, %v", ws, err)
	}
	if _, err := io.ReadFull(out, make([]byte, 3)); err != nil {
		t.Fatal(err)
	}
	if pids := k.Kept(); len(pids) != 1 {
		t.Errorf("held: %v", pids)
	}
	select {
	case <-k.Gone():
		t.Fatal("the keeper ended before the daemon")
	default:
	}
	k.Dismiss() // as at the program's end
	await(t, "the end of all", k.Gone())
}

// What a keeper that is killed leaves is ended: children, daemons that left their session, and what ignores TERM. The
// program's own children are left alone, and are waited for by whoever started them.
func TestWhatAKilledKeeperLeaves(t *testing.T) {
	own := exec.Command("sleep", "600")
	own.SysProcAttr = &syscall.SysProcAttr{Setsid: true} // as a shared connection to another machine has it
	if err := own.Start(); err != nil {
		t.Fatal(err)
	}
	for range 8 {
		k, out := start(t, "trap '' TERM; (env -i setsid sh -c 'trap \"\" TERM; echo up; sleep 601 & sleep 602' &); sh -c 'trap \"\" TERM; echo up; sleep 603; sleep 604'")
		if _, err := io.ReadFull(out, make([]byte, 6)); err != nil {
			t.Fatal(err)
		}
		held := k.Kept()
		for late := time.Now().Add(time.Minute); len(held) < 5; held = k.Kept() { // a shell, its sleep, and the daemon's three
			if time.Now().After(late) {
				t.Fatalf("held: %v", held)
			}
		}
		if err := syscall.Kill(k.pid, syscall.SIGKILL); err != nil {
			t.Fatal(err)
		}
		await(t, "the end of all", k.Gone())
		for _, pid := range held {
			if stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid)); err == nil && !strings.Contains(string(stat), ") Z ") {
				t.Errorf("left: %s", stat)
			}
		}
	}
	// A short-lived child of the program ends while orphans are waited for: its status is its own.
	for range 20 {
		if err := exec.Command("sh", "-c", "exit 3").Run(); err == nil || err.Error() != "exit status 3" {
			t.Errorf("a child of the program: %v", err)
		}
	}
	if err := own.Process.Kill(); err != nil {
		t.Errorf("the program's own child was ended: %v", err)
	}
	if err := own.Wait(); err == nil || err.Error() != "signal: killed" {
		t.Errorf("the program's own child: %v", err)
	}
}

// A keeper that is killed takes its command along, and the program is told.
func TestKeeperKilled(t *testing.T) {
	k, out := start(t, "exec sleep 600")
	if err := syscall.Kill(k.pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Wait(); !errors.Is(err, ErrLost) {
		t.Errorf("told: %v", err)
	}
	_ = out.SetReadDeadline(time.Now().Add(time.Minute)) // it is a pipe: it has deadlines
	if _, err := io.ReadAll(out); err != nil {           // ends when the command has
		t.Error(err)
	}
}

func TestCommandsThatCannotStart(t *testing.T) {
	k, err := New()
	if err != nil {
		t.Fatal(err)
	}
	_, err = k.Start(Command{Path: "/no/such", Argv: []string{"x"}, Dir: "/"}, [3]*os.File{os.Stdin, os.Stdout, os.Stderr})
	if !errors.Is(err, os.ErrNotExist) {
		t.Errorf("got %v", err)
	}
	await(t, "the keeper's end", k.Gone())
	idle, err := New()
	if err != nil {
		t.Fatal(err)
	}
	idle.Dismiss()
	await(t, "the end of an idle keeper", idle.Gone())
}

// A command and environment larger than a socket's buffer arrive whole; signals that the
// keeper keeps off are the command's own; no file of the program's is handed on.
func TestLargeCommandsAndPlainProcesses(t *testing.T) {
	k, err := New()
	if err != nil {
		t.Fatal(err)
	}
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	big := strings.Repeat("x", 100_000)
	env := append(os.Environ(), "A="+big, "B="+big, "C="+big, "D="+big)
	env = append(env, "ODD=\xff\xe9")
	script := "echo ${#A} ${#D} ${#1}; printf '%s %s' \"$ODD\" \"$2\" | od -An -tx1; grep -E 'SigIgn|SigBlk' /proc/self/status; ls /proc/self/fd | wc -l"
	if _, err := k.Start(Command{Path: "/bin/sh", Argv: []string{"sh", "-c", script, "sh", big, "\xfe\n"}, Env: env, Dir: "/"}, [3]*os.File{os.Stdin, w, w}); err != nil {
		t.Fatal(err)
	}
	w.Close()
	out, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	files, err := exec.Command("sh", "-c", "ls /proc/self/fd | wc -l").Output()
	if err != nil {
		t.Fatal(err)
	}
	want := "100000 100000 100000\n ff e9 20 fe 0a\nSigBlk:\t0000000000000000\nSigIgn:\t0000000000000000\n" + string(files)
	if string(out) != want {
		t.Errorf("got %q, want %q", out, want)
	}
}

// A command without a group of its own is in the program's, and the keeper is not: a KILL to the
// program's group leaves it to do its work.
func TestGroups(t *testing.T) {
	k, err := New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(k.Dismiss)
	r, w, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	pid, err := k.Start(Command{Path: "/bin/sh", Argv: []string{"sh", "-c", "echo up; exec sleep 600"}, Dir: "/"}, [3]*os.File{os.Stdin, w, w})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(r, make([]byte, 3)); err != nil {
		t.Fatal(err)
	}
	group := func(pid int) int {
		g, err := syscall.Getpgid(pid)
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	if group(pid) != syscall.Getpgrp() || group(k.pid) != k.pid {
		t.Errorf("the command is in group %d, the keeper %d in %d, the program in %d", group(pid), k.pid, group(k.pid), syscall.Getpgrp())
	}
}

// The children that the program itself starts are its own, whenever they start and end: nothing else waits for them.
func TestItsOwnChildrenAreNotTaken(t *testing.T) {
	k, err := New() // which tells children apart
	if err != nil {
		t.Fatal(err)
	}
	defer k.Dismiss()
	if !tellsApart.Load() {
		t.Skip("children cannot be told apart here")
	}
	done := make(chan struct{})
	var looking sync.WaitGroup
	for range 2 {
		looking.Go(func() {
			for {
				select {
				case <-done:
					return
				default:
					known.changed()
				}
			}
		})
	}
	var running sync.WaitGroup
	for range 4 {
		running.Go(func() {
			for range 200 {
				if err := exec.Command("true").Run(); err != nil {
					t.Error(err)
					return
				}
			}
		})
	}
	running.Wait()
	close(done)
	looking.Wait()
}
