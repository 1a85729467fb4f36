package history

import (
	"bytes"
	"compress/gzip"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"tidytally/core/commit"
	"tidytally/core/output"
	"tidytally/core/plan"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/secret"
)

// Recorder writes runs into a store as they begin and end.
type Recorder struct {
	store *Store
	// Fault is called with what was not kept, and why; may be nil.
	fault func(error)
	owner string

	mu      sync.Mutex // guards the fields below
	open    map[*run.Run]int64
	jobs    map[*run.Job]int64
	ids     map[*run.Run]int64 // of the newest pass of each run
	kept    map[*run.Run]bool  // whose end another program has written
	before  map[*run.Run]Known // what was known before runs that go on, as far as it was asked
	awaited string             // the folder of spools that is marked as to be stored
	commit  commit.Commit
	asked   time.Time // when the commit was
	outputs sync.WaitGroup
}

// NewRecorder returns a recorder for a store. fault is told what could not be kept; may be nil.
func NewRecorder(s *Store, fault func(error)) *Recorder {
	if fault == nil {
		fault = func(error) {}
	}
	s.tell = fault
	return &Recorder{store: s, fault: fault, owner: ownerNow(), open: map[*run.Run]int64{}, jobs: map[*run.Job]int64{}, ids: map[*run.Run]int64{}, kept: map[*run.Run]bool{}, before: map[*run.Run]Known{}}
}

// Finish waits until all outputs are stored.
func (r *Recorder) Finish() { r.outputs.Wait() }

