package e2e

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"tidytally/internal/testtree"
)

// own returns a command of the program with a folder of states of its own.
func own(t *testing.T, root, state string, args ...string) *exec.Cmd {
	t.Helper()
	cmd := exec.Command(program, args...)
	cmd.Dir = root
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+state)
	return cmd
}

// A program that is killed just after its closing line has lost nothing of what a task printed.
func TestKilledAfterTheClosingLine(t *testing.T) {
	t.Parallel()
	root := testtree.Lay(t, map[string]string{"tidytally.toml": "[task.big]\nrun = \"seq 1 150000; echo end\"\n"})
	state := t.TempDir()
	const times = 6
	for range times {
		cmd := own(t, root, state, "run", "big")
		said, err := cmd.StderrPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		for in := bufio.NewScanner(said); in.Scan(); {
			if strings.Contains(in.Text(), "ok after") {
				_ = cmd.Process.Kill()
				break
			}
		}
		_ = cmd.Wait()
	}
	for id := 1; id <= times; id++ {
		out, err := own(t, root, state, "history", "--output", strconv.Itoa(id)).Output()
		if err != nil || !bytes.HasPrefix(out, []byte("1\n2\n")) || !bytes.HasSuffix(out, []byte("150000\nend\n")) {
			t.Errorf("run %d: %d bytes, %v", id, len(out), err)
		}
	}
}

// A link of a stranger's workspace to a file without end costs a fault, and no memory.
func TestLinksToEndlessFiles(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("/proc/self/pagemap"); err != nil {
		t.Skip("there is no such file here")
	}
	root := testtree.Lay(t, map[string]string{"Makefile": "all: ; true\n", "tidytally.toml": "[task.a]\nrun = \"echo /proc/self/pagemap:1:1: error: wrong\"\n[task.b]\nrun = \"true\"\nenv_file = \".env\"\n"})
	for _, name := range []string{"sub/package.json", "c/tidytally.toml", ".env", "kiln/Makefile", ".gitignore"} {
		full := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.Symlink("/proc/self/pagemap", full); err != nil {
			t.Fatal(err)
		}
	}
	limit := "ulimit -v 4000000; "
	if underRace { // the race detector takes more than there is
		limit = ""
	}
	for _, c := range []struct{ call, want string }{
		{"list", "symbolic link out of the workspace"}, {"plan a", "#a"}, {"run a", "1 error"}, {"run b", ".env is a file of the kernel"}, {"-C sub list", "symbolic link"},
		{"__complete run a", "a"}, {"check", "symbolic link"}, {"show a", "a"},
	} {
		cmd := exec.Command("sh", "-c", limit+"exec timeout 60 "+program+" "+c.call)
		cmd.Dir, cmd.Env = root, append(os.Environ(), "XDG_STATE_HOME="+t.TempDir())
		out, _ := cmd.CombinedOutput()
		if !strings.Contains(string(out), c.want) || strings.Contains(string(out), "out of memory") {
			t.Errorf("%s: no %q in %.2000s", c.call, c.want, out)
		}
	}
}

// Without a home, with a folder of states that cannot be written, a task runs all the same, and it is said once what is not kept.
func TestRunningWithoutAHome(t *testing.T) {
	t.Parallel()
	root := testtree.Lay(t, map[string]string{"tidytally.toml": "[task.a]\nrun = \"echo fired; exit 3\"\n"})
	file := filepath.Join(t.TempDir(), "file")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for name, env := range map[string][]string{"no home": {"PATH=" + os.Getenv("PATH")}, "a file": {"PATH=" + os.Getenv("PATH"), "HOME=/", "XDG_STATE_HOME=" + file}} {
		cmd := exec.Command(program, "run", "a")
		cmd.Dir, cmd.Env = root, env
		var out, said bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &said
		err := cmd.Run()
		if out.String() != "fired\n" || err == nil || err.Error() != "exit status 3" || strings.Count(said.String(), "not kept") != 1 || !strings.Contains(said.String(), "failed (3) after") {
			t.Errorf("%s: %v, %q, %s", name, err, out.String(), said.String())
		}
	}
}

// Where there is no /proc, a task runs and is stopped all the same.
func TestRunningWithoutProc(t *testing.T) {
	t.Parallel()
	unshare, err := exec.LookPath("unshare")
	if err == nil {
		err = exec.Command(unshare, "--mount", "sh", "-c", "mount -t tmpfs none /proc").Run()
	}
	if err != nil {
		t.Skip("/proc cannot be taken away here")
	}
	root := testtree.Lay(t, map[string]string{"tidytally.toml": "[task.a]\nrun = \"echo fired; exit 3\"\n[task.long]\nrun = \"sleep 100\"\ntimeout = \"300ms\"\n"})
	call := "mount -t tmpfs none /proc && cd " + root + " && XDG_STATE_HOME=" + t.TempDir() + " timeout 60 " + program
	for args, want := range map[string]string{"run a": "failed (3) after", "run long": "stopped after its time-out", "list": "#a", "history": "failed (3)"} {
		if args == "history" {
			args = "run a; " + program + " history"
		}
		out, _ := exec.Command(unshare, "--mount", "sh", "-c", call+" "+args).CombinedOutput()
		if !strings.Contains(string(out), want) {
			t.Errorf("%s: no %q in %s", args, want, out)
		}
	}
}

