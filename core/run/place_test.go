package run

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/internal/testtree"
)

// remote is a remote shell server of this machine, for tests.
type sshHost struct {
	t      *testing.T
	dir    string
	config string // of the client, with a host box
	server *exec.Cmd
}

// remoteShell starts a remote shell server; it skips the test where there is none.
func remoteShell(t *testing.T) *sshHost {
	t.Helper()
	sshd, err := exec.LookPath("sshd")
	if err != nil {
		sshd = "/usr/sbin/sshd"
	}
	for _, tool := range []string{sshd, "ssh", "ssh-keygen"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip(err)
		}
	}
	if os.Getuid() != 0 {
		t.Skip("the server is started by root alone")
	}
	dir := testtree.Folder(t)
	at := func(name string) string { return filepath.Join(dir, name) }
	for _, key := range []string{"hostkey", "id"} {
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", at(key)).CombinedOutput(); err != nil {
			t.Skipf("%v: %s", err, out)
		}
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Skip(err)
	}
	port := free.Addr().(*net.TCPAddr).Port
	free.Close()
	hostkey, _ := os.ReadFile(at("hostkey.pub"))
	id, _ := os.ReadFile(at("id.pub"))
	testtree.Fill(t, dir, map[string]string{
		"authorized_keys": string(id), "known_hosts": fmt.Sprintf("[127.0.0.1]:%d %s", port, hostkey),
		"sshd_config": fmt.Sprintf("ListenAddress 127.0.0.1\nPort %d\nHostKey %s\nPidFile none\nAuthorizedKeysFile %s\nStrictModes no\nPermitRootLogin prohibit-password\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nUsePAM no\nPrintMotd no\nUseDNS no\nSetEnv SHLVL=1\nMaxSessions 50\nMaxStartups 100\n", port, at("hostkey"), at("authorized_keys")),
		"ssh_config":  fmt.Sprintf("Host box\n  HostName 127.0.0.1\n  Port %d\n  User root\n  IdentityFile %s\n  IdentitiesOnly yes\n  UserKnownHostsFile %s\n  GlobalKnownHostsFile none\n  StrictHostKeyChecking yes\n  BatchMode yes\n  LogLevel ERROR\n", port, at("id"), at("known_hosts")),
	})
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Skip(err)
	}
	s := &sshHost{t: t, dir: dir, config: at("ssh_config"), server: exec.Command(sshd, "-D", "-f", at("sshd_config"), "-E", at("sshd.log"))}
	if err := s.server.Start(); err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() {
		s.server.Process.Kill()
		s.server.Wait()
	})
	for range 200 {
		if exec.Command("ssh", "-F", s.config, "box", "true").Run() == nil {
			return s
		}
		time.Sleep(50 * time.Millisecond) // nobody tells when it listens
	}
	t.Skip("the server does not answer")
	return nil
}

// cut kills the connections of the server, and nothing that runs by them.
func (s *sshHost) cut() {
	s.t.Helper()
	under := func(pid string) []string {
		out, _ := exec.Command("pgrep", "-P", pid, "sshd").Output() // none is no error here
		return strings.Fields(string(out))
	}
	for _, monitor := range under(fmt.Sprint(s.server.Process.Pid)) {
		for _, pid := range append(under(monitor), monitor) {
			exec.Command("kill", "-KILL", pid).Run()
		}
	}
}

// toml declares the server as a place, with the workspace's folder there.
func (s *sshHost) toml(there string) string {
	return fmt.Sprintf("[place.box]\nrun = [\"ssh\", \"-F\", %q, \"box\"]\nfolder = %q\nenv = [\"GLAZE\"]\nslots = 2\n", s.config, there)
}

const farTasks = `
[task.good]
run = "pwd; echo $GLAZE; echo 'a b'"
in = "kiln"
at = "box"
[task.argv]
run = ["printf", "%s|", "a b", "$HOME", "it's", "", "-n"]
at = "box"
[task.bad]
run = "echo \"$PWD/a.c:1:2: error: odd\"; exit 3"
in = "kiln"
at = "box"
[task.dies]
run = "kill -TERM $$"
at = "box"
[task.same]
run = "exit 255"
at = "box"
[task.stays]
run = "nohup sleep 71234 & setsid sleep 71234 & trap '' INT TERM; echo started; while :; do sleep 71234; done"
at = "box"
stop = { grace = "300ms" }
`

