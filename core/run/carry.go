package run

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tidytally/core/crash"
	"tidytally/core/learn"
	"tidytally/core/task"
)

// Files that a task reads are carried to its place before it runs, and those that it makes back after, by
// rsync(1).

// carriesWithin bounds how long that may take.
const carriesWithin = 30 * time.Minute

// maxCarried is the number of files that are named in the output.
const maxCarried = 10

// carry brings the files that the task reads to the place: those that it declares, else all that version control
// tracks or would.
func (f *remote) carry(r *Run) error {
	root := r.super.Context().Root
	var names []string
	if reads := r.Prepared.Task.Reads; len(reads) > 0 {
		names = learn.Matches(root, r.Prepared.Dir, reads)
	} else {
		cmd := exec.Command("git", "-c", "core.fsmonitor=false", "-C", root, "ls-files", "-z", "--cached", "--others", "--exclude-standard")
		out, err := cmd.Output()
		if err != nil {
			return fmt.Errorf("what is to be carried to %s is not known: declare reads, or keep the workspace under git", f.place.Name)
		}
		names = strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00")
	}
	// What is deleted here and still tracked is not there to be carried.
	return f.rsync(r, "to", []byte(strings.Join(names, "\x00")), "--files-from=-", "--from0", "--ignore-missing-args", root+"/", f.host()+":"+f.place.Folder+"/")
}

// fetch brings the files that the task makes back.
func (f *remote) fetch(r *Run) error {
	t, root := r.Prepared.Task, r.super.Context().Root
	if len(t.Makes) == 0 {
		return nil
	}
	dir, err := filepath.Rel(root, r.Prepared.Dir)
	if err != nil {
		return err
	}
	args := []string{"--prune-empty-dirs", "--include=*/"}
	for _, glob := range t.Makes { // patterns of rsync are those of doublestar as far as * ? ** and [] go
		args = append(args, "--include=/"+path.Join(filepath.ToSlash(dir), glob))
	}
	return f.rsync(r, "from", nil, append(args, "--exclude=*", f.host()+":"+f.place.Folder+"/", root+"/")...)
}

// host is the place's host for ssh: the last word of its command.
func (f *remote) host() string {
	words := f.place.Command.Words()
	return words[len(words)-1]
}

// rsync carries files and says which in the output of the run.
func (f *remote) rsync(r *Run, way string, list []byte, args ...string) error {
	if !isSSH(f.place.Command.Words()) || f.place.Folder == "" {
		return fmt.Errorf("[place.%s]: carry is for ssh, with the folder of the workspace there", f.place.Name)
	}
	words := f.place.Command.Words()
	shell := slices.Concat(words[:1], []string{"-o", "BatchMode=yes"}, r.super.connection(f).options(), words[1:len(words)-1])
	ctx, cancel := context.WithTimeout(context.Background(), carriesWithin)
	defer cancel()
	crash.Go("a place", func() {
		select {
		case <-r.halt:
			cancel()
		case <-ctx.Done():
		}
	}, nil)
	cmd := exec.CommandContext(ctx, "rsync", append([]string{"-a", "--mkpath", "--out-format=%n", "-e", task.QuoteAll(shell)}, args...)...)
	cmd.Stdin = bytes.NewReader(list)
	var out, faults bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &faults
	if err := cmd.Run(); err != nil {
		if errors.Is(err, exec.ErrNotFound) {
			return errors.New("rsync is not on the path, by which files are carried: " + remedy("rsync"))
		}
		first, _, _ := strings.Cut(strings.TrimSpace(faults.String()), "\n")
		return fmt.Errorf("carrying files %s %s: %w: %s", way, f.place.Name, err, first)
	}
	var files []string
	for _, name := range strings.Split(strings.TrimSpace(out.String()), "\n") {
		if name != "" && !strings.HasSuffix(name, "/") {
			files = append(files, name)
		}
	}
	if len(files) == 0 {
		return nil
	}
	words = files[:min(len(files), maxCarried)]
	text := fmt.Sprintf("carried %s %s: %s", way, f.place.Name, strings.Join(words, " "))
	if n := len(files) - len(words); n > 0 {
		text += fmt.Sprintf(" and %d more", n)
	}
	return r.take([]byte(text + "\n"))
}
