package tui

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
)

// blameWithin is how long git may take to answer.
const blameWithin = 10 * time.Second

// whoChanged tells who changed the line of the chosen problem last, and in which commit. Only git
// is executed, and nothing that the workspace's configuration names.
func (p *tallyPage) whoChanged() tea.Cmd {
	row := p.current()
	if row == nil || row.p.File == "" || row.p.Line == 0 {
		p.say(false, "choose a problem with a line in a file")
		return nil
	}
	line, _ := p.placeNow(row)
	file := p.absolute(row.p.File)
	p.say(false, "asking git who changed line %d of %s", line, row.p.File)
	return func() tea.Msg { return blameMsg(blame(file, line)) }
}

// blameMsg is what git says of a line, or why it does not.
type blameMsg string

// git returns a call of git that asks nobody and fetches nothing.
func git(ctx context.Context, dir string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GIT_OPTIONAL_LOCKS=0", "GIT_TERMINAL_PROMPT=0", "GIT_NO_LAZY_FETCH=1", "LC_ALL=C")
	return cmd
}

// blame asks git who changed a line last (git-blame(1), porcelain format).
func blame(file string, line int) string {
	ctx, cancel := context.WithTimeout(context.Background(), blameWithin)
	defer cancel()
	dir := filepath.Dir(file)
	args := []string{"--no-optional-locks", "-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-c", "core.pager=cat"}
	// Git passes the file through the filters that the workspace's configuration names.
	names, _ := git(ctx, dir, "config", "--name-only", "--get-regexp", `^filter\..*\.(clean|smudge|process|required)$`).Output()
	for _, name := range strings.Fields(string(names)) {
		args = append(args, "-c", name+"=")
	}
	cmd := git(ctx, dir, append(args, "blame", "--no-textconv", "--porcelain", "-L", fmt.Sprintf("%d,%d", line, line), "--", filepath.Base(file))...)
	var bad bytes.Buffer
	cmd.Stderr = &bad
	out, err := cmd.Output()
	if err != nil {
		first, _, _ := strings.Cut(bad.String(), "\n")
		if first == "" {
			first = err.Error()
		}
		return "git: " + first
	}
	lines := strings.Split(string(out), "\n")
	field := func(name string) string {
		for _, l := range lines {
			if v, ok := strings.CutPrefix(l, name+" "); ok {
				return v
			}
		}
		return ""
	}
	hash, _, _ := strings.Cut(lines[0], " ")
	if strings.Trim(hash, "0") == "" {
		return fmt.Sprintf("line %d was changed and is not committed yet", line)
	}
	when := ""
	if seconds, err := strconv.ParseInt(field("author-time"), 10, 64); err == nil {
		when = " on " + time.Unix(seconds, 0).Format("2 January 2006")
	}
	return fmt.Sprintf("line %d: %s%s in %.7s: %s", line, field("author"), when, hash, field("summary"))
}
