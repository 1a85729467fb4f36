package sift_test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/core/problem"
	"tidytally/core/sift"
	"tidytally/core/tallyfile"
	"tidytally/core/workspace"
	"tidytally/internal/testtree"
)

// sifted returns the problems of a text, in GNU form, a line each.
func sifted(o sift.Output, text string) string {
	var out []string
	e := sift.New(o, &problem.Sources{}, sift.Receiver{Problem: func(p problem.Problem) { out = append(out, p.GNU()) }})
	e.Write([]byte(text))
	e.Close()
	return strings.Join(out, "\n")
}

// A file is located where it is: in the folder of the command, in a folder that a via
// maps, by its name alone, or not at all; and it is given relative to what is asked.
func TestWhereFilesAre(t *testing.T) {
	root := testtree.Lay(t, map[string]string{"kiln/near.c": "", "deep/src/only.c": "int heat, x;\n", "a/twice.c": "", "b/twice.c": "", "box/in.c": ""})
	f := tallyfile.Parse("tidytally.toml", []byte("[via.box]\nrun = [\"box\", \"{command}\"]\npaths = { \"/work\" = \"box\" }\n"))
	var tally tallyfile.Merged
	tally.Add(f)
	base := sift.Output{Root: root, Dir: filepath.Join(root, "kiln"), Tally: &tally, Search: workspace.NewFinder(root).Find}
	boxed, fromDir, outside := base, base, base
	boxed.Via = "box"
	fromDir.From = base.Dir
	outside.Dir = filepath.Dir(root)
	for _, c := range []struct {
		o          sift.Output
		text, want string
	}{
		{base, "near.c:1:2: error: x\n", "kiln/near.c:1:2: error: x"},
		{base, "only.c:1:2: error: heat\n", "deep/src/only.c:1:2: error: heat"},
		{base, "src/only.c:1:2: error: ‘x’\n", "deep/src/only.c:1:2: error: ‘x’"},
		{base, "only.c:1:2: error: e\n    1 | int heat, x;\n      |  ^\n", "deep/src/only.c:1:2: error: e"},
		// Another file of that name: nothing in its line bears out that it is meant.
		{base, "only.c:1:2: error: x\n", "kiln/only.c:1:2: error: x"},
		{base, "only.c:2:2: error: heat\n", "kiln/only.c:2:2: error: heat"},
		{base, "only.c:1:2: error: heat\n    1 | int heat;\n      |  ^\n", "kiln/only.c:1:2: error: heat"},
		{base, "other/only.c:1:2: error: x\n", "kiln/other/only.c:1:2: error: x"},
		{base, "twice.c:1:2: error: x\n", "kiln/twice.c:1:2: error: x"},
		{base, "/work/in.c:1:2: error: x\n", "/work/in.c:1:2: error: x"},
		{boxed, "/work/in.c:1:2: error: x\n", "box/in.c:1:2: error: x"},
		{fromDir, "near.c:1:2: error: x\n", "near.c:1:2: error: x"},
		{fromDir, "only.c:1:2: error: heat\n", "../deep/src/only.c:1:2: error: heat"},
		{outside, filepath.Base(root) + "/kiln/near.c:1:2: error: x\n", "kiln/near.c:1:2: error: x"},
	} {
		if got := sifted(c.o, c.text); got != c.want {
			t.Errorf("%q: %s, want %s", c.text, got, c.want)
		}
	}
}

// A folder that is missing is remembered as missing, but not for long: the task may
// make it.
func TestAFolderThatIsMadeLater(t *testing.T) {
	files, made := map[string]string{"deep/made/x.c": "heat\n"}, map[string]string{}
	for i := range 500 { // a path that was resolved once is not resolved again
		files[fmt.Sprintf("deep/made/y%d.c", i)], made[fmt.Sprintf("made/y%d.c", i)] = "cold\n", "cold\n"
	}
	root := testtree.Lay(t, files)
	var last problem.Problem
	e := sift.New(sift.Output{Root: root, Dir: root, Search: workspace.NewFinder(root).Find}, &problem.Sources{}, sift.Receiver{Problem: func(p problem.Problem) { last = p }})
	said := func(line string) string {
		e.Write([]byte(line))
		e.Pause()
		return last.File
	}
	if got := said("made/x.c:1:1: error: heat\n"); got != "deep/made/x.c" {
		t.Errorf("before the folder is made: %s", got)
	}
	testtree.Fill(t, root, made)
	for i := range 500 {
		name := fmt.Sprintf("made/y%d.c", i)
		if said(name+":1:1: error: cold\n") == name {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	t.Errorf("a folder that is made later is not seen: %s", last.File)
}