// A command at a place prints, ends and dies as it would here; what it says of files is of the workspace, and
// stop ends all that it started there.
func TestAtAPlace(t *testing.T) {
	for _, terminal := range []bool{false, true} {
		t.Run(fmt.Sprintf("terminal %v", terminal), func(t *testing.T) {
			box := remoteShell(t)
			there := testtree.Lay(t, map[string]string{"kiln/a.c": "int a;\n"})
			t.Setenv("GLAZE", "celadon's")
			s := with(t, box.toml(there)+farTasks, Options{Terminal: terminal, Cols: 80, Rows: 24})
			testtree.Fill(t, s.root, map[string]string{"kiln/a.c": "int a;\n"})
			text := func(name string) string {
				t.Helper()
				snap := s.finish(s.start(name))
				if snap.Fault != "" {
					t.Fatal(snap.Fault)
				}
				return strings.ReplaceAll(printed(t, snap), "\r", "")
			}
			if got := text("good"); got != there+"/kiln\nceladon's\na b\n" {
				t.Errorf("good printed %q", got)
			}
			if got := text("argv"); got != "a b|$HOME|it's||-n|" {
				t.Errorf("argv printed %q", got)
			}
			if snap := s.finish(s.start("bad")); snap.Code != 3 || len(snap.Problems) != 1 || snap.Problems[0].File != "kiln/a.c" {
				t.Errorf("bad: %s, %+v\n%s", snap.Words(), snap.Problems, printed(t, snap))
			}
			if snap := s.finish(s.start("dies")); snap.Signal != "TERM" || snap.State != Failed {
				t.Errorf("dies: %s %s", snap.Words(), snap.Fault)
			}
			if snap := s.finish(s.start("same")); snap.Code != 255 || snap.Fault != "" {
				t.Errorf("same: %d %s", snap.Code, snap.Fault)
			}
			job := s.start("stays")
			stays := job.Main
			eventually(t, "it has started", func() bool { return strings.Contains(printedSoFar(job), "started") })
			stays.Stop()
			<-stays.Done()
			eventually(t, "nothing is left", func() bool {
				return exec.Command("pgrep", "-f", "^sleep 71234$").Run() != nil
			})
			if snap := stays.Snapshot(); snap.State != Stopped || snap.Fault != "" {
				t.Errorf("stopped: %s %s", snap.Words(), snap.Fault)
			}
		})
	}
}

// A connection that is lost, and a place that is not there, never look like success, and say what they are.
func TestAPlaceThatGoesAway(t *testing.T) {
	t.Parallel()
	box := remoteShell(t)
	there := testtree.Folder(t)
	s := with(t, box.toml(there)+"[task.long]\nrun = \"echo started; sleep 2\"\nat = \"box\"\n[task.soon]\nrun = \"true\"\nat = \"box\"\n", Options{})
	job := s.start("long")
	long := job.Main
	eventually(t, "it has started", func() bool { return strings.Contains(printedSoFar(job), "started") })
	box.cut()
	<-long.Done()
	if snap := long.Snapshot(); snap.State != Failed || !strings.Contains(snap.Fault, "the connection to box was lost before it ended") {
		t.Errorf("lost: %s %q", snap.Words(), snap.Fault)
	}
	box.server.Process.Kill()
	box.server.Wait()
	s.super.Close()
	s = with(t, box.toml(there)+"[task.soon]\nrun = \"true\"\nat = \"box\"\n", Options{})
	if snap := s.finish(s.start("soon")); snap.State != Failed || !strings.Contains(snap.Fault, "box cannot be reached") || !strings.Contains(printed(t, snap), "refused") {
		t.Errorf("away: %s %q\n%s", snap.Words(), snap.Fault, printed(t, snap))
	}
}

