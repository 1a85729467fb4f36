package history

import (
	"bytes"
	"compress/gzip"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"tidytally/core/problem"
	"tidytally/core/secret"
)

// Run is a run as the store has it.
type Run struct {
	ID      int64
	Job     int64 // the run that it is a step of; its own ID for the task that was asked for
	Role    string
	Task    string
	Args    []string
	Command string
	Dir     string
	Env     []string
	Commit  string // hash; "" if there is none
	Dirty   *bool  // nil if that is not known
	Start   time.Time
	End     time.Time // zero while it runs
	CPU     time.Duration
	Memory  int64
	State   string
	Exit    int
	Signal  string
	Fault   string
	Count   problem.Count
	Balance struct{ New, Still, Gone, NotChecked int }
	Part    string // of a suite of which not all files ran: "1 of 2 files"
	Rule    int    // by which its problems were compared, problem.Rule; 0 if that is not known
	Bytes   int64
}

// Elapsed is how long the run took, or has taken by now.
func (r *Run) Elapsed(now time.Time) time.Duration {
	if !r.End.IsZero() {
		now = r.End
	}
	return max(0, now.Sub(r.Start))
}

// Words describes the state in a few words, as those of a run that goes on.
func (r *Run) Words() string {
	words := r.State
	switch {
	case r.State == "timedOut":
		words = "timed out"
	case r.State != "failed":
	case r.Signal != "":
		words = "failed (" + r.Signal + ")"
	case r.Exit == 127:
		words = "not found"
	default:
		words = fmt.Sprintf("failed (%d)", r.Exit)
	}
	if r.Part != "" {
		words += ", " + r.Part
	}
	return words
}

const columns = `id, job, role, task, args, command, dir, env, hash, dirty, start, "end", cpu, memory, state, exit, signal, fault,
	errors, warnings, notes, new, still, gone, notChecked, rule, part, bytes`

func scan(rows interface{ Scan(...any) error }) (r Run, err error) {
	var args, env string
	var start int64
	var end, dirty sql.NullInt64
	err = rows.Scan(&r.ID, &r.Job, &r.Role, &r.Task, &args, &r.Command, &r.Dir, &env, &r.Commit, &dirty, &start, &end, (*int64)(&r.CPU), &r.Memory,
		&r.State, &r.Exit, &r.Signal, &r.Fault, &r.Count.Errors, &r.Count.Warnings, &r.Count.Notes,
		&r.Balance.New, &r.Balance.Still, &r.Balance.Gone, &r.Balance.NotChecked, &r.Rule, &r.Part, &r.Bytes)
	if err != nil {
		return r, err
	}
	_ = json.Unmarshal([]byte(args), &r.Args) // as they were written
	_ = json.Unmarshal([]byte(env), &r.Env)
	r.Start = time.Unix(0, start)
	if end.Valid {
		r.End = time.Unix(0, end.Int64)
	}
	if dirty.Valid {
		is := dirty.Int64 != 0
		r.Dirty = &is
	}
	return r, nil
}

// Wanted says which runs are asked for.
type Wanted struct {
	Task  string // id; "" for all
	Since time.Time
	Limit int   // the newest so many; 0 for all
	Steps bool  // also those that ran for another task
	Job   int64 // the steps of this run alone
}

// Runs returns runs, the newest first.
func (s *Store) Runs(w Wanted) ([]Run, error) {
	return whole(s, func() ([]Run, error) {
		var out []Run
		err := s.EachRun(w, func(r *Run) error {
			out = append(out, *r)
			return nil
		})
		return out, err
	})
}

// EachRun calls f with one run after the other, the newest first: however many there are, few are in memory. It ends with
// the first error of f, and returns it.
func (s *Store) EachRun(w Wanted, f func(*Run) error) error {
	var where []string
	var args []any
	add := func(text string, arg any) {
		where = append(where, text)
		args = append(args, arg)
	}
	if w.Task != "" {
		add("task = ?", w.Task)
	}
	if !w.Since.IsZero() {
		add("start >= ?", w.Since.UnixNano())
	}
	if w.Job != 0 {
		add("job = ?", w.Job)
	} else if !w.Steps && w.Task == "" {
		where = append(where, "job = id")
	}
	q := "SELECT " + columns + " FROM run"
	if len(where) > 0 {
		q += " WHERE " + strings.Join(where, " AND ")
	}
	q += " ORDER BY id DESC"
	if w.Limit > 0 {
		q += fmt.Sprintf(" LIMIT %d", w.Limit)
	}
	rows, err := s.db.Query(q, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		r, err := scan(rows)
		if err == nil {
			err = f(&r)
		}
		if err != nil {
			return err
		}
	}
	return rows.Err()
}

