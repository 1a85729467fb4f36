package survey

import (
	"fmt"
	"strings"
	"testing"
)

// folds writes the folds, and how many of the listed tasks stand by themselves.
func folds(s *Survey) string {
	var b strings.Builder
	alone := 0
	for _, t := range s.Tasks {
		if t.Fold == "" && !t.Hidden {
			alone++
		}
	}
	for _, f := range s.Folds {
		fmt.Fprintf(&b, "%s: %d, %s\n", f.Name, f.Tasks, f.Why)
	}
	fmt.Fprintf(&b, "%d alone\n", alone)
	return b.String()
}

const someMake = "all:\n\ttrue\nclean:\n\ttrue\n"

func TestProjectsOfOthersAreFolded(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name  string
		files map[string]string
		want  string
	}{
		{"by submodule and folder", map[string]string{
			"Makefile": someMake, ".gitmodules": "[submodule \"zlib\"]\n\tpath = deps/zlib\n\turl = x\n", "deps/zlib/Makefile": someMake, "deps/zlib/contrib/Makefile": someMake,
			"third_party/json/Makefile": someMake, "deps/Makefile": someMake,
		}, "deps/zlib: 4, git submodule\nthird_party/json: 2, folder of other people's projects\n4 alone\n"},
		{"by a licence that is not the tree's", map[string]string{
			"Makefile": someMake, "LICENSE": "Copyright 2024 We\nDo as you like.\n", "ours/Makefile": someMake, "ours/LICENSE": "Copyright 2020 We, too\nDo  as you like.\n",
			"roms/boot/Makefile": someMake, "roms/boot/COPYING": "GNU\n",
		}, "roms/boot: 2, a licence of its own\n4 alone\n"},
		{"packages with a licence each are the tree's own", map[string]string{
			"package.json": `{"scripts": {"all": "true"}}`, "a/package.json": `{"scripts": {"x": "true"}}`, "a/LICENSE": "MIT", "b/package.json": `{"scripts": {"x": "true"}}`, "b/LICENSE": "MIT",
			"c/package.json": `{"scripts": {"x": "true"}}`, "c/LICENSE": "MIT",
		}, "4 alone\n"},
		{"a folder of clones is no project", map[string]string{"a/Makefile": someMake, "a/LICENSE": "A", "b/Makefile": someMake, "b/LICENSE": "B"}, "4 alone\n"},
		{"what tests work on", map[string]string{
			"Makefile": someMake, "fixtures/x/Makefile": someMake, "tests/a/Makefile": someMake, "tests/b/Makefile": someMake, "tests/c/Makefile": someMake, "tests/d/Makefile": someMake,
			"test/Makefile": someMake,
		}, "fixtures: 2, projects that tests work on\ntests: 8, projects that tests work on\n4 alone\n"},
		{"what one target leads to", map[string]string{
			"Makefile":   "all clean:\n\tfor d in x y; do $(MAKE) -C $$d $@; done\nown:\n\ttrue\n",
			"x/Makefile": someMake + "flash:\n\ttrue\n", "y/Makefile": someMake, "y/z/Makefile": "own:\n\ttrue\n",
		}, "./: 4, the same in folders below\n5 alone\n"},
	} {
		if got := folds(survey(t, c.files)); got != c.want {
			t.Errorf("%s: got\n%swant\n%s", c.name, got, c.want)
		}
	}
}

// A build file that a rule ignores beside others that are read is named, with the rule.
func TestLeftOut(t *testing.T) {
	t.Parallel()
	files := map[string]string{
		".gitignore": "/part/Makefile\n/old\n/lone/Makefile\n", "part/Makefile": "x:\n\techo x\n", "part/package.json": `{"scripts": {"a": "true"}}`,
		"lone/Makefile": "y:\n\techo y\n", "old": "#!/bin/sh\n", "Makefile": "z:\n\techo z\n", ".git/HEAD": "ref: refs/heads/main\n",
	}
	if file, rule := survey(t, files).LeftOut(); file != "part/Makefile" || rule != ".gitignore:1: /part/Makefile" {
		t.Errorf("left out: %s by %s", file, rule)
	}
	delete(files, "part/package.json")
	if file, rule := survey(t, files).LeftOut(); file != "" {
		t.Errorf("left out: %s by %s", file, rule)
	}
}
