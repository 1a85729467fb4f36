package history

import "fmt"

// Going is a run that goes on, here or in another program, with the file that has its output so far.
type Going struct {
	Run
	Spool string
	From  int64 // the byte of that file at which its output begins
}

// Going returns the runs that go on.
func (s *Store) Going() ([]Going, error) {
	return whole(s, func() ([]Going, error) {
		rows, err := s.db.Query(`SELECT id, spool, spoolStart FROM run WHERE "end" IS NULL AND ("end" IS NULL OR spool != '')`) // so that run_open answers it
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		spools := map[int64]Going{}
		for rows.Next() {
			var id int64
			var g Going
			if err := rows.Scan(&id, &g.Spool, &g.From); err != nil {
				return nil, err
			}
			spools[id] = g
		}
		if err := rows.Err(); err != nil {
			return nil, err
		}
		going := make([]Going, 0, len(spools))
		for id, g := range spools {
			if g.Run, err = s.Run(id); err != nil {
				return nil, fmt.Errorf("run %d: %w", id, err)
			}
			going = append(going, g)
		}
		return going, nil
	})
}
