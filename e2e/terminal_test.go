package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"
	"unicode/utf8"
)

// more is what a rule says of the rows beyond it.
var more = regexp.MustCompile(`^ \d+ more (above|below) $`)

// At every size the page fits, and resizing at any moment is safe.
func TestSizes(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.waitFor("controller")
	s.keys("u")
	s.waitFor("failed (2)")
	for _, page := range []struct{ key, mark string }{{"y", "tally of"}, {"o", "output of"}, {"v", "survey"}, {"t", "tasks"}, {"?", "Keys of the page"}} {
		s.keys(page.key)
		s.waitFor(page.mark)
		for _, size := range [][2]int{{80, 24}, {60, 16}, {59, 16}, {200, 50}, {20, 5}, {142, 38}} {
			s.tmux("resize-window", "-x", fmt.Sprint(size[0]), "-y", fmt.Sprint(size[1]))
			small := size[0] < 60 || size[1] < 16
			text := s.waitUntil(fmt.Sprintf("the page at %v", size), func(text string) bool {
				lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
				if small {
					return strings.Contains(text, "Tidy Tally needs")
				}
				rule := strings.TrimSpace(lines[1])
				keys := lines[len(lines)-1]
				return len(lines) == size[1] && more.ReplaceAllString(strings.Trim(rule, "═"), "") == "" && utf8.RuneCountInString(rule) == size[0]-2 && (strings.Contains(keys, "all keys") || strings.Contains(keys, "? back"))
			})
			if small {
				continue
			}
			lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
			if rule := strings.TrimSpace(lines[len(lines)-3]); more.ReplaceAllString(strings.Trim(rule, "─"), "") != "" {
				t.Errorf("%s at %v: the footing's rule reads %q", page.mark, size, rule)
			}
		}
		if page.key == "?" {
			s.keys("?")
		}
	}
}

// Quitting while something runs asks once; then everything is stopped and the
// terminal is as it was.
func TestQuitAsksStopsAndRestores(t *testing.T) {
	s := start(t, workspace(t), 100, 30)
	s.find("kilnsim")
	s.waitFor("tools/kilnsim")
	s.keys("Enter")
	s.waitFor("up since")
	s.keys("q")
	s.waitFor("q again stops all and quits")
	s.keys("Down")
	s.waitGone("q again stops")
	s.keys("q")
	s.waitFor("q again stops all and quits")
	s.keys("q")
	text := s.waitFor("exit 0")
	if strings.Contains(text, "emberclay  tasks") {
		t.Errorf("the page is still there:\n%s", text)
	}
	text = s.waitFor("icanon", "echo")
	if strings.Contains(text, "-icanon") || strings.Contains(text, "-echo") {
		t.Errorf("the terminal is not as it was:\n%s", text)
	}
	if out, err := exec.Command("pgrep", "-f", filepath.Join(s.dir, "tools/kilnsim")).Output(); err == nil {
		t.Errorf("kilnsim still runs: %s", out)
	}
}

