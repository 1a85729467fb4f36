package run

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A long-running task without a ready line is up when it listens on a port, or else when it
// is quiet; what waits for it starts then.
func TestUpWithoutAReadyLine(t *testing.T) {
	t.Parallel()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := free.Addr().(*net.TCPAddr).Port
	free.Close()
	s := with(t, fmt.Sprintf(`[task.serve]
run = "while :; do echo busy; sleep 0.1; done & exec python3 -c 'import socket,time; time.sleep(0.5); s=socket.socket(); s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1); s.bind((\"127.0.0.1\", %d)); s.listen(); time.sleep(600)'"
long_running = true
[task.hum]
run = "echo hum; sleep 600"
long_running = true
[task.late]
run = "exec python3 -c 'import socket,time; time.sleep(4); s=socket.socket(); s.bind((\"127.0.0.1\", 0)); s.listen(); time.sleep(600)'"
long_running = true
[task.use]
run = "echo used"
before = ["#serve"]
`, port), Options{})
	if _, err := os.Stat("/proc/net/tcp"); err != nil {
		t.Skip("no /proc/net")
	}
	j := s.start("use")
	s.finish(j)
	serve := j.Steps[0].Snapshot()
	if serve.UpBy != fmt.Sprintf("as it listens on port %d", port) || serve.Address != fmt.Sprintf("localhost:%d", port) || j.Main.Snapshot().Started.Before(serve.UpSince) {
		t.Errorf("up by %q at %q", serve.UpBy, serve.Address)
	}
	hum, late := s.start("hum"), s.start("late")
	eventually(t, "a quiet task up", func() bool { return hum.Main.Snapshot().State == Up })
	if by := hum.Main.Snapshot().UpBy; by != "as it was quiet for 3s" {
		t.Errorf("up by %q", by)
	}
	eventually(t, "a port after silence", func() bool {
		snap := late.Main.Snapshot()
		return strings.HasPrefix(snap.UpBy, "as it listens on port ") && strings.HasPrefix(snap.Address, "localhost:")
	})
	hum.Main.Stop()
	s.finish(hum)
	late.Main.Stop()
	s.finish(late)
}

// A task that fails unasked is started again, later each time; stopping ends that at once.
func TestRestartOnFailure(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.frail]\nrun = \"echo began >> log; [ $(wc -l < log) -ge 3 ] && { echo now up; sleep 600; }; exit 4\"\nlong_running = true\nready = \"now up\"\nrestart = \"on-failure\"\n[task.hopeless]\nrun = \"exit 5\"\nlong_running = true\nrestart = \"on-failure\"\n", Options{})
	j := s.start("frail")
	eventually(t, "the second start", func() bool { return j.Main.Snapshot().State == Restarting })
	eventually(t, "it being up", func() bool { return j.Main.Snapshot().State == Up })
	if snap := j.Main.Snapshot(); snap.Restarts != 2 {
		t.Errorf("%d restarts", snap.Restarts)
	}
	j.Main.Stop()
	if got := s.finish(j); got.State != Stopped {
		t.Errorf("it ends as %s", got.State)
	}
	data, err := os.ReadFile(filepath.Join(s.root, "log"))
	if err != nil || strings.Count(string(data), "began") != 3 {
		t.Errorf("it began so often: %q (%v)", data, err)
	}
	j = s.start("hopeless")
	eventually(t, "the pause", func() bool { return j.Main.Snapshot().State == Restarting })
	from := time.Now()
	j.Main.Stop()
	if got := s.finish(j); got.State != Stopped || time.Since(from) > firstRestart*4 {
		t.Errorf("stopped in a pause: %s", got.State)
	}
}
