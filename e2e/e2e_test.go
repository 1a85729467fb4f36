// Package e2e drives the real interface as a person does: in tmux, with keys.
package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"tidytally/core/keep"
	"tidytally/demo"
	"tidytally/internal/testtree"
)

var program string // the built command

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "tidytally-e2e-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)
		// Nothing of what the user has for every workspace, and nothing kept there.
		os.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config"))
		os.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
		keep.FirstStart() // a test of its own looks at that
		// A race is told when it is seen; a second of waiting at each exit is not needed.
		os.Setenv("GORACE", "atexit_sleep_ms=10")
		program = filepath.Join(dir, "tidytally")
		build := []string{"build", "-o", program}
		if underRace {
			build = append(build, "-race")
		}
		if out, err := exec.Command("go", append(build, "tidytally/cmd/tidytally")...).CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "building: %v\n%s", err, out)
			return 1
		}
		return m.Run()
	}())
}

// screen is a terminal with the program in it.
type screen struct {
	t      *testing.T
	socket string
	dir    string // the workspace
}

// workspace lays out emberclay.
func workspace(t *testing.T) string {
	t.Helper()
	dir := filepath.Join(testtree.Folder(t), "emberclay")
	if err := demo.Lay(dir); err != nil {
		t.Fatal(err)
	}
	return dir
}

// start opens the program on a workspace in a terminal of so many cells.
func start(t *testing.T, dir string, columns, rows int, env ...string) *screen {
	t.Helper()
	return startCommand(t, dir, columns, rows, "env "+strings.Join(env, " ")+" "+program)
}

// socketOf names the tmux server of a test.
func socketOf(t *testing.T) string {
	return fmt.Sprintf("tidytally-e2e-%d-%s", os.Getpid(), strings.ReplaceAll(t.Name(), "/", "-"))
}

// startCommand runs a command that opens the program.
func startCommand(t *testing.T, dir string, columns, rows int, command string) *screen {
	t.Helper()
	t.Parallel()
	return startAlone(t, dir, columns, rows, command)
}

// startAlone is startCommand for a test that runs by itself.
func startAlone(t *testing.T, dir string, columns, rows int, command string) *screen {
	t.Helper()
	return startOn(t, socketOf(t), dir, columns, rows, command)
}

// startOn is startAlone on a tmux server of its own: a test may have several terminals.
func startOn(t *testing.T, socket, dir string, columns, rows int, command string) *screen {
	t.Helper()
	for _, tool := range []string{"tmux", "gcc", "make"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed", tool)
		}
	}
	s := &screen{t: t, socket: socket, dir: dir}
	log := filepath.Join(t.TempDir(), "log")
	command = "export TERM=xterm-256color COLORTERM=truecolor LC_ALL=C.UTF-8 GORACE=halt_on_error=1 TIDYTALLY_LOG=" + log + "; " + command + "; code=$?; echo; echo \"exit $code\"; stty -a | grep -o -e '-\\?icanon' -e '-\\?echo\\b'; exec sleep 600"
	cmd := exec.Command("tmux", "-u", "-L", s.socket, "-f", "/dev/null", "new-session", "-d", "-x", fmt.Sprint(columns), "-y", fmt.Sprint(rows), "-c", dir, "sh", "-c", command)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("tmux: %v\n%s", err, out)
	}
	s.tmux("set", "-g", "window-size", "manual")
	t.Cleanup(func() {
		if t.Failed() {
			said, _ := os.ReadFile(log) // none if it did not start
			t.Logf("the screen at the end:\n%s\nthe end of the log:\n%s", s.text(), said[max(0, len(said)-4000):])
		}
		exec.Command("tmux", "-L", s.socket, "kill-server").Run()
	})
	s.waitFor("tasks")
	return s
}

// again opens the program again in the same terminal, after it was left.
func (s *screen) again(env ...string) {
	s.t.Helper()
	s.tmux("respawn-pane", "-k", "-c", s.dir, "env TERM=xterm-256color LC_ALL=C.UTF-8 "+strings.Join(env, " ")+" "+program)
	s.waitFor("tasks")
}

func (s *screen) tmux(args ...string) string {
	out, err := exec.Command("tmux", append([]string{"-L", s.socket}, args...)...).Output()
	if err != nil {
		s.t.Fatalf("tmux %v: %v", args, err)
	}
	return string(out)
}

// text is what the screen shows.
func (s *screen) text() string { return s.tmux("capture-pane", "-p") }

// keys presses keys, named as tmux names them.
func (s *screen) keys(names ...string) {
	s.t.Helper()
	s.tmux(append([]string{"send-keys"}, names...)...)
}

// typeText types a text.
func (s *screen) typeText(text string) {
	s.t.Helper()
	s.tmux("send-keys", "-l", text)
}

// patience is how long a screen may take on a busy machine. A test that passes does
// not wait for it.
const patience = 60 * time.Second

// waitUntil looks at the screen until it is as told.
func (s *screen) waitUntil(what string, so func(text string) bool) string {
	s.t.Helper()
	var text string
	for deadline := time.Now().Add(patience); time.Now().Before(deadline); {
		if text = s.text(); so(text) {
			return text
		}
		time.Sleep(10 * time.Millisecond)
	}
	s.t.Fatalf("%s is not seen", what)
	return text
}

// waitFor waits until all the words are seen.
func (s *screen) waitFor(words ...string) string {
	s.t.Helper()
	return s.waitUntil(fmt.Sprintf("%q", words), func(text string) bool {
		for _, w := range words {
			if !strings.Contains(text, w) {
				return false
			}
		}
		return true
	})
}

// waitGone waits until none of the words is seen.
func (s *screen) waitGone(words ...string) string {
	s.t.Helper()
	return s.waitUntil(fmt.Sprintf("the end of %q", words), func(text string) bool {
		for _, w := range words {
			if strings.Contains(text, w) {
				return false
			}
		}
		return true
	})
}

// line returns the line of the screen that holds a text.
func line(t *testing.T, screen, with string) (string, int) {
	t.Helper()
	for i, l := range strings.Split(screen, "\n") {
		if strings.Contains(l, with) {
			return l, i
		}
	}
	t.Fatalf("no line with %q in\n%s", with, screen)
	return "", 0
}

// find filters the tasks and leaves the filter on.
func (s *screen) find(text string) {
	s.t.Helper()
	s.keys("/")
	s.typeText(text)
	s.waitFor("find " + text) // a suggestion may follow
	s.keys("Enter")
}

func (s *screen) write(name, text string) {
	s.t.Helper()
	if err := os.MkdirAll(filepath.Dir(filepath.Join(s.dir, name)), 0o755); err != nil {
		s.t.Fatal(err)
	}
	writeWhole(s.t, filepath.Join(s.dir, name), text)
}

// writeWhole writes a file by renaming, so that whoever watches it never reads half
// of it.
func writeWhole(t *testing.T, name, text string) {
	t.Helper()
	temp := name + ".part"
	if err := os.WriteFile(temp, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(temp, name); err != nil {
		t.Fatal(err)
	}
}

func (s *screen) read(name string) string {
	s.t.Helper()
	data, err := os.ReadFile(filepath.Join(s.dir, name))
	if err != nil {
		s.t.Fatal(err)
	}
	return string(data)
}

// clearFind takes the filter off. An escape right before another key would be
// taken for that key with alt.
func (s *screen) clearFind() {
	s.t.Helper()
	s.keys("Escape")
	shown := regexp.MustCompile(`(?m)find {10,}\d+ of \d+ tasks shown(?:   |$)`)
	s.waitUntil("the whole list", shown.MatchString)
}
