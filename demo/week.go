package demo

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"time"

	"tidytally/core/history"
	"tidytally/core/problem"
)

// A week of made-up runs, so that the page of earlier runs has something to show at once.

// habit is a task that people of the studio run.
type habit struct {
	task, command, dir string
	args               []string
	perDay             int
	seconds            float64
	drift              float64 // by how much it gets slower a day
	fails              float64 // how often
	exit               int
	problems           []problem.Problem // when it fails
}

var habits = []habit{
	{task: "kiln/Makefile#controller", command: "make controller", dir: "kiln", perDay: 9, seconds: 2.1, fails: 0.3, exit: 2, problems: []problem.Problem{
		{Place: problem.Place{File: "kiln/src/coil.c", Line: 30, Column: 6}, Severity: problem.Warning, Code: "unused-variable", Message: "unused variable ‘elapsed’", Family: "gnu", Times: 1},
		{Place: problem.Place{File: "kiln/src/coil.c", Line: 39, Column: 26}, Severity: problem.Error, Message: "‘struct coil’ has no member named ‘duty_max’", Family: "gnu", Times: 1},
	}},
	{task: "kiln/Makefile#selftest", command: "make selftest", dir: "kiln", perDay: 5, seconds: 1.2, fails: 0.05, exit: 2},
	{task: "firing/go.mod#test", command: "go test ./...", dir: "firing", perDay: 7, seconds: 3.4, drift: 0.35, fails: 0.2, exit: 1, problems: []problem.Problem{
		{Place: problem.Place{File: "firing/curve/curve_test.go", Line: 31}, Severity: problem.Error, Message: "hold at cone 6: 1222, want 1240", Family: "go", Times: 1},
	}},
	{task: "shopfront/package.json#build", command: "npm run build", dir: "shopfront", perDay: 4, seconds: 11.8, fails: 0.15, exit: 2, problems: []problem.Problem{
		{Place: problem.Place{File: "shopfront/src/glazes.ts", Line: 12, Column: 7}, Severity: problem.Error, Code: "TS2322", Message: "Type 'string' is not assignable to type 'number'.", Family: "typescript", Times: 1},
	}},
	{task: "tidytally.toml#recipe", command: "python3 -m glazebook", dir: "glazebook", perDay: 2, seconds: 0.4, args: []string{"--jar", "house"}},
}

// commits are the made-up commits of the week, one a day.
var commits = []string{
	"3f1c0d2a9be4477aa0c1d2e3f405162738495a6b", "7be221055d0f4c6e8a9b0c1d2e3f4a5b6c7d8e9f", "a41c09f2b3c4d5e6f708192a3b4c5d6e7f809a1b",
	"c05d1e6f2a3b4c5d6e7f8091a2b3c4d5e6f70819", "d9e8f7a6b5c4d3e2f1a0b9c8d7e6f5a4b3c2d1e0", "e7a1b2c3d4e5f60718293a4b5c6d7e8f90a1b2c3", "f00dcafe1234567890abcdef1234567890abcdef",
}

// Week writes a week of made-up runs into the history of the workspace at root, up to now.
func Week(store *history.Store, root string, now time.Time) error {
	r := rand.New(rand.NewPCG(7, 2026)) // the same week each time
	standing := map[string][]history.Lived{}
	day := time.Date(now.Year(), now.Month(), now.Day(), 9, 0, 0, 0, now.Location()).AddDate(0, 0, -len(commits))
	for d, commit := range commits {
		at := day.AddDate(0, 0, d)
		for turn := range 9 {
			for i := range habits {
				h := &habits[i]
				if turn >= h.perDay {
					continue
				}
				at = at.Add(time.Duration(2+r.IntN(11)) * time.Minute)
				failed := r.Float64() < h.fails
				dirty := r.IntN(2) == 0
				took := (h.seconds + h.drift*float64(d)) * (0.85 + 0.3*r.Float64())
				if failed {
					took *= 0.4
				}
				run := history.Run{
					Task: h.task, Args: h.args, Command: h.command, Dir: filepath.Join(root, h.dir), Commit: commit, Dirty: &dirty,
					Start: at, End: at.Add(time.Duration(took * float64(time.Second))), CPU: time.Duration(took * 0.8 * float64(time.Second)),
					Memory: int64(20+r.IntN(200)) << 20, State: "ok",
				}
				printed := h.command + "\n"
				before := standing[h.task]
				var lives, gone []history.Lived
				if failed {
					run.State, run.Exit = "failed", h.exit
					for k, p := range h.problems {
						p.Seq = k + 1
						line := p.GNU() + "\n"
						p.Output = problem.Span{FirstLine: k + 2, LastLine: k + 2, StartByte: int64(len(printed)), EndByte: int64(len(printed) + len(line))}
						printed += line
						run.Count.Add(p.Severity)
						l := history.Lived{Problem: p, State: problem.New, Seen: 1}
						if k < len(before) {
							l.State, l.First, l.Seen = problem.Still, before[k].First, before[k].Seen+1
							run.Balance.Still++
						} else {
							run.Balance.New++
						}
						lives = append(lives, l)
					}
				} else {
					gone = before
					run.Balance.Gone = len(gone)
				}
				printed += fmt.Sprintf("took %.1f s\n", took)
				if _, err := store.Add(run, lives, gone, printed); err != nil {
					return err
				}
				standing[h.task] = lives
			}
		}
	}
	return nil
}