// IDOf returns the number of a run, of its newest pass; 0 if it is not kept.
func (r *Recorder) IDOf(of *run.Run) int64 {
	if r == nil {
		return 0
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.ids[of]
}

// commitEvery is how long an answer about the commit holds: the steps of a plan stand at one.
const commitEvery = 2 * time.Second

func (r *Recorder) commitNow() commit.Commit {
	r.mu.Lock()
	defer r.mu.Unlock()
	if time.Since(r.asked) > commitEvery {
		r.commit, r.asked = commit.Of(r.store.root), time.Now()
	}
	return r.commit
}

// Began writes a run that has started.
func (r *Recorder) Began(of *run.Run) {
	r.mu.Lock()
	_, again := r.open[of] // it was started again after it failed
	r.mu.Unlock()
	if again {
		return
	}
	s := of.Snapshot()
	if s.Elsewhere != "" && r.takeOver(of, &s) {
		return
	}
	if _, err := whole(r.store, func() (int64, error) { return r.insert(of, &s) }); err != nil {
		r.fault(fmt.Errorf("%s is not kept: %w", s.Prepared.Task.ShownID(), err))
	}
}

// takeOver goes on with the row of a run that a program before this one has begun. It reports whether there is one.
func (r *Recorder) takeOver(of *run.Run, s *run.Snapshot) bool {
	var id, job int64
	var ended bool
	if r.store.db.QueryRow(`SELECT id, job, "end" IS NOT NULL FROM run WHERE elsewhere = ?1 AND elsewhere != ''`, s.Elsewhere).Scan(&id, &job, &ended) != nil {
		return false
	}
	r.mu.Lock()
	r.ids[of] = id
	if r.jobs[of.Job()] == 0 {
		r.jobs[of.Job()] = job
	}
	if ended {
		r.kept[of] = true
	} else {
		r.open[of] = id
	}
	r.mu.Unlock()
	if !ended {
		if _, err := r.store.db.Exec("UPDATE run SET owner = ?, spool = ?, start = ? WHERE id = ?", r.owner, s.Spool, s.Started.UnixNano(), id); err != nil {
			r.fault(fmt.Errorf("%s is not kept: %w", s.Prepared.Task.ShownID(), err))
		}
	}
	return true
}

// insert writes the row of a run.
func (r *Recorder) insert(of *run.Run, s *run.Snapshot) (int64, error) {
	c := r.commitNow()
	job, step := of.Job(), plan.Main
	if i := slices.Index(job.Steps, of); i >= 0 {
		step = job.Plan.Steps[i].Role
	}
	r.mu.Lock()
	leader := r.jobs[job]
	if dir := filepath.Dir(s.Spool); s.Spool != "" && dir != r.awaited {
		r.awaited = dir
		_ = output.Await(dir, r.store.path) // else only an output is lost if the program is killed
	}
	r.mu.Unlock()
	more := s.Prepared.Task.Secrets
	args, _ := s.Prepared.Task.WithoutSecrets(s.Args)
	env := secret.Environment(s.Prepared.Env, more)
	command := of.Mask()(s.Prepared.Display)
	res, err := r.store.db.Exec(`INSERT INTO run (job, role, task, args, command, dir, env, hash, dirty, start, state, spool, spoolStart, owner, elsewhere)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, 'running', ?, ?, ?, ?)`,
		leader, step, s.Prepared.Task.ID(), list(args), command, s.Prepared.Dir, list(env), c.Hash, c.Dirty, s.Started.UnixNano(), s.Spool, startOf(s), r.owner, s.Elsewhere)
	if err != nil {
		return 0, err
	}
	id, err := res.LastInsertId()
	if err != nil {
		return 0, err
	}
	r.mu.Lock()
	r.open[of], r.ids[of] = id, id
	delete(r.before, of) // that of the pass before
	if leader == 0 {
		r.jobs[job] = id
	}
	r.mu.Unlock()
	if leader == 0 { // the first step stands for the job until its task runs
		_, err = r.store.db.Exec("UPDATE run SET job = ? WHERE id = ?", id, id)
	}
	if job.Main == of && leader != 0 {
		r.mu.Lock()
		r.jobs[job] = id
		r.mu.Unlock()
		_, err = r.store.db.Exec("UPDATE run SET job = ? WHERE job = ?", id, leader)
	}
	return id, err
}

// Ended writes how a run, or its newest pass, ended and returns what became of its problems; nil if that is not kept.
func (r *Recorder) Ended(of *run.Run) *Verdict {
	s := of.Snapshot()
	r.mu.Lock()
	id, begun := r.open[of]
	delete(r.open, of)
	kept := r.kept[of]
	r.mu.Unlock()
	if kept { // by a program before this one
		v, err := r.store.Verdict(r.IDOf(of))
		if err != nil {
			r.fault(fmt.Errorf("the problems of %s: %w", s.Prepared.Task.ShownID(), err))
		}
		return v
	}
	if !begun {
		if !s.Prepared.Command.IsZero() && s.State != run.Failed {
			return nil // it was stopped while it waited
		}
		var err error
		if id, err = r.insertEnded(of, &s); err != nil {
			r.fault(fmt.Errorf("%s is not kept: %w", s.Prepared.Task.ShownID(), err))
			return nil
		}
	}
	before, err := r.Before(of)
	if err != nil {
		r.fault(fmt.Errorf("the problems before this run of %s: %w", s.Prepared.Task.ShownID(), err))
	}
	r.mu.Lock()
	delete(r.before, of)
	r.mu.Unlock()
	v, err := r.store.end(id, of, &s, before)
	if errors.Is(err, errNoRow) { // it was lost with a damaged store
		if id, err = r.insertEnded(of, &s); err == nil {
			v, err = r.store.end(id, of, &s, before)
		}
	}
	if err != nil {
		r.fault(fmt.Errorf("how %s ended is not kept: %w", s.Prepared.Task.ShownID(), err))
		return nil
	}
	if s.Bytes > 0 && s.Spool != "" {
		r.keepOutput(id, &s)
	} else if err := r.store.trim(); err != nil {
		r.fault(fmt.Errorf("old runs are not removed: %w", err))
	}
	return v
}

// Before returns what is known before a run that goes on, or the newest pass of it.
func (r *Recorder) Before(of *run.Run) (Known, error) {
	r.mu.Lock()
	before, known := r.before[of]
	id := r.ids[of]
	r.mu.Unlock()
	if known {
		return before, nil
	}
	before, err := whole(r.store, func() (Known, error) { return beforeOf(&r.store.db, of.Prepared.Task, id) })
	r.mu.Lock()
	defer r.mu.Unlock()
	if err == nil && r.ids[of] == id {
		r.before[of] = before
	}
	return before, err
}

// insertEnded writes the row of a run that is not open any more.
func (r *Recorder) insertEnded(of *run.Run, s *run.Snapshot) (int64, error) {
	id, err := whole(r.store, func() (int64, error) { return r.insert(of, s) })
	r.mu.Lock()
	delete(r.open, of)
	r.mu.Unlock()
	return id, err
}

// stateOf returns the state of a run that has ended, as the store calls it.
func stateOf(s *run.Snapshot) string {
	switch {
	case s.TimedOut:
		return "timedOut"
	case s.State == run.Stopped:
		return "stopped"
	case s.State == run.Failed || s.State == run.Watching && s.Code != 0:
		return "failed"
	}
	return "ok"
}

// soon is the size in bytes of an output that is stored before the run counts as ended: a
// larger one is stored behind it.
const soon = 128 << 10

// startOf returns the byte at which the output of the newest pass begins.
func startOf(s *run.Snapshot) int64 {
	if n := len(s.Passes); n > 0 {
		return s.Passes[n-1].StartByte
	}
	return 0
}

// keepOutput stores what a run printed.
func (r *Recorder) keepOutput(id int64, s *run.Snapshot) {
	from := startOf(s)
	size := s.Bytes - from
	// The spool may be removed at any moment; an open file stays.
	f, err := os.Open(s.Spool)
	if err != nil {
		r.fault(fmt.Errorf("the output of %s is not kept: %w", s.Prepared.Task.ShownID(), err))
		return
	}
	name := s.Prepared.Task.ShownID()
	work := func() {
		defer f.Close()
		if err := r.store.putOutput(id, io.NewSectionReader(f, from, size)); err != nil {
			r.fault(fmt.Errorf("the output of %s is not kept: %w", name, err))
		}
	}
	if size <= soon {
		work()
		return
	}
	r.outputs.Go(work)
}

// putOutput compresses and stores an output, and keeps the store within its bounds.
func (s *Store) putOutput(id int64, from *io.SectionReader) error {
	return s.wholly(func() error {
		cut := max(0, from.Size()-s.limit.Output)
		if _, err := from.Seek(cut, io.SeekStart); err != nil {
			return err
		}
		var b bytes.Buffer
		z, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed) // the level is one
		if _, err := io.Copy(z, from); err != nil {
			return err
		}
		if err := z.Close(); err != nil {
			return err
		}
		tx, err := s.db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if _, err := tx.Exec("INSERT OR REPLACE INTO output (run, size, cut, data) VALUES (?, ?, ?, ?)", id, b.Len(), cut, b.Bytes()); err != nil {
			return err
		}
		if _, err := tx.Exec("UPDATE run SET spool = '' WHERE id = ?", id); err != nil {
			return err
		}
		if err := tx.Commit(); err != nil {
			return err
		}
		return s.trim()
	})
}

