package run

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// What will be executed, to the byte, or why it cannot be.
func TestPrepare(t *testing.T) {
	const toml = `
[set]
python = "my python"
[via.box]
run = ["{root}/box", "--in", "{dir}", "{command}"]
[via.word]
run = ["box", "-c", "exec {command}"]
[via.shell]
run = "cd {root} && box {command} --end"
[task.list]
run = ["{set.python}", "-m", "x y", "{file.rel}", "{line}"]
[task.shell]
run = "{set.python} {file.base} ${HOME} {{x}}"
[task.in]
run = "true"
in = "sub/folder"
[task.absolute]
run = "true"
in = "{env.TIDY_DIR}"
[task.env]
run = "true"
env = { B = "{set.python}", A = "1" }
env_file = ".env"
[task.badenv]
run = "true"
env_file = "bad.env"
[task.noenv]
run = "true"
env_file = "gone.env"
[task.ask]
run = "echo {ask.name}"
[task.box]
run = ["echo", "a b"]
via = "box"
[task.boxed-shell]
run = "echo $((1+1)) {line}"
via = "box"
[task.word]
run = ["echo", "a b", "{{"]
via = "word"
[task.outer]
run = ["echo", "a b"]
via = "shell"
[task.nofile]
run = "cc {file}"
`
	root := t.TempDir()
	f := tallyfile.Parse("tidytally.toml", []byte(toml))
	if len(f.Faults) > 0 {
		t.Fatal(f.Faults)
	}
	var merged tallyfile.Merged
	merged.Add(f)
	for name, text := range map[string]string{".env": "# c\nexport X='a b'\nY=\"z\"\n", "bad.env": "ok=1\nno value\n"} {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("TIDY_DIR", "/somewhere/else")
	ctx := Context{Root: root, Tally: &merged, File: filepath.Join(root, "src/coil.c"), Line: 7}
	for _, c := range []struct {
		name    string
		args    []string
		display string
		dir     string
		env     string
		err     string
	}{
		{"list", nil, "'my python' -m 'x y' src/coil.c 7", ".", "", ""},
		{"list", []string{"--", "it's"}, `'my python' -m 'x y' src/coil.c 7 -- "it's"`, ".", "", ""},
		{"shell", []string{"a b"}, "'my python' coil.c ${HOME} {x} 'a b'", ".", "", ""},
		{"in", nil, "true", "sub/folder", "", ""},
		{"absolute", nil, "true", "/somewhere/else", "", ""},
		{"env", nil, "true", ".", "X=a b|Y=z|A=1|B=my python", ""},
		{"badenv", nil, "", "", "", "bad.env:2: NAME=value should stand here"},
		{"noenv", nil, "", "", "", "env_file: open "},
		{"ask", nil, "", "", "", "{ask.name}: it asks for a value"},
		{"box", nil, root + "/box --in " + root + " echo 'a b'", ".", "", ""},
		{"boxed-shell", nil, root + "/box --in " + root + " sh -c 'echo $((1+1)) 7'", ".", "", ""},
		{"word", nil, `box -c "exec echo 'a b' '{'"`, ".", "", ""},
		{"outer", nil, "cd " + root + " && box echo 'a b' --end", ".", "", ""},
	} {
		k, err := task.Find(f.Tasks, c.name)
		if err != nil {
			t.Fatal(err)
		}
		p, err := ctx.Prepare(k, c.args)
		if err != nil {
			if c.err == "" || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: error %v, want %q", c.name, err, c.err)
			}
			continue
		}
		dir := c.dir
		if !filepath.IsAbs(dir) {
			dir = filepath.Join(root, dir)
		}
		if c.err != "" || p.Display != c.display || p.Dir != dir || strings.Join(p.Env, "|") != c.env {
			t.Errorf("%s: %q in %s with %q, want %q in %s with %q", c.name, p.Display, p.Dir, p.Env, c.display, dir, c.env)
		}
	}
	ctx.File = ""
	k, _ := task.Find(f.Tasks, "nofile")
	if _, err := ctx.Prepare(k, nil); err == nil || !strings.Contains(err.Error(), "tidytally.toml#nofile: {file}: there is no current file; choose one, or give it with --file") {
		t.Errorf("without a current file: %v", err)
	}
}

// The program is found as the shell finds it: on the task's own path, relative
// to its folder where the path is.
func TestResolve(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for name, mode := range map[string]os.FileMode{"bin/tool": 0o755, "first/tool": 0o644, "second/tool": 0o755, "local": 0o755, "plain": 0o644} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte("#!/bin/sh\n"), mode); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		name, path, want string
		code             int
	}{
		{"tool", dir + "/bin", "bin/tool", 0},
		{"tool", dir + "/first:" + dir + "/second", "second/tool", 0},
		{"tool", "bin", "bin/tool", 0},
		{"tool", dir + "/first", "", CodeCannotRun},
		{"tool", "/nowhere", "", CodeNotFound},
		{"tool", "", "", CodeNotFound},
		{"./local", "/nowhere", "local", 0},
		{"./plain", "", "", CodeCannotRun},
		{"./gone", "", "", CodeNotFound},
		{"./bin", "", "", CodeCannotRun},
		{"", "", "", CodeNotFound},
	} {
		p := &Prepared{Task: &task.Task{}, Dir: dir, Command: task.Command{Argv: []string{c.name}}}
		_, program, err := p.resolve([]string{"PATH=/first/ignored", "PATH=" + c.path})
		code := 0
		if se, ok := err.(*StartError); ok {
			code = se.Code
		}
		want := ""
		if c.want != "" {
			want = filepath.Join(dir, c.want)
		}
		if program != want || code != c.code {
			t.Errorf("%s on %q: %q, code %d (%v), want %q, code %d", c.name, c.path, program, code, err, want, c.code)
		}
	}
}

