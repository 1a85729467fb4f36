package run

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"tidytally/core/plan"
	"tidytally/core/task"
)

// answersWithin is how long a build tool may take to say whether it has something to do.
const answersWithin = time.Minute

// maxAnswer bounds the bytes of an answer.
const maxAnswer = 1 << 20

// Question asks a task's build tool whether it has something to do. That executes the tool, and what its
// files make it execute, such as $(shell) of a makefile. good is when the last good run started, zero if there
// was none. asks is false where there is no way to ask.
func (c *Context) Question(ctx context.Context, t *task.Task, good time.Time) (o plan.Outlook, asks bool) {
	if t.Question.Command.IsZero() {
		return o, false
	}
	unknown := func(err error) (plan.Outlook, bool) {
		return plan.Outlook{State: plan.Unknown, From: plan.FromTool, Why: []string{err.Error()}}, true
	}
	of := *t
	of.Command, of.Args = t.Question.Command, nil
	p, err := c.Prepare(&of, nil)
	if err != nil {
		return unknown(err)
	}
	env := append(os.Environ(), p.Env...)
	argv, program, err := p.resolve(env)
	if err != nil {
		return unknown(err)
	}
	ctx, cancel := context.WithTimeout(ctx, answersWithin)
	defer cancel()
	cmd := exec.CommandContext(ctx, program)
	cmd.Args, cmd.Dir, cmd.Env = argv, p.Dir, withoutDoubles(append(env, "PWD="+p.Dir))
	endsWhole(cmd)
	answer := &bounded{most: maxAnswer}
	cmd.Stdout, cmd.Stderr = answer, answer
	err = cmd.Run()
	var exit *exec.ExitError
	text := answer.text.String()
	switch {
	case ctx.Err() != nil:
		return unknown(fmt.Errorf("%s gave no answer within %s", argv[0], answersWithin))
	case err != nil && !errors.As(err, &exit):
		return unknown(err)
	case t.Question.Files && err == nil:
		return newerThan(c.Root, strings.Split(text, "\n"), good), true
	case t.Question.Idle == "" && err == nil, err == nil && strings.Contains(text, t.Question.Idle):
		return plan.Outlook{State: plan.Fresh, From: plan.FromTool, Since: time.Now()}, true
	case t.Question.Idle == "" && !t.Question.Files && exit.ExitCode() == 1, t.Question.Idle != "" && err == nil:
		return plan.Outlook{State: plan.Needed, From: plan.FromTool, Why: []string{p.Command.String() + " says that there is something to do"}, Reasons: 1}, true
	}
	return unknown(fmt.Errorf("%s: %s", p.Command.String(), firstLine(text)))
}

// endsWhole lets the end of a command's context kill its whole process group.
func endsWhole(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
}

// commandOutput runs a command for what it prints, for some time at most, and returns that: of both streams no more than
// most bytes. set may set more of the command; it may be nil.
func commandOutput(within time.Duration, most int, set func(*exec.Cmd), words ...string) (said, faults string, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), within)
	defer cancel()
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	endsWhole(cmd)
	out, told := &bounded{most: most}, &bounded{most: most}
	cmd.Stdout, cmd.Stderr = out, told
	if set != nil {
		set(cmd)
	}
	err = cmd.Run()
	return out.text.String(), told.text.String(), err
}

// firstLine returns the first line of a text that says something.
func firstLine(text string) string {
	first, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	return strings.TrimSpace(first)
}

// newerThan returns the outlook of a task that reads some files, by their times and those of their folders, from
// which one may have gone.
func newerThan(root string, files []string, good time.Time) plan.Outlook {
	o := plan.Outlook{State: plan.Needed, From: plan.FromTool}
	if good.IsZero() {
		o.Why = []string{"no good run is on record"}
		return o
	}
	seen := map[string]bool{}
	for _, name := range files {
		for _, name := range []string{name, filepath.Dir(name)} {
			if !filepath.IsAbs(name) || seen[name] {
				continue
			}
			seen[name] = true
			info, err := os.Stat(name)
			if err == nil && !info.ModTime().After(good) {
				continue
			}
			if rel, err := filepath.Rel(root, name); err == nil && filepath.IsLocal(rel) {
				name = rel
			}
			o.Ran = true
			if o.Reasons++; len(o.Why) < 5 {
				o.Why = append(o.Why, filepath.ToSlash(name)+" changed")
			}
		}
	}
	if o.Reasons == 0 {
		return plan.Outlook{State: plan.Fresh, From: plan.FromTool, Since: good}
	}
	return o
}

// bounded keeps the beginning of what is written to it.
type bounded struct {
	text strings.Builder
	most int
}

func (b *bounded) Write(p []byte) (int, error) {
	b.text.Write(p[:max(0, min(len(p), b.most-b.text.Len()))])
	return len(p), nil
}