// trimStep is how many runs, and how many outputs, trim removes at once: it takes milliseconds, and a store that is far
// beyond its bounds comes back to them run by run.
const trimStep = 200

// trim removes some of the oldest runs and outputs beyond the bounds. Which are the oldest is said by their
// numbers, not by a clock.
func (s *Store) trim() error {
	return s.wholly(func() error {
		tx, err := s.db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		var outputs int64 // counted from what is there, by its index
		if err := tx.QueryRow("SELECT coalesce(sum(size), 0) FROM output").Scan(&outputs); err != nil {
			return err
		}
		for range trimStep {
			if outputs <= s.limit.Outputs {
				break
			}
			var id, size int64
			if err := tx.QueryRow("SELECT run, size FROM output ORDER BY run LIMIT 1").Scan(&id, &size); err != nil {
				return err
			}
			if _, err := tx.Exec("DELETE FROM output WHERE run = ?", id); err != nil {
				return err
			}
			outputs -= size
		}
		last, err := s.lastToTrim(tx)
		if err != nil {
			return err
		}
		if last > 0 {
			for _, q := range []string{"DELETE FROM output WHERE run <= ?", "DELETE FROM standing WHERE run <= ?", "DELETE FROM gone WHERE run <= ?", "DELETE FROM settled WHERE run <= ?", "DELETE FROM run WHERE id <= ?"} {
				if _, err := tx.Exec(q, last); err != nil {
					return err
				}
			}
		}
		return tx.Commit()
	})
}

