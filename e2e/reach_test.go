package e2e

import (
	"testing"

	"tidytally/internal/testtree"
)

// A build compiles only what changed: what it says nothing of is not gone, and does not
// come back as new when it is compiled again.
func TestAnIncrementalBuild(t *testing.T) {
	const warns = "int f(int n)\n{\n\tint unused = n;\n\treturn n;\n}\n"
	const fine = "int f(int n)\n{\n\treturn n;\n}\n"
	dir := testtree.Lay(t, map[string]string{
		"Makefile": "all: a.o b.o\n%.o: %.c\n\tgcc -Wall -c $<\n", "a.c": warns, "b.c": warns,
	})
	s := start(t, dir, 142, 38)
	s.waitFor("¦ all")
	s.find("name:all")
	s.waitFor("1 of")
	s.keys("Enter", "y")
	s.waitFor("before 0 · new 2 · gone 0 · now 2", "a.c", "b.c", "ok after")
	s.write("b.c", fine+"\n")
	s.keys("r")
	s.waitFor("before 2 · new 0 · gone 1 · not checked 1 · now 1", "unused variable", "ok after")
	s.find("is:not-checked")
	s.waitFor("1 shown", "not checked this time")
	s.keys("/", "Escape")
	s.waitFor("1 warning in 1 file")
	// Nothing was built at all.
	s.keys("r")
	s.waitFor("before 1 · new 0 · gone 0 · not checked 1 · now 1", "ok after")
	s.write("a.c", warns+"\n")
	s.keys("r")
	s.waitFor("before 1 · new 0 · gone 0 · now 1", "ok after")
	s.write("a.c", fine+"\n\n")
	s.keys("r")
	s.waitFor("before 1 · new 0 · gone 1 · now 0", "ok after")
}

// Three packages are built at once, each line behind the name of its own; two have
// mistakes in files of one name.
func TestPackagesBuiltAtOnce(t *testing.T) {
	build := "#!/bin/sh\n" +
		"for p in core web api; do (cd packages/$p && sh build.sh 2>&1 | sed \"s,^,packages/$p build: ,\") & done\nwait\n"
	check := "echo '> checking'\nsleep 0.1\n[ -f src/index.ts ] && echo \"src/index.ts(1,7): error TS2322: Type 'string' is not assignable to type 'number'.\"\necho done\n"
	dir := testtree.Lay(t, map[string]string{
		"package.json": `{"name": "emberclay", "private": true, "workspaces": ["packages/*"]}`, "build.sh": build,
		"packages/core/package.json": `{"name": "@emberclay/core"}`, "packages/core/build.sh": check, "packages/core/src/index.ts": "const n: number = 'three';\n",
		"packages/web/package.json": `{"name": "@emberclay/web"}`, "packages/web/build.sh": check, "packages/web/src/index.ts": "const n: number = 'four';\n",
		"packages/api/package.json": `{"name": "@emberclay/api"}`, "packages/api/build.sh": check,
		"tidytally.toml": "[task.build]\nrun = \"sh build.sh\"\n",
	})
	s := start(t, dir, 142, 38)
	s.waitFor("sh build.sh")
	s.find("name:build")
	s.keys("Enter", "y")
	s.waitFor("2 errors in 2 files", "packages/core/src/index.ts", "packages/web/src/index.ts", "const n: number = ")
}
