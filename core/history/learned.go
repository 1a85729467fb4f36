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

// The reads and writes of watched runs: of each task, those of its last good run.

// learnedTable is made when something is learned first: stores of before have none.
const learnedTable = `CREATE TABLE IF NOT EXISTS learned (
	task TEXT PRIMARY KEY,
	data BLOB NOT NULL               -- gzip of JSON, see core/learn
)`

// PutLearned stores the record of a task.
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
	if _, err := s.db.Exec(learnedTable); err != nil {
		return err
	}
	_, err = s.db.Exec("INSERT OR REPLACE INTO learned VALUES (?, ?)", task, b.Bytes())
	return err
}

// Learned stores the reads and writes of a watched run. It reports a fault if err is set or nothing can
// be stored.
func (r *Recorder) Learned(of *run.Run, k *learn.Known, err error) {
	if err == nil {
		err = r.store.PutLearned(of.Prepared.Task.ID(), k)
	}
	if err != nil {
		r.fault(err)
	}
}

// LearnedVersion returns a number that is another one after each PutLearned; 0 if nothing was learned.
func (s *Store) LearnedVersion() (version int64, err error) {
	var tables int
	if err := s.db.QueryRow("SELECT count(*) FROM sqlite_master WHERE name = 'learned'").Scan(&tables); err != nil || tables == 0 {
		return 0, err
	}
	err = s.db.QueryRow("SELECT coalesce(max(rowid), 0) FROM learned").Scan(&version)
	return version, err
}

// Learned returns the known reads and writes of tasks, by their ids.
func (s *Store) Learned() (map[string]*learn.Known, error) {
	known := map[string]*learn.Known{}
	if version, err := s.LearnedVersion(); err != nil || version == 0 {
		return known, err
	}
	rows, err := s.db.Query("SELECT task, data FROM learned")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var task string
		var data []byte
		if err := rows.Scan(&task, &data); err != nil {
			return nil, err
		}
		k := &learn.Known{}
		z, err := gzip.NewReader(bytes.NewReader(data))
		if err == nil {
			err = json.NewDecoder(io.LimitReader(z, maxLives)).Decode(k)
		}
		if err != nil {
			return nil, fmt.Errorf("what %s read: %w", task, err)
		}
		known[task] = k
	}
	return known, rows.Err()
}
