// Command soak starts many trees of processes that resist their end, ends them in every way
// there is, and reports what is left. It runs for minutes: the tests have a short form.
//
//	go run ./scripts/soak [-n 100] [-kills 200]
//
// It also kills the program at random moments, and looks for runs that its history has lost.
package main

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"
)

// trees are commands that start processes which are hard to end; SLEEP marks them all.
var trees = map[string]string{
	"ignores":       "trap '' INT TERM HUP QUIT; SLEEP & echo up; SLEEP",
	"double-fork":   "(SLEEP &) ; (sh -c 'SLEEP & SLEEP &' &); echo up; SLEEP",
	"own-session":   "setsid sh -c 'trap \"\" INT TERM HUP; SLEEP & echo up; SLEEP'; SLEEP",
	"daemon":        "(env -i setsid SLEEP &); echo up; SLEEP",
	"leader-ends":   "(env -i setsid sh -c 'trap \"\" TERM; SLEEP' &); echo up; exit 0",
	"stops-itself":  "SLEEP & echo up; kill -STOP $$; SLEEP",
	"forks-onwards": "f() { SLEEP & sleep 0.05; [ $1 -gt 0 ] && f $(($1-1)); }; echo up; f 30; SLEEP",
}

// ways are the signals that end the program.
var ways = map[string]syscall.Signal{"TERM": syscall.SIGTERM, "HUP": syscall.SIGHUP, "INT": syscall.SIGINT, "QUIT": syscall.SIGQUIT, "KILL": syscall.SIGKILL}

// patience is how long a tree may take to end.
const patience = 20 * time.Second

func main() {
	n := flag.Int("n", 30, "trees for each way and kind")
	dead := flag.Int("kills", 200, "kills at random moments")
	beside := flag.Int("beside", 8, "trees at a time")
	flag.Parse()
	if err := soak(*n, *beside, *dead); err != nil {
		fmt.Fprintln(os.Stderr, "soak:", err)
		os.Exit(1)
	}
}

func soak(n, beside, dead int) error {
	dir, err := os.MkdirTemp("", "soak-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	program := filepath.Join(dir, "tidytally")
	if out, err := exec.Command("go", "build", "-o", program, "./cmd/tidytally").CombinedOutput(); err != nil {
		return fmt.Errorf("%v: %s", err, out)
	}
	if err := kills(program, dir, dead); err != nil {
		return err
	}
	os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	var mu sync.Mutex
	next, left := 0, 0
	slots := make(chan struct{}, beside)
	var all sync.WaitGroup
	for kind, script := range trees {
		for way, signal := range ways {
			for range n {
				slots <- struct{}{}
				all.Go(func() {
					defer func() { <-slots }()
					mu.Lock()
					next++
					mark := fmt.Sprintf("%d%06d", 7+os.Getpid()%90, next)
					mu.Unlock()
					if rest := one(program, dir, mark, script, signal); rest != "" {
						mu.Lock()
						left++
						fmt.Printf("%s, %s: left\n%s", kind, way, rest)
						mu.Unlock()
					}
				})
			}
		}
	}
	all.Wait()
	fmt.Printf("%d trees, %d left something\n", next, left)
	if left > 0 {
		return fmt.Errorf("processes are left")
	}
	return nil
}

// one starts a tree, ends the program, and returns what is left of the tree.
func one(program, dir, mark, script string, signal syscall.Signal) string {
	in := filepath.Join(dir, mark)
	if err := os.Mkdir(in, 0o755); err != nil {
		return err.Error()
	}
	sleep := "sleep " + mark
	tally := "[task.tree]\nrun = '''" + strings.ReplaceAll(script, "SLEEP", sleep) + "'''\nstop = { grace = \"100ms\" }\n"
	if err := os.WriteFile(filepath.Join(in, "tidytally.toml"), []byte(tally), 0o644); err != nil {
		return err.Error()
	}
	cmd := exec.Command(program, "run", "tree")
	cmd.Dir = in
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err.Error()
	}
	if err := cmd.Start(); err != nil {
		return err.Error()
	}
	if _, err := out.Read(make([]byte, 3)); err != nil {
		return fmt.Sprintf("no output: %v\n", err)
	}
	_ = cmd.Process.Signal(signal) // the program may have ended: then its leftovers must be gone too
	_ = cmd.Wait()
	for deadline := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
		rest, _ := exec.Command("pgrep", "-fax", sleep).Output() // an error is that there is none
		if len(bytes.TrimSpace(rest)) == 0 {
			return ""
		}
		if time.Now().After(deadline) {
			_ = exec.Command("pkill", "-KILL", "-fx", sleep).Run()
			return string(rest)
		}
	}
}
