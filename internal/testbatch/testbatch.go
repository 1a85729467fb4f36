// Package testbatch starts a batch system for tests.
package testbatch

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

// Start starts a Slurm of one node on this machine (slurm.conf(5)), which ends with the test, in a folder that exists and is empty. SLURM_CONF must
// name the file slurm.conf in it. It skips the test where Slurm is not installed.
func Start(t *testing.T, dir string) {
	t.Helper()
	for _, tool := range []string{"munged", "slurmctld", "slurmd", "srun", "sbatch", "sinfo"} {
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
			"ReturnToService=2\nKillWait=2\nMaxJobCount=20000\nMinJobAge=30\nNodeName=%[1]s NodeAddr=127.0.0.1 CPUs=8 RealMemory=1000 State=UNKNOWN\nPartitionName=main Nodes=%[1]s Default=YES MaxTime=INFINITE State=UP\n", host, ports[0], ports[1], dir),
	})
	if err := os.Chmod(at("munge/key"), 0o400); err != nil {
		t.Fatal(err)
	}
	client := func(words ...string) *exec.Cmd {
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Env = append(os.Environ(), "SLURM_CONF="+at("slurm.conf"))
		return cmd
	}
	t.Cleanup(func() {
		client("scancel", "--user=root").Run()
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
		if out, err := client("sinfo", "-h", "-o", "%T").Output(); err == nil && strings.TrimSpace(string(out)) == "idle" {
			return
		}
		time.Sleep(50 * time.Millisecond) // nobody tells when it is up
	}
	t.Skip("the batch system does not come up")
}
