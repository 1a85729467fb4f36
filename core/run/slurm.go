package run

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"tidytally/core/printable"
)

// Slurm by its public commands: sbatch(1), squeue(1), scancel(1), scontrol(1), sacct(1). Everything that they print is
// taken for hostile.

// slurm is the engine Slurm.
type slurm struct{}

// largestArray is the number of elements in an array: the default of MaxArraySize in slurm.conf(5) is 1001, and an index is
// below it.
const largestArray = 1000

func (slurm) largest() int  { return largestArray }
func (slurm) index() string { return "SLURM_ARRAY_TASK_ID" }

// engineWithin is how long a command of the batch system may take, and maxQueue the bytes that it may print: a
// hundred for each of a million jobs.
const (
	engineWithin = 30 * time.Second
	maxQueue     = 100 << 20
)

// engineSays runs a command of the batch system and returns what it printed; of an error, its own first words.
func engineSays(words ...string) (string, error) {
	said, faults, err := commandOutput(engineWithin, maxQueue, func(cmd *exec.Cmd) {
		cmd.Env = append(os.Environ(), "SLURM_BITSTR_LEN=0") // lists of array indices are not cut
	}, words...)
	if err == nil {
		return said, nil
	}
	if first := firstLine(faults); first != "" {
		return "", errors.New(printable.Text(strings.TrimPrefix(first, path.Base(words[0])+": error: ")))
	}
	return "", fmt.Errorf("%s: %w", path.Base(words[0]), err)
}

// slurmDependency is the value of --dependency; "" for none.
func slurmDependency(d *dependency) string {
	var ids []string
	for a, elements := range d.on {
		if len(elements) == len(a.Steps) {
			ids = append(ids, a.ID)
			continue
		}
		for _, i := range elements {
			ids = append(ids, element{a.ID, i}.String())
		}
	}
	if len(ids) == 0 {
		return ""
	}
	slices.Sort(ids)
	kind := "afterok"
	if d.whatever {
		kind = "afterany"
	}
	return kind + ":" + strings.Join(ids, ":")
}

func (slurm) submit(s submission) (id string, err error) {
	elements := "0-" + strconv.Itoa(s.jobs-1)
	if s.atOnce > 0 {
		elements += "%" + strconv.Itoa(s.atOnce)
	}
	said := strings.ReplaceAll(s.output("\x00"), "%", "%%")
	said = strings.ReplaceAll(said, "\x00", "%a")
	words := append(slices.Clone(s.command.Words()), "--parsable", "--job-name="+s.name, "--array="+elements, "--output="+said, "--error="+said, "--open-mode=append", "--no-requeue")
	if after := slurmDependency(s.after); after != "" {
		words = append(words, "--dependency="+after, "--kill-on-invalid-dep=yes")
	}
	out, err := engineSays(append(words, s.script)...)
	if err != nil {
		return "", err
	}
	id, _, _ = strings.Cut(strings.TrimSpace(out), ";") // a cluster's name may follow
	if _, err := strconv.ParseUint(id, 10, 64); err != nil {
		return "", fmt.Errorf("%s printed no job id: %s", path.Base(s.command.Words()[0]), printable.Text(out))
	}
	return id, nil
}

// queue asks once for all jobs: those that wait alike are one line for each array.
func (slurm) queue() (map[element]jobStatus, error) {
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	out, err := engineSays("squeue", "--noheader", "--user="+me.Username, "--format=%F|%K|%T|%r|%N")
	if err != nil {
		return nil, err
	}
	return readQueue(out), nil
}

// readQueue reads the lines of an answer; those that are none are left out.
func readQueue(out string) map[element]jobStatus {
	all := map[element]jobStatus{}
	for line := range strings.Lines(out) {
		f := strings.SplitN(strings.TrimSuffix(line, "\n"), "|", 5)
		if len(f) != 5 {
			continue
		}
		s := jobStatus{state: printable.Text(f[2]), why: printable.Text(f[3]), node: printable.Text(f[4])}
		if s.state != "PENDING" || s.why == "" || s.why == "None" {
			s.why = strings.ToLower(s.state)
		}
		eachIndex(f[1], func(i int) { all[element{f[0], i}] = s })
	}
	return all
}

// eachIndex calls f for each index of a list such as 0,4-7,10-20:5%2.
func eachIndex(list string, f func(int)) {
	list, _, _ = strings.Cut(strings.Trim(list, "[]"), "%")
	for part := range strings.SplitSeq(list, ",") {
		part, step, _ := strings.Cut(part, ":")
		from, to, ranged := strings.Cut(part, "-")
		first, err := strconv.Atoi(from)
		if err != nil || first < 0 {
			continue
		}
		last, by := first, 1
		if ranged {
			if last, err = strconv.Atoi(to); err != nil && !errors.Is(err, strconv.ErrRange) { // it is the largest number then
				continue
			}
		}
		if n, err := strconv.Atoi(step); err == nil && n > 0 {
			by = n
		}
		for i := first; i <= last && i < largestArray; i += by {
			f(i)
		}
	}
}

func (slurm) cancel(arrays []string, single []element) error {
	words := append([]string{"scancel"}, arrays...)
	for _, e := range single {
		words = append(words, e.String())
	}
	_, err := engineSays(words...)
	return err
}

func (slurm) find(name string) (string, error) {
	out, err := engineSays("squeue", "--noheader", "--name="+name, "--format=%F")
	if err != nil {
		return "", err
	}
	id, _, _ := strings.Cut(out, "\n")
	return strings.TrimSpace(id), nil
}

func (slurm) fate(e element) (state, reason string) {
	if out, err := engineSays("scontrol", "--oneliner", "show", "job", e.String()); err == nil {
		for field := range strings.FieldsSeq(out) {
			switch name, value, _ := strings.Cut(field, "="); name {
			case "JobState":
				state = printable.Text(value)
			case "Reason":
				reason = printable.Text(value)
			}
		}
		return state, reason
	}
	// It forgets a job after some minutes; the accounting, where there is one, does not.
	if out, err := engineSays("sacct", "--noheader", "--parsable2", "--allocations", "--jobs="+e.String(), "--format=State"); err == nil {
		first, _, _ := strings.Cut(strings.TrimSpace(out), "\n")
		return printable.Text(first), ""
	}
	return "", ""
}
