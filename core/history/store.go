// Package history keeps the runs of a workspace: what was run when, with which arguments, how
// it ended, what it printed, and the problems that came of it. It is one SQLite file for each
// workspace, in the user's folder of states (XDG Base Directory Specification).
package history

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	_ "modernc.org/sqlite" // the driver

	"tidytally/core/keep"
	"tidytally/core/secret"
)

// Store is the history of one workspace. It is safe for concurrent use, by several programs
// too.
type Store struct {
	root  string
	path  string
	db    database
	file  fs.FileInfo // of db; guarded by mending
	limit Limits
	// Told is what a person should know: that a damaged store was put aside.
	Told string
	// tell is called with such news later on; may be nil.
	tell func(error)
}

// database is the open file of a store. While a damaged one is mended, it becomes another.
type database struct{ open atomic.Pointer[sql.DB] }

func (d *database) Query(q string, args ...any) (*sql.Rows, error) {
	return d.open.Load().Query(q, args...)
}
func (d *database) QueryRow(q string, args ...any) *sql.Row {
	return d.open.Load().QueryRow(q, args...)
}
func (d *database) Exec(q string, args ...any) (sql.Result, error) {
	return d.open.Load().Exec(q, args...)
}
func (d *database) Begin() (*sql.Tx, error) { return d.open.Load().Begin() }

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
const version = 4

const schema = `
CREATE TABLE run (
	id INTEGER PRIMARY KEY,
	job INTEGER NOT NULL,            -- the run of the task that was asked for; its own id for that one
	role TEXT NOT NULL,              -- before, with, task or after
	task TEXT NOT NULL,              -- the task's id
	args TEXT NOT NULL,              -- JSON, a list
	command TEXT NOT NULL,
	dir TEXT NOT NULL,
	env TEXT NOT NULL,               -- JSON, a list: what the task adds to the environment, most of it without values
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
	part TEXT NOT NULL DEFAULT '',   -- of a suite of which not all files ran: "1 of 2 files"
	rule INTEGER NOT NULL DEFAULT 0, -- by which its problems were compared; 0 for none, or one of an earlier version
	bytes INTEGER NOT NULL DEFAULT 0, -- printed
	spool TEXT NOT NULL DEFAULT '',  -- the file with the output, until that is below
	spoolStart INTEGER NOT NULL DEFAULT 0, -- the byte of that file at which the output begins
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
	size INTEGER NOT NULL,           -- of data, in bytes
	cut INTEGER NOT NULL,            -- bytes that are missing at its beginning
	data BLOB NOT NULL               -- gzip
);
CREATE INDEX output_size ON output (size);
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
` + knownTable + settledTable

// errNewer is returned for a store that a newer program has made. It is left alone.
var errNewer = errors.New("a newer Tidy Tally has made it; it is left as it is")

// Open opens the history of the workspace at root, an absolute path, and makes one if there is
// none. One of an earlier version is brought to this one. What can be read of a damaged one is carried over into a new
// one; the damaged one is put aside under another name, and Told says so.
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
	s := &Store{root: root, path: path, limit: limit}
	lock, err := lockOf(path, syscall.LOCK_SH)
	if err != nil {
		return nil, fmt.Errorf("runs are not kept: %s: %w", path, err)
	}
	before, _ := os.Stat(path) // nil if there is none
	db, err := openDatabase(path)
	lock.Close()
	if err != nil && (spoilt(err) || disturbed(err)) {
		db, s.Told, err = mend(path, before, err)
	}
	if err != nil {
		return nil, fmt.Errorf("runs are not kept: %s: %w", path, err)
	}
	s.db.open.Store(db)
	s.file, _ = os.Stat(path) // nil: then it is put aside whoever finds it damaged
	return s, nil
}

// openDatabase opens the file of a store, and makes it or brings it to the version of the schema. Nobody but the user can
// read it.
func openDatabase(path string) (*sql.DB, error) {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return nil, errors.New("it is no regular file")
	}
	// SQLite gives the files beside it the mode of this one. One that is there is not opened: closing it would take
	// away the locks that this program has on it (fcntl(2)).
	if f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); err == nil {
		f.Close()
	} else if !errors.Is(err, fs.ErrExist) {
		return nil, err
	}
	_ = os.Chmod(filepath.Dir(path), 0o700) // not every file system has modes
	for _, beside := range []string{"", "-wal", "-shm"} {
		_ = os.Chmod(path+beside, 0o600) // it need not be there
	}
	db, err := connect(path, "")
	if err != nil {
		return nil, err
	}
	if err := migrate(db); err != nil {
		db.Close()
		return nil, err
	}
	return db, nil
}

// connect opens a file with SQLite.
func connect(path, more string) (*sql.DB, error) {
	escaped := strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(path)
	db, err := sql.Open("sqlite", "file:"+escaped+"?_pragma=busy_timeout(2000)&_pragma=journal_mode(wal)&_pragma=synchronous(normal)&_txlock=immediate"+more)
	if err == nil {
		db.SetMaxOpenConns(4)
	}
	return db, err
}