// lastToTrim returns the newest of the oldest runs that are to be removed now; 0 for none.
func (s *Store) lastToTrim(tx *sql.Tx) (last int64, err error) {
	var newest sql.NullInt64
	if err := tx.QueryRow("SELECT max(id) FROM run").Scan(&newest); err != nil || !newest.Valid {
		return 0, err
	}
	rows, err := tx.Query("SELECT id, start FROM run ORDER BY id LIMIT ?", trimStep)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	old := time.Now().Add(-s.limit.Age).UnixNano()
	for rows.Next() {
		var id, start int64
		if err := rows.Scan(&id, &start); err != nil {
			return 0, err
		}
		if id > newest.Int64-int64(s.limit.Runs) && start >= old || id == newest.Int64 {
			break
		}
		last = id
	}
	return last, rows.Err()
}

// list writes words as JSON.
func list(words []string) string {
	if len(words) == 0 {
		return "[]"
	}
	text, _ := json.Marshal(words) // strings always can
	return string(text)
}

// Add writes a run that has ended, with its problems and what it printed, and returns its number.
func (s *Store) Add(r Run, lives []Lived, gone []Lived, printed string) (int64, error) {
	return whole(s, func() (int64, error) {
		tx, err := s.db.Begin()
		if err != nil {
			return 0, err
		}
		defer tx.Rollback()
		role := r.Role
		if role == "" {
			role = string(plan.Main)
		}
		res, err := tx.Exec(`INSERT INTO run (job, role, task, args, command, dir, env, hash, dirty, start, "end", cpu, memory, state, exit, signal, fault,
			errors, warnings, notes, new, still, gone, notChecked, rule, bytes) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
			r.Job, role, r.Task, list(r.Args), r.Command, r.Dir, list(r.Env), r.Commit, r.Dirty, r.Start.UnixNano(), r.End.UnixNano(), int64(r.CPU), r.Memory,
			r.State, r.Exit, r.Signal, r.Fault, r.Count.Errors, r.Count.Warnings, r.Count.Notes,
			r.Balance.New, r.Balance.Still, r.Balance.Gone, r.Balance.NotChecked, problem.Rule, len(printed))
		if err != nil {
			return 0, err
		}
		id, err := res.LastInsertId()
		if err != nil {
			return 0, err
		}
		if r.Job == 0 {
			if _, err := tx.Exec("UPDATE run SET job = id WHERE id = ?", id); err != nil {
				return 0, err
			}
		}
		for i := range lives {
			lives[i].Last = id
			if lives[i].First == 0 {
				lives[i].First = id
			}
		}
		if len(lives) > 0 {
			if _, err := tx.Exec("INSERT OR REPLACE INTO standing VALUES (?, ?)", id, packLives(lives)); err != nil {
				return 0, err
			}
		}
		for _, l := range gone {
			if err := insertGone(tx, r.Task, id, l); err != nil {
				return 0, err
			}
		}
		if err := tx.Commit(); err != nil {
			return 0, err
		}
		if printed == "" {
			return id, s.trim()
		}
		return id, s.putOutput(id, io.NewSectionReader(strings.NewReader(printed), 0, int64(len(printed))))
	})
}

// AddLog writes a whole log as a run of a task that has ended: problems that it does not have are
// gone. It returns the problems with their lives, those that are gone included.
func (s *Store) AddLog(r Run, found []problem.Problem) ([]Lived, error) {
	before, err := s.KnownBefore(r.Task, math.MaxInt64)
	if err != nil {
		return nil, err
	}
	v := Judge(0, before, found, nil)
	r.Count = problem.CountOf(found)
	r.Balance.New, r.Balance.Still, r.Balance.Gone = v.New, len(found)-v.New, len(v.Left)
	id, err := s.Add(r, v.Lives, v.Left, "")
	for i := range v.Lives {
		if v.Lives[i].First == 0 {
			v.Lives[i].First = id
		}
	}
	return append(v.Lives, v.Left...), err
}
