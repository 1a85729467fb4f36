package history

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"

	"modernc.org/sqlite"
)

// A store may be damaged by a full disk, a crash of the machine, or a copy of half of it. Whenever that is found, the
// file is put aside, what can be read of it is carried over into a new one, and what was being done is done again.

// Result codes of SQLite (sqlite.org/rescode.html).
const (
	codeCorrupt    = 11
	codeConstraint = 19
	codeFormat     = 24
	codeNotADB     = 26
	codeShortRead  = 522
	codeIO         = 10
	codeCannotOpen = 14
)

// disturbed reports whether an error may come from a file that another program puts aside at this moment.
func disturbed(err error) bool {
	var coded *sqlite.Error
	return errors.As(err, &coded) && coded.Code() != codeShortRead && (coded.Code()&0xff == codeIO || coded.Code()&0xff == codeCannotOpen)
}

// spoilt reports whether an error says that a file is no store that can be used.
func spoilt(err error) bool {
	if err == nil || errors.Is(err, errNewer) {
		return false
	}
	var coded *sqlite.Error
	if errors.As(err, &coded) {
		switch code := coded.Code(); {
		case code == codeShortRead, code&0xff == codeCorrupt, code&0xff == codeConstraint, code&0xff == codeFormat, code&0xff == codeNotADB:
			return true
		}
	}
	text := err.Error()
	for _, words := range []string{"malformed", "not a database", "no such table", "no such column", "no such index", "Scan error", "has no column named"} {
		if strings.Contains(text, words) {
			return true
		}
	}
	return false
}

// mending is held while a store is put aside, by this program; a lock beside the file holds up others.
var mending sync.Mutex

// whole does something with a store. If the store turns out to be damaged, it is mended, and the same is done again, once.
func whole[T any](s *Store, f func() (T, error)) (T, error) {
	db := s.db.open.Load()
	got, err := f()
	if err != nil && s.db.open.Load() != db { // it was mended meanwhile
		return f()
	}
	if err == nil || !spoilt(err) {
		return got, err
	}
	if mended := s.mend(db, err); mended != nil {
		return got, mended
	}
	return f()
}

// wholly is whole for what returns nothing.
func (s *Store) wholly(f func() error) error {
	_, err := whole(s, func() (struct{}, error) { return struct{}{}, f() })
	return err
}

// mend puts the damaged store aside that was open as db, unless that was done meanwhile.
func (s *Store) mend(db *sql.DB, why error) error {
	mending.Lock()
	defer mending.Unlock()
	if s.db.open.Load() != db {
		return nil
	}
	// Before anything has its name: SQLite removes the -wal of that name with the last connection.
	db.Close()
	fresh, told, err := mend(s.path, s.file, why)
	if err != nil {
		return fmt.Errorf("%w; it could not be put aside: %w", why, err)
	}
	s.db.open.Store(fresh)
	s.file, _ = os.Stat(s.path) // nil: it is put aside again if it fails
	if s.tell != nil && told != "" {
		s.tell(errors.New(told))
	}
	return nil
}

// lockOf takes the lock of a store: a shared one while it is opened, an exclusive one while it is put aside. It is given
// back by closing the file.
func lockOf(path string, how int) (*os.File, error) {
	lock, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(lock.Fd()), how); err != nil {
		lock.Close()
		return nil, err
	}
	return lock, nil
}

// mend puts the file of a store aside and opens a new one with what could be read. Of several programs that find the same
// damage, one does so: the others find another file than damaged.
func mend(path string, damaged fs.FileInfo, why error) (db *sql.DB, told string, err error) {
	lock, err := lockOf(path, syscall.LOCK_EX)
	if err != nil {
		return nil, "", err
	}
	defer lock.Close() // and with it the lock
	now, statErr := os.Stat(path)
	if disturbed(why) || statErr == nil && damaged != nil && !os.SameFile(now, damaged) { // another program was mending it
		db, err := openDatabase(path)
		if err == nil || !spoilt(err) {
			return db, "", err
		}
		why = err
	}
	aside := fmt.Sprintf("%s.%s", path, time.Now().Format("20060102-150405.000"))
	for _, beside := range []string{"-wal", "-shm", ""} { // they belong together
		if err := os.Rename(path+beside, aside+beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, "", err
		}
	}
	db, err = openDatabase(path)
	if err != nil {
		return nil, "", err
	}
	runs := carryOver(db, aside)
	carried := "nothing of it could be read"
	if runs > 0 {
		carried = fmt.Sprintf("%d runs were carried over", runs)
	}
	return db, fmt.Sprintf("the history was damaged (%v); it is kept as %s, and a new one begins: %s", why, aside, carried), nil
}

