package survey

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tidytally/core/task"
	"tidytally/internal/testtree"
)

// listed returns the names of the tasks of a source that are not hidden.
func listed(s *Survey, source string) (out []string) {
	for _, t := range s.Tasks {
		if t.Source == source && !t.Hidden {
			out = append(out, t.Name)
		}
	}
	slices.Sort(out)
	return out
}

func named(t *testing.T, s *Survey, name string) *task.Task {
	t.Helper()
	for _, k := range s.Tasks {
		if k.Name == name {
			return k
		}
	}
	t.Fatalf("there is no task %s among %s", name, brief(s))
	return nil
}

const computedCMake = `cmake_minimum_required(VERSION 3.10)
project(kiln C)
enable_testing()
add_executable(fire main.c)
file(READ cones.txt CONES)
string(STRIP "${CONES}" CONES)
execute_process(COMMAND cat cones.txt WORKING_DIRECTORY ${CMAKE_CURRENT_SOURCE_DIR} OUTPUT_VARIABLE H OUTPUT_STRIP_TRAILING_WHITESPACE)
add_custom_target(cone_${H} COMMAND true)
add_test(NAME "fires_${H}" COMMAND fire)
install(TARGETS fire DESTINATION bin)
if(H STREQUAL none)
  add_custom_target(empty)
endif()
add_subdirectory(shelf)
`

// Once a build folder is configured, its own answer counts: names that only a configure run
// knows are there, and what its conditions left out is hidden. Before, a task says what must
// be done first; and a source that was edited afterwards is believed again.
func TestConfiguredCMake(t *testing.T) {
	t.Parallel()
	files := map[string]string{
		"CMakeLists.txt": computedCMake, "main.c": "int main(void) { return 0; }\n", "cones.txt": "ten\n", ".gitignore": "/build*/\n",
		"shelf/CMakeLists.txt": "add_test(NAME shelved COMMAND fire)\nadd_custom_target(tidy)\n",
	}
	s := survey(t, files)
	if got := strings.Join(listed(s, "cmake"), " "); got != "build configure fire install test test shelved tidy" {
		t.Errorf("before: %s", got)
	}
	if k := named(t, s, "fire"); k.Setup.Missing(s.Root) != "the build is not configured; run cmake -S . -B build first" {
		t.Errorf("before: first %q", k.Setup.Missing(s.Root))
	}
	if note := named(t, s, "empty").Origin("name").Note; note != "depends on if(H STREQUAL none)" {
		t.Errorf("a target in a condition: %q", note)
	}
	for _, c := range []struct {
		generator, dir string
		query          bool
	}{{"Unix Makefiles", "build", false}, {"Unix Makefiles", "build-here", true}} {
		if c.query {
			testtree.Fill(t, s.Root, map[string]string{c.dir + "/.cmake/api/v1/query/codemodel-v2": ""})
		}
		tool(t, s.Root, "cmake", "-S", ".", "-B", c.dir, "-G", c.generator)
		after, err := Of(s.Root)
		if err != nil {
			t.Fatal(err)
		}
		want := "build cone_ten configure fire install test test fires_ten test shelved tidy"
		if c.query {
			if err := os.RemoveAll(filepath.Join(s.Root, "build")); err != nil {
				t.Fatal(err)
			}
			if after, err = Of(s.Root); err != nil {
				t.Fatal(err)
			}
		}
		if got := strings.Join(listed(after, "cmake"), " "); got != want {
			t.Errorf("%s: %s", c.dir, got)
		}
		k := named(t, after, "test fires_ten")
		if k.Line != 9 || k.File != "CMakeLists.txt" || k.Command.String() != "ctest --test-dir "+c.dir+" --output-on-failure -R '^fires_ten$'" || k.Setup.Missing(s.Root) != "" {
			t.Errorf("%s: a computed test: %+v", c.dir, k)
		}
		if k := named(t, after, "cone_ten"); c.query && k.Line != 8 || k.Origin("name").Note != "as configured in "+c.dir {
			t.Errorf("%s: a computed target: line %d, %s", c.dir, k.Line, k.Origin("name"))
		}
		out := tool(t, s.Root, "ctest", "--test-dir", c.dir, "-N")
		for _, name := range listed(after, "cmake") {
			if test, ok := strings.CutPrefix(name, "test "); ok && !strings.Contains(out, ": "+test+"\n") {
				t.Errorf("ctest has no test %s:\n%s", test, out)
			}
		}
	}
	testtree.Fill(t, s.Root, map[string]string{"shelf/CMakeLists.txt": files["shelf/CMakeLists.txt"] + "add_custom_target(wipe)\n"})
	after, err := Of(s.Root)
	if err != nil {
		t.Fatal(err)
	}
	if named(t, after, "wipe").Hidden {
		t.Error("a target that was written after the configure run is hidden")
	}
}