// The language server ends within moments when its client has gone, in the midst of a hundred thousand diagnostics too, and
// answers before it has sent them.
func TestTheServerEndsWithItsClient(t *testing.T) {
	t.Parallel()
	var log strings.Builder
	files := map[string]string{"tidytally.toml": "[task.lint]\nrun = \"cat log\"\n"}
	for i := range 1000 {
		name := fmt.Sprintf("src/f%d.c", i)
		files[name] = strings.Repeat("int a;\n", 100)
		for n := range 100 {
			fmt.Fprintf(&log, "%s:%d:5: warning: glaze %d is dull\n", name, n+1, n)
		}
	}
	files["log"] = log.String()
	root := testtree.Lay(t, files)
	state := t.TempDir()
	if out, err := own(t, root, state, "run", "lint").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%.500s", err, out)
	}
	for _, way := range []string{"closed", "gone", "deaf"} {
		server := own(t, root, state, "lsp")
		in, err := server.StdinPipe()
		if err != nil {
			t.Fatal(err)
		}
		out, err := server.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := server.Start(); err != nil {
			t.Fatal(err)
		}
		client := exec.Command("sleep", "600")
		if err := client.Start(); err != nil {
			t.Fatal(err)
		}
		send := func(m map[string]any) {
			t.Helper()
			m["jsonrpc"] = "2.0"
			data, _ := json.Marshal(m)
			if _, err := fmt.Fprintf(in, "Content-Length: %d\r\n\r\n%s", len(data), data); err != nil {
				t.Fatal(err)
			}
		}
		send(map[string]any{"id": 1, "method": "initialize", "params": map[string]any{"processId": client.Process.Pid, "rootUri": "file://" + root, "capabilities": map[string]any{}}})
		send(map[string]any{"method": "initialized", "params": map[string]any{}})
		begun := make(chan bool, 1)
		go func() { // the client reads until the first diagnostics come, and then, if it is deaf, nothing more
			r := bufio.NewReaderSize(out, 1<<16)
			for {
				line, err := r.ReadString('\n')
				if err != nil {
					return
				}
				if strings.Contains(line, "publishDiagnostics") {
					select {
					case begun <- true:
					default:
					}
					if way == "deaf" {
						return
					}
				}
			}
		}()
		select {
		case <-begun:
		case <-time.After(time.Minute):
			t.Fatal("no diagnostics come")
		}
		ended := make(chan error, 1)
		go func() { ended <- server.Wait() }()
		if way == "gone" {
			_ = client.Process.Kill()
			_ = client.Wait()
		} else {
			in.Close()
		}
		select {
		case <-ended:
		case <-time.After(30 * time.Second):
			t.Errorf("%s: the server outlives its client", way)
			_ = server.Process.Kill()
		}
		if way != "gone" {
			_ = client.Process.Kill()
			_ = client.Wait()
		}
	}
}

// Completion works in a bash without the package bash-completion.
func TestBashCompletesByItself(t *testing.T) {
	t.Parallel()
	bash, err := exec.LookPath("bash")
	if err != nil {
		t.Skip("bash is not installed")
	}
	root := testtree.Lay(t, map[string]string{"tidytally.toml": "[task.glaze]\nrun = \"true\"\nargs = [{ name = \"BOARD\", choices = [\"mk1\", \"mk2\"] }]\n", "Makefile": "bake: ; true\n"})
	for line, want := range map[string]string{
		"tidytally run gl":               "glaze",
		"tidytally run b":                "bake",
		"tidytally run glaze -- BOARD=":  "BOARD=mk1 BOARD=mk2",
		"tidytally run glaze -- BOARD=m": "BOARD=mk1 BOARD=mk2",
		"tidytally list kind:bu":         "kind:build",
		"tidytally list --js":            "--json",
	} {
		// As bash splits the line.
		script := `source <("$0" completion bash)
COMP_LINE=$1 COMP_POINT=${#1} COMP_TYPE=9
read -ra parts <<<"$(sed 's/[=:]/ & /g' <<<"$1")"
COMP_WORDS=("${parts[@]}"); [[ $1 == *[\ =] ]] && COMP_WORDS+=("")
COMP_CWORD=$((${#COMP_WORDS[@]} - 1))
compopt() { :; }
__start_tidytally
echo "${COMPREPLY[@]}"`
		cmd := exec.Command(bash, "--norc", "--noprofile", "-c", script, program, line)
		cmd.Dir = root
		cmd.Env = append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "BASH_ENV=", "HOME="+t.TempDir())
		out, err := cmd.CombinedOutput()
		got := strings.Fields(string(out))
		for i, word := range got { // bash itself has what stands before the last "="
			if k := strings.LastIndexAny(word, "=:"); k >= 0 && !strings.Contains(want, word) {
				got[i] = word
			}
		}
		if err != nil || !strings.Contains(strings.Join(strings.Fields(want), " "), lastOf(got)) || len(got) == 0 {
			t.Errorf("%q gives %q, want %q (%v)", line, out, want, err)
		}
	}
}

