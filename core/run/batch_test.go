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

// batchSystem starts a Slurm of one node on this machine (slurm.conf(5)); it skips the test where there is none.
func batchSystem(t *testing.T) {
	t.Helper()
	for _, tool := range []string{"munged", "slurmctld", "slurmd", "srun", "sinfo"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip(err)
		}
	}
	if os.Getuid() != 0 {
		t.Skip("the batch system is started by root alone")
	}
	host, err := os.Hostname()
	if err != nil {
		t.Skip(err)
	}
	host, _, _ = strings.Cut(host, ".")
	dir := testtree.Folder(t)
	at := func(name string) string { return filepath.Join(dir, name) }
	var ports [2]int
	for i := range ports {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Skip(err)
		}
		ports[i] = l.Addr().(*net.TCPAddr).Port
		l.Close()
	}
	for _, name := range []string{"state", "spool", "munge"} {
		if err := os.Mkdir(at(name), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	testtree.Fill(t, dir, map[string]string{
		"munge/key": strings.Repeat("a key of a kiln ", 64),
		"slurm.conf": fmt.Sprintf("ClusterName=scratch\nSlurmctldHost=%[1]s(127.0.0.1)\nSlurmctldPort=%[2]d\nSlurmdPort=%[3]d\nSlurmUser=root\nSlurmdUser=root\nAuthType=auth/munge\nAuthInfo=socket=%[4]s/munge/sock\n"+
			"StateSaveLocation=%[4]s/state\nSlurmdSpoolDir=%[4]s/spool\nSlurmctldPidFile=%[4]s/ctld.pid\nSlurmdPidFile=%[4]s/d.pid\nSlurmctldLogFile=%[4]s/ctld.log\nSlurmdLogFile=%[4]s/d.log\n"+
			"ProctrackType=proctrack/linuxproc\nTaskPlugin=task/none\nJobAcctGatherType=jobacct_gather/none\nAccountingStorageType=accounting_storage/none\nSelectType=select/cons_tres\nSelectTypeParameters=CR_CPU\n"+
			"SchedulerType=sched/backfill\nSchedulerParameters=sched_interval=1,bf_interval=1,batch_sched_delay=0,sched_min_interval=0\nSlurmdParameters=config_overrides\nMpiDefault=none\nCommunicationParameters=NoInAddrAny,NoCtldInAddrAny\n"+
			"ReturnToService=2\nKillWait=2\nNodeName=%[1]s NodeAddr=127.0.0.1 CPUs=4 RealMemory=1000 State=UNKNOWN\nPartitionName=main Nodes=%[1]s Default=YES MaxTime=INFINITE State=UP\n", host, ports[0], ports[1], dir),
	})
	if err := os.Chmod(at("munge/key"), 0o400); err != nil {
		t.Fatal(err)
	}
	t.Setenv("SLURM_CONF", at("slurm.conf"))
	t.Cleanup(func() {
		for _, name := range []string{"d.pid", "ctld.pid", "munge/pid"} {
			text, err := os.ReadFile(at(name))
			if err != nil {
				continue
			}
			pid := strings.TrimSpace(string(text))
			exec.Command("kill", pid).Run()
			for range 200 { // they write into their folders to the end
				if exec.Command("kill", "-0", pid).Run() != nil {
					break
				}
				time.Sleep(50 * time.Millisecond)
			}
		}
	})
	for _, words := range [][]string{
		{"munged", "--force", "--socket=" + at("munge/sock"), "--key-file=" + at("munge/key"), "--log-file=" + at("munge/log"), "--pid-file=" + at("munge/pid"), "--seed-file=" + at("munge/seed")},
		{"slurmctld", "-c", "-f", at("slurm.conf")},
		{"slurmd", "-f", at("slurm.conf"), "-N", host},
	} {
		if err := exec.Command(words[0], words[1:]...).Run(); err != nil { // they keep their output open
			t.Skipf("%s: %v", words[0], err)
		}
	}
	for range 200 {
		if out, err := exec.Command("sinfo", "-h", "-o", "%T").Output(); err == nil && strings.TrimSpace(string(out)) == "idle" {
			return
		}
		time.Sleep(50 * time.Millisecond) // nobody tells when it is up
	}
	t.Skip("the batch system does not come up")
}

// Steps that run in a batch system, by its own command: their output, exit codes and signals are those of the jobs,
// and a stop leaves no job and no process.
func TestAtABatchSystem(t *testing.T) {
	batchSystem(t)
	s := with(t, `
[place.batch]
run = ["srun", "--quiet"]
slots = 2
[task.good]
run = "echo job $SLURM_JOB_ID"
at = "batch"
[task.bad]
run = "exit 3"
at = "batch"
[task.dies]
run = "kill -TERM $$"
at = "batch"
[task.long]
run = "setsid sleep 71236 & echo started; sleep 71236"
at = "batch"
stop = { grace = "300ms" }
`, Options{})
	if snap := s.finish(s.start("good")); snap.State != OK || !strings.HasPrefix(printed(t, snap), "job ") {
		t.Errorf("good: %s %s", snap.Words(), printed(t, snap))
	}
	if snap := s.finish(s.start("bad")); snap.Code != 3 {
		t.Errorf("bad: %s", snap.Words())
	}
	if snap := s.finish(s.start("dies")); snap.Signal != "TERM" {
		t.Errorf("dies: %s", snap.Words())
	}
	job := s.start("long")
	eventually(t, "it has started", func() bool { return strings.Contains(printedSoFar(job), "started") })
	job.Main.Stop()
	<-job.Done()
	eventually(t, "no job and no process is left", func() bool {
		jobs, err := exec.Command("squeue", "-h").Output()
		return err == nil && len(jobs) == 0 && exec.Command("pgrep", "-f", "^sleep 71236$").Run() != nil
	})
}
