// Package history keeps the runs of a workspace: what was run when, with which arguments, how
// it ended, what it printed, and the problems that came of it. It is one SQLite file for each
// workspace, in the user's folder of states (XDG Base Directory Specification).
package history

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver

	"tidytally/core/keep"
)

// Store is the history of one workspace. It is safe for concurrent use, by several programs
// too.
type Store struct {
	root  string
	path  string
	db    *sql.DB
	limit Limits
	// Told is what a person should know: that a damaged store was put aside.
	Told string
}

// Limits bound what is kept. The oldest goes first.
type Limits struct {
	Runs    int
	Age     time.Duration
	Outputs int64 // bytes of all outputs, compressed
	Output  int64 // bytes of one output, as it was printed: of a longer one its end is kept
}

// usual are the limits where nothing else is said.
var usual = Limits{Runs: 200_000, Age: 400 * 24 * time.Hour, Outputs: 1 << 30, Output: 64 << 20}

// version is that of the schema below. docs/history.md describes it.
const version = 1

const schema = `
CREATE TABLE run (
	id INTEGER PRIMARY KEY,
	job INTEGER NOT NULL,            -- the run of the task that was asked for; its own id for that one
	role TEXT NOT NULL,              -- before, with, task or after
	task TEXT NOT NULL,              -- the task's id
	args TEXT NOT NULL,              -- JSON, a list
	command TEXT NOT NULL,
	dir TEXT NOT NULL,
	env TEXT NOT NULL,               -- JSON, a list: what the task adds to the environment
	hash TEXT NOT NULL,              -- of the commit, "" if there is none
	dirty INTEGER,                   -- 1 if files differ from the commit, NULL if that is not known
	start INTEGER NOT NULL,          -- nanoseconds since 1970
	"end" INTEGER,                   -- NULL while it runs
	cpu INTEGER NOT NULL DEFAULT 0,  -- nanoseconds
	memory INTEGER NOT NULL DEFAULT 0, -- bytes of the largest process
	state TEXT NOT NULL,             -- running, ok, failed, stopped, timedOut or interrupted
	exit INTEGER NOT NULL DEFAULT 0,
	signal TEXT NOT NULL DEFAULT '',
	fault TEXT NOT NULL DEFAULT '',
	errors INTEGER NOT NULL DEFAULT 0,
	warnings INTEGER NOT NULL DEFAULT 0,
	notes INTEGER NOT NULL DEFAULT 0,
	new INTEGER NOT NULL DEFAULT 0,
	still INTEGER NOT NULL DEFAULT 0,
	gone INTEGER NOT NULL DEFAULT 0,
	notChecked INTEGER NOT NULL DEFAULT 0,
	bytes INTEGER NOT NULL DEFAULT 0, -- printed
	spool TEXT NOT NULL DEFAULT '',  -- the file with the output, until that is below
	owner TEXT NOT NULL DEFAULT '',  -- the program that runs it: process id and start
	elsewhere TEXT NOT NULL DEFAULT '' -- what a batch system has of it, by which a later program takes it up
);
CREATE INDEX run_task ON run (task, id);
CREATE INDEX run_job ON run (job);
CREATE INDEX run_good ON run (task, id) WHERE state = 'ok';
CREATE INDEX run_elsewhere ON run (elsewhere) WHERE elsewhere != '';
CREATE INDEX run_open ON run (id) WHERE "end" IS NULL OR spool != '';
CREATE TABLE output (
	run INTEGER PRIMARY KEY,
	data BLOB NOT NULL,              -- gzip
	cut INTEGER NOT NULL             -- bytes that are missing at its beginning
);
CREATE TABLE standing (              -- the problems that were known after a run
	run INTEGER PRIMARY KEY,
	data BLOB NOT NULL               -- gzip of JSON
);
CREATE TABLE gone (                  -- problems that a run no longer reported
	id INTEGER PRIMARY KEY,
	task TEXT NOT NULL,
	run INTEGER NOT NULL,
	first INTEGER NOT NULL,          -- the run that reported it first
	last INTEGER NOT NULL,           -- and last
	seen INTEGER NOT NULL,           -- by so many runs
	problem TEXT NOT NULL            -- JSON
);
CREATE INDEX gone_run ON gone (run);
CREATE TABLE preset (
	task TEXT NOT NULL,
	name TEXT NOT NULL,
	args TEXT NOT NULL,              -- JSON, a list
	PRIMARY KEY (task, name)
);
CREATE TABLE kept (outputs INTEGER NOT NULL); -- bytes of all outputs
INSERT INTO kept VALUES (0);
`

