package history

import (
	"slices"

	"tidytally/core/problem"
	"tidytally/core/reach"
)

// A problem that is known after a run of one task is settled when a later run of another one compiles or checks its place
// and does not report it. The verdict of the first run stays as it is; what stands now in the workspace is without it.

const settledTable = `CREATE TABLE settled ( -- problems that a later run of another task has compiled or checked away
	run INTEGER NOT NULL,            -- after which they were known
	life INTEGER NOT NULL,           -- the index in its data
	by INTEGER NOT NULL,             -- the other run
	PRIMARY KEY (run, life)
);
`

// settle settles the problems of other tasks at which run by of a task looked, and which it did not find.
func (s *Store) settle(by int64, task string, looked *reach.Reach, found []problem.Problem) error {
	if !looked.LooksAtAnything() {
		return nil
	}
	return s.wholly(func() error {
		known, err := s.knownOfOthers(by, task)
		if err != nil || len(known) == 0 {
			return err
		}
		tx, err := s.db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		for _, k := range known {
			c := problem.Compare(Problems(k.Lives), found, problem.Looks{There: looked.Exists, Checked: func(i int) bool {
				l := &k.Lives[i]
				return looked.Settles(&l.Problem, l.LineText, &l.Report)
			}})
			for _, i := range c.GoneFrom {
				if _, err := tx.Exec("INSERT OR IGNORE INTO settled VALUES (?, ?, ?)", k.Run, i, by); err != nil {
					return err
				}
			}
		}
		return tx.Commit()
	})
}

// knownOfOthers returns what is known after the newest run of each other task, before run by.
func (s *Store) knownOfOthers(by int64, task string) (known []Known, err error) {
	rows, err := s.db.Query(eachTask+`SELECT r.id, s.data FROM each
		JOIN run r ON r.id = (SELECT max(id) FROM run WHERE task = each.name AND id < ?1 AND "end" IS NOT NULL)
		JOIN standing s ON s.run = r.id WHERE each.name != ?2`, by, task)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var k Known
		var data []byte
		if err := rows.Scan(&k.Run, &data); err != nil {
			return nil, err
		}
		if k.Lives, err = unpackLives(data); err == nil { // else it was damaged: nothing is known
			known = append(known, k)
		}
	}
	return known, rows.Err()
}

// Settled returns the indexes of the settled problems among those known after a run, by the numbers of the runs.
func (s *Store) Settled() (map[int64][]int, error) {
	return whole(s, func() (map[int64][]int, error) { return settled(&s.db, "") })
}

// settled reads the settled problems, of all runs or where something holds.
func settled(db querier, where string, args ...any) (map[int64][]int, error) {
	rows, err := db.Query("SELECT run, life FROM settled "+where+" ORDER BY run, life", args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64][]int{}
	for rows.Next() {
		var run int64
		var life int
		if err := rows.Scan(&run, &life); err != nil {
			return nil, err
		}
		out[run] = append(out[run], life)
	}
	return out, rows.Err()
}

// dropSettled takes the settled problems out of those known after a run.
func dropSettled(db querier, k *Known) error {
	away, err := settled(db, "WHERE run = ?", k.Run)
	if err != nil || len(away) == 0 {
		return err
	}
	left := make([]Lived, 0, len(k.Lives))
	for i := range k.Lives {
		if _, ok := slices.BinarySearch(away[k.Run], i); !ok {
			left = append(left, k.Lives[i])
		}
	}
	k.Lives = left
	return nil
}

// Without returns a verdict as it stands now: the problems of some indexes among those known after it, in order, are gone.
func (v *Verdict) Without(away []int) *Verdict {
	now := *v
	now.Found, now.States, now.From, now.NotChecked, now.NotCheckedFrom, now.Lives = nil, nil, nil, nil, nil, nil
	now.Gone, now.Left = slices.Clone(v.Gone), slices.Clone(v.Left)
	for i, l := range v.Lives {
		found := i < len(v.Found)
		if _, ok := slices.BinarySearch(away, i); ok {
			l.State = problem.Gone
			now.Gone, now.Left = append(now.Gone, l.Problem), append(now.Left, l)
			now.Balance.Gone++
			now.Now--
			if !found {
				now.Balance.NotChecked--
			}
			continue
		}
		if found {
			now.Found, now.States = append(now.Found, v.Found[i]), append(now.States, v.States[i])
		} else {
			now.NotChecked = append(now.NotChecked, l.Problem)
		}
		now.Lives = append(now.Lives, l)
	}
	return &now
}
