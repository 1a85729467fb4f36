package main

import (
	"regexp"
	"strings"
	"testing"

	"tidytally/internal/testtree"
)

// Tasks are touched by what they declare, by their steps and by the file that declares them; what is not known stands apart. A run
// leaves out what is untouched, and says so.
func TestTouched(t *testing.T) {
	dir := past(t, `[task.all]
before = ["#lint", "#docs"]
[task.lint]
run = "cat *.c > /dev/null"
reads = ["*.c"]
[task.docs]
run = "cat notes > /dev/null"
reads = ["notes", "more/**"]
[task.guess]
run = "true"
`)
	git := func(args ...string) {
		t.Helper()
		testtree.Git(t, dir, args...)
	}
	write := func(name, text string) {
		t.Helper()
		testtree.Fill(t, dir, map[string]string{name: text})
	}
	said := func(args ...string) string {
		t.Helper()
		out, errs, code := call(t, dir, args...)
		if code != 0 {
			t.Fatalf("%v: exit %d\n%s%s", args, code, out, errs)
		}
		return regexp.MustCompile(" {2,}").ReplaceAllString(strings.ReplaceAll(out+errs, "tidytally.toml#", ""), " ")
	}
	write("notes", "one\n")
	git("init", "-q")
	git("add", "-A")
	git("commit", "-qm", "one")
	const never = "guess unknown never watched (run --learn), and it declares no reads\n"
	for _, c := range []struct {
		what string
		edit func()
		want string
	}{
		{"nothing", func() {}, never},
		{"a source", func() { write("b.c", "int b;\n") }, "all touched lint: b.c is new\nlint touched b.c is new\n" + never},
		{"notes too", func() { write("more/deep/x", "") }, "all touched lint: b.c is new (and 1 more)\nlint touched b.c is new\ndocs touched more/deep/x is new\n" + never},
		{"committed on a branch", func() {
			git("checkout", "-q", "-b", "glaze")
			git("add", "-A")
			git("commit", "-qm", "two")
		}, "all touched lint: b.c is new (and 1 more)\nlint touched b.c is new\ndocs touched more/deep/x is new\n" + never},
	} {
		c.edit()
		if got := said("touched", "--since", "main"); !strings.HasPrefix(got, c.want) {
			t.Errorf("%s:\n%swant\n%s", c.what, got, c.want)
		}
	}
	if got := said("touched", "--since", "HEAD", "--json", "lint"); !strings.Contains(got, `"state": "untouched"`) {
		t.Errorf("since the present commit: %s", got)
	}
	if got := said("run", "lint", "docs", "--since", "HEAD"); strings.Count(got, "not run: nothing that it reads differs since HEAD (") != 2 || strings.Contains(got, " ok after ") {
		t.Errorf("run of what is untouched: %s", got)
	}
	if got := said("run", "lint", "guess", "--since", "main~0"); strings.Count(got, " ok after ") != 2 {
		t.Errorf("run of what is touched, or not known: %s", got)
	}
	write("a.c", "int other;\n")
	if got := said("touched", "lint"); !strings.HasPrefix(got, "lint touched a.c changed") {
		t.Errorf("since its last good run: %s", got)
	}
	if _, errs, code := call(t, dir, "touched", "--since", "nonsense"); code != exitUsage || !strings.Contains(errs, "git knows no commit nonsense") {
		t.Errorf("exit %d: %s", code, errs)
	}
}