func lastOf(words []string) string {
	if len(words) == 0 {
		return ""
	}
	return words[len(words)-1]
}

// When the process that holds a run is killed, all that it held is ended by the program, which goes on.
func TestAKeeperIsKilled(t *testing.T) {
	t.Parallel()
	if _, err := os.Stat("/proc/self/stat"); err != nil {
		t.Skip("there is no /proc here")
	}
	root := testtree.Lay(t, map[string]string{"tidytally.toml": "[task.tree]\nrun = \"trap '' TERM; sleep 7311 & (setsid sh -c 'sleep 7312' &) ; echo up; sleep 7313\"\n"})
	cmd := own(t, root, t.TempDir(), "run", "tree")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	var said bytes.Buffer
	cmd.Stderr = &said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := io.ReadFull(out, make([]byte, 3)); err != nil {
		t.Fatal(err)
	}
	for _, pid := range childrenOf(cmd.Process.Pid) {
		_ = syscall.Kill(pid, syscall.SIGKILL)
	}
	_, _ = io.Copy(io.Discard, out)
	_ = cmd.Wait()
	if !strings.Contains(said.String(), "watched over the run was killed") {
		t.Errorf("it says %s", said.String())
	}
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		left := 0
		dirs, _ := filepath.Glob("/proc/[0-9]*")
		for _, dir := range dirs {
			line, _ := os.ReadFile(dir + "/cmdline")
			if bytes.HasPrefix(line, []byte("sleep\x00731")) {
				left++
			}
		}
		if left == 0 {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("%d processes are left", left)
		}
	}
}

// childrenOf returns the children of a process.
func childrenOf(pid int) (pids []int) {
	dirs, _ := filepath.Glob("/proc/[0-9]*")
	for _, dir := range dirs {
		stat, err := os.ReadFile(dir + "/stat")
		if err != nil {
			continue
		}
		fields := strings.Fields(string(stat[bytes.LastIndexByte(stat, ')')+1:]))
		if child, err := strconv.Atoi(filepath.Base(dir)); err == nil && len(fields) > 1 && fields[1] == strconv.Itoa(pid) {
			pids = append(pids, child)
		}
	}
	return pids
}

// Looking at a workspace starts no program and calls no other machine, whatever is in it.
func TestLookingStartsNothing(t *testing.T) {
	t.Parallel()
	strace, err := exec.LookPath("strace")
	if err != nil || exec.Command(strace, "-o", os.DevNull, "true").Run() != nil {
		t.Skip("strace cannot trace here")
	}
	root := workspace(t)
	testtree.Fill(t, root, map[string]string{
		"trap/Makefile": "X := $(shell touch trapped)\nall: ; true\n", "trap/package.json": `{"scripts": {"prepare": "touch trapped"}}`, "trap/setup.py": "open('trapped', 'w')\n",
		"trap/build.gradle": "new File('trapped').createNewFile()\n", "trap/CMakeLists.txt": "execute_process(COMMAND touch trapped)\nproject(x)\n", "trap/Rakefile": "`touch trapped`\ntask(:x)\n", "trap/.git/config": "[core]\n\tfsmonitor = touch trapped\n",
	})
	for _, call := range []string{"list", "list --json --all", "show controller", "plan check-all", "check", "__complete run ", "history", "schema", "draw plan check-all -o -"} {
		noted := filepath.Join(t.TempDir(), "noted")
		cmd := exec.Command(strace, append([]string{"-f", "-o", noted, "-e", "trace=execve,connect", program}, strings.Fields(call)...)...)
		cmd.Dir, cmd.Env = root, append(os.Environ(), "XDG_STATE_HOME="+t.TempDir())
		if strings.HasSuffix(call, " ") {
			cmd.Args = append(cmd.Args, "")
		}
		if out, err := cmd.CombinedOutput(); err != nil && !strings.HasPrefix(call, "check") && !strings.HasPrefix(call, "draw") {
			t.Errorf("%s: %v\n%s", call, err, out)
		}
		text, err := os.ReadFile(noted)
		if n := strings.Count(string(text), "execve("); err != nil || n != 1 || strings.Contains(string(text), "AF_INET") {
			t.Errorf("%s: %v\n%s", call, err, text)
		}
	}
	for _, at := range []string{"trapped", "trap/trapped"} {
		if _, err := os.Stat(filepath.Join(root, at)); err == nil {
			t.Errorf("%s was made", at)
		}
	}
}
