package commit

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
	"time"
)

// Ask returns the output of git in dir, cut after most bytes. Git prompts for nothing, fetches nothing and starts no program, whatever
// the repository's configuration says. The command must not read files of the work tree, because filters are programs.
func Ask(ctx context.Context, dir string, most int, args ...string) (string, error) {
	guarded := []string{"--no-optional-locks", "--no-pager", "--literal-pathspecs"}
	for _, c := range []string{"core.fsmonitor=false", "core.hooksPath=/dev/null", "core.pager=cat", "protocol.allow=never", "core.sshCommand=false", "core.askPass=false", "credential.helper=", "log.showSignature=false", "gpg.program=false"} {
		guarded = append(guarded, "-c", c)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	cmd := exec.CommandContext(ctx, "git", append(guarded, args...)...)
	cmd.Dir = dir
	cmd.Env = slices.DeleteFunc(os.Environ(), func(v string) bool { return strings.HasPrefix(v, "GIT_") })
	cmd.Env = append(cmd.Env, "GIT_OPTIONAL_LOCKS=0", "GIT_TERMINAL_PROMPT=0", "GIT_NO_LAZY_FETCH=1", "GIT_ALLOW_PROTOCOL=none", "GIT_NO_REPLACE_OBJECTS=1", "LC_ALL=C")
	cmd.WaitDelay = time.Second
	var bad bytes.Buffer
	cmd.Stderr = &bad
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		return "", fmt.Errorf("git: %w", err)
	}
	text, _ := io.ReadAll(io.LimitReader(out, int64(most))) // Wait returns the cause
	if len(text) == most {
		cancel()
		_ = cmd.Wait()
		return string(text), nil
	}
	if err := cmd.Wait(); err != nil {
		first, _, _ := strings.Cut(bad.String(), "\n")
		return "", fmt.Errorf("git: %s", cmp.Or(first, err.Error()))
	}
	return string(text), nil
}