// Beside returns the ended run of a task that comes before run id, for by -1, or after it, for
// by 1; nil if there is none.
func (s *Store) Beside(task string, id int64, by int) (*Run, error) {
	return whole(s, func() (*Run, error) {
		side, order := ">", "ASC"
		if by < 0 {
			side, order = "<", "DESC"
		}
		r, err := scan(s.db.QueryRow("SELECT "+columns+" FROM run WHERE task = ? AND id "+side+` ? AND "end" IS NOT NULL ORDER BY id `+order+" LIMIT 1", task, id))
		if err == sql.ErrNoRows {
			return nil, nil
		}
		return &r, err
	})
}

// Run returns one run.
func (s *Store) Run(id int64) (Run, error) {
	return whole(s, func() (Run, error) {
		r, err := scan(s.db.QueryRow("SELECT "+columns+" FROM run WHERE id = ?", id))
		if err == sql.ErrNoRows {
			return r, fmt.Errorf("there is no run %d; tidytally history lists those that there are", id)
		}
		return r, err
	})
}

// eachTask lists the tasks that were run, from one to the next by the index: as many steps as
// there are tasks, however many runs.
const eachTask = `WITH RECURSIVE each(name) AS (
	SELECT min(task) FROM run UNION ALL SELECT (SELECT min(task) FROM run WHERE task > name) FROM each WHERE name IS NOT NULL
) `

// Last returns the newest run of each task, by its id.
func (s *Store) Last() (map[string]Run, error) {
	return whole(s, func() (map[string]Run, error) {
		rows, err := s.db.Query(eachTask + "SELECT " + columns + " FROM each JOIN run ON run.id = (SELECT max(id) FROM run WHERE task = each.name)")
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		out := map[string]Run{}
		for rows.Next() {
			r, err := scan(rows)
			if err != nil {
				return nil, err
			}
			out[r.Task] = r
		}
		return out, rows.Err()
	})
}

// maxOutput bounds the bytes of an output that is read.
const maxOutput = 1 << 30

// Output returns what a run printed. cut is the number of bytes that are missing at its
// beginning; ok is false if nothing is kept of it.
func (s *Store) Output(id int64) (text []byte, cut int64, ok bool, err error) {
	var data []byte
	err = s.wholly(func() error {
		return s.db.QueryRow("SELECT data, cut FROM output WHERE run = ?", id).Scan(&data, &cut)
	})
	if err == sql.ErrNoRows {
		return nil, 0, false, nil
	}
	if err != nil {
		return nil, 0, false, err
	}
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, 0, false, fmt.Errorf("output of run %d: %w", id, err)
	}
	text, err = io.ReadAll(io.LimitReader(z, maxOutput))
	return text, cut, err == nil, err
}

