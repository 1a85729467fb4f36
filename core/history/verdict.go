package history

import (
	"database/sql"
	"errors"
	"slices"
	"time"

	"tidytally/core/problem"
	"tidytally/core/reach"
	"tidytally/core/run"
	"tidytally/core/task"
)

// Known are the problems of a task that are known after one of its runs, and before the next.
type Known struct {
	Run   int64     // the number of the run in the store; 0 if it has none
	Since time.Time // when it started
	Lives []Lived
}

// Verdict says what a run, or one pass of it, found, and what became of the problems known before it. It is made once, when the run ends, and
// kept with the run.
type Verdict struct {
	problem.Comparison
	Run   int64   // the number of the run in the store; 0 if it has none
	Rule  int     // the version of the rule of comparison, problem.Rule
	Lives []Lived // the problems that are known after it: those found, then those not checked
	Left  []Lived // those that are gone
}

// Judge compares the problems that a run found with those known before it. id is the run's number, and looked what it
// looked at; nil for one that looks at all.
func Judge(id int64, before Known, found []problem.Problem, looked *reach.Reach) *Verdict {
	var looks problem.Looks
	if looked != nil {
		looks.There = looked.Exists
		looks.Checked = func(i int) bool {
			l := &before.Lives[i]
			return looked.Checked(&l.Problem, l.LineText, &l.Report)
		}
	}
	v := &Verdict{Run: id, Rule: problem.Rule, Comparison: problem.Compare(Problems(before.Lives), found, looks)}
	v.Lives = make([]Lived, 0, len(found)+len(v.NotCheckedFrom))
	for i, p := range found {
		l := Lived{Problem: p, LineText: p.LineText, State: v.States[i], First: id, Last: id, Seen: 1}
		if looked != nil {
			l.Report = looked.Report(&found[i])
		}
		if k := v.From[i]; k >= 0 {
			l.First, l.Seen = before.Lives[k].First, before.Lives[k].Seen+1
		}
		v.Lives = append(v.Lives, l)
	}
	for _, k := range v.NotCheckedFrom {
		l := before.Lives[k]
		l.State = problem.NotChecked
		v.Lives = append(v.Lives, l)
	}
	for _, k := range v.GoneFrom {
		l := before.Lives[k]
		l.State = problem.Gone
		v.Left = append(v.Left, l)
	}
	return v
}

// JudgeRun compares the problems that a run, or one pass of it, found with those known before it, of which it checked
// those that its reach takes in. id is the run's number.
func JudgeRun(of *run.Run, id int64, before Known, found []problem.Problem) *Verdict {
	return Judge(id, before, found, of.Reach(before.Since))
}

// Problems returns the problems of lives, in their order.
func Problems(lives []Lived) []problem.Problem {
	out := make([]problem.Problem, len(lives))
	for i := range lives {
		out[i] = lives[i].Problem
	}
	return out
}

// Verdict returns the verdict of a run that has ended, as it was kept.
func (s *Store) Verdict(id int64) (*Verdict, error) {
	r, err := s.Run(id)
	if err != nil {
		return nil, err
	}
	lives, err := s.Lives(id)
	if err != nil {
		return nil, err
	}
	gone, err := s.GoneIn(id)
	if err != nil {
		return nil, err
	}
	v := &Verdict{Run: id, Rule: r.Rule, Lives: lives}
	for i := range lives {
		l := &lives[i]
		if l.State == problem.NotChecked {
			v.NotChecked = append(v.NotChecked, l.Problem)
			continue
		}
		v.Found, v.States = append(v.Found, l.Problem), append(v.States, l.State)
	}
	for i := range gone {
		v.Gone, v.Left = append(v.Gone, gone[i].Problem), append(v.Left, gone[i].Lived)
	}
	v.Balance = problem.Balance{
		Before: r.Balance.Still + r.Balance.Gone + r.Balance.NotChecked, New: r.Balance.New, Gone: r.Balance.Gone,
		NotChecked: r.Balance.NotChecked, Now: len(lives),
	}
	return v, nil
}

// errNoRow is returned for a run that the store has no row of.
var errNoRow = errors.New("the store has no row of it")

// end writes the end of a run and its problems, compared with those that are known before it.
func (s *Store) end(id int64, of *run.Run, snap *run.Snapshot, before Known) (*Verdict, error) {
	return whole(s, func() (*Verdict, error) {
		task := snap.Prepared.Task
		for {
			looked := of.Reach(before.Since)
			v := Judge(id, before, snap.Problems, looked)
			now, err := s.putEnd(task, v, before.Run, snap)
			if now == nil && err == nil {
				err = s.settle(id, task.ID(), looked, snap.Problems)
			}
			if now == nil {
				return v, err
			}
			before = *now // another program's run has ended meanwhile
		}
	})
}

