package toolchain

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/internal/testtree"
)

// A file is compiled with what the build uses for it, in its folder, and nothing of the workspace changes; the newest database that knows
// it counts, then a neighbour's entry.
func TestAsTheProjectCompiles(t *testing.T) {
	testtree.Needs(t, "cmake", "gcc")
	root := testtree.Folder(t)
	testtree.Fill(t, root, map[string]string{
		"CMakeLists.txt": "cmake_minimum_required(VERSION 3.10)\nproject(k C)\nset(CMAKE_EXPORT_COMPILE_COMMANDS ON)\nadd_library(k src/a.c)\ntarget_include_directories(k PRIVATE inc)\ntarget_compile_definitions(k PRIVATE \"TEXT=\\\"a b\\\"\" CONE=6)\n",
		"inc/one.h":      "#define ONE 1\n", "src/a.c": "#include \"one.h\"\nconst char *text(void) { return TEXT; }\nint a(void) { return ONE + CONE; }\n", "src/new.c": "#include \"one.h\"\nint n = CONE;\n", "other/x.c": "int x;\n",
	})
	run := func(dir string, argv ...string) (string, error) {
		cmd := exec.Command(argv[0], argv[1:]...)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	if task := AsProject(root, "src/a.c"); task != nil {
		t.Errorf("without a database: %s", task.Command)
	}
	if out, err := run(root, "cmake", "-S", ".", "-B", "build"); err != nil {
		t.Fatal(out)
	}
	old := time.Now().Add(-time.Hour)
	testtree.Fill(t, root, map[string]string{"out/debug/compile_commands.json": `[{"directory": "` + root + `", "file": "src/a.c", "command": "cc -DOLD -c src/a.c"}]`, "compile_commands.json": `[{"directory": 3`})
	if err := os.Chtimes(filepath.Join(root, "out/debug/compile_commands.json"), old, old); err != nil {
		t.Fatal(err)
	}
	for file, about := range map[string]string{"src/a.c": "Without linking, as build/compile_commands.json says", "src/new.c": "Without linking, as build/compile_commands.json says of a.c"} {
		task := AsProject(root, file)
		if task == nil || task.About != about {
			t.Errorf("%s: %+v", file, task)
			continue
		}
		if out, err := run(filepath.Join(root, task.Dir), task.Command.Argv...); err != nil || task.Dir != "build" {
			t.Errorf("%s in %s: %v\n%s", task.Command, task.Dir, err, out)
		}
	}
	if task := AsProject(root, "other/x.c"); task != nil {
		t.Errorf("no neighbour: %s", task.Command)
	}
	if err := filepath.WalkDir(root, func(path string, _ os.DirEntry, err error) error {
		if strings.HasSuffix(path, ".o") || strings.HasSuffix(path, ".d") {
			t.Errorf("%s was written", path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	// Each form of the options that write is taken out.
	testtree.Fill(t, root, map[string]string{"compile_commands.json": `[{"directory": "` + root + `", "file": "other/x.c", "arguments": ["gcc", "-MD", "-MF", "x.d", "-MTx", "-Wp,-MMD,y.d", "-ox.o", "-o", "y.o", "-c", "-I{inc}", "` + root + `/other/x.c"]},
		{"directory": "/elsewhere", "file": "` + root + `/src/new.c", "command": "gcc -c x"}]`})
	if task := AsProject(root, "other/x.c"); task == nil || task.Command.String() != "gcc -I{{inc}} "+root+"/other/x.c -c -o /dev/null" {
		t.Errorf("%+v", task)
	}
	if task := AsProject(root, "src/new.c"); task == nil || !strings.Contains(task.About, "of a.c") {
		t.Errorf("a folder outside: %+v", task)
	}
}