// A carriedTable is a table that is carried over, with the kinds of their columns: i for numbers, n for numbers that may be
// missing, t for texts, b for bytes.
type carriedTable struct{ table, columns, kinds string }

var carries = []carriedTable{
	{"run", `id, job, role, task, args, command, dir, env, hash, dirty, start, "end", cpu, memory, state, exit, signal, fault, errors, warnings, notes, new, still, gone, notChecked, rule, part, bytes, spool, spoolStart, owner, elsewhere`, "iittttttt" + "nin" + "iititt" + "iiiiiiii" + "ti" + "titt"},
	{"output", "run, size, cut, data", "iiib"},
	{"standing", "run, data", "ib"},
	{"gone", "id, task, run, first, last, seen, problem", "itiiiit"},
	{"preset", "task, name, args", "ttt"},
	{"settled", "run, life, by", "iii"},
	{"known", "task, origin, data", "ttb"},
}

// Bounds of what is carried over. Rows that cannot be read are skipped, ever more at once.
const (
	carriedAtOnce = 100
	carriesFor    = 20 * time.Second
)

// carryOver copies what can be read of a damaged file, and returns the number of runs.
func carryOver(to *sql.DB, path string) (runs int) {
	from, err := connect(path, "")
	if err != nil {
		return 0
	}
	defer from.Close()
	until := time.Now().Add(carriesFor)
	for _, c := range carries {
		var newest sql.NullInt64
		_ = from.QueryRow("SELECT max(rowid) FROM " + c.table).Scan(&newest)
		last, step := int64(0), int64(1)
		for last <= max(newest.Int64, 0)+step && time.Now().Before(until) {
			rows, reached, err := c.read(from, last)
			if n := c.write(to, rows); c.table == "run" {
				runs += n
			}
			switch {
			case err == nil && len(rows) == 0:
				last = 1 << 62 // all were read
			case err == nil:
				last, step = reached, 1
			default:
				last, step = max(last, reached)+step, step*2
				if newest.Int64 == 0 && step > 1<<20 {
					last = 1 << 62
				}
			}
		}
	}
	for _, table := range []string{"output", "standing", "gone", "settled"} { // of runs that are lost, whose numbers come again
		_, _ = to.Exec("DELETE FROM " + table + " WHERE run NOT IN (SELECT id FROM run)") // then it is of no use, and in nobody's way
	}
	return runs
}

// read returns some of the rows behind a row, and the number of the last one that could be read.
func (c *carriedTable) read(db *sql.DB, behind int64) (out [][]any, reached int64, err error) {
	rows, err := db.Query("SELECT rowid, "+c.columns+" FROM "+c.table+" WHERE rowid > ? ORDER BY rowid LIMIT ?", behind, carriedAtOnce)
	if err != nil {
		return nil, behind, err
	}
	defer rows.Close()
	reached = behind
	for rows.Next() {
		var id int64
		row := []any{&id}
		for _, kind := range c.kinds {
			switch kind {
			case 'i':
				row = append(row, new(int64))
			case 'n':
				row = append(row, new(sql.NullInt64))
			case 't':
				row = append(row, new(string))
			default:
				row = append(row, new([]byte))
			}
		}
		if rows.Scan(row...) == nil { // else it has other kinds of values
			out = append(out, row[1:])
		}
		reached = max(reached, id, behind)
	}
	if len(out) == 0 && reached > behind && rows.Err() == nil {
		return [][]any{}, reached, errors.New("no row is as it should be")
	}
	return out, reached, rows.Err()
}

// write copies rows into a new store, and returns how many it took.
func (c *carriedTable) write(db *sql.DB, rows [][]any) (n int) {
	if len(rows) == 0 {
		return 0
	}
	tx, err := db.Begin()
	if err != nil {
		return 0
	}
	defer tx.Rollback()
	q := "INSERT OR IGNORE INTO " + c.table + " (" + c.columns + ") VALUES (?" + strings.Repeat(", ?", len(c.kinds)-1) + ")"
	for _, row := range rows {
		if _, err := tx.Exec(q, row...); err == nil {
			n++
		}
	}
	if tx.Commit() != nil {
		return 0
	}
	return n
}
