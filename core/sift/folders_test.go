package sift_test

import (
	"os"
	"os/exec"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sift"
	"tidytally/core/workspace"
	"tidytally/internal/testtree"
)

// Builds that do not say in which folder they are: the echoed command, the source text
// below a diagnostic, and the target that failed tell which of several files it is.
func TestWhereTheFolderIsNotSaid(t *testing.T) {
	for _, tool := range []string{"make", "gcc"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip(tool + " is not installed")
		}
	}
	files := map[string]string{}
	for _, dir := range []string{"core", "net", "ui"} {
		// The functions are alike, but for a name.
		files[dir+"/util.c"] = "int " + dir + "_util(int n)\n{\n\tint unused;\n\treturn n + missing_" + dir + ";\n}\n"
		files[dir+"/only_"+dir+".c"] = "int only(void)\n{\n\treturn missing_" + dir + ";\n}\n"
		files[dir+"/Makefile"] = "all: util.o only_" + dir + ".o\n%.o: %.c\n\t$(CC) -Wall -c -o $@ $<\n"
	}
	for name, makefile := range map[string]string{
		"silent":           "all: core net ui\ncore net ui:\n\t@$(MAKE) -s -k -C $@\n.PHONY: core net ui\n",
		"without folders":  "all: core net ui\ncore net ui:\n\t$(MAKE) --no-print-directory -k -C $@\n.PHONY: core net ui\n",
		"in a loop":        "all:\n\t@for d in core net ui; do (cd $$d && gcc -Wall -c *.c); done\n",
		"cd":               "all: core net ui\ncore net ui:\n\tcd $@ && gcc -Wall -c util.c only_$@.c\n.PHONY: core net ui\n",
		"without a source": "all: core net ui\ncore net ui:\n\t@cd $@ && gcc -Wall -fno-diagnostics-show-caret -c util.c only_$@.c\n.PHONY: core net ui\n",
	} {
		files["Makefile"] = makefile
		root := testtree.Lay(t, files)
		cmd := exec.Command("make", "-k")
		cmd.Dir = root
		cmd.Env = append(os.Environ(), "LC_ALL=C", "MAKEFLAGS=", "MAKELEVEL=")
		out, _ := cmd.CombinedOutput() // it fails: names are missing
		found := map[int]problem.Problem{}
		sources := &problem.Sources{}
		e := sift.New(sift.Output{Root: root, Dir: root, Search: workspace.NewFinder(root).Find}, sources, sift.Receiver{
			Problem: func(p problem.Problem) { found[p.Seq] = p },
		})
		e.Write(out)
		e.Close()
		right := 0
		for _, p := range found {
			_, missing, ok := strings.Cut(p.Message, "missing_")
			if !ok {
				continue
			}
			dir, _, _ := strings.Cut(missing, "'")
			if !strings.HasPrefix(p.File, dir+"/") {
				t.Errorf("%s: %s, may be %v", name, p.GNU(), p.MayBe)
				continue
			}
			right++
		}
		if right != 6 {
			t.Errorf("%s: %d of 6 are in their folder:\n%s", name, right, out)
		}
	}
}
