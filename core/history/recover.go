package history

import (
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"a.early/system"

	"tidytally/core/keep"
	"tidytally/core/output"
)

// ownerNow identifies this program among all that ever ran: by its process id and when that
// started.
func ownerNow() string { return ownerOf(os.Getpid()) }

func ownerOf(pid int) string {
	owner := strconv.Itoa(pid)
	if started := system.Started(pid); started != "" {
		owner += ":" + started
	}
	return owner
}

// alive reports whether the program that owns a run still runs.
func alive(owner string) bool {
	number, _, started := strings.Cut(owner, ":")
	pid, err := strconv.Atoi(number)
	if err != nil || pid <= 0 {
		return false
	}
	if now := ownerOf(pid); started && now != number {
		return now == owner
	}
	return syscall.Kill(pid, 0) != syscall.ESRCH // when it started is not known
}

// goesOn reports whether a run's job, at a batch system, can be taken up: its folder is there.
func (s *Store) goesOn(elsewhere string) bool {
	jobs, err := keep.JobsFolder(s.root)
	if err != nil {
		return false
	}
	_, err = os.Stat(filepath.Join(jobs, filepath.Dir(elsewhere)))
	return err == nil
}

// Recover marks runs as interrupted whose program was killed, with what they printed so far,
// and stores outputs that such a program had no time to store. What a batch system has goes on. It must be called before the
// spools of killed programs are removed.
func (s *Store) Recover() error {
	return s.wholly(func() error {
		type left struct {
			id    int64
			spool string
			from  int64 // of the spool
			owner string
			ended bool
			job   string // that a batch system has, with a name of the run in it
		}
		var all []left
		rows, err := s.db.Query(`SELECT id, spool, spoolStart, owner, "end" IS NOT NULL, elsewhere FROM run WHERE "end" IS NULL OR spool != ''`)
		if err != nil {
			return err
		}
		for rows.Next() {
			var l left
			if err := rows.Scan(&l.id, &l.spool, &l.from, &l.owner, &l.ended, &l.job); err != nil {
				rows.Close()
				return err
			}
			all = append(all, l)
		}
		rows.Close()
		if err := rows.Err(); err != nil {
			return err
		}
		living := map[string]bool{}
		defer func() {
			for _, l := range all {
				if l.spool != "" && !living[l.owner] {
					output.Collected(filepath.Dir(l.spool))
				}
			}
		}()
		for _, l := range all {
			if _, asked := living[l.owner]; !asked {
				living[l.owner] = alive(l.owner)
			}
			if living[l.owner] || !l.ended && l.job != "" && s.goesOn(l.job) {
				continue
			}
			last := time.Now()
			var size int64
			if f, err := os.Open(l.spool); err == nil && l.spool != "" {
				if info, err := f.Stat(); err == nil && info.Mode().IsRegular() {
					last, size = info.ModTime(), max(0, info.Size()-l.from)
					err = s.putOutput(l.id, io.NewSectionReader(f, l.from, size))
					if err != nil {
						f.Close()
						return err
					}
				}
				f.Close()
			}
			if l.ended {
				if _, err := s.db.Exec("UPDATE run SET spool = '' WHERE id = ?", l.id); err != nil {
					return err
				}
				continue
			}
			if _, err := s.db.Exec(`UPDATE run SET state = 'interrupted', "end" = max(start, ?), bytes = ?, spool = '' WHERE id = ?`, last.UnixNano(), size, l.id); err != nil {
				return err
			}
		}
		return nil
	})
}
