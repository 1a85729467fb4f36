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
	"tidytally/core/task"
)

// Slurm by its public commands: sbatch(1), squeue(1), scancel(1), scontrol(1), sacct(1). Everything that they print is
// taken for hostile.

// largestArray is the number of elements in an array: the default of MaxArraySize in slurm.conf(5) is 1001, and an index is
// below it.
const largestArray = 1000

// engineWithin is how long a command of the batch system may take, and maxQueue the bytes that it may print: a
// hundred for each of a million jobs.
const (
	engineWithin = 30 * time.Second
	maxQueue     = 100 << 20
)

// engineSays runs a command of the batch system and returns what it printed; of an error, its own first words.
func engineSays(words ...string) (string, error) {
	said, faults, err := hear(engineWithin, maxQueue, func(cmd *exec.Cmd) {
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

// dependency is what an array waits for: elements of arrays that were handed over before.
type dependency struct {
	kind string           // afterok, or afterany
	on   map[*array][]int // the elements; all of them if there are as many
}

// words is the value of --dependency; "" for none.
func (d *dependency) words() string {
	var ids []string
	for a, elements := range d.on {
		if len(elements) == len(a.Steps) {
			ids = append(ids, a.ID)
			continue
		}
		for _, i := range elements {
			ids = append(ids, a.ID+"_"+strconv.Itoa(i))
		}
	}
	if len(ids) == 0 {
		return ""
	}
	slices.Sort(ids)
	return d.kind + ":" + strings.Join(ids, ":")
}

// submit hands an array of n elements over; script runs each, and said is where the engine's own words about one go. It returns the
// engine's id.
func submit(command task.Command, name, script, said string, n, atOnce int, after string) (id string, err error) {
	elements := "0-" + strconv.Itoa(n-1)
	if atOnce > 0 {
		elements += "%" + strconv.Itoa(atOnce)
	}
	words := append(slices.Clone(command.Words()), "--parsable", "--job-name="+name, "--array="+elements, "--output="+said, "--error="+said, "--open-mode=append", "--no-requeue")
	if after != "" {
		words = append(words, "--dependency="+after, "--kill-on-invalid-dep=yes")
	}
	out, err := engineSays(append(words, script)...)
	if err != nil {
		return "", err
	}
	id, _, _ = strings.Cut(strings.TrimSpace(out), ";") // a cluster's name may follow
	if _, err := strconv.ParseUint(id, 10, 64); err != nil {
		return "", fmt.Errorf("%s says no job's number: %s", path.Base(command.Words()[0]), printable.Text(out))
	}
	return id, nil
}

// element is one job of an array, as the engine names it.
type element struct {
	array string
	index int
}

func (e element) String() string { return e.array + "_" + strconv.Itoa(e.index) }

// standing is what the engine says of a job that it has.
type standing struct {
	state  string // as in squeue(1), JOB STATE CODES: PENDING, RUNNING, COMPLETING …
	reason string
	node   string
}

// why says in the engine's words why a job does not run yet.
func (s *standing) why() string {
	if s.state == "PENDING" && s.reason != "" && s.reason != "None" {
		return s.reason
	}
	return strings.ToLower(s.state)
}

// queue asks once for all jobs of this user. Those that wait alike are one line for each array.
func queue() (map[element]standing, error) {
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
func readQueue(out string) map[element]standing {
	all := map[element]standing{}
	for line := range strings.Lines(out) {
		f := strings.SplitN(strings.TrimSuffix(line, "\n"), "|", 5)
		if len(f) != 5 {
			continue
		}
		s := standing{state: printable.Text(f[2]), reason: printable.Text(f[3]), node: printable.Text(f[4])}
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
			if last, err = strconv.Atoi(to); err != nil {
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

// cancel ends jobs: whole arrays by their id.
func cancel(elements []string) error {
	_, err := engineSays(append([]string{"scancel"}, elements...)...)
	return err
}

// arrayNamed returns the id of an array by its name; "" if there is none.
func arrayNamed(name string) (string, error) {
	out, err := engineSays("squeue", "--noheader", "--name="+name, "--format=%F")
	if err != nil {
		return "", err
	}
	id, _, _ := strings.Cut(out, "\n")
	return strings.TrimSpace(id), nil
}

// fate says in the engine's words how a job ended that it has no longer in its queue: its state, and why.
func fate(e element) (state, reason string) {
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
