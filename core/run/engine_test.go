package run

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"tidytally/internal/testtree"
)

// handover is a batch system of three scripts, which runs each job at once. It shows that another engine is one file and one
// line.
type handover struct{ dir string }

// handoverScripts are its commands: they keep each job as a process group in the folder jobs.
var handoverScripts = map[string]string{
	"handover": `#!/bin/sh
d=${0%/*}; name=$1 n=$2 script=$3 said=$4; shift 4
[ ! -e "$d/shut" ] || { echo "the kiln is cold" >&2; exit 1; }
id=$$; mkdir -p "$d/jobs"; echo "$name $id" >> "$d/names"; i=0
while [ $i -lt $n ]; do
	: > "$d/jobs/$id.$i"
	(
		for before in "$@"; do while [ -e "$d/jobs/$before" ]; do sleep 0.02; done; done
		[ -z "$*" ] || [ ! -e "$d/failed" ] || { rm -f "$d/jobs/$id.$i"; exit; }
		JOB_INDEX=$i setsid sh "$script" >"$said$i.said" 2>&1 & echo $! > "$d/jobs/$id.$i"
		wait $! || : > "$d/failed"
		rm -f "$d/jobs/$id.$i"
	) </dev/null >/dev/null 2>&1 &
	i=$((i+1))
done
echo $id
`,
	"state": `#!/bin/sh
d=${0%/*}; for f in "$d"/jobs/*; do [ -e "$f" ] || continue; if [ -s "$f" ]; then echo "${f##*/} fires here"; else echo "${f##*/} dries -"; fi; done
`,
	"withdraw": `#!/bin/sh
d=${0%/*}; for j in "$@"; do for f in "$d"/jobs/$j; do [ -s "$f" ] && kill -s TERM -- -$(cat "$f"); done; done
exit 0
`,
}

func (h handover) largest() int  { return 100 }
func (h handover) index() string { return "JOB_INDEX" }

func (h handover) submit(s submission) (string, error) {
	words := append(s.command.Words(), s.name, strconv.Itoa(s.jobs), s.script, strings.TrimSuffix(s.output(""), ".said"))
	for a, jobs := range s.after.on {
		for _, i := range jobs {
			words = append(words, a.ID+"."+strconv.Itoa(i))
		}
	}
	out, err := exec.Command(words[0], words[1:]...).Output()
	if fault := (&exec.ExitError{}); errors.As(err, &fault) {
		return "", errors.New(strings.TrimSpace(string(fault.Stderr)))
	}
	return strings.TrimSpace(string(out)), err
}

func (h handover) queue() (map[element]jobStatus, error) {
	out, err := exec.Command(filepath.Join(h.dir, "state")).Output()
	all := map[element]jobStatus{}
	for line := range strings.Lines(string(out)) {
		var s jobStatus
		var job string
		_, _ = fmt.Sscan(line, &job, &s.state, &s.node)
		id, index, _ := strings.Cut(job, ".")
		i, _ := strconv.Atoi(index)
		s.why = "it " + s.state
		all[element{id, i}] = s
	}
	return all, err
}

func (h handover) cancel(arrays []string, single []element) error {
	var words []string
	for _, id := range arrays {
		words = append(words, id+".*")
	}
	for _, e := range single {
		words = append(words, e.array+"."+strconv.Itoa(e.index))
	}
	return exec.Command(filepath.Join(h.dir, "withdraw"), words...).Run()
}

func (h handover) find(name string) (string, error) {
	text, err := os.ReadFile(filepath.Join(h.dir, "names"))
	for line := range strings.Lines(string(text)) {
		if id, ok := strings.CutPrefix(strings.TrimSpace(line), name+" "); ok {
			return id, nil
		}
	}
	return "", err
}

func (h handover) fate(element) (state, reason string) { return "cold", "" }

// Steps go to a second batch system as to the first: their output, exit codes and problems are its jobs', what waits for them is
// left to it, and a stop ends them there.
func TestASecondBatchSystem(t *testing.T) {
	if _, err := exec.LookPath("setsid"); err != nil {
		t.Skip(err)
	}
	dir := testtree.Lay(t, handoverScripts)
	for name := range handoverScripts {
		if err := os.Chmod(filepath.Join(dir, name), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	engines["handover"] = handover{dir}
	defer delete(engines, "handover")
	jobs := testtree.Folder(t)
	s := with(t, fmt.Sprintf(`
[place.kiln]
run = [%q]
[task.good]
run = "echo a.c:3:5: error: odd; echo in $PWD"
at = "kiln"
[task.bad]
run = "exit 3"
at = "kiln"
[task.chain]
run = "cat made"
before = ["#one", "#two"]
at = "kiln"
[task.one]
run = "sleep 0.2; echo one >> made"
at = "kiln"
[task.two]
run = "echo two >> made"
at = "kiln"
[task.long]
run = "echo started; exec sleep 600"
at = "kiln"
`, filepath.Join(dir, "handover")), Options{Jobs: jobs})
	if snap := s.finish(s.start("good")); snap.State != OK || len(snap.Problems) != 1 || !strings.Contains(printed(t, snap), "in "+s.root) {
		t.Errorf("good: %s, %d problems, %q", snap.Words(), len(snap.Problems), printed(t, snap))
	}
	if snap := s.finish(s.start("chain")); snap.State != OK || len(strings.Fields(printed(t, snap))) != 2 {
		t.Errorf("chain: %s, %q", snap.Words(), printed(t, snap))
	}
	long := s.start("long")
	eventually(t, "the job runs", func() bool {
		return strings.Contains(printedSoFar(long), "started") && long.Main.Snapshot().Node == "here"
	})
	long.Main.Stop()
	if snap := s.finish(long); snap.State != Stopped {
		t.Errorf("stopped: %s", snap.Words())
	}
	if snap := s.finish(s.start("bad")); snap.Code != 3 || snap.State != Failed {
		t.Errorf("bad: %s", snap.Words())
	}
	if err := os.WriteFile(filepath.Join(dir, "shut"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if snap := s.finish(s.start("good")); !strings.Contains(snap.Fault, "the kiln is cold") {
		t.Errorf("refused: %s, %q", snap.Words(), snap.Fault)
	}
	if left, err := os.ReadDir(jobs); err != nil || len(left) > 0 {
		t.Errorf("%d folders of jobs are left, %v", len(left), err)
	}
}