// What a command asks for is given among the arguments, and is not passed on.
func TestAskedValuesAreGivenAsArguments(t *testing.T) {
	t.Parallel()
	c := Context{Root: "/w", Tally: &tallyfile.Merged{}}
	x := &task.Task{Name: "flash", File: "t.json", Dir: ".", Command: task.Command{Shell: `flash "{ask.port}" {ask.mode}`}, Args: []task.Arg{{Name: "mode", Default: "slow"}}}
	if _, err := c.Prepare(x, nil); err == nil || !strings.Contains(err.Error(), "port=…") {
		t.Errorf("without a value: %v", err)
	}
	p, err := c.Prepare(x, []string{"port=/dev/tty 0$1", "-v"})
	if err != nil {
		t.Fatal(err)
	}
	if want := `flash "/dev/tty 0\$1" slow -v`; p.Display != want {
		t.Errorf("got %s, want %s", p.Display, want)
	}
}

// A value that is none of the choices is refused, by name; the default of an argument that
// a tally file declares reaches the command, one that the tool has itself does not.
func TestChoicesAndDefaults(t *testing.T) {
	t.Parallel()
	c := Context{Root: "/w", Tally: &tallyfile.Merged{}}
	x := &task.Task{
		Name: "flash", File: "kiln/Makefile", Dir: ".", Command: task.Command{Argv: []string{"make", "flash"}},
		Args: []task.Arg{{Name: "BOARD", Choices: []string{"mk1", "mk2"}, Default: "mk2"}, {Name: "SPEED"}},
	}
	own := *x
	x.SetOrigin("args", task.Origin{File: "tidytally.toml", Line: 3, Manner: task.Adjusted})
	for _, k := range []struct {
		task       *task.Task
		args, want string
	}{
		{x, "", "make flash BOARD=mk2"},
		{x, "BOARD=mk1", "make flash BOARD=mk1"},
		{x, "-j4 SPEED=9", "make flash BOARD=mk2 -j4 SPEED=9"},
		{x, "BOARD=mk3", `kiln/Makefile#flash: BOARD is "mk3"; it may be: mk1, mk2`},
		{x, "BOARD=mk1 BOARD=", `kiln/Makefile#flash: BOARD is ""; it may be: mk1, mk2`},
		{&own, "", "make flash"},
		{&own, "BOARD=mk2", "make flash BOARD=mk2"},
	} {
		p, err := c.Prepare(k.task, strings.Fields(k.args))
		got := fmt.Sprint(err)
		if err == nil {
			got = p.Display
		}
		if got != k.want {
			t.Errorf("%q: %s, want %s", k.args, got, k.want)
		}
	}
	asked := &task.Task{Name: "port", File: "t.json", Dir: ".", Command: task.Command{Shell: "open {ask.port}"}, Args: []task.Arg{{Name: "port", Choices: []string{"a", "b"}, Default: "a"}}}
	asked.SetOrigin("args", task.Origin{File: "tidytally.toml", Line: 3, Manner: task.Declared})
	if p, err := c.Prepare(asked, nil); err != nil || p.Display != "open a" {
		t.Errorf("an asked value: %v %v", p, err)
	}
	if _, err := c.Prepare(asked, []string{"port=c"}); err == nil || !strings.Contains(err.Error(), "it may be: a, b") {
		t.Errorf("an asked value that is no choice: %v", err)
	}
}

// An argument reaches the task as it is, also what looks like a
// placeholder, whichever way the command goes.
func TestArgumentsAreNotChanged(t *testing.T) {
	t.Parallel()
	args := []string{"{env.HOME}", "{{a}}", `{"json": "{root}"}`, "$HOME", "it's", "", "-x", "a b", "new\nline", "{nope", "}", "*"}
	s := with(t, `
[task.list]
run = ["printf", "%s|"]
[task.shell]
run = "printf '%s|'"
[task.wrapped]
run = ["printf", "%s|"]
via = "env"
[task.wrappedshell]
run = "printf '%s|'"
via = "sh"
[via.env]
run = ["env", "{command}"]
[via.sh]
run = "env {command}"
`, Options{})
	for _, name := range []string{"list", "shell", "wrapped", "wrappedshell"} {
		got := printed(t, s.finish(s.start(name, args...)))
		if want := strings.Join(args, "|") + "|"; got != want {
			t.Errorf("%s: got %q, want %q", name, got, want)
		}
	}
}

// A file of variables that is no file is refused; opening a pipe would never end.
func TestAPipeIsNoFileOfVariables(t *testing.T) {
	t.Parallel()
	s := with(t, "[task.piped]\nrun = \"true\"\nenv_file = \"pipe\"\n", Options{})
	if err := syscall.Mkfifo(filepath.Join(s.root, "pipe"), 0o600); err != nil {
		t.Skip(err)
	}
	k, err := task.Find(s.tasks, "piped")
	if err != nil {
		t.Fatal(err)
	}
	if _, err = s.super.Start(s.tasks, k, nil); err == nil || !strings.HasSuffix(err.Error(), "env_file: pipe is a FIFO, no regular file: not read") {
		t.Errorf("%v", err)
	}
}
