package run

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/renameio/v2"

	"tidytally/core/output"
	"tidytally/core/task"
)

// A package script can be started without its package manager, which takes longer to start
// than most scripts take to run. The package manager itself is asked once what it would start:
// it runs the script with a shell that only notes the environment and the command, hooks
// included. That answer holds until something changes that it depends on.

// directly lists the commands that a package manager starts for a script.
type directly struct {
	// Key is what the answer depends on.
	Key   string
	Steps []directStep
}

// directStep is a script, or a hook before or after it.
type directStep struct {
	Script string
	// Env is what the package manager adds to the environment, or changes.
	Env []string
}

// notes is a shell that records its command and environment and executes nothing.
const notes = `#!/bin/sh
{ printf '%s\0' "$2"; env -0; } > "$TIDYTALLY_NOTES/$(ls "$TIDYTALLY_NOTES" | wc -l)"
`

// askWithin is how long a package manager may take to answer.
const askWithin = 20 * time.Second

// goesDirectly reports whether a task is a package script that is to be started without its
// package manager.
func (c *Context) goesDirectly(t *task.Task) bool {
	return t.Source == "npm" && (t.Direct || c.Tally != nil && c.Tally.Workspace.Direct) &&
		t.Via == "" && t.At == "" && !t.Login && len(t.Command.Argv) == 3 && t.Command.Argv[1] == "run"
}

// direct returns the command and the environment with which a package script runs without its
// package manager. ok is false if the package manager does not answer: then it must run the
// script itself.
func (p *Prepared) direct(env []string) (argv, newEnv []string, ok bool) {
	d := p.askManager(env)
	if d == nil {
		return nil, nil, false
	}
	main := slices.IndexFunc(d.Steps, func(s directStep) bool { return lookup(s.Env, "npm_lifecycle_event") == p.Task.Name })
	if main < 0 {
		return nil, nil, false
	}
	script := d.Steps[main].Script
	if len(p.args) > 0 {
		script += " " + task.QuoteArguments(p.args)
	}
	if len(d.Steps) == 1 {
		return []string{"sh", "-c", script}, append(slices.Clip(env), d.Steps[0].Env...), true
	}
	var text strings.Builder
	for i, s := range d.Steps {
		if i == main {
			s.Script = script
		}
		for _, name := range []string{"npm_lifecycle_event", "npm_lifecycle_script"} {
			fmt.Fprintf(&text, "%s=%s ", name, task.Quote(lookup(s.Env, name)))
		}
		fmt.Fprintf(&text, "sh -c %s || exit\n", task.Quote(s.Script))
	}
	return []string{"sh", "-c", text.String()}, append(slices.Clip(env), d.Steps[main].Env...), true
}

// askManager returns what the package manager starts for the script, or nil.
func (p *Prepared) askManager(env []string) *directly {
	key := p.managerKey(env)
	cache, err := os.UserCacheDir()
	if err != nil {
		return nil
	}
	h := fnv.New64a()
	fmt.Fprintf(h, "%s\x00%s", p.Dir, p.Task.Command.String())
	file := filepath.Join(cache, "tidytally", fmt.Sprintf("direct-%016x.json", h.Sum64()))
	var d directly
	if data, err := os.ReadFile(file); err == nil && json.Unmarshal(data, &d) == nil && d.Key == key {
		return &d
	}
	d = directly{Key: key, Steps: p.probe(env)}
	if len(d.Steps) == 0 {
		return nil
	}
	if data, err := json.Marshal(d); err == nil && os.MkdirAll(filepath.Dir(file), 0o700) == nil {
		_ = renameio.WriteFile(file, data, 0o600) // it is asked again next time
	}
	return &d
}