// putEnd writes the end of a run with its verdict. If the run that it was compared with is not the one before it any more,
// nothing is written, and what is known now is returned.
func (s *Store) putEnd(task *task.Task, v *Verdict, against int64, snap *run.Snapshot) (now *Known, err error) {
	tx, err := s.db.Begin()
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	if before, err := beforeOf(tx, task, v.Run); err != nil {
		return nil, err
	} else if before.Run != against {
		return &before, nil
	}
	for _, l := range v.Left {
		if err := insertGone(tx, task.ID(), v.Run, l); err != nil {
			return nil, err
		}
	}
	if _, err := tx.Exec("DELETE FROM settled WHERE run IN (SELECT id FROM run WHERE id = ? AND task = ?)", against, task.ID()); err != nil { // nothing is compared with that one any more
		return nil, err
	}
	if len(v.Lives) > 0 {
		if _, err := tx.Exec("INSERT OR REPLACE INTO standing VALUES (?, ?)", v.Run, packLives(v.Lives)); err != nil {
			return nil, err
		}
	}
	count := problem.CountOf(snap.Problems)
	res, err := tx.Exec(`UPDATE run SET "end" = ?, cpu = ?, memory = ?, state = ?, exit = ?, signal = ?, fault = ?, errors = ?, warnings = ?, notes = ?,
		new = ?, still = ?, gone = ?, notChecked = ?, rule = ?, part = ?, bytes = ?, spool = ? WHERE id = ?`,
		snap.Ended.UnixNano(), int64(snap.CPU), snap.Memory, stateOf(snap), snap.Code, snap.Signal, snap.Fault, count.Errors, count.Warnings, count.Notes,
		v.New, len(snap.Problems)-v.New, len(v.Gone), len(v.NotChecked), v.Rule, snap.Part, snap.Bytes, snap.Spool, v.Run)
	if err != nil {
		return nil, err
	}
	if n, err := res.RowsAffected(); err == nil && n == 0 {
		return nil, errNoRow
	}
	return nil, tx.Commit()
}

func insertGone(tx *sql.Tx, task string, run int64, l Lived) error {
	_, err := tx.Exec("INSERT INTO gone (task, run, first, last, seen, problem) VALUES (?, ?, ?, ?, ?, ?)",
		task, run, l.First, l.Last, l.Seen, string(l.Problem.AppendJSON(nil)))
	return err
}

// querier is a database, or a transaction of it.
type querier interface {
	Query(q string, args ...any) (*sql.Rows, error)
	QueryRow(q string, args ...any) *sql.Row
}

// KnownBefore returns the problems that are known after the last run of a task that has a lower number than id and has
// ended. Of a task that has not run yet nothing is known.
func (s *Store) KnownBefore(task string, id int64) (Known, error) {
	return whole(s, func() (Known, error) { return knownBefore(&s.db, task, id) })
}

// beforeOf returns the problems known before a run of a task. A task that runs one test alone takes that test's problems from
// the suite if the suite has run since.
func beforeOf(db querier, t *task.Task, id int64) (Known, error) {
	k, err := knownBefore(db, t.ID(), id)
	if err != nil || t.OfTest == "" {
		return k, err
	}
	of, err := knownBefore(db, t.Of, id)
	if err != nil || of.Run <= k.Run {
		return k, err
	}
	of.Lives = slices.DeleteFunc(of.Lives, func(l Lived) bool { return l.Problem.Test != t.OfTest || l.Problem.File != t.OfFile })
	return of, nil
}

func knownBefore(db querier, task string, id int64) (k Known, err error) {
	var data []byte
	var start int64
	err = db.QueryRow(`SELECT r.id, r.start, s.data FROM run r LEFT JOIN standing s ON s.run = r.id
		WHERE r.task = ? AND r.id < ? AND r."end" IS NOT NULL ORDER BY r.id DESC LIMIT 1`, task, id).Scan(&k.Run, &start, &data)
	if err == sql.ErrNoRows {
		return Known{}, nil
	}
	if err != nil {
		return Known{}, err
	}
	k.Since = time.Unix(0, start)
	if k.Lives, err = unpackLives(data); err != nil { // it was damaged: nothing is known
		k.Lives = nil
	}
	return k, dropSettled(db, &k)
}
