package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

const noisy = `
[task.lines]
about = "Prints many lines, and waits"
run = "seq 1 2000; echo needle here; seq 1 2000; echo 'last line'; exec sleep 100"
[task.bar]
run = "printf '10%%\\r50%%\\r100%%\\n'; printf '\\033[32mgreen\\033[0m and \\033[1mbold\\033[0m\\n'; printf '\\033]0;title\\007'"
[task.count]
run = "n=$(cat n 2>/dev/null || echo 0); n=$((n+1)); echo $n > n; for i in $(seq $n); do echo \"a.c:$i:1: error: problem number $i\"; done; exit 1"
[task.silent]
run = "true"
[task.binary]
run = "head -c 3000 /dev/urandom; echo; echo the end"
`

// The output is followed until it is scrolled, searched around its end, and
// keeps the tool's colours.
func TestOutputPage(t *testing.T) {
	dir := workspace(t)
	s := start(t, dir, 120, 32)
	s.write("tidytally.toml", s.read("tidytally.toml")+noisy)
	s.waitFor("silent")
	s.find("name:lines")
	s.waitFor("1 of")
	s.keys("Enter", "o")
	s.waitFor("output of lines", "last line", "4002 lines, followed", "lines running")
	s.keys("Home")
	text := s.waitFor("line 1 of 4002")
	if l, y := line(t, text, " 1 ¦ 1"); y != 4 {
		t.Errorf("the first line is %q in row %d", l, y)
	}
	s.keys("PageDown")
	s.waitFor("line 27 of 4002")
	s.keys("/")
	s.typeText("needle")
	s.keys("Enter")
	s.waitFor("2001 ¦ needle here", "line 2001")
	s.keys(".")
	s.waitFor("2001 ¦ needle here") // the only one: around the end
	s.keys("/", "C-u")
	s.typeText("nowhere to be found")
	s.keys("Enter")
	s.waitFor("is nowhere in the output")
	s.keys("End")
	s.waitFor("last line", "followed")
	s.keys("x")
	s.waitFor("stopped after", "4002 lines")
	s.keys("t")
	s.clearFind()
	s.find("name:bar")
	s.waitFor("1 of")
	s.keys("Enter", "o")
	s.waitFor("output of bar", "1 ¦ 100%", "2 ¦ green and bold", "ok after", "2 lines")
	if raw := s.tmux("capture-pane", "-p", "-e"); !strings.Contains(raw, "\x1b[32mgreen") {
		t.Error("the tool's colour is lost")
	}
	s.keys("t")
	s.clearFind()
	s.find("name:silent")
	s.waitFor("1 of")
	s.keys("Enter", "o")
	s.waitFor("output of silent", "It printed nothing.")
	s.keys("t")
	s.clearFind()
	s.find("name:binary")
	s.waitFor("1 of")
	s.keys("Enter", "o")
	s.waitFor("output of binary", "the end")
	s.keys("Home")
	s.waitFor("output of binary", "? all keys")
}

// Earlier runs of a task are gone through, each with its own balance.
func TestOlderAndNewerRuns(t *testing.T) {
	dir := workspace(t)
	s := start(t, dir, 142, 38)
	s.write("tidytally.toml", s.read("tidytally.toml")+noisy)
	s.waitFor("silent")
	s.find("name:count")
	s.waitFor("1 of")
	s.keys("Enter")
	s.waitFor("failed (1)", "new 1 ", "now 1")
	s.keys("y")
	for n := 2; n <= 3; n++ {
		s.keys("r")
		s.waitFor(fmt.Sprintf("before %d · new 1 · gone 0 · now %d", n-1, n), fmt.Sprintf("problem number %d", n))
	}
	s.keys("[")
	s.waitFor("before 1 · new 1 · gone 0 · now 2")
	s.waitGone("problem number 3")
	s.keys("[", "[")
	s.waitFor("there is no other run of it that way")
	s.keys("]", "]")
	s.waitFor("before 2 · new 1 · gone 0 · now 3", "problem number 3")
	// On the output page the same problem is chosen, and n goes on from it.
	s.keys("n", "o")
	s.waitFor("output of count", "a.c:2:1")
	s.keys("n")
	s.waitFor("problem 3 of 3: problem number 3")
	s.keys("N")
	s.waitFor("problem 2 of 3: problem number 2")
}

// clipboard is what was copied last; "" if nothing was.
func (s *screen) clipboard() string {
	out, _ := exec.Command("tmux", "-L", s.socket, "show-buffer").Output() // an error is that there is none yet
	return string(out)
}