// errNewer is returned for a store that a newer program has made.
var errNewer = errors.New("it was made by a newer Tidy Tally")

// Open opens the history of the workspace at root, an absolute path, and makes one if there is
// none. A store that is damaged or newer is put aside under another name, and Told says so.
func Open(root string) (*Store, error) {
	base, err := keep.StateFile(root)
	if err != nil {
		return nil, fmt.Errorf("runs are not kept: %w", err)
	}
	return openFile(root, strings.TrimSuffix(base, ".json")+".db", usual)
}

// Exists reports whether a workspace has a history.
func Exists(root string) bool {
	base, err := keep.StateFile(root)
	if err != nil {
		return false
	}
	_, err = os.Stat(strings.TrimSuffix(base, ".json") + ".db")
	return err == nil
}

func openFile(root, path string, limit Limits) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("runs are not kept: %w", err)
	}
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return nil, fmt.Errorf("runs are not kept: %s is no regular file", path)
	}
	s := &Store{root: root, path: path, limit: limit}
	err := s.open()
	if err != nil && spoilt(err) {
		aside := fmt.Sprintf("%s.%s", path, time.Now().Format("20060102-150405"))
		if renamed := os.Rename(path, aside); renamed != nil && !errors.Is(renamed, fs.ErrNotExist) {
			return nil, fmt.Errorf("runs are not kept: %s: %w", path, err)
		}
		_ = os.Remove(path + "-wal") // they belong to the file that was put aside
		_ = os.Remove(path + "-shm")
		s.Told = fmt.Sprintf("the history could not be read (%v); it is kept as %s, and a new one begins", err, aside)
		err = s.open()
	}
	if err != nil {
		return nil, fmt.Errorf("runs are not kept: %s: %w", path, err)
	}
	return s, nil
}

// spoilt reports whether an error says that a file is no store that can be used.
func spoilt(err error) bool {
	text := err.Error()
	return errors.Is(err, errNewer) || strings.Contains(text, "not a database") || strings.Contains(text, "malformed") || strings.Contains(text, "no such table") || strings.Contains(text, "no such column")
}

func (s *Store) open() error {
	escaped := strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(s.path)
	db, err := sql.Open("sqlite", "file:"+escaped+"?_pragma=busy_timeout(2000)&_pragma=journal_mode(wal)&_pragma=synchronous(normal)&_txlock=immediate")
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(4)
	if err := migrate(db); err != nil {
		db.Close()
		return err
	}
	_ = os.Chmod(s.path, 0o600) // not every file system has modes
	s.db = db
	return nil
}

// migrate brings a store to the version of the schema.
func migrate(db *sql.DB) error {
	var at int
	if err := db.QueryRow("PRAGMA user_version").Scan(&at); err != nil {
		return err
	}
	switch {
	case at > version:
		return errNewer
	case at == version:
		_, err := db.Exec("SELECT id, job, hash, elsewhere FROM run LIMIT 1")
		return err
	}
	tx, err := db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	// Another program may have made it meanwhile.
	if err := tx.QueryRow("PRAGMA user_version").Scan(&at); err != nil || at == version {
		return err
	}
	if _, err := tx.Exec(schema + fmt.Sprintf("PRAGMA user_version = %d", version)); err != nil {
		return err
	}
	return tx.Commit()
}

// Close closes the store.
func (s *Store) Close() error { return s.db.Close() }

// Path is the store's file.
func (s *Store) Path() string { return s.path }

// Version changes when a run begins or ends. The condition is put so that the index of open runs
// answers it.
func (s *Store) Version() (n int64) {
	_ = s.db.QueryRow(`SELECT coalesce(max(id), 0) * 4096 + (SELECT count(*) FROM run WHERE "end" IS NULL AND ("end" IS NULL OR spool != '')) FROM run`).Scan(&n) // 0: as before
	return n
}