// Lives returns the problems that were known after a run, with their lives.
func (s *Store) Lives(id int64) ([]Lived, error) {
	var data []byte
	err := s.wholly(func() error {
		return s.db.QueryRow("SELECT data FROM standing WHERE run = ?", id).Scan(&data)
	})
	if err == sql.ErrNoRows {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	lives, err := unpackLives(data)
	if err != nil { // it was damaged: nothing is known
		return nil, nil
	}
	return lives, nil
}

// GoneProblem is a problem that a run no longer reported.
type GoneProblem struct {
	Lived
	Task string
	Run  int64
}

// Gone returns problems that are gone, the newest first: of a task, or of all when task is "";
// since a run, whose number they are behind; at most limit, 0 for all.
func (s *Store) Gone(task string, since int64, limit int) ([]GoneProblem, error) {
	return whole(s, func() ([]GoneProblem, error) {
		q, args := goneColumns+" WHERE run > ?", []any{since}
		if task != "" {
			q, args = q+" AND task = ?", append(args, task)
		}
		q += " ORDER BY id DESC"
		if limit > 0 {
			q += fmt.Sprintf(" LIMIT %d", limit)
		}
		return s.gone(q, args...)
	})
}

const goneColumns = "SELECT task, run, first, last, seen, problem FROM gone"

// GoneIn returns the problems that a run no longer reported.
func (s *Store) GoneIn(id int64) ([]GoneProblem, error) {
	return whole(s, func() ([]GoneProblem, error) {
		return s.gone(goneColumns+" WHERE run = ? ORDER BY id", id)
	})
}

func (s *Store) gone(q string, args ...any) ([]GoneProblem, error) {
	rows, err := s.db.Query(q, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []GoneProblem
	for rows.Next() {
		var g GoneProblem
		var text string
		if err := rows.Scan(&g.Task, &g.Run, &g.First, &g.Last, &g.Seen, &text); err != nil {
			return nil, err
		}
		if json.Unmarshal([]byte(text), &g.Problem) != nil {
			continue // it was damaged
		}
		g.State = problem.Gone
		out = append(out, g)
	}
	return out, rows.Err()
}

// NewestAt returns the newest run at a commit, which is named by the beginning of its hash.
func (s *Store) NewestAt(commit string) (Run, error) {
	return whole(s, func() (Run, error) {
		if len(commit) < 4 || strings.Trim(commit, "0123456789abcdef") != "" {
			return Run{}, fmt.Errorf("%s: name a commit by at least four digits of its hash", commit)
		}
		r, err := scan(s.db.QueryRow("SELECT "+columns+" FROM run WHERE hash >= ? AND hash < ? ORDER BY id DESC LIMIT 1", commit, commit+"g"))
		if err == sql.ErrNoRows {
			return r, fmt.Errorf("nothing was run at commit %s", commit)
		}
		return r, err
	})
}

// Expected returns the median time of the last good runs of each task, of those that have three
// or more.
func (s *Store) Expected() (map[string]time.Duration, error) {
	return whole(s, func() (map[string]time.Duration, error) {
		rows, err := s.db.Query(eachTask + `SELECT run.task, run."end" - run.start FROM each JOIN run ON run.id IN (
			SELECT id FROM run WHERE task = each.name AND state = 'ok' ORDER BY id DESC LIMIT 11)`)
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		all := map[string][]time.Duration{}
		for rows.Next() {
			var task string
			var took int64
			if err := rows.Scan(&task, &took); err != nil {
				return nil, err
			}
			all[task] = append(all[task], time.Duration(took))
		}
		out := map[string]time.Duration{}
		for task, took := range all {
			if len(took) >= 3 {
				slices.Sort(took)
				out[task] = took[len(took)/2]
			}
		}
		return out, rows.Err()
	})
}

// Good returns when the last good run of each task started.
func (s *Store) Good() (map[string]time.Time, error) {
	return whole(s, func() (map[string]time.Time, error) {
		rows, err := s.db.Query("SELECT task, max(start) FROM run WHERE state = 'ok' GROUP BY task")
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		good := map[string]time.Time{}
		for rows.Next() {
			var task string
			var start int64
			if err := rows.Scan(&task, &start); err != nil {
				return nil, err
			}
			good[task] = time.Unix(0, start)
		}
		return good, rows.Err()
	})
}

// Presets returns the sets of arguments that are kept for a task, by their names.
func (s *Store) Presets(task string) (map[string][]string, error) {
	return whole(s, func() (map[string][]string, error) {
		rows, err := s.db.Query("SELECT name, args FROM preset WHERE task = ?", task)
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		out := map[string][]string{}
		for rows.Next() {
			var name, text string
			if err := rows.Scan(&name, &text); err != nil {
				return nil, err
			}
			var args []string
			_ = json.Unmarshal([]byte(text), &args) // as it was written
			out[name] = args
		}
		return out, rows.Err()
	})
}

// PutPreset keeps a set of arguments under a name, without what looks like a secret; none removes it.
func (s *Store) PutPreset(task, name string, args []string) error {
	return s.wholly(func() error {
		if args == nil {
			_, err := s.db.Exec("DELETE FROM preset WHERE task = ? AND name = ?", task, name)
			return err
		}
		_, err := s.db.Exec("INSERT OR REPLACE INTO preset VALUES (?, ?, ?)", task, name, list(secret.Words(args, nil, nil)))
		return err
	})
}
