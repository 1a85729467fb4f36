package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"
)

// kills kills the program at random moments while it runs tasks one after another, and reports
// runs that it had told to have ended and that its history does not have.
func kills(program, dir string, n int) error {
	in, state := filepath.Join(dir, "kills"), filepath.Join(dir, "state")
	if err := os.Mkdir(in, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(in, "tidytally.toml"), []byte("[task.a]\nrun = \"echo a\"\n[task.b]\nrun = \"seq 1 5000\"\n"), 0o644); err != nil {
		return err
	}
	env := append(os.Environ(), "XDG_STATE_HOME="+state)
	var ids []string
	for range 40 {
		ids = append(ids, "a", "b")
	}
	told := 0
	for range n {
		cmd := exec.Command(program, append([]string{"run"}, ids...)...)
		cmd.Dir, cmd.Env = in, env
		var said bytes.Buffer
		cmd.Stderr = &said
		if err := cmd.Start(); err != nil {
			return err
		}
		time.Sleep(time.Duration(20+rand.IntN(300)) * time.Millisecond)
		_ = cmd.Process.Signal(syscall.SIGKILL) // it may be done
		_ = cmd.Wait()
		told += strings.Count(said.String(), " ok after ")
	}
	cmd := exec.Command(program, "history", "--json", "--limit", "0")
	cmd.Dir, cmd.Env = in, env
	out, err := cmd.Output()
	if err != nil {
		return fmt.Errorf("history: %w", err)
	}
	var kept struct {
		Runs []struct{ State string }
	}
	if err := json.Unmarshal(out, &kept); err != nil {
		return err
	}
	count := map[string]int{}
	for _, r := range kept.Runs {
		count[r.State]++
	}
	fmt.Printf("%d kills: %d runs were told to have ended, %d are kept as ended, %d as interrupted\n", n, told, count["ok"], count["interrupted"])
	if count["ok"] < told || count["running"] > 0 {
		return fmt.Errorf("runs are lost")
	}
	return nil
}