// However the program is asked to end, or its window goes away, nothing that it started is
// left, not even what ignores signals or has a session of its own; the terminal is as it was.
func TestNothingIsLeftBehind(t *testing.T) {
	for i, way := range []string{"INT", "TERM", "HUP", "QUIT", "KILL", "closed window"} {
		t.Run(way, func(t *testing.T) {
			dir := t.TempDir()
			// Their arguments tell these processes from all others.
			mark := fmt.Sprintf("%d%d", 6000+i, os.Getpid())
			writeWhole(t, filepath.Join(dir, "tidytally.toml"), "[task.stubborn]\nrun = \"trap '' INT TERM HUP QUIT; setsid sleep "+mark+" & (env -i setsid sleep "+mark+" &); sleep "+mark+" & echo all are up; sleep "+mark+"\"\nstop = { grace = \"100ms\" }\n")
			left := func() string {
				out, _ := exec.Command("pgrep", "-fax", "sleep "+mark).Output() // an error is that there is none
				return string(out)
			}
			awaitNone := func() {
				t.Helper()
				for deadline := time.Now().Add(patience); left() != ""; time.Sleep(10 * time.Millisecond) {
					if time.Now().After(deadline) {
						t.Fatalf("left behind:\n%s", left())
					}
				}
			}
			s := start(t, dir, 100, 30)
			s.waitFor("stubborn")
			s.keys("Enter", "o")
			s.waitFor("1 ¦ all are up")
			// The last of them may still be a shell on its way.
			for deadline := time.Now().Add(patience); strings.Count(left(), "sleep") != 4; time.Sleep(10 * time.Millisecond) {
				if time.Now().After(deadline) {
					t.Fatalf("there are %q", left())
				}
			}
			if way == "closed window" {
				s.tmux("kill-server")
				awaitNone()
				return
			}
			shell := strings.TrimSpace(s.tmux("display-message", "-p", "#{pane_pid}"))
			if out, err := exec.Command("pkill", "-"+way, "-P", shell).CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			if way == "KILL" {
				awaitNone()
				killed := exec.Command(program, "run", "stubborn")
				killed.Dir = dir
				out, err := killed.StdoutPipe()
				if err != nil {
					t.Fatal(err)
				}
				if err := killed.Start(); err != nil {
					t.Fatal(err)
				}
				if _, err := out.Read(make([]byte, 10)); err != nil {
					t.Fatal(err)
				}
				_ = killed.Process.Kill()
				_ = killed.Wait() // it was killed
				awaitNone()
				return
			}
			text := s.waitFor("exit 0", "icanon", "echo")
			if left := left(); left != "" {
				t.Errorf("left behind:\n%s", left)
			}
			if strings.Contains(text, "-icanon") || strings.Contains(text, "-echo") || strings.Contains(text, "all are up") {
				t.Errorf("the terminal is not as it was:\n%s", text)
			}
			run := exec.Command(program, "run", "stubborn")
			run.Dir = dir
			out, err := run.StdoutPipe()
			if err != nil {
				t.Fatal(err)
			}
			if err := run.Start(); err != nil {
				t.Fatal(err)
			}
			if _, err := out.Read(make([]byte, 10)); err != nil {
				t.Fatal(err)
			}
			signal := map[string]os.Signal{"INT": syscall.SIGINT, "TERM": syscall.SIGTERM, "HUP": syscall.SIGHUP, "QUIT": syscall.SIGQUIT}[way]
			for range 2 {
				if err := run.Process.Signal(signal); err != nil {
					t.Fatal(err)
				}
			}
			_ = run.Wait() // its exit code is the task's
			if left := left(); left != "" {
				t.Errorf("run leaves behind:\n%s", left)
			}
		})
	}
}

// A click chooses, a double click runs, the wheel scrolls.
func TestMouse(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	text := s.waitFor("28 of 35 tasks shown", "selftest") // before that rows still move
	_, y := line(t, text, "make selftest")
	click := func(x, y int) {
		s.typeText(fmt.Sprintf("\x1b[<0;%d;%dM\x1b[<0;%d;%dm", x, y, x, y))
	}
	click(20, y+1)
	s.waitFor("selftest   Link the self-test")
	click(20, y+1)
	click(20, y+1)
	s.waitUntil("the run of selftest", func(text string) bool {
		l, _ := line(t, text, "make selftest")
		return strings.Contains(l, "ok")
	})
	s.typeText(fmt.Sprintf("\x1b[<65;%d;%dM", 20, 10)) // wheel down: three rows
	s.waitFor("size-mk1   The size")
}