// migrate brings a store to the version of the schema, in one transaction.
func migrate(db *sql.DB) error {
	var at int
	if err := db.QueryRow("PRAGMA user_version").Scan(&at); err != nil {
		return err
	}
	switch {
	case at > version:
		return errNewer
	case at == version:
		_, err := db.Exec("SELECT id, job, hash, elsewhere, rule, spoolStart, part FROM run LIMIT 1")
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
	if at == 0 {
		_, err = tx.Exec(schema)
	}
	if at == 1 {
		err = fromFirst(tx)
	}
	if (at == 1 || at == 2) && err == nil {
		_, err = tx.Exec("ALTER TABLE run ADD COLUMN rule INTEGER NOT NULL DEFAULT 0; ALTER TABLE run ADD COLUMN spoolStart INTEGER NOT NULL DEFAULT 0") // version 3
	}
	if at >= 1 && err == nil {
		_, err = tx.Exec("ALTER TABLE run ADD COLUMN part TEXT NOT NULL DEFAULT '';" + settledTable) // version 4
	}
	if err != nil {
		return err
	}
	if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", version)); err != nil {
		return err
	}
	return tx.Commit()
}

// fromFirst brings a store of version 1 to version 2. Of version 1 there were two shapes: the first had no column
// elsewhere.
func fromFirst(tx *sql.Tx) error {
	var has int
	if err := tx.QueryRow("SELECT count(*) FROM pragma_table_info('run') WHERE name = 'elsewhere'").Scan(&has); err != nil {
		return err
	}
	if has == 0 {
		if _, err := tx.Exec(`ALTER TABLE run ADD COLUMN elsewhere TEXT NOT NULL DEFAULT '';
			CREATE INDEX run_elsewhere ON run (elsewhere) WHERE elsewhere != '';`); err != nil {
			return err
		}
	}
	// Digests of an earlier version were made without the user's key, so files are learned again.
	if _, err := tx.Exec(`ALTER TABLE output RENAME TO output1;
		CREATE TABLE output (run INTEGER PRIMARY KEY, size INTEGER NOT NULL, cut INTEGER NOT NULL, data BLOB NOT NULL);
		INSERT INTO output SELECT run, length(data), cut, data FROM output1;
		DROP TABLE output1;
		CREATE INDEX output_size ON output (size);
		DROP TABLE kept;
		DROP TABLE IF EXISTS known;` + knownTable); err != nil {
		return err
	}
	return scrub(tx)
}

// scrub takes the values out of the rows that are not kept any more.
func scrub(tx *sql.Tx) error {
	const atOnce = 1000
	for last := int64(0); ; {
		rows, err := tx.Query("SELECT id, args, command, env, fault FROM run WHERE id > ? ORDER BY id LIMIT ?", last, atOnce)
		if err != nil {
			return err
		}
		type row struct {
			id                        int64
			args, command, env, fault string
		}
		var all []row
		for rows.Next() {
			var r row
			if err := rows.Scan(&r.id, &r.args, &r.command, &r.env, &r.fault); err != nil {
				rows.Close()
				return err
			}
			all = append(all, r)
		}
		rows.Close()
		if err := rows.Err(); err != nil {
			return err
		}
		for _, r := range all {
			last = r.id
			var args, env []string
			_ = json.Unmarshal([]byte(r.args), &args) // as they were written
			_ = json.Unmarshal([]byte(r.env), &env)
			values := append(secret.Values(env, nil), secret.Values(args, nil)...)
			clean := row{r.id, list(secret.Words(args, nil, values)), secret.Text(r.command, nil, values), list(secret.Environment(env, nil)), secret.Text(r.fault, nil, values)}
			if clean == r {
				continue
			}
			if _, err := tx.Exec("UPDATE run SET args = ?, command = ?, env = ?, fault = ? WHERE id = ?", clean.args, clean.command, clean.env, clean.fault, r.id); err != nil {
				return err
			}
		}
		if len(all) < atOnce {
			break
		}
	}
	rows, err := tx.Query("SELECT rowid, args FROM preset")
	if err != nil {
		return err
	}
	defer rows.Close()
	presets := map[int64]string{}
	for rows.Next() {
		var id int64
		var text string
		if err := rows.Scan(&id, &text); err != nil {
			return err
		}
		var args []string
		_ = json.Unmarshal([]byte(text), &args)
		presets[id] = list(secret.Words(args, nil, nil))
	}
	for id, args := range presets {
		if _, err := tx.Exec("UPDATE preset SET args = ? WHERE rowid = ?", args, id); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Close closes the store.
func (s *Store) Close() error { return s.db.open.Load().Close() }

// Path is the store's file.
func (s *Store) Path() string { return s.path }

// Version changes when a run begins or ends, and when a run settles problems of another task, which is written after its end. The
// condition lets SQLite use the index of open runs.
func (s *Store) Version() int64 {
	n, _ := whole(s, func() (n int64, err error) { // 0: as before
		err = s.db.QueryRow(`SELECT (coalesce(max(id), 0) + coalesce((SELECT max(rowid) FROM settled), 0)) * 4096 + (SELECT count(*) FROM run WHERE "end" IS NULL AND ("end" IS NULL OR spool != '')) FROM run`).Scan(&n)
		return n, err
	})
	return n
}
