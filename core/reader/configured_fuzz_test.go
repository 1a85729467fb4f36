package reader

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/core/reader/cmakelists"
	"tidytally/core/reader/declare"
	"tidytally/core/reader/makefile"
	"tidytally/internal/cputime"
	"tidytally/internal/testtree"
)

// What stands in a build folder is anybody's: no answer panics, hangs, or leads out of the
// workspace.
func FuzzBuildFolders(f *testing.F) {
	f.Add([]byte("/x/build/CMakeFiles/fire.dir\n/x/build/CMakeFiles/../../y.dir\n"), []byte("add_test([=[a b]=] \"x\")\nset_tests_properties([=[a b]=] PROPERTIES _BACKTRACE_TRIPLES \"/etc/x;7;add_test\")\nsubdirs(\"../..\" \".\")\ninclude(\"/etc/passwd\")\n"), []byte(`[{"name":"fire","type":"executable","defined_in":"/etc/meson.build"},{"name":"a","type":"custom","subproject":"b"}]`))
	f.Add([]byte(""), []byte("add_test(a b \"c\")\nadd_test("), []byte(`[{"name":1},null,{"name":"t","suite":[]}]`))
	root := f.TempDir()
	testtree.Fill(f, root, map[string]string{"build/CMakeCache.txt": "CMAKE_HOME_DIRECTORY:INTERNAL=" + root + "\n", "out/meson-info/meson-info.json": `{"directories":{"source":"` + root + `"}}`})
	put := func(name string, data []byte) {
		full := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			f.Fatal(err)
		}
		if err := os.WriteFile(full, data, 0o644); err != nil {
			f.Fatal(err)
		}
	}
	f.Fuzz(func(t *testing.T, directories, tests, intro []byte) {
		put("build/CMakeFiles/TargetDirectories.txt", directories)
		put("build/CTestTestfile.cmake", tests)
		put("build/.cmake/api/v1/reply/index-1.json", intro)
		put("out/meson-info/intro-targets.json", intro)
		put("out/meson-info/intro-tests.json", intro)
		ws := declare.NewWorkspace(root, nil)
		began := cputime.Used(t)
		found := cmakelists.Read(ws.File("CMakeLists.txt", []byte("project(x C)\nadd_test(NAME a COMMAND true)\n")))
		more := readMeson(ws.File("meson.build", []byte("project('x')\ntest('a', find_program('true'))\n")))
		makes := makefile.Read(ws.File("Makefile.am", tests))
		if d := cputime.Used(t) - began; d > 5*time.Second {
			t.Errorf("it took %s", d)
		}
		for _, k := range append(append(found.Tasks, more.Tasks...), makes.Tasks...) {
			if k.Name == "" || k.Command.IsZero() || strings.HasPrefix(k.File, "/") || strings.HasPrefix(k.File, "..") {
				t.Errorf("impossible: %+v", k)
			}
		}
	})
}
