package history

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"

	"tidytally/core/learn"
	"tidytally/core/run"
)

// The table known holds the reads and writes of the last good run of each task.

const knownTable = `CREATE TABLE known (
	task TEXT NOT NULL,
	origin TEXT NOT NULL,            -- declared or watched
	data BLOB NOT NULL,              -- gzip of JSON, see core/learn
	PRIMARY KEY (task, origin)
);
`

// PutLearned stores a record of a task.
func (s *Store) PutLearned(task string, k *learn.Known) error {
	var b bytes.Buffer
	z, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed) // the level is one
	err := json.NewEncoder(z).Encode(k)
	if closed := z.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return fmt.Errorf("what %s read: %w", task, err)
	}
	return s.wholly(func() error {
		_, err := s.db.Exec("INSERT OR REPLACE INTO known VALUES (?, ?, ?)", task, k.Origin, b.Bytes())
		return err
	})
}

// Learned stores what a run read and made. It reports a fault if err is set or nothing can be stored.
func (r *Recorder) Learned(of *run.Run, k *learn.Known, err error) {
	if err == nil {
		if k.Run == 0 { // else it is of an earlier run
			k.Run = r.IDOf(of)
		}
		err = r.store.PutLearned(of.Prepared.Task.ID(), k)
	}
	if err != nil {
		r.fault(err)
	}
}

// LearnedVersion returns a number that is another one after each PutLearned; 0 if nothing was learned.
func (s *Store) LearnedVersion() (int64, error) {
	return whole(s, func() (version int64, err error) {
		err = s.db.QueryRow("SELECT coalesce(max(rowid), 0) FROM known").Scan(&version)
		return version, err
	})
}

// Learned returns the records of all tasks, by their ids.
func (s *Store) Learned() (map[string]learn.Records, error) {
	return whole(s, func() (map[string]learn.Records, error) {
		return s.learned("SELECT task, origin, data FROM known")
	})
}

// LearnedOf returns the records of one task.
func (s *Store) LearnedOf(task string) (learn.Records, error) {
	return whole(s, func() (learn.Records, error) {
		known, err := s.learned("SELECT task, origin, data FROM known WHERE task = ?", task)
		return known[task], err
	})
}

func (s *Store) learned(query string, args ...any) (map[string]learn.Records, error) {
	known := map[string]learn.Records{}
	if version, err := s.LearnedVersion(); err != nil || version == 0 {
		return known, err
	}
	rows, err := s.db.Query(query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var task string
		var origin learn.Origin
		var data []byte
		if err := rows.Scan(&task, &origin, &data); err != nil {
			return nil, err
		}
		k := &learn.Known{}
		z, err := gzip.NewReader(bytes.NewReader(data))
		if err == nil {
			err = json.NewDecoder(io.LimitReader(z, maxLives)).Decode(k)
		}
		if err != nil {
			continue // it was damaged: nothing is known
		}
		if known[task] == nil {
			known[task] = learn.Records{}
		}
		known[task][origin] = k
	}
	return known, rows.Err()
}
