package history

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"tidytally/core/problem"
	"tidytally/internal/testtree"
)

// aRun is a run as tests add it.
func aRun(i int) Run {
	at := time.Now().Add(-time.Hour).Add(time.Duration(i) * time.Second)
	return Run{Task: fmt.Sprintf("Makefile#t%d", i%7), Args: []string{fmt.Sprint(i)}, Command: "make " + strings.Repeat("clay ", i%40), Dir: "/w", Start: at, End: at.Add(time.Second), State: "ok", Commit: "abcdef0123"}
}

// fill adds runs with problems and outputs.
func fill(t *testing.T, s *Store, n int) {
	t.Helper()
	for i := range n {
		lives := []Lived{{Problem: problem.Problem{Place: problem.Place{File: "a.c", Line: i + 1}, Message: strings.Repeat("too hot ", i%20), Family: "gnu"}, State: problem.New, Seen: 1}}
		if _, err := s.Add(aRun(i), lives, lives, strings.Repeat(fmt.Sprintf("line %d\n", i), 1+i%50)); err != nil {
			t.Fatal(err)
		}
	}
}

// Stores of each shape that there ever was are brought to the shape of now, with all that they hold but secrets.
func TestOlderStores(t *testing.T) {
	for shape, at := range map[string]int{"version1-first": 1, "version1-second": 1, "version2": 2, "version3": 3} {
		secret, output := "hunter22", "INSERT INTO output (run, data, cut) VALUES (?, x'1f8b', 0)"
		if at > 1 { // since then no secrets are kept
			secret, output = "…", "INSERT INTO output (run, size, data, cut) VALUES (?, 2, x'1f8b', 0)"
		}
		schema, err := os.ReadFile("testdata/" + shape + ".sql")
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(t.TempDir(), "x.db")
		db, err := sql.Open("sqlite", "file:"+path)
		if err != nil {
			t.Fatal(err)
		}
		var packed bytes.Buffer
		packed.Write(packLives([]Lived{{Problem: problem.Problem{Message: "too hot"}, First: 1, Last: 1, Seen: 1}}))
		exec := func(q string, args ...any) {
			t.Helper()
			if _, err := db.Exec(q, args...); err != nil {
				t.Fatalf("%s: %v", q, err)
			}
		}
		exec(fmt.Sprintf("%s; PRAGMA user_version = %d;", schema, at))
		now := time.Now().UnixNano()
		for i, command := range []string{"deploy --password " + secret, "make -j2"} {
			exec(`INSERT INTO run (id, job, role, task, args, command, dir, env, hash, dirty, start, "end", state, bytes) VALUES (?, ?, 'task', 'Makefile#all', ?, ?, '/w', ?, 'abc', 1, ?, ?, 'ok', 5)`,
				i+1, i+1, `["--password","`+secret+`"]`, command, map[bool]string{true: `["DSN=postgres://me:hunter22@db/x","CC=clang"]`, false: `["DSN=…","CC=clang"]`}[at == 1], now, now+1)
			exec(output, i+1)
			exec("INSERT INTO standing VALUES (?, ?)", i+1, packed.Bytes())
		}
		exec(`INSERT INTO preset VALUES ('Makefile#all', 'mine', '["--token=` + secret + `","BOARD=mk1"]')`)
		exec("INSERT INTO gone (task, run, first, last, seen, problem) VALUES ('Makefile#all', 2, 1, 1, 1, '{}')")
		if _, err := db.Exec("CREATE TABLE IF NOT EXISTS known (task TEXT NOT NULL, origin TEXT NOT NULL, data BLOB NOT NULL, PRIMARY KEY (task, origin))"); err != nil {
			t.Fatal(err)
		}
		db.Close()

		s, err := openFile("/w", path, usual)
		if err != nil || s.Told != "" {
			t.Fatalf("%s: %v, told %q", shape, err, s.Told)
		}
		runs, err := s.Runs(Wanted{})
		if err != nil || len(runs) != 2 || runs[0].Command != "make -j2" || runs[1].Command != "deploy --password …" || strings.Join(runs[1].Args, " ") != "--password …" || strings.Join(runs[1].Env, " ") != "DSN=… CC=clang" {
			t.Errorf("%s: %+v, %v", shape, runs, err)
		}
		lives, err := s.Lives(2)
		if err != nil || len(lives) != 1 || lives[0].Problem.Message != "too hot" {
			t.Errorf("%s: lives %+v, %v", shape, lives, err)
		}
		presets, err := s.Presets("Makefile#all")
		if err != nil || strings.Join(presets["mine"], " ") != "--token=… BOARD=mk1" {
			t.Errorf("%s: presets %q, %v", shape, presets, err)
		}
		if gone, err := s.Gone("", 0, 0); err != nil || len(gone) != 1 {
			t.Errorf("%s: gone %v, %v", shape, gone, err)
		}
		fill(t, s, 3)
		s.Close()
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		_ = data
		if again, err := openFile("/w", path, usual); err != nil || again.Told != "" {
			t.Errorf("%s, opened again: %v", shape, err)
		} else {
			again.Close()
		}
	}
}