// Copying reaches the terminal's clipboard: what is copied is what a shell at
// the root runs.
func TestCopying(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.tmux("set", "-g", "set-clipboard", "on")
	s.waitFor("usual kiln#controller")
	s.keys("c")
	s.waitFor("copied: (cd kiln && make controller)")
	s.waitUntil("the command in the clipboard", func(string) bool {
		return strings.TrimSpace(s.clipboard()) == "(cd kiln && make controller)"
	})
	s.keys("u")
	s.waitFor("failed (2)")
	s.keys("y", "N", "N", "c")
	s.waitFor("copied: kiln/src/coil.c:23:27: warning: comparison of integer")
	s.waitUntil("the problem in the clipboard", func(string) bool {
		return strings.HasPrefix(s.clipboard(), "kiln/src/coil.c:23:27: warning: comparison")
	})
}

// Several tasks run at once; one is stopped, the others go on.
func TestSeveralAtOnce(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.write("tidytally.toml", s.read("tidytally.toml")+"\n[task.one]\nrun = \"sleep 300\"\n[task.two]\nrun = \"sleep 300\"\n[task.pair]\nrun = \"echo first; sleep 300\"\nwith = [\"#kilnsim\"]\n")
	s.waitFor("pair")
	for _, name := range []string{"one", "two"} {
		s.find("name:" + name)
		s.waitFor("1 of")
		s.keys("Enter")
		s.waitFor("running")
		s.clearFind()
	}
	s.waitFor("and 1 more")
	s.find("name:one")
	s.waitFor("1 of")
	s.keys("x")
	s.waitFor("stopped", "two running")
	s.clearFind()
	// One key starts both of a pair, one stops both.
	s.find("name:pair")
	s.waitFor("1 of")
	s.keys("Enter")
	s.waitFor("running", "and 2 more")
	s.keys("x")
	s.waitUntil("the end of the pair", func(text string) bool {
		l, _ := line(t, text, "echo first")
		return strings.Contains(l, "stopped") && strings.Contains(text, "two running") && !strings.Contains(text, " and 1 more") && !strings.Contains(text, " and 2 more")
	})
	s.keys("q")
	s.waitFor("a task runs: q again stops all and quits")
	s.keys("q")
	s.waitFor("exit 0")
}

// The file of a fault opens from the survey, and a workspace that vanishes
// leaves what was read.
func TestSurveyPage(t *testing.T) {
	s := start(t, workspace(t), 100, 30, "TIDYTALLY_EDITOR='echo opened {line} {file} ; true'")
	s.write("shopfront/package.json", "{\n  \"scripts\": {\n    \"good\": \"true\",\n    \"bad\": 3\n  }\n}\n")
	s.waitFor("3 faults") // the adjusted task is gone too
	s.keys("v")
	s.waitFor("shopfront/package.json:4", `the script "bad" is a number where a string should stand`, "built-in: virtual environments", "kiln/Makefile")
	s.keys("Down", "Down")
	s.waitFor("files seen in")
	s.keys("v")
	s.waitFor("find")
	s.find("name:good")
	s.waitFor("npm run good", "1 of")
}

// A task that asks is seen to wait; one key gives it the keyboard, in the page, and one takes
// it back; what is typed without echo is not recorded. A server without a ready line is up
// when it listens, and its address opens with a key.
func TestATaskThatAsks(t *testing.T) {
	dir := t.TempDir()
	opened := filepath.Join(dir, "opened")
	writeWhole(t, filepath.Join(dir, "tidytally.toml"), `[task.ask]
run = 'printf "name? "; read name; stty -echo; printf "secret? "; read secret; stty echo; echo; echo "hello $name, ${#secret}"'
[task.serve]
run = "python3 -u -m http.server 0 --bind 127.0.0.1 >/dev/null"
long_running = true
`)
	s := start(t, dir, 142, 38, "BROWSER='sh -c \"echo $0 > "+opened+"\"'")
	s.waitFor("¦ ask")
	s.keys("Enter")
	s.waitFor("waits for input")
	s.keys("i")
	s.waitFor("name?", "the keyboard is the task's", "ctrl+o takes the keyboard back")
	s.typeText("Mara")
	s.keys("Enter")
	s.waitFor("secret?", "the keyboard is the task's, which does not show what is typed")
	s.typeText("cone10")
	s.keys("C-o")
	s.waitGone("the keyboard is the task's")
	s.waitFor("it waits for input: i gives it the keyboard")
	s.keys("i", "Enter")
	text := s.waitFor("hello Mara, 6", "ok after")
	if strings.Contains(text, "cone10") {
		t.Errorf("the secret is shown:\n%s", text)
	}
	s.keys("t", "Down", "Enter", "o")
	s.waitFor("up at localhost:", "listens on port")
	s.keys("b")
	s.waitFor("is opened")
	s.waitUntil("the browser's call", func(string) bool {
		data, err := os.ReadFile(opened)
		return err == nil && strings.HasPrefix(string(data), "http://localhost:")
	})
}
