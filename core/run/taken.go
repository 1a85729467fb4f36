package run

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"github.com/google/renameio/v2"

	"tidytally/core/plan"
)

// What is kept of a job at a batch system, in its folder, and how a later program takes it up. The folder has plan.json, a lock, and for each array
// array-NUMBER.array, a note in JSON, with array-NUMBER.run, its script, and the engine's own words about each element. Each step has STEP.run,
// its own script, STEP.begin, whose time is that of its beginning, STEP.out and, when it has ended, STEP.end with its exit code.

// array is the note of what was handed over at once.
type array struct {
	ID    string `json:"id"` // the engine's; "" until it has answered
	Name  string `json:"name"`
	Steps []int  `json:"steps"` // of the plan, by the index in the array
}

// note is what is kept of a job, so that a later program can take it up.
type note struct {
	Plan *plan.Plan `json:"plan"`
	Args []string   `json:"args"`
}

// jobFolder is the folder of a job at a batch system.
type jobFolder struct {
	path   string
	lock   *os.File
	arrays int
}

// lockFolder takes the lock of a job's folder; it is free again when the program ends, however that happens.
func lockFolder(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// makeFolder makes the folder of a job, once.
func (j *Job) makeFolder() error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.folder != nil {
		return nil
	}
	base := j.super.opts.Jobs
	if base == "" {
		base = j.super.spools.Path()
	}
	if err := os.MkdirAll(base, 0o700); err != nil {
		return err
	}
	dir, err := os.MkdirTemp(base, "job-")
	if err != nil {
		return err
	}
	lock, err := lockFolder(dir)
	if err != nil {
		return err
	}
	args, _ := j.Plan.Task.WithoutSecrets(j.Main.Args)
	text, err := json.Marshal(note{j.Plan, args})
	if err == nil {
		err = renameio.WriteFile(filepath.Join(dir, "plan.json"), text, 0o600)
	}
	if err != nil {
		lock.Close()
		return err
	}
	j.folder = &jobFolder{path: dir, lock: lock}
	return nil
}

// dropFolder removes the folder of a job whose steps have all ended, or leaves it to a later program.
func (j *Job) dropFolder() {
	if j.folder == nil {
		return
	}
	if !slices.ContainsFunc(j.Steps, func(r *Run) bool { return r.Snapshot().State == Left }) {
		_ = os.RemoveAll(j.folder.path) // a rest is taken up, and found to be in the history
	}
	j.folder.lock.Close()
}

func (a *array) write(base string) error {
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	return renameio.WriteFile(base+".array", text, 0o600)
}

// TakeUp goes on with the jobs that batch systems have run since a program ended that had begun them. Steps that it had not begun here
// by then are not run. Jobs of a program that runs are not touched. It returns the jobs, and what could not be taken up.
func (s *Supervisor) TakeUp() (jobs []*Job, err error) {
	if s.opts.Jobs == "" {
		return nil, nil
	}
	dirs, listed := os.ReadDir(s.opts.Jobs)
	if errors.Is(listed, os.ErrNotExist) {
		return nil, nil
	}
	err = listed
	for _, d := range dirs {
		j, one := s.takeUp(filepath.Join(s.opts.Jobs, d.Name()))
		if one != nil {
			err = errors.Join(err, fmt.Errorf("%s: %w", filepath.Join(s.opts.Jobs, d.Name()), one))
		}
		if j != nil {
			jobs = append(jobs, j)
		}
	}
	return jobs, err
}

func (s *Supervisor) takeUp(dir string) (*Job, error) {
	lock, err := lockFolder(dir)
	if err != nil {
		return nil, nil //nolint:nilerr // another program has it
	}
	given := false
	defer func() {
		if !given {
			lock.Close()
		}
	}()
	text, err := os.ReadFile(filepath.Join(dir, "plan.json"))
	if errors.Is(err, os.ErrNotExist) {
		return nil, os.RemoveAll(dir) // it ended before it handed anything over
	}
	if err != nil {
		return nil, err
	}
	n, err := readNote(text)
	if err != nil {
		return nil, fmt.Errorf("plan.json does not hold a plan: %w", err)
	}
	names, err := filepath.Glob(filepath.Join(dir, "array-*.array"))
	if err != nil {
		return nil, err
	}
	var arrays []*array
	j, err := s.assemble(n.Plan, n.Args)
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		a, err := j.readArray(name)
		if err != nil {
			return nil, err
		}
		if a.ID != "" {
			arrays = append(arrays, a)
		}
	}
	if len(arrays) == 0 {
		return nil, os.RemoveAll(dir)
	}
	j.folder = &jobFolder{path: dir, lock: lock, arrays: len(names)}
	j.takenUp = true
	for _, a := range arrays {
		for index, step := range a.Steps {
			h := j.Steps[step].handed
			if h.array != nil {
				return nil, fmt.Errorf("step %d is in two arrays", step)
			}
			h.array, h.index = a, index
			j.Steps[step].setElsewhere(h)
			close(h.given)
		}
	}
	for i, r := range j.Steps {
		for _, k := range n.Plan.Steps[i].After {
			if k >= 0 && k < len(j.Steps) && j.bothHanded(i, k) != nil {
				r.handed.after = append(r.handed.after, j.Steps[k].handed)
			}
		}
	}
	given = true
	n.Plan.Task = n.Plan.Steps[n.Plan.Main].Task
	s.beginJob(j)
	return j, nil
}

// readNote reads what is noted of a job, and checks that its steps name each other.
func readNote(text []byte) (n note, err error) {
	if err := json.Unmarshal(text, &n); err != nil {
		return n, err
	}
	if n.Plan == nil {
		return n, errors.New("there is none")
	}
	is := func(k int) bool { return k >= 0 && k < len(n.Plan.Steps) }
	if !is(n.Plan.Main) {
		return n, fmt.Errorf("its main step is %d of %d", n.Plan.Main, len(n.Plan.Steps))
	}
	for i, s := range n.Plan.Steps {
		if s.Task == nil {
			return n, fmt.Errorf("step %d has no task", i)
		}
		for _, k := range append(append([]int{s.Of}, s.After...), s.With...) {
			if !is(k) || k == i && k != s.Of {
				return n, fmt.Errorf("step %d names step %d of %d", i, k, len(n.Plan.Steps))
			}
		}
	}
	return n, nil
}

// readArray reads the note of an array. One whose engine had not answered yet is looked for by its name.
func (j *Job) readArray(name string) (*array, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	var a array
	if err := json.Unmarshal(text, &a); err != nil {
		return nil, err
	}
	for _, step := range a.Steps {
		if step < 0 || step >= len(j.Steps) || !j.Steps[step].batched() {
			return nil, fmt.Errorf("step %d of %s is none of the plan", step, a.Name)
		}
	}
	if a.ID == "" && len(a.Steps) > 0 {
		a.ID, err = engineOf(j.Steps[a.Steps[0]].Prepared.remote.place).find(a.Name)
	}
	return &a, err
}

// attend goes on with a step that the engine had from a program before this one.
func (r *Run) attend() {
	if err := r.openOutput(); err != nil {
		r.cannotBegin(err)
		return
	}
	b := r.super.batchAt(r.Prepared.remote.place)
	b.mu.Lock()
	b.given = append(b.given, r.handed)
	b.work()
	b.mu.Unlock()
}