func TestConfiguredMeson(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		".gitignore": "/out/\n", "main.c": "int main(void) { return 0; }\n",
		"meson.build": `project('kiln', 'c')
h = run_command('echo', 'ten', check: true).stdout().strip()
executable('fire', 'main.c', install: true)
executable('cone_' + h, 'main.c')
test('fires ' + h, find_program('true'))
run_target('tidy', command: ['true'])
if host_machine.system() == 'windows'
  executable('chimney', 'main.c')
endif
`,
	})
	if k := named(t, s, "fire"); k.Setup.Missing(s.Root) != "the build is not configured; run meson setup build first" {
		t.Errorf("before: first %q", k.Setup.Missing(s.Root))
	}
	tool(t, s.Root, "meson", "setup", "out/debug")
	after, err := Of(s.Root)
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(listed(after, "meson"), ", "); got != "compile, cone_ten, fire, install, setup, test, test fires ten, tidy" {
		t.Errorf("after: %s", got)
	}
	if k := named(t, after, "cone_ten"); k.Command.String() != "meson compile -C out/debug cone_ten" || k.Origin("name").Note != "as configured in out/debug" {
		t.Errorf("a computed target: %+v", k)
	}
	tool(t, s.Root, "meson", "compile", "-C", "out/debug", "cone_ten")
}

// A tree that is built with the autotools offers its targets before there is a Makefile, and
// each says what must be done first.
func TestAutotoolsBeforeAndAfterConfigure(t *testing.T) {
	t.Parallel()
	files := map[string]string{
		"configure.ac": "AC_INIT([kiln], [1])\nAM_INIT_AUTOMAKE([foreign])\nAC_PROG_CC\nAM_CONDITIONAL([DOCS], [test x = y])\nAC_CONFIG_FILES([Makefile shelf/Makefile])\nAC_OUTPUT\n",
		"Makefile.am":  "SUBDIRS = shelf\nbin_PROGRAMS = fire\nfire_SOURCES = main.c\nif DOCS\n# Write the manual\nmanual:\n\ttrue\nendif\n.PHONY: sweep\nsweep:\n\trm -f *.o\n",
		"main.c":       "int main(void) { return 0; }\n", "shelf/Makefile.am": "count:\n\ttrue\n",
		".gitignore": "/Makefile\n/Makefile.in\n/configure\n/shelf/Makefile*\n",
	}
	s := survey(t, files)
	before := "all check clean dist distcheck distclean fire install manual sweep uninstall"
	if got := strings.Join(listed(s, "make"), " "); got != before {
		t.Errorf("before autoreconf: %s", got)
	}
	sweep := named(t, s, "sweep")
	if first := sweep.Setup.Missing(s.Root); first != "the tree is not configured; run autoreconf -fi && ./configure first" {
		t.Errorf("before: first %q", first)
	}
	if note := named(t, s, "manual").Origin("name").Note; note != "depends on if DOCS; once configured" {
		t.Errorf("before: %q", note)
	}
	if k := named(t, s, "autoreconf"); k.Command.String() != "autoreconf -fi" {
		t.Errorf("making configure: %s", k.Command)
	}
	tool(t, s.Root, "autoreconf", "-fi")
	after, err := Of(s.Root)
	if err != nil {
		t.Fatal(err)
	}
	if got := lines(after, "script"); got != "configure#configure:1 ./configure (Guess values for system-dependent variables and create Makefiles.)\n" {
		t.Errorf("configure: %s", got)
	}
	if first := named(t, after, "sweep").Setup.Missing(s.Root); first != "the tree is not configured; run ./configure first" {
		t.Errorf("with configure: first %q", first)
	}
	tool(t, s.Root, "sh", "configure")
	if after, err = Of(s.Root); err != nil {
		t.Fatal(err)
	}
	if k := named(t, after, "sweep"); k.File != "Makefile" || k.Setup.Missing(s.Root) != "" {
		t.Errorf("once configured: %+v", k)
	}
	got := listed(after, "make")
	for _, name := range strings.Fields(before) {
		if name != "manual" && !slices.Contains(got, name) { // its condition does not hold
			t.Errorf("once configured there is no %s: %q", name, got)
		}
	}
	if len(got) > 20 {
		t.Errorf("the targets that automake makes for itself are listed: %q", got)
	}
}

