package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// watcher prints what the watching TypeScript compiler prints, a pass for each
// change of the file it watches: a stand-in that needs no package.
const watcher = `#!/bin/sh
pass() {
	printf '\033[2J\033[3J\033[H12:00:00 AM - %s\r\n\r\n' "$1"
	n=0
	line=0
	while IFS= read -r text; do
		line=$((line + 1))
		case $text in *": number = \""*)
			echo "src/glazes.ts($line,9): error TS2322: Type 'string' is not assignable to type 'number'."
			n=$((n + 1)) ;;
		esac
	done < src/glazes.ts
	s=s; [ $n = 1 ] && s=
	printf '\r\n12:00:01 AM - Found %d error%s. Watching for file changes.\r\n' $n "$s"
}
pass "Starting compilation in watch mode..."
last=$(cksum src/glazes.ts)
while sleep 0.1; do
	now=$(cksum src/glazes.ts)
	[ "$now" = "$last" ] || { last=$now; pass "File change detected. Starting incremental compilation..."; }
done
`

// Leaves the watching variant on, behind a launcher kept in the project; makes
// a typo: the error appears, located; mends it: it is struck.
func TestWatchTypoFix(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	if err := os.WriteFile(filepath.Join(s.dir, "shopfront/watch.sh"), []byte(watcher), 0o755); err != nil {
		t.Fatal(err)
	}
	s.write("tidytally.toml", s.read("tidytally.toml")+`
[via.launcher]
run = ["{root}/tools/launch", "{command}"]
[task.compile-on-change]
run = ["./watch.sh"]
in = "shopfront"
via = "launcher"
long_running = true
ready = 'Watching for file changes'
`)
	s.waitFor("compile-on-change")
	s.find("compile-on-change")
	s.waitFor("1 of", "via       launcher")
	s.keys("Enter")
	s.waitFor("up since", "no problems")
	s.keys("y")
	s.waitFor("No problems so far", "tools/launch ./watch.sh")
	source := s.read("shopfront/src/glazes.ts")
	s.write("shopfront/src/glazes.ts", source+"const cone: number = \"ten\";\n")
	at := strings.Count(source, "\n") + 1
	s.waitFor("shopfront/src/glazes.ts", fmt.Sprintf("%d:9", at), "Type 'string' is not assignable", "TS2322", `const cone: number = "ten";`, "before 0 · new 1 · gone 0 · now 1")
	s.write("shopfront/src/glazes.ts", source+"const cone: number = \"ten\";\nconst other: number = \"x\";\n")
	s.waitFor("before 1 · new 1 · gone 0 · now 2")
	s.write("shopfront/src/glazes.ts", source+"const other: number = \"x\";\n")
	s.waitFor("before 2 · new 0 · gone 1 · now 1")
	s.write("shopfront/src/glazes.ts", source)
	text := s.waitFor("before 1 · new 0 · gone 1 · now 0")
	if l, _ := line(t, text, "is not assignable"); !strings.Contains(l, "-") {
		t.Errorf("the problem that is gone reads %q", l)
	}
	s.keys("x")
	s.waitFor("stopped after")
	if out, err := exec.Command("pgrep", "-f", filepath.Join(s.dir, "shopfront/watch.sh")).Output(); err == nil && len(out) > 0 {
		t.Errorf("the watcher still runs: %s", out)
	}
}

// Begins a session with one key: a helper first, the main task once it is up;
// at the end all of it ends, and what comes after runs.
func TestSessionWithOneKey(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.write("tidytally.toml", s.read("tidytally.toml")+`
[task.session]
run = "echo session has begun; sleep 300"
before = ["#kilnsim"]
after = ["#tidy"]
key = "f8"
[task.tidy]
run = "echo swept > swept.txt"
`)
	s.waitFor("session", "tidy")
	s.keys("F8")
	s.find("name:session")
	s.waitFor("1 of", "before    tidytally.toml#kilnsim", "waiting") // for the helper, which takes a moment
	s.waitUntil("the session running", func(text string) bool {
		l, _ := line(t, text, "echo session has begun")
		return strings.Contains(l, "running")
	})
	s.keys("x")
	s.waitUntil("the end of the session", func(text string) bool {
		l, _ := line(t, text, "echo session has begun")
		return strings.Contains(l, "stopped") && !strings.Contains(text, "kilnsim up")
	})
	for range 300 {
		if _, err := os.Stat(filepath.Join(s.dir, "swept.txt")); err == nil {
			return
		}
		s.text()
	}
	t.Error("what comes after did not run")
}

// The README's first command: it lays the demo out, opens it, and leaves
// nothing behind.
func TestDemoCommand(t *testing.T) {
	tmp := t.TempDir()
	s := startCommand(t, tmp, 142, 38, "env TMPDIR="+tmp+" "+program+" demo")
	s.waitFor("emberclay", "controller", "usual kiln#controller")
	s.keys("u")
	s.waitFor("failed (2)")
	s.keys("q")
	s.waitFor("exit 0")
	if left, _ := filepath.Glob(filepath.Join(tmp, "*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

// A workspace that vanishes while it is open is told; what was read stays.
func TestVanishingWorkspace(t *testing.T) {
	dir := workspace(t)
	s := start(t, dir, 100, 30)
	s.waitFor("controller")
	if err := os.RemoveAll(filepath.Join(dir, "kiln")); err != nil {
		t.Fatal(err)
	}
	s.waitFor(" faults")
	s.keys("v")
	s.waitFor("usual: no task kiln/Makefile#controller", "tidytally.toml:5", "task check-all: no task kiln/Makefile#selftest")
}

// A checker that only rests between its passes, with no word of where one begins
// or ends: what is mended is struck, though nothing says so but its silence.
func TestAWatcherThatOnlyRests(t *testing.T) {
	s := start(t, workspace(t), 142, 38)
	s.write("check.sh", `#!/bin/sh
pass() {
	echo "> checking glaze.txt"
	n=0
	while IFS= read -r text; do
		n=$((n + 1))
		case $text in *lead*) echo "glaze.txt:$n:1: error: no lead in a glaze" ;; esac
	done < glaze.txt
}
pass
last=$(cksum glaze.txt)
while sleep 0.1; do
	now=$(cksum glaze.txt)
	[ "$now" = "$last" ] || { last=$now; pass; }
done
`)
	s.write("glaze.txt", "silica\nlead\nlead oxide\n")
	s.write("tidytally.toml", s.read("tidytally.toml")+`
[task.rester]
run = "sh check.sh"
long_running = true
`)
	s.waitFor("rester")
	s.find("name:rester")
	s.keys("Enter")
	s.waitFor("2 errors")
	// Longer than a tool pauses at work: only then a new pass is told by its rest.
	waitForRest()
	s.write("glaze.txt", "silica\nlead\nash\n")
	s.waitFor("1 error")
	waitForRest()
	s.write("glaze.txt", "silica\nash\n")
	s.waitGone("1 error")
}

// waitForRest lets as much time pass as a watching tool rests; it is the rest
// itself that is tested.
func waitForRest() { <-time.After(600 * time.Millisecond) }