// A place that takes words, such as a container; and no more tasks at once than it has slots.
func TestAPlaceOfWords(t *testing.T) {
	t.Parallel()
	there := testtree.Folder(t)
	s := with(t, fmt.Sprintf("[workspace]\nslots = 8\n[place.pot]\nrun = [\"env\", \"-i\", \"PATH=/usr/bin:/bin\"]\nfolder = %q\nslots = 1\n[task.a]\nat = \"pot\"\nrun = \"echo a >> log; pwd; sleep 0.2; echo a >> log\"\n[task.b]\nat = \"pot\"\nrun = \"echo b >> log; sleep 0.2; echo b >> log\"\n[task.both]\nbefore = [\"#a\", \"#b\"]\n", there), Options{})
	job := s.start("both")
	<-job.Done()
	log, err := os.ReadFile(filepath.Join(there, "log"))
	if got := string(log); err != nil || got != "a\na\nb\nb\n" && got != "b\nb\na\na\n" {
		t.Errorf("%v %q", err, got)
	}
	if got := printed(t, job.Steps[0].Snapshot()); got != there+"\n" {
		t.Errorf("a printed %q", got)
	}
}

// A step waits for a place that is away, with its own words, where the place says so, and begins when it is there.
func TestAPlaceThatIsAway(t *testing.T) {
	t.Parallel()
	s := with(t, `
[place.shed]
run = "env WHERE=shed"
away = "wait"
there = "[ -e open ] || { echo the shed is locked; exit 1; }"
[place.gone]
run = ["false"]
away = "wait"
[task.a]
at = "shed"
run = "echo at $WHERE"
[task.never]
at = "gone"
run = "echo never"
`, Options{})
	never := s.start("never") // without a question of its own the place is asked by a command that does nothing there
	eventually(t, "the place's refusal", func() bool { return strings.HasPrefix(never.Main.Snapshot().WaitsFor, "gone: ") })
	never.Main.Stop()
	s.finish(never)
	away := func(j *Job) func() bool {
		return func() bool { return j.Main.Snapshot().WaitsFor == "shed: the shed is locked" }
	}
	stopped, job := s.start("a"), s.start("a")
	eventually(t, "its words", away(stopped))
	eventually(t, "its words", away(job))
	stopped.Main.Stop()
	if snap := s.finish(stopped); snap.State != Stopped {
		t.Errorf("stopped: %s", snap.Words())
	}
	s.write("open", "")
	if snap := s.finish(job); snap.State != OK || printed(t, snap) != "at shed\n" {
		t.Errorf("%s %q", snap.Words(), printed(t, snap))
	}
}

// The reads of a task are carried to its place, and its results back; a compiler's complaint there opens the file
// here.
func TestFilesAreCarried(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("rsync"); err != nil {
		t.Skip(err)
	}
	box := remoteShell(t)
	there := filepath.Join(testtree.Folder(t), "new", "folder")
	s := with(t, box.toml(there)+"carry = true\n[task.build]\nrun = \"cc -Wall -c -o out/a.o a.c && echo built\"\nin = \"kiln\"\nreads = [\"*.c\", \"out/keep\"]\nmakes = [\"out/*.o\"]\nat = \"box\"\n", Options{})
	testtree.Fill(t, s.root, map[string]string{"kiln/a.c": "int f(void) { int odd; return 0; }\n", "kiln/secret": "", "kiln/out/keep": ""})
	snap := s.finish(s.start("build"))
	text := printed(t, snap)
	if snap.State != OK || !strings.Contains(text, "carried to box: kiln/a.c kiln/out/keep\n") || !strings.Contains(text, "built\n") || !strings.Contains(text, "carried from box: kiln/out/a.o\n") {
		t.Errorf("%s %s\n%s", snap.Words(), snap.Fault, text)
	}
	if _, err := os.Stat(filepath.Join(s.root, "kiln/out/a.o")); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(filepath.Join(there, "kiln/secret")); err == nil {
		t.Error("more was carried than is read")
	}
	if len(snap.Problems) != 1 || snap.Problems[0].File != "kiln/a.c" {
		t.Errorf("%+v", snap.Problems)
	}
	if again := printed(t, s.finish(s.start("build"))); strings.Contains(again, "carried to") {
		t.Errorf("nothing has changed, and it printed\n%s", again)
	}
}
