package run

import (
	"math/rand/v2"
	"os/exec"
	"strings"
	"testing"

	"tidytally/core/commit"
	"tidytally/core/learn"
	"tidytally/core/plan"
	"tidytally/core/task"
	"tidytally/internal/testtree"
)

// After each of many random edits, some of which are committed, a build is compared with clean runs of it now and at the commit: it is
// never said to be untouched when these do not do the same.
func TestRandomEditsAgainstCommits(t *testing.T) {
	for _, k := range kits {
		t.Run(k.name, func(t *testing.T) {
			if _, err := exec.LookPath(k.command[0]); err != nil {
				t.Skip(err)
			}
			t.Parallel()
			tryCommits(t, &k)
		})
	}
}

func tryCommits(t *testing.T, k *kit) {
	s := takingUp(t, "[task.build]\nrun = [\""+strings.Join(k.command, "\", \"")+"\"]\n", k.files)
	s.super.opts.Terminal = false
	git := func(args ...string) {
		t.Helper()
		testtree.Git(t, s.root, args...)
	}
	testtree.Fill(t, s.root, map[string]string{".gitignore": strings.Join(k.results, "\n") + "\n"})
	git("init", "-q")
	var then, sources string // at the commit
	record := func() {
		t.Helper()
		git("add", "-A")
		git("commit", "-q", "--allow-empty", "-m", "more")
		then, sources = clean(t, k, s.root), k.sources(s.root)
	}
	watch := func() {
		s.super.opts.Learn = true
		s.finish(s.start("build"))
	}
	record()
	watch()
	if s.known == nil {
		t.Fatal("nothing was learned")
	}
	random := rand.New(rand.NewPCG(11, uint64(len(k.name))))
	n := max(k.few, *edits)
	needless, unknown, untouched := 0, 0, 0
	var kept []string
	build := s.tasks[0]
	for i := range n {
		what := editTree(t, k, s.root, random)
		if kept = append(kept, what); random.IntN(3) == 0 {
			record()
			kept = append(kept, "commit")
			what = editTree(t, k, s.root, random)
			kept = append(kept, what)
		}
		differs, err := commit.Compare(t.Context(), s.root, "HEAD")
		if err != nil {
			t.Fatal(err)
		}
		found := plan.TouchedSince(differs, map[string]*plan.Plan{build.ID(): {Task: build, Steps: []plan.Step{{Task: build, Role: plan.Main}}}},
			map[string]learn.Records{build.ID(): {learn.Watched: s.known}}, s.root,
			func(t *task.Task) (learn.Setting, error) { return s.super.ctx.SettingOf(t)() })[build.ID()]
		switch now := clean(t, k, s.root); {
		case found.State == plan.Untouched && now != then:
			t.Fatalf("edit %d, %s: said to be untouched, and a clean run does something else:\n%s\nat the commit:\n%s\nall edits: %q", i, what, now, then, kept)
		case found.State == plan.Untouched:
			untouched++
		case found.State == plan.NotKnown:
			unknown++
			watch()
			kept = append(kept, "watch")
		case now == then && k.sources(s.root) == sources:
			needless++
			t.Logf("edit %d, %s: touched without need: %v", i, what, found.Why)
		}
		if random.IntN(4) == 0 {
			watch()
			kept = append(kept, "watch")
		}
	}
	if needless*5 > n && needless > 1 {
		t.Errorf("%d of %d said to be touched without need", needless, n)
	}
	t.Logf("%d edits: %d untouched, %d unknown, %d touched without need", n, untouched, unknown, needless)
}
