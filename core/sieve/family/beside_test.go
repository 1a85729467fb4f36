package family

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/internal/testtree"
)

// Two folders are built side by side, silently, and have files of the same
// names: the source text under each diagnostic tells whose it is.
func TestFilesOfOneNameBuiltSideBySide(t *testing.T) {
	t.Parallel()
	testtree.Needs(t, "make", "gcc")
	files := map[string]string{"Makefile": "all: kiln glaze\nkiln glaze:\n\t$(MAKE) -C $@\n.PHONY: kiln glaze\n"}
	for folder, extra := range map[string]string{"kiln": "\tint heat = 1;\n\n\treturn 1.5 > 2;", "glaze": "\tint coat = 2;\n\n\treturn x;"} {
		files[folder+"/Makefile"] = "all: a.o b.o\n%.o: %.c\n\t@gcc -Wall -c -o $@ $<\n"
		for _, file := range []string{"a.c", "b.c"} {
			files[folder+"/"+file] = "int " + file[:1] + "(void)\n{\n" + extra + "\n}\n"
		}
	}
	root := testtree.Lay(t, files)
	cmd := exec.Command("make", "-k", "-j4")
	cmd.Dir = root
	cmd.Env = append(os.Environ(), "LC_ALL=C", "MAKEFLAGS=", "MAKELEVEL=")
	out, _ := cmd.CombinedOutput() // it fails: x is not declared
	var c sieve.Collector
	sources := problem.Sources{Root: root}
	e := sieve.New(All, sieve.Options{
		Root: root, Line: sources.Line, Problem: c.Problem, Repeat: c.Repeat,
		Exists: func(p string) bool {
			if !filepath.IsAbs(p) {
				p = filepath.Join(root, p)
			}
			_, err := os.Stat(p)
			return err == nil
		},
	})
	e.Write(out)
	e.Close()
	found := map[string]int{}
	for _, p := range c.Problems {
		found[fmt.Sprintf("%s:%d", p.File, p.Line)]++
		if text := sources.Line(p.File, p.Line); strings.Contains(p.Message, "‘") || !strings.Contains(p.Message, "'") {
			continue
		} else if _, name, _ := strings.Cut(p.Message, "'"); !strings.Contains(text, strings.SplitN(name, "'", 2)[0]) {
			t.Errorf("%s: in %q", p.GNU(), text)
		}
	}
	for _, place := range []string{"kiln/a.c:3", "kiln/b.c:3", "glaze/a.c:3", "glaze/b.c:3", "glaze/a.c:5", "glaze/b.c:5"} {
		if found[place] != 1 {
			t.Errorf("%d problems at %s in\n%s\nfrom\n%s", found[place], place, lines(c.Problems), out)
		}
	}
}
