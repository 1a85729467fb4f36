package run

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/plan"
	"tidytally/core/task"
)

// The program is built first, and the debugger stops at the line, in a file and with arguments
// that need quoting.
func TestDebuggerStopsAtTheLine(t *testing.T) {
	for _, tool := range []string{"gcc", "gdb"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip(tool + " is not installed")
		}
	}
	in, out, err := os.Pipe()
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("HOME", t.TempDir())
	s := with(t, `
[task.build]
run = "gcc -g -o 'the prog' p.c"
in = "a part"
debug = ["the prog", "a b", "$x"]
`, Options{Stdin: in})
	s.write("a part/p.c", "#include <stdio.h>\nint main(int n, char **v)\n{\n\tint fire = 21;\n\treturn printf(\"%d %s %s\\n\", n, v[1], v[2]) - fire;\n}\n")
	d, err := DebugTask(s.tasks[0], Place{File: filepath.Join(s.root, "a part/p.c"), Line: 5})
	if err != nil {
		t.Fatal(err)
	}
	p, err := plan.Of(s.tasks, d)
	if err != nil {
		t.Fatal(err)
	}
	out.WriteString("print fire * 2\ncontinue\nquit\n")
	out.Close()
	j, err := s.super.StartPlan(p, nil)
	if err != nil {
		t.Fatal(err)
	}
	text := printed(t, s.finish(j))
	for _, want := range []string{"p.c:5", "$1 = 42", "3 a b $x"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not in\n%s", want, text)
		}
	}
}

func TestWhatIsDebugged(t *testing.T) {
	bin := t.TempDir()
	for _, name := range []string{"dlv", "lldb"} {
		if err := os.WriteFile(filepath.Join(bin, name), []byte("#!/bin/sh\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", bin)
	at := Place{File: "/w/x.c", Line: 7}
	argv := func(words ...string) task.Command { return task.Command{Argv: words} }
	for want, k := range map[string]*task.Task{
		`before #build: lldb -o 'breakpoint set --file "/w/x.c" --line 7' -o run -- ./prog -v`:            {Name: "build", Kind: task.Build, Command: argv("make"), Debug: argv("prog", "-v")},
		`before #build: lldb -o 'breakpoint set --file "/w/x.c" --line 7' -o run -- {dir}/prog`:           {Name: "build", Kind: task.Build, Command: argv("make"), Debug: argv("{dir}/prog")},
		`before #build: lldb -o 'breakpoint set --file "/w/x.c" --line 7' -o run -- out/prog.elf`:         {Name: "build", Kind: task.Build, Command: argv("make"), Makes: []string{"out/prog.elf", "out/*.o", "out/prog.map"}},
		`before #compile: lldb -o 'breakpoint set --file "/w/x.c" --line 7' -o run -- ./x`:                {Name: "compile", Kind: task.Build, Command: argv("gcc", "x.c", "-o", "x")},
		`before #first: lldb -o 'breakpoint set --file "/w/x.c" --line 7' -o run -- ./prog`:               {Name: "start", Kind: task.Run, Command: argv("./prog"), Before: []string{"#first"}, Debug: argv("prog")},
		`before #build: my-debugger -b {file}:{line} prog`:                                                {Name: "build", Kind: task.Build, Command: argv("make"), Debug: argv("my-debugger", "-b", "{file}:{line}", "prog")},
		`before : sh -c … dlv 'break /w/x.c:7' debug ./cmd/hey`:                                           {Name: "run hey", Source: "go", Kind: task.Run, Command: argv("go", "run", "./cmd/hey")},
		`before : sh -c … dlv 'break /w/x.c:7' test ./curve`:                                              {Name: "test ./curve", Source: "go", Kind: task.Test, Command: argv("go", "test", "./curve")},
		`error: #check: it is not known which program it makes or runs; say so with debug = ["PROGRAM", `: {Name: "check", Kind: task.Check, Command: argv("make", "check")},
	} {
		d, err := DebugTask(k, at)
		got := ""
		if err != nil {
			got = "error: " + err.Error()
			if !errors.Is(err, ErrNoProgram) {
				t.Errorf("%s: %v", k.Name, err)
			}
		} else {
			words := d.Command.Argv
			if words[0] == "sh" {
				words = append([]string{"sh", "-c", "…"}, words[3:]...)
			}
			got = "before " + strings.Join(d.Before, " ") + ": " + strings.ReplaceAll(task.QuoteAll(words), "'…'", "…")
		}
		if strings.ReplaceAll(strings.ReplaceAll(got, "'{", "{"), "}'", "}") != want && !(err != nil && strings.HasPrefix(got, want)) && strings.ReplaceAll(got, "'", "") != strings.ReplaceAll(want, "'", "") {
			t.Errorf("got  %s\nwant %s", got, want)
		}
	}
	if _, err := DebugTask(&task.Task{Debug: argv("prog")}, Place{File: "/w/a\"; shell rm.c", Line: 1}); err == nil {
		t.Error("a name that ends the debugger's string is taken")
	}
	d, err := DebugTask(&task.Task{Debug: argv("prog")}, Place{File: "/w/{x}.go", Line: 1})
	if err != nil || !strings.Contains(d.Command.String(), "/w/{{x}}.go:1") {
		t.Errorf("a file of Go with braces: %v, %v", d.Command, err)
	}
}