// probe runs the package manager with the shell that notes.
func (p *Prepared) probe(env []string) []directStep {
	folder, err := output.NewFolder("tidytally-direct-")
	if err != nil {
		return nil
	}
	defer folder.Remove()
	dir := folder.Path()
	shell, out := filepath.Join(dir, "sh"), filepath.Join(dir, "notes")
	if os.WriteFile(shell, []byte(notes), 0o700) != nil || os.Mkdir(out, 0o700) != nil {
		return nil
	}
	argv := withNotingShell(p.Task.Command.Argv, shell)
	if argv == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), askWithin)
	defer cancel()
	program := argv[0]
	if _, full, err := p.resolve(env); err == nil {
		program = full
	}
	cmd := exec.CommandContext(ctx, program, argv[1:]...)
	cmd.WaitDelay = time.Second
	cmd.Dir = p.Dir
	cmd.Env = append(slices.Clip(env), "PWD="+p.Dir, "npm_config_script_shell="+shell, "TIDYTALLY_NOTES="+out)
	if cmd.Run() != nil {
		return nil
	}
	var steps []directStep
	entries, _ := os.ReadDir(out)
	for i := range entries {
		data, err := os.ReadFile(filepath.Join(out, fmt.Sprint(i)))
		if err != nil {
			return nil
		}
		fields := bytes.Split(bytes.TrimSuffix(data, []byte{0}), []byte{0})
		s := directStep{Script: string(fields[0])}
		for _, f := range fields[1:] {
			v := string(f)
			name, value, _ := strings.Cut(v, "=")
			switch name {
			case "npm_config_script_shell", "TIDYTALLY_NOTES", "_", "PWD", "SHLVL", "OLDPWD":
				continue
			case "PATH": // yarn makes a folder for each run
				if head, rest, _ := strings.Cut(value, ":"); strings.HasPrefix(filepath.Base(head), "yarn--") {
					value = rest
					v = name + "=" + value
				}
			}
			if lookup(env, name) != value || !slices.ContainsFunc(env, func(e string) bool { return strings.HasPrefix(e, name+"=") }) {
				s.Env = append(s.Env, v)
			}
		}
		steps = append(steps, s)
	}
	return steps
}

// withNotingShell adds a shell to the command of a package script; nil if the package manager
// might run the script all the same.
func withNotingShell(argv []string, shell string) []string {
	switch argv[0] {
	case "npm":
		return slices.Insert(slices.Clone(argv), 1, "--script-shell="+shell)
	case "pnpm":
		return slices.Insert(slices.Clone(argv), 1, "--config.script-shell="+shell)
	case "yarn": // takes it from the environment; since version 2 it has a shell of its own
		if out, err := exec.Command("yarn", "--version").Output(); err == nil && bytes.HasPrefix(out, []byte("1.")) {
			return argv
		}
	}
	return nil
}

// managerKey identifies everything that a package manager's answer depends on: the program, the
// files that it reads on the way up, and its variables.
func (p *Prepared) managerKey(env []string) string {
	var b strings.Builder
	stamp := func(name string) {
		if info, err := os.Stat(name); err == nil {
			fmt.Fprintf(&b, "%s %d %d\n", name, info.Size(), info.ModTime().UnixNano())
		}
	}
	argv, program, err := p.resolve(env)
	if err == nil {
		stamp(program)
	}
	fmt.Fprintf(&b, "%q\n", argv)
	files := []string{"package.json", ".npmrc", ".yarnrc", "pnpm-workspace.yaml", "package-lock.json", "node_modules"}
	for dir := p.Dir; ; dir = filepath.Dir(dir) {
		for _, name := range files {
			stamp(filepath.Join(dir, name))
		}
		if dir == filepath.Dir(dir) {
			break
		}
	}
	if home, err := os.UserHomeDir(); err == nil {
		stamp(filepath.Join(home, ".npmrc"))
		stamp(filepath.Join(home, ".yarnrc"))
	}
	var vars []string
	for _, v := range env {
		name, _, _ := strings.Cut(strings.ToUpper(v), "=")
		switch prefix, _, _ := strings.Cut(name, "_"); prefix {
		case "NPM", "PNPM", "YARN", "NODE", "COREPACK", "PATH", "HOME", "EDITOR", "VISUAL", "COLOR", "CI", "XDG", "PREFIX":
			vars = append(vars, v)
		}
	}
	slices.Sort(vars)
	for _, v := range vars {
		fmt.Fprintf(&b, "%q\n", v)
	}
	h := fnv.New64a()
	h.Write([]byte(b.String()))
	return fmt.Sprintf("%016x", h.Sum64())
}
