//go:build linux

package keeper

import (
	"io"
	"os"
	"os/exec"
	"syscall"
	"testing"
)

// Where /proc is hidden, as in some containers, the command and its group are ended all the same, and the keeper does not stay.
func TestWithoutProc(t *testing.T) {
	if os.Getenv("PROC_IS_HIDDEN") == "" {
		// The mount is seen in a name space of its own alone (mount_namespaces(7)).
		cmd := exec.Command("sh", "-c", `mount -t tmpfs none /proc && exec "$0" -test.run '^TestWithoutProc$'`, os.Args[0])
		cmd.SysProcAttr = &syscall.SysProcAttr{Unshareflags: syscall.CLONE_NEWNS}
		cmd.Env = append(os.Environ(), "PROC_IS_HIDDEN=1")
		if exec.Command("unshare", "--mount", "mount", "-t", "tmpfs", "none", "/proc").Run() != nil {
			t.Skip("/proc cannot be hidden here")
		}
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%v\n%s", err, out)
		}
		return
	}
	k, out := start(t, "trap '' TERM; echo up; sleep 600; sleep 601")
	if _, err := io.ReadFull(out, make([]byte, 3)); err != nil {
		t.Fatal(err)
	}
	if pids := k.Kept(); len(pids) != 1 {
		t.Errorf("held: %v", pids)
	}
	k.Dismiss() // as at the program's end
	await(t, "the keeper's end", k.Gone())
	if _, err := k.Wait(); err == nil {
		t.Error("the command ended by itself")
	}
	if pids := k.Kept(); len(pids) != 0 {
		t.Errorf("held afterwards: %v", pids)
	}
	if rest, _ := io.ReadAll(out); len(rest) != 0 { // all ends of the pipe are closed
		t.Errorf("it went on: %q", rest)
	}
}
