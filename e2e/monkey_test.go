package e2e

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/internal/testtree"
)

var (
	monkeySeeds = flag.String("monkey.seeds", "1", "the seeds of the monkey in tmux")
	monkeyKeys  = flag.Int("monkey.keys", 80, "its keys of each seed")
	monkeyTime  = flag.Duration("monkey.time", time.Hour, "how long it begins further seeds")
)

// Keys that the monkey presses, as tmux spells them; q, which may end the program, is not among them.
var randomKeys = strings.Fields("Enter Enter Enter Escape Escape Up Down Down Down PageUp PageDown Home End Tab Space Left Right BSpace DC S-Up S-Down " +
	"t o o y y l T H v M n C E m s ? a u U r x x i b I S F R L A D ! / f g h z N . , [ ] = e d w p c V B 1 2 3 9 C-s C-t C-p C-z C-o C-o C-a C-k C-u C-w M-b F7 k j 0 -")

// Random keys, sizes and saves in the real program, in a terminal: it goes on, and reports nothing.
func TestMonkeyInTmux(t *testing.T) {
	first, last := testtree.Seeds(t, *monkeySeeds)
	begun := time.Now()
	for seed := first; seed <= last && time.Since(begun) < *monkeyTime; seed++ {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { pressKeys(t, seed) })
	}
}

func pressKeys(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 5))
	var log strings.Builder
	for i := range 300 {
		fmt.Fprintf(&log, "src/a.c:%d:%d: \x1b[1;31m%s:\x1b[m number %d \x1b[2m10:00\x1b[22m \x1b[1m\x1b[32mok\x1b[39m\x1b[22m\n", i, i%70, []string{"error", "warning", "note"}[r.IntN(3)], i)
	}
	dir := filepath.Join(testtree.Folder(t), "kiln")
	testtree.Fill(t, dir, map[string]string{
		"Makefile": "all: one two\none: ; @cat log; exit 2\ntwo: ; @sleep 1; echo two\n", "log": log.String(), "src/a.c": strings.Repeat("int a; // 日本\n", 300),
		"tidytally.toml": "[task.watch]\nrun = \"cat log; sleep 0.5\"\nrerun_on = [\"src/*\"]\n[task.serve]\nrun = \"echo up on http://127.0.0.1:1/; sleep 300\"\nready = 'up on (?P<url>\\S+)'\n[task.dev]\nwith = [\"#watch\", \"#serve\"]\n[task.asks]\nrun = \"read x; echo $x\"\n[task.all]\nrun = \"cat log\"\nbefore = [\"Makefile#one\"]\nargs = [{ name = \"A\" }]\n",
	})
	state := t.TempDir()
	s := startAlone(t, dir, 120, 36, "env XDG_STATE_HOME="+state+" EDITOR=true BROWSER=true "+program)
	var pressed []string
	for range *monkeyKeys {
		key := randomKeys[r.IntN(len(randomKeys))]
		switch r.IntN(25) {
		case 0:
			w, h := 60+r.IntN(140), 16+r.IntN(40)
			key = fmt.Sprintf("%dx%d", w, h)
			s.tmux("resize-window", "-x", fmt.Sprint(w), "-y", fmt.Sprint(h))
		case 1:
			key = "save"
			name := []string{"src/a.c", "log", "tidytally.toml", "Makefile"}[r.IntN(4)]
			data, err := os.ReadFile(filepath.Join(dir, name))
			if err == nil {
				err = os.WriteFile(filepath.Join(dir, name), append(data, "\n# more\n"...), 0o644)
			}
			if err != nil {
				t.Fatal(err)
			}
		default:
			s.tmux("send-keys", key)
		}
		pressed = append(pressed, key)
		if text := s.text(); strings.Contains(text, "a fault of Tidy Tally") || strings.Contains(text, "DATA RACE") || strings.Contains(text, "\nexit ") {
			t.Fatalf("seed %d: after %s\n%s", seed, strings.Join(pressed, " "), text)
		}
	}
	if reports, _ := filepath.Glob(filepath.Join(state, "tidytally/reports/*")); len(reports) > 0 {
		text, _ := os.ReadFile(reports[0])
		t.Fatalf("seed %d: after %s\n%s", seed, strings.Join(pressed, " "), text)
	}
	s.tmux("send-keys", "C-o")
	s.waitUntil("the end", func(text string) bool { // each key leads further out
		if strings.Contains(text, "exit 0") {
			return true
		}
		key := "Escape"
		if strings.Contains(text, "? all keys") || strings.Contains(text, "q again stops all") {
			key = "q"
		}
		s.tmux("send-keys", key)
		time.Sleep(100 * time.Millisecond) // Escape and a key soon behind it are another key
		return false
	})
}