// A store of a newer program is left alone, to the byte, and that is told.
func TestANewerStore(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.db")
	s, err := openFile("/w", path, usual)
	if err != nil {
		t.Fatal(err)
	}
	fill(t, s, 3)
	if _, err := s.db.Exec("PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	s.Close()
	before, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := openFile("/w", path, usual); !errors.Is(err, errNewer) {
		t.Errorf("opened: %v", err)
	}
	after, err := os.ReadFile(path)
	if entries, _ := filepath.Glob(path + "*"); err != nil || !bytes.Equal(before, after) || len(entries) > 4 {
		t.Errorf("it was changed: %v, %v", entries, err)
	}
}

// Whatever is damaged, and whenever that is found: what is asked is answered, what is written is kept, most of what was
// there is carried over, and the damaged file is kept.
func TestDamagedStores(t *testing.T) {
	whole := filepath.Join(t.TempDir(), "whole.db")
	s, err := openFile("/w", whole, usual)
	if err != nil {
		t.Fatal(err)
	}
	fill(t, s, 150)
	if err := s.PutPreset("Makefile#t1", "mine", []string{"a"}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.db.Exec("PRAGMA wal_checkpoint(TRUNCATE)"); err != nil {
		t.Fatal(err)
	}
	s.Close()
	data, err := os.ReadFile(whole)
	if err != nil {
		t.Fatal(err)
	}
	random := rand.New(rand.NewSource(7))
	mended, carried := 0, 0
	const times = 40
	for i := range times {
		path := filepath.Join(t.TempDir(), "x.db")
		spoilt := bytes.Clone(data)
		early := i%2 == 0 // found when it is opened, or later
		if early {
			damage(random, &spoilt)
			if err := os.WriteFile(path, spoilt, 0o600); err != nil {
				t.Fatal(err)
			}
		} else if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		s, err := openFile("/w", path, usual)
		if err != nil {
			t.Fatalf("%d: %v", i, err)
		}
		var told []string
		s.tell = func(err error) { told = append(told, err.Error()) }
		if !early {
			damage(random, &spoilt)
			if err := os.WriteFile(path, spoilt, 0o600); err != nil {
				t.Fatal(err)
			}
		}
		for round := range 3 {
			id, err := s.Add(aRun(1000+round), []Lived{{Problem: problem.Problem{Message: "new"}, Seen: 1}}, nil, "fresh\n")
			if err != nil {
				t.Fatalf("%d: adding: %v", i, err)
			}
			if text, _, ok, err := s.Output(id); err != nil || !ok || string(text) != "fresh\n" {
				t.Fatalf("%d: the output: %q, %v", i, text, err)
			}
			if _, err := s.Runs(Wanted{Steps: true}); err != nil {
				t.Fatalf("%d: the runs: %v", i, err)
			}
			if _, err := s.Last(); err != nil {
				t.Fatalf("%d: the last ones: %v", i, err)
			}
			if _, err := s.Gone("", 0, 0); err != nil {
				t.Fatalf("%d: what is gone: %v", i, err)
			}
			if _, err := s.Lives(id); err != nil {
				t.Fatalf("%d: the lives: %v", i, err)
			}
			if _, err := s.Presets("Makefile#t1"); err != nil {
				t.Fatalf("%d: presets: %v", i, err)
			}
			if err := s.Recover(); err != nil {
				t.Fatalf("%d: recovering: %v", i, err)
			}
		}
		runs, err := s.Runs(Wanted{Steps: true})
		if err != nil {
			t.Fatal(err)
		}
		if aside, _ := filepath.Glob(path + ".20*"); len(aside) > 0 {
			mended++
			carried += len(runs) - 3
			if s.Told == "" && len(told) == 0 {
				t.Errorf("%d: nothing was told", i)
			}
		}
		s.Close()
	}
	if mended < times/4 || carried < 50*mended {
		t.Errorf("%d of %d were mended, with %d runs of 150 each", mended, times, carried)
	}
}

// damage writes over, cuts or moves a part of a file.
func damage(random *rand.Rand, data *[]byte) {
	d := *data
	switch at := random.Intn(len(d)); random.Intn(5) {
	case 0:
		*data = d[:at]
	case 1:
		copy(d[at:min(len(d), at+4096)], make([]byte, 4096))
	case 2:
		random.Read(d[at:min(len(d), at+1+random.Intn(8192))])
	case 3:
		random.Read(d[:16+random.Intn(200)])
	default:
		page := at &^ 4095
		copy(d[page:min(len(d), page+4096)], d[random.Intn(len(d)/2)&^4095:])
	}
}

// Programs that find the same damage at the same time agree on one new store.
func TestDamageFoundTogether(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.db")
	s, err := openFile("/w", path, usual)
	if err != nil {
		t.Fatal(err)
	}
	fill(t, s, 20)
	s.Close()
	if err := os.WriteFile(path, bytes.Repeat([]byte("clay"), 3000), 0o600); err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	for i := range 6 {
		all.Go(func() {
			s, err := openFile("/w", path, usual)
			if err != nil {
				t.Error(err)
				return
			}
			defer s.Close()
			if _, err := s.Add(aRun(i), nil, nil, "x"); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if s, err = openFile("/w", path, usual); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	runs, err := s.Runs(Wanted{})
	if aside, _ := filepath.Glob(path + ".20*"); err != nil || len(runs) != 6 || len(aside) != 1 {
		t.Errorf("%d runs, %v, put aside: %v", len(runs), err, aside)
	}
}

// Nobody else can read what is kept, also where the folder was there before.
func TestModes(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "state")
	if err := os.Mkdir(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "x.db")
	if err := os.WriteFile(path, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	s, err := openFile("/w", path, usual)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	fill(t, s, 2)
	for name, want := range map[string]os.FileMode{dir: 0o700, path: 0o600, path + "-wal": 0o600, path + "-shm": 0o600} {
		if info, err := os.Stat(name); err != nil || info.Mode().Perm() != want {
			t.Errorf("%s: %v, %v", name, info.Mode(), err)
		}
	}
}

// Runs go in the order of their numbers, in small steps, whether they print or not; a wrong clock removes nothing newer.
func TestOldRunsGoInSteps(t *testing.T) {
	s, err := openFile("/w", filepath.Join(t.TempDir(), "x.db"), Limits{Runs: 50, Age: 24 * time.Hour, Outputs: 1 << 20, Output: 1000})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	count := func() int {
		t.Helper()
		var n int
		if err := s.db.QueryRow("SELECT count(*) FROM run").Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
	if _, err := s.db.Exec(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1000)
		INSERT INTO run (job, role, task, args, command, dir, env, hash, start, "end", state) SELECT i, 'task', 'Makefile#all', '[]', 'x', '/w', '[]', '', ?, ?, 'ok' FROM n`, time.Now().UnixNano(), time.Now().UnixNano()); err != nil {
		t.Fatal(err)
	}
	add := func(start time.Time, printed string) {
		t.Helper()
		r := aRun(0)
		r.Start, r.End = start, start
		if _, err := s.Add(r, nil, nil, printed); err != nil {
			t.Fatal(err)
		}
	}
	add(time.Now(), "")
	if n := count(); n != 1001-trimStep {
		t.Errorf("after a silent run there are %d", n)
	}
	for range 5 {
		add(time.Now(), "printed")
	}
	if n := count(); n != 50 {
		t.Errorf("after some runs there are %d", n)
	}
	add(time.Unix(100, 0), "at the beginning of time")
	if n := count(); n != 50 {
		t.Errorf("a clock of 1970 removed runs: %d are there", n)
	}
	if runs, err := s.Runs(Wanted{Limit: 1}); err != nil || runs[0].Start.Year() != 1970 {
		t.Errorf("the newest: %+v, %v", runs, err)
	}
	// By their age.
	if _, err := s.db.Exec("UPDATE run SET start = ? WHERE id < (SELECT max(id) FROM run) - 9", time.Now().Add(-48*time.Hour).UnixNano()); err != nil {
		t.Fatal(err)
	}
	add(time.Now(), "")
	if n := count(); n != 11 {
		t.Errorf("by their age %d are left", n)
	}
}

// The bytes of outputs are counted from what is there: whoever stores one twice changes nothing.
func TestOutputsAreCountedOnce(t *testing.T) {
	s, err := openFile("/w", filepath.Join(t.TempDir(), "x.db"), Limits{Runs: 50, Age: time.Hour * 24, Outputs: 3000, Output: 1000})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	noise := make([]byte, 900)
	rand.New(rand.NewSource(1)).Read(noise)
	for range 2 {
		if _, err := s.Add(aRun(0), nil, nil, string(noise)); err != nil {
			t.Fatal(err)
		}
	}
	for range 20 { // as programs do that recover together
		if err := s.putOutput(1, sectionOf(noise)); err != nil {
			t.Fatal(err)
		}
	}
	for _, id := range []int64{1, 2} {
		if _, _, ok, err := s.Output(id); !ok || err != nil {
			t.Errorf("output %d is gone: %v", id, err)
		}
	}
}

// What an earlier program left at a batch system or elsewhere is not lost with the -wal of a store that another one has open.
func TestMendingKeepsWhatIsInTheWAL(t *testing.T) {
	root := testtree.Folder(t)
	path := filepath.Join(root, "x.db")
	open, err := openFile("/w", path, usual)
	if err != nil {
		t.Fatal(err)
	}
	defer open.Close()
	fill(t, open, 8) // in the -wal
	if _, err := open.db.Exec("DROP INDEX run_job; ALTER TABLE run RENAME COLUMN hash TO hush"); err != nil {
		t.Fatal(err)
	}
	s, err := openFile("/w", path, usual)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	aside, _ := filepath.Glob(path + ".20*")
	if len(aside) == 0 {
		t.Fatal("nothing was put aside")
	}
	db, err := sql.Open("sqlite", "file:"+aside[0])
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var n int
	if err := db.QueryRow("SELECT count(*) FROM run").Scan(&n); err != nil || n != 8 {
		t.Errorf("%d runs are in what was put aside, %v", n, err)
	}
}

// Packed problems survive any bytes.
func FuzzUnpackLives(f *testing.F) {
	f.Add(packLives([]Lived{{Problem: problem.Problem{Message: "too hot"}, First: 1, Last: 1, Seen: 1}}))
	f.Add([]byte("\x1f\x8b"))
	f.Fuzz(func(t *testing.T, data []byte) {
		lives, err := unpackLives(data)
		if err != nil {
			return
		}
		again, err := unpackLives(packLives(lives))
		if err != nil || len(again) != len(lives) {
			t.Fatalf("%d, then %d: %v", len(lives), len(again), err)
		}
	})
}