// debian/rules is a makefile that runs in the folder above.
func TestDebianRules(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{"debian/rules": "#!/usr/bin/make -f\n%:\n\tdh $@\noverride_dh_auto_test:\n\ttrue\nrefresh: # Fetch anew\n\techo hello\n", "rules": "not: one\n"})
	if got := listed(s, "make"); len(s.Tasks) != 2 || !named(t, s, "override_dh_auto_test").Hidden || !slices.Equal(got, []string{"refresh"}) {
		t.Errorf("got %s", brief(s))
	}
	k := named(t, s, "refresh")
	if out := tool(t, filepath.Join(s.Root, k.Dir), k.Command.Argv...); !strings.Contains(out, "hello") {
		t.Errorf("%s in %s: %s", k.Command, k.Dir, out)
	}
}

// Gradle scripts that a build script applies, and build files of ant with names of their own.
func TestAppliedAndOtherBuildFiles(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"settings.gradle": "", "build.gradle": "apply from: 'gradle/glaze.gradle'\napply(from: \"$rootDir/gradle/kiln.gradle\")\ntask own {}\napply from: 'gone.gradle'\n",
		"gradle/glaze.gradle": "task mix {\n  description 'Mix it'\n}\napply from: 'gradle/inner.gradle'\n", "gradle/inner.gradle": "tasks.register('stir') {}\n", "gradle/kiln.gradle": "task fire\n",
		"shop/build.xml": "<project default='a'><import file='common.xml'/><target name='a'/></project>", "shop/common.xml": "<project><target name='b'/></project>",
		"shop/deploy.xml": "<?xml version='1.0'?>\n<!-- by hand -->\n<project name='deploy'>\n<target name='ship' description='Ship it'/></project>",
		"shop/data.xml":   "<glazes><project/><target name='no'/></glazes>",
	})
	if got := lines(s, "gradle"); got != "build.gradle#mix:1 gradle :mix (Mix it)\nbuild.gradle#stir:1 gradle :stir\nbuild.gradle#fire:2 gradle :fire\nbuild.gradle#own:3 gradle :own\n" {
		t.Errorf("gradle:\n%s", got)
	}
	if o := named(t, s, "stir").Origin("name"); o.String() != "gradle/inner.gradle:1, declared: applied by build.gradle" {
		t.Errorf("stir: %s", o)
	}
	if got := lines(s, "ant"); got != "shop/build.xml#a:1 ant a default\nshop/build.xml#b:1 ant b\nshop/deploy.xml#ship:4 ant -f deploy.xml ship (Ship it)\n" {
		t.Errorf("ant:\n%s", got)
	}
	if got := faults(s); got != "build.gradle:4: apply from gone.gradle: does not exist; the rest of the file was read\n" {
		t.Errorf("faults: %s", got)
	}
}

// The bound on targets holds for intermediate ones by themselves: those at the end of a
// large makefile are not lost.
func TestTargetsBehindManyIntermediateOnes(t *testing.T) {
	t.Parallel()
	var b strings.Builder
	for i := range 21_000 {
		fmt.Fprintf(&b, "obj/%d.o:\n\tcc\n", i)
	}
	b.WriteString("fire:\n\ttrue\n")
	s := survey(t, map[string]string{"Makefile": b.String()})
	if named(t, s, "fire").Hidden {
		t.Error("fire is hidden")
	}
	if got := faults(s); got != "Makefile:40001: more than 20000 intermediate targets; the others are not listed\n" {
		t.Errorf("faults %s", got)
	}
}
