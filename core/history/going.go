package history

import "fmt"

// Going is a run that goes on, here or in another program, with the file that has its output so far.
type Going struct {
	Run
	Spool string
}

// Going returns the runs that go on.
func (s *Store) Going() ([]Going, error) {
	return whole(s, func() ([]Going, error) {
		rows, err := s.db.Query(`SELECT id, spool FROM run WHERE "end" IS NULL AND ("end" IS NULL OR spool != '')`) // so that run_open answers it
		if err != nil {
			return nil, err
		}
		defer rows.Close()
		spools := map[int64]string{}
		for rows.Next() {
			var id int64
			var spool string
			if err := rows.Scan(&id, &spool); err != nil {
				return nil, err
			}
			spools[id] = spool
		}
		if err := rows.Err(); err != nil {
			return nil, err
		}
		going := make([]Going, 0, len(spools))
		for id, spool := range spools {
			r, err := s.Run(id)
			if err != nil {
				return nil, fmt.Errorf("run %d: %w", id, err)
			}
			going = append(going, Going{r, spool})
		}
		return going, nil
	})
}