// Nothing of a workspace or a process reaches the terminal but text and style.
func TestHostileBytes(t *testing.T) {
	dir := t.TempDir()
	files := map[string]string{
		"package.json":   "{\"scripts\":{\"evil\\u001b]0;owned\\u0007\\u001b[2J\":\"echo \\u001b[5mx\",\"\\u202egpj\":\"x\"}}",
		"Makefile":       "all:\x1b[31m\n\ttrue\nprint: ## says \x1b[2J\x1b[Hhello\n\t@cat nasty\n",
		"nasty":          "\x1b]0;owned\x07\x1b[2J\x1b[Hfirst\x1b[?1049l\x1b[31mred\x1b[m\r\n\x00\x01\xff\xfe binary\nbad\x1b[2Jname.c:1:2: error: me\x1b]52;c;eA==\x07ssage\n",
		"tidytally.toml": "[task.x]\nrun = \"y\"\nun\u0001known = 1\n",
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	s := start(t, dir, 142, 38)
	s.waitFor("evil␛]0;o", "\ufffdgpj", "says ␛[2J␛[Hhello")
	s.find("print")
	s.waitFor("1 of")
	s.keys("Enter")
	s.waitFor("ok")
	s.keys("o")
	text := s.waitFor("firstred", "binary")
	if !strings.Contains(text, "output of print") {
		t.Errorf("the page is broken:\n%s", text)
	}
	s.keys("y")
	s.waitFor("badname.c", "message")
	s.keys("v")
	s.waitFor("survey")
	if title := s.tmux("display-message", "-p", "#{pane_title}"); strings.Contains(title, "owned") {
		t.Errorf("the terminal's title was changed: %s", title)
	}
	out, err := exec.Command("sh", "-c", "cd "+dir+" && "+program+" list --all; "+program+" show print; "+program+" check").CombinedOutput()
	if bytes.ContainsAny(out, "\x1b\x07") {
		t.Errorf("escapes in the commands' output (%v): %q", err, out)
	}
}

func exitCode(t *testing.T, err error) int {
	t.Helper()
	if err == nil {
		return 0
	}
	var ee *exec.ExitError
	if !errors.As(err, &ee) {
		t.Fatal(err)
	}
	return ee.ExitCode()
}

// call runs the program without a terminal.
func call(t *testing.T, dir, stdin string, args ...string) (out, errs string, code int) {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Stdin = dir, strings.NewReader(stdin)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	return o.String(), e.String(), exitCode(t, err)
}

func TestWithoutATerminal(t *testing.T) {
	out, errs, code := call(t, workspace(t), "")
	if code != 2 || out != "" || !strings.Contains(errs, "the pages need a terminal") {
		t.Errorf("exit %d, out %q, errors %q", code, out, errs)
	}
}

func TestTour(t *testing.T) {
	for _, tool := range []string{"gcc", "make"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not installed", tool)
		}
	}
	out, errs, code := call(t, t.TempDir(), "", "demo", "--tour")
	if code != 0 || !strings.Contains(out, "no problems are left") || !strings.Contains(out, "new      kiln/src/main.c: error: undefined reference to `coil_mean'") {
		t.Errorf("exit %d\n%s\n%s", code, out, errs)
	}
}

// The interface executes nothing of its own, also inside of a terminal multiplexer, and a
// task's environment is that of the program.
func TestNothingIsExecutedAtTheStart(t *testing.T) {
	dir := t.TempDir()
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), "[task.say]\nrun = \"echo tmux is ${TMUX:-gone}\"\n")
	bait := filepath.Join(t.TempDir(), "tmux")
	told := filepath.Join(filepath.Dir(bait), "told")
	if err := os.WriteFile(bait, []byte("#!/bin/sh\necho \"$0 $*\" >> "+told+"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	s := start(t, dir, 100, 30, "PATH="+filepath.Dir(bait)+":$PATH")
	s.waitFor("say")
	s.keys("Enter", "o")
	s.waitFor("1 ¦ tmux is /")
	if data, err := os.ReadFile(told); err == nil {
		t.Errorf("executed: %s", data)
	}
}
