package survey

import (
	"encoding/json"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"testing"

	"tidytally/internal/testtree"
)

// names returns the names of the tasks of a source, hidden ones with a star.
func names(s *Survey, source string) (out []string) {
	for _, k := range s.Tasks {
		if k.Source == source {
			n := k.Name
			if k.Hidden {
				n += "*"
			}
			out = append(out, n)
		}
	}
	sort.Strings(out)
	return out
}

// tool runs a real tool in a folder, or skips the test where it is not there.
func tool(t *testing.T, dir string, argv ...string) string {
	t.Helper()
	if _, err := exec.LookPath(argv[0]); err != nil {
		t.Skipf("%s is not installed", argv[0])
	}
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir = dir
	out, err := cmd.Output()
	if err != nil {
		t.Skipf("%v: %v", argv, err)
	}
	return string(out)
}

func TestGoAgainstGoList(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"m/go.mod":              "// firing\nmodule kiln.example/firing\n\ngo 1.24\n\ntool golang.org/x/tools/cmd/stringer\n",
		"m/cmd/fire/a.go":       "// Package main\n/* package no */\npackage main\n\nfunc main() {}\n",
		"m/cmd/warm/a.go":       "// Copyright Emberclay.\n\npackage main\n\nfunc main() {}\n",
		"m/cmd/warm/b/b.go":     "// Cools it.\npackage main\n\nfunc main() {}\n",
		"m/cmd/warm/c.go":       "// Warm heats the kiln\n// before the firing. Slowly.\npackage main\n",
		"m/cmd/skip/a.go":       "//go:build ignore\n\npackage main\n",
		"m/cmd/win/a.go":        "//go:build windows && !linux\n\npackage main\n\nfunc main() {}\n",
		"m/cmd/name/a_plan9.go": "package main\n\nfunc main() {}\n",
		"m/cmd/old/a.go":        "// +build solaris\n\npackage main\n\nfunc main() {}\n",
		"m/cmd/here/a.go":       "//go:build !js\n\npackage main\n\nfunc main() {}\n",
		"m/curve/c.go":          "package curve\n\n//go:generate echo x\n",
		"m/curve/c_test.go":     "package curve\n",
		"m/testdata/x.go":       "package main\n", "m/_old/x.go": "package main\n", "m/vendor/v/x.go": "package main\n",
		"m/inner/go.mod": "module inner\n", "m/inner/main.go": "package main\n",
	})
	dir := filepath.Join(s.Root, "m")
	var mains, tested []string
	about := map[string]string{}
	for _, l := range strings.Split(strings.TrimSpace(tool(t, dir, "go", "list", "-e", "-f", "{{.Name}} {{.Dir}} {{len .TestGoFiles}} {{.Doc}}", "./...")), "\n") {
		f := strings.SplitN(l, " ", 4)
		if f[0] == "main" {
			mains = append(mains, "run "+filepath.Base(f[1]))
			about["run "+filepath.Base(f[1])] = f[3]
		}
		if f[2] != "0" {
			tested = append(tested, "test ./"+strings.TrimPrefix(f[1], dir+"/")+"*")
		}
	}
	want := append([]string{"build", "generate", "test", "tool stringer", "vet"}, mains...)
	if len(tested) > 1 {
		want = append(want, tested...)
	}
	want = append(want, "test ./curve*")
	sort.Strings(want)
	var got []string
	for _, k := range s.Tasks {
		if k.File == "m/go.mod" {
			n := k.Name
			if k.Hidden {
				n += "*"
			}
			got = append(got, n)
		}
		if says, main := about[k.Name]; main && k.About != says {
			t.Errorf("%s: %q, go list says %q", k.Name, k.About, says)
		}
	}
	if len(about) < 4 || about["run warm"] != "Warm heats the kiln before the firing." {
		t.Errorf("%q", about)
	}
	sort.Strings(got)
	if !slices.Equal(got, want) {
		t.Errorf("got  %q\nwant %q", got, want)
	}
	for _, k := range s.Tasks {
		if k.Name == "generate" && k.Origin("name").String() != "m/curve/c.go:3, declared: //go:generate" {
			t.Errorf("generate comes from %s", k.Origin("name"))
		}
		if k.Name == "tool stringer" && k.Origin("name").Line != 6 {
			t.Errorf("the tool comes from %s", k.Origin("name"))
		}
	}
}

func TestNinjaAgainstNinja(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"build.ninja":   "root = out\nrule cc\n  command = cc $in\ninclude inc.ninja\nbuild $root/a.o: cc a.c\nbuild ${root}/prog: cc $root/a.o | dep.h || order\nbuild all: phony $root/prog\nbuild c$:x d$ e: cc $\n   a.c\ndefault all\n",
		"inc.ninja":     "# part\nbuild from-part: phony $root/prog\nsubninja sub.ninja\n",
		"sub.ninja":     "root = other\nbuild $root/s: cc s.c\n",
		"b/build.ninja": "build x: phony\nbuild nothing\nbuild y: phony\n",
	})
	dir := s.Root
	var want []string
	for _, l := range strings.Split(strings.TrimSpace(tool(t, dir, "ninja", "-t", "targets", "all")), "\n") {
		i := strings.LastIndex(l, ": ")
		want = append(want, l[:i])
	}
	sort.Strings(want)
	var got []string
	for _, k := range s.Tasks {
		if k.File == "build.ninja" {
			got = append(got, k.Name)
			if k.Hidden != (k.Name == "out/a.o") {
				t.Errorf("%s: hidden %v", k.Name, k.Hidden)
			}
			if k.Name == "other/s" && (k.Line != 4 || k.Origin("name").String() != "sub.ninja:2, declared: included by build.ninja") {
				t.Errorf("%s at %d, from %s", k.Name, k.Line, k.Origin("name"))
			}
		}
	}
	sort.Strings(got)
	if !slices.Equal(got, want) {
		t.Errorf("got  %q\nwant %q", got, want)
	}
	if len(s.Faults) != 1 || s.Faults[0].String() != "b/build.ninja:2: a colon should stand behind the outputs; the rest of the file was read" {
		t.Errorf("faults %v", s.Faults)
	}
}

const cmakeProject = `cmake_minimum_required(VERSION 3.16)
project(kiln C)
include(CTest)
set(NAME coil) # a comment with )
set(PARTS one two)
#[[ add_executable(no main.c) ]]
add_library(${NAME} STATIC main.c)
add_executable(prog main.c)
add_library(kiln::${NAME} ALIAS ${NAME})
add_library(headers INTERFACE)
foreach(p IN LISTS PARTS)
  add_executable(part-${p} main.c)
endforeach()
function(add_tool name)
  add_custom_target(${name}-tool COMMAND echo "(${name}" COMMENT "Runs ${name}")
endfunction()
add_tool(heat)
if(NOT DEFINED NOTHING AND NAME STREQUAL "coil")
  add_custom_target(taken COMMAND true)
elseif(1)
  add_custom_target(untaken COMMAND true)
else()
  add_custom_target(neither COMMAND true)
endif()
if(WIN32)
  add_custom_target(windows COMMAND true)
endif()
option(WITH_X "x" OFF)
if(WITH_X)
  add_custom_target(x COMMAND true)
endif()
add_test(NAME fires COMMAND prog)
add_subdirectory(sub)
`

func TestCMakeAgainstCMake(t *testing.T) {
	t.Parallel()
	files := map[string]string{
		"CMakeLists.txt": cmakeProject, "main.c": "int main(void) { return 0; }\n",
		"sub/CMakeLists.txt": "add_executable(sub-${PROJECT_NAME} ../main.c)\nmacro(mk)\n  add_custom_target(${ARGV0}-mk)\nendmacro()\nmk(m)\n",
	}
	s := survey(t, files)
	got := slices.DeleteFunc(names(s, "cmake"), func(n string) bool { return strings.HasPrefix(n, "run ") })
	for _, gone := range []string{"configure", "build", "test", "test fires"} {
		i := slices.Index(got, gone)
		if i < 0 {
			t.Fatalf("no %s in %q", gone, got)
		}
		got = slices.Delete(got, i, i+1)
	}
	fixed := []string{"coil", "heat-tool", "m-mk", "part-one", "part-two", "prog", "sub-kiln", "taken"}
	if !slices.Equal(got, fixed) {
		t.Errorf("got  %q\nwant %q", got, fixed)
	}
	dir := testtree.Lay(t, files)
	build := filepath.Join(t.TempDir(), "build")
	tool(t, dir, "cmake", "-S", ".", "-B", build, "-G", "Unix Makefiles")
	var want []string
	own := regexp.MustCompile(`^\.\.\. (\S+)`)
	for _, l := range strings.Split(tool(t, dir, "cmake", "--build", build, "--target", "help"), "\n") {
		m := own.FindStringSubmatch(l)
		if m == nil || strings.Contains(m[1], ".") || regexp.MustCompile(`^(all|clean|depend|edit_cache|rebuild_cache|test|Nightly|Experimental|Continuous|main)`).MatchString(m[1]) {
			continue
		}
		want = append(want, m[1])
	}
	sort.Strings(want)
	if !slices.Equal(got, want) {
		t.Errorf("got          %q\ncmake itself %q", got, want)
	}
}

func TestRakeAgainstRake(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{"Rakefile": `# encoding: utf-8
require "rake/clean"
=begin
task :no
=end
task default: %w[build]
desc "Build it"
task :build => [:prepare, "test:unit"] do
  puts <<~END
    task :neither
  END
end
task :prepare
namespace :test do
  desc 'Unit tests'
  task(:unit, [:name]) { |t| if t then puts "x" end }
  namespace "slow" do
    multitask :all do |t|
      if t
        puts 1
      end
    end
  end
end
file "out.txt" => "in.txt" do
end
`, "rakelib/more.rake": "task :extra\n"})
	got := names(s, "rake")
	if want := []string{"build", "default", "extra", "out.txt*", "prepare", "test:slow:all", "test:unit"}; !slices.Equal(got, want) {
		t.Errorf("got  %q\nwant %q", got, want)
	}
	out := tool(t, s.Root, "rake", "-AW")
	for _, k := range s.Tasks {
		at := regexp.MustCompile(`(?m)^rake ` + regexp.QuoteMeta(k.Name) + `(?:\[[^]]*\])?\s+(\S+):(\d+):`).FindStringSubmatch(out)
		if at == nil {
			t.Errorf("rake knows no %s:\n%s", k.Name, out)
			continue
		}
		if at[2] != strconv.Itoa(k.Line) || filepath.Base(at[1]) != filepath.Base(k.File) {
			t.Errorf("%s: line %d of %s, rake says %s:%s", k.Name, k.Line, k.File, at[1], at[2])
		}
	}
}

func TestMesonAgainstMeson(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"meson.build": "project('kiln', 'c') # executable('no')\nexecutable('prog',\n  'main.c')\nt = '''\nexecutable('neither')\n'''\nsubdir('sub')\ncustom_target('gen', output: 'g.h', command: ['touch', '@OUTPUT@'])\nlibrary('twin', 'main.c')\nexecutable('twin', 'main.c')\nrun_target('lint', command: ['true'])\n",
		"main.c":      "int main(void) { return 0; }\n", "sub/meson.build": "e = executable( 'inner' , '../main.c')\ntest('inner works', e)\n",
	})
	var got []string
	for _, k := range s.Tasks {
		if k.Source == "meson" && k.Manner != "inferred" && !strings.HasPrefix(k.Name, "test ") && k.Name != "gen" && k.Name != "lint" { // meson lists no such targets before it is set up
			// Where two have a name, meson compile takes it with the type.
			name, kind, typed := strings.Cut(k.Name, ":")
			if typed != (name == "twin") || typed && kind != "shared_library" && kind != "executable" {
				t.Errorf("%s is called %s", name, k.Name)
			}
			got = append(got, name)
		}
	}
	sort.Strings(got)
	var list []struct{ Name string }
	if err := json.Unmarshal([]byte(tool(t, s.Root, "meson", "introspect", "--targets", "meson.build")), &list); err != nil {
		t.Skip(err)
	}
	var want []string
	for _, x := range list {
		want = append(want, x.Name)
	}
	sort.Strings(want)
	if !slices.Equal(got, want) || !slices.Contains(names(s, "meson"), "test inner works") {
		t.Errorf("got %q, want %q", got, want)
	}
}

// Names that loops, dictionaries and formats make are those that meson has when it is
// set up.
func TestMesonNamesAgainstMeson(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"meson.build": `project('kiln', 'c')
base = 'coil'
parts = ['one', 'two',
  'three']
parts += ['four']
foreach p : parts
  executable('@0@_@1@'.format(base, p), 'main.c')
  foreach q : ['x', 'y']
    custom_target(p + '-' + q, output: p + q, command: ['touch', '@OUTPUT@'])
  endforeach
endforeach
table = {'heat': {'file': 'main.c'}, 'glaze': {'file': 'main.c'}}
foreach name, how : table
  executable('run_' + name, how['file']) # with a comment )
endforeach
suffix = base.to_upper().underscorify()
exe = executable(f'last_@suffix@', files('main.c'))
if get_option('buildtype') == 'debug'
  test('checks ' + parts[1], exe)
endif
`,
		"main.c": "int main(void) { return 0; }\n",
	})
	var got []string
	for _, k := range s.Tasks {
		if k.Source == "meson" && k.Manner != "inferred" && !strings.HasPrefix(k.Name, "test ") {
			got = append(got, k.Name)
		}
	}
	tool(t, s.Root, "meson", "setup", "build")
	var list []struct{ Name string }
	if err := json.Unmarshal([]byte(tool(t, s.Root, "meson", "introspect", "--targets", "build")), &list); err != nil {
		t.Skip(err)
	}
	var want []string
	for _, x := range list {
		want = append(want, x.Name)
	}
	sort.Strings(got)
	sort.Strings(want)
	if !slices.Equal(got, want) || !slices.Contains(names(s, "meson"), "test checks two") {
		t.Errorf("got %q, want %q; %q", got, want, names(s, "meson"))
	}
}

func TestCargoAgainstCargo(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"Cargo.toml":           "[workspace]\nmembers = [\"crates/*\"]\nexclude = [\"crates/old\"]\nresolver = \"2\"\n",
		"crates/a/Cargo.toml":  "[package]\nname = \"a\"\nversion = \"0.1.0\"\nedition = \"2021\"\n[[bin]]\nname = \"named\"\npath = \"src/other.rs\"\n",
		"crates/a/src/main.rs": "fn main() {}\n", "crates/a/src/other.rs": "fn main() {}\n", "crates/a/src/bin/extra.rs": "fn main() {}\n", "crates/a/src/bin/multi/main.rs": "fn main() {}\n",
		"crates/a/examples/demo.rs": "fn main() {}\n", "crates/a/tests/it.rs": "", "crates/a/benches/speed.rs": "fn main() {}\n",
		"crates/b/Cargo.toml": "[package]\nname = \"b\"\nversion = \"0.1.0\"\nedition = \"2021\"\nautotests = false\n", "crates/b/src/lib.rs": "", "crates/b/tests/off.rs": "",
		".cargo/config.toml": "[alias]\nci = \"test --all\"\n",
	})
	var meta struct {
		Packages []struct {
			Targets []struct {
				Kind []string
				Name string
			}
		}
	}
	if err := json.Unmarshal([]byte(tool(t, s.Root, "cargo", "metadata", "--no-deps", "--offline", "--format-version", "1")), &meta); err != nil {
		t.Fatal(err)
	}
	want := []string{"alias ci"}
	for _, p := range meta.Packages {
		for _, x := range p.Targets {
			if word := map[string]string{"bin": "run ", "example": "example ", "test": "test ", "bench": "bench "}[x.Kind[0]]; word != "" {
				want = append(want, word+x.Name)
			}
		}
	}
	sort.Strings(want)
	var got []string
	for _, n := range names(s, "cargo") {
		if strings.Contains(n, " ") {
			got = append(got, n)
		}
	}
	if !slices.Equal(got, want) || len(got) < 8 {
		t.Errorf("got  %q\nwant %q", got, want)
	}
}

func TestOtherKinds(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"ant/build.xml": "<?xml version=\"1.0\"?>\n<!-- <target name=\"no\"/> -->\n<project name=\"p\" default=\"dist\">\n  <import file=\"more.xml\"/>\n  <target name=\"dist\" depends=\"init, compile\"\n     description=\"Make it\"/>\n  <target name=\"-init\"/>\n</project>\n",
		"ant/more.xml":  "<project><target name=\"compile\"/></project>",
		"mvn/pom.xml":   "<project>\n<profiles>\n<profile>\n<id>fast</id>\n</profile></profiles></project>", "mvn/mvnw": "",
		"php/composer.json": "{\n\"scripts\": {\n\"check\": [\"@lint\", \"phpunit\"],\n\"lint\": \"php -l x\"\n}}",
		"py/pyproject.toml": "[project.scripts]\nglaze = \"glaze:main\"\n[tool.pytest.ini_options]\n", "py/tox.ini": "[tox]\nenvlist = py311, lint\n[testenv:lint]\n",
		".devcontainer/devcontainer.json": "{ // c\n\"postCreateCommand\": \"make\",\n\"postStartCommand\": {\"a\": [\"b\", \"c\"]}, }",
		"g/settings.gradle":               "include 'app'\n", "g/app/build.gradle": "plugins { id 'java' }\n// task no\ntask hello {\n  description = 'Says hello'\n}\ntasks.register('copyDocs', Copy) { }\n",
		"bin/go": "#!/usr/bin/env -S python3 -u\n\"\"\"Goes.\"\"\"\n", "bin/data": "no script\n",
		"CMakePresets.json": "{\"version\":3,\"include\":[\"p.json\"],\n\"configurePresets\":[\n{\"hidden\":true,\"name\":\"base\"},\n{\n\"name\":\"release\",\"description\":\"Fast\"}]}", "p.json": "{\"testPresets\":[{\"name\":\"all\"}]}",
	})
	got := map[string]string{}
	for _, k := range s.Tasks {
		hidden := ""
		if k.Hidden {
			hidden = " hidden"
		}
		got[k.ID()] = strings.Join(strings.Fields(strconv.Itoa(k.Line)+" "+k.Command.String()+" "+k.About+hidden), " ")
	}
	for id, want := range map[string]string{
		"ant/build.xml#dist": "5 ant dist Make it", "ant/build.xml#-init": "7 ant -init hidden", "ant/build.xml#compile": "4 ant compile",
		"mvn/pom.xml#profile%20fast": "3 ./mvnw -P fast verify Verify with the profile fast", "php/composer.json#check": "3 composer run check",
		"py/pyproject.toml#run%20glaze": "2 glaze glaze:main", "py/pyproject.toml#test": "3 python3 -m pytest Run the tests with pytest", "py/tox.ini#env%20lint": "2 tox -e lint Run tox in this environment",
		".devcontainer/devcontainer.json#postCreateCommand": "2 make", ".devcontainer/devcontainer.json#postStartCommand%20a": "3 b c",
		"g/app/build.gradle#hello": "3 gradle :app:hello Says hello", "g/app/build.gradle#copyDocs": "6 gradle :app:copyDocs", "g/app/build.gradle#test": "1 gradle :app:test",
		"bin/go#go": "1 python3 bin/go Goes.", "CMakePresets.json#preset%20release": "5 cmake --preset release Fast", "CMakePresets.json#preset%20base": "3 cmake --preset base hidden",
		"p.json#test%20preset%20all": "1 ctest --preset all",
	} {
		if got[id] != want {
			t.Errorf("%s: got %q, want %q", id, got[id], want)
		}
	}
	for id := range got {
		if strings.Contains(id, "#no") || strings.Contains(id, "data") {
			t.Errorf("%s is no task", id)
		}
	}
}

func TestAntAgainstAnt(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"build.xml":  "<?xml version=\"1.0\"?>\n<project name=\"kiln\" default=\"all\">\n<import file=\"common.xml\"/>\n<include file=\"glaze.xml\" as=\"glaze\"/>\n<!-- <target name=\"no\" description=\"No\"/> -->\n<target name=\"all\" depends=\"compile, common.dist\" description=\"Build &amp;  pack\"/>\n<target name=\"compile\" depends=\"-init\"/><target name=\"-init\"/>\n<target name=\"dist\" description=\"Ours\"/>\n<extension-point name=\"ready\" description=\"Where others hook in\"/>\n</project>\n",
		"common.xml": "<project name=\"common\"><target name=\"dist\" description=\"Theirs\"/><target\n name=\"clean\" description='Sweep'/></project>",
		"glaze.xml":  "<project name=\"other\"><target name=\"mix\" description=\"Mix\"/></project>",
	})
	out := tool(t, s.Root, "ant", "-p")
	var want []string
	for _, l := range strings.Split(out[strings.Index(out, "Main targets:"):], "\n") {
		if name, about, _ := strings.Cut(strings.TrimSpace(l), " "); strings.HasPrefix(l, " ") {
			want = append(want, strings.TrimSpace(name+" "+strings.Join(strings.Fields(about), " ")))
		}
	}
	var got []string
	for _, k := range s.Tasks {
		if k.About == "" {
			continue // ant 1.10 lists only some of those
		}
		got = append(got, strings.TrimSpace(k.Name+" "+strings.Join(strings.Fields(k.About), " ")))
		if k.Default != strings.HasSuffix(strings.TrimSpace(out), "Default target: "+k.Name) {
			t.Errorf("%s is the default: %v", k.Name, k.Default)
		}
	}
	sort.Strings(want)
	sort.Strings(got)
	if !slices.Equal(got, want) {
		t.Errorf("got %q\nant says %q", got, want)
	}
}

// Computed names of targets and tests are those that cmake and ctest have; and where a
// condition hangs on what only a configure run finds out, those that are there in any case: the others are hidden, or not known.
func TestCMakeNamesAgainstCMake(t *testing.T) {
	t.Parallel()
	files := map[string]string{
		"CMakeLists.txt": `cmake_minimum_required(VERSION 3.10)
project(kiln C)
enable_testing()
if(${CMAKE_VERSION} VERSION_GREATER 3.13)
  set(A ON)
else()
  set(A OFF)
endif()
if(A)
  add_custom_target(inner)
endif()
file(GLOB srcs RELATIVE ${CMAKE_CURRENT_SOURCE_DIR}/tests LIST_DIRECTORIES false tests/*.c)
foreach(s ${srcs})
  string(REGEX REPLACE "^t_(.*)\\.c$" "\\1_\\1" name ${s})
  add_executable(${name} tests/${s})
  add_test(NAME run_${name} COMMAND ${name})
endforeach()
string(REGEX MATCH "([a-z]+)" first "abc123")
add_custom_target(m_${first}_${CMAKE_MATCH_1})
function(mk n)
  add_custom_target(f_${n})
  add_test(${n}_test true)
endfunction()
set(L a b c a)
list(REMOVE_ITEM L b)
list(REMOVE_DUPLICATES L)
list(APPEND L d)
list(LENGTH L n)
list(GET L 0 -1 ends)
list(JOIN ends - joined)
add_custom_target(n_${n}_${joined})
foreach(i IN LISTS L)
  mk(${i})
endforeach()
foreach(i RANGE 1 3)
  add_test(NAME r${i} COMMAND true)
endforeach()
execute_process(COMMAND cat ${CMAKE_CURRENT_SOURCE_DIR}/side OUTPUT_VARIABLE SIDE_FOUND)
set(suffix plain)
if(SIDE_FOUND MATCHES left)
  set(suffix left)
  set(EXTRA 1)
elseif(SIDE_FOUND MATCHES middle)
  set(suffix middle)
endif()
add_custom_target(made_${suffix})
if(EXTRA)
  add_custom_target(extra)
endif()
if(suffix STREQUAL "left")
  set(kind one)
else()
  set(kind two)
endif()
add_test(NAME kind_${kind} COMMAND true)
`,
		"tests/t_one.c": "int main(void) { return 0; }\n", "tests/t_two.c": "int main(void) { return 0; }\n", "side": "",
	}
	s := survey(t, files)
	got := slices.DeleteFunc(names(s, "cmake"), func(n string) bool { return n == "configure" || n == "build" || n == "test" })
	want := map[string]int{}
	own := regexp.MustCompile(`(?m)^\.\.\. ([\w-]+)$|^ +Test +#\d+: ([\w-]+)`)
	for _, side := range []string{"left", "middle", "right"} {
		testtree.Fill(t, s.Root, map[string]string{"side": side})
		build := filepath.Join(t.TempDir(), "build")
		tool(t, s.Root, "cmake", "-S", ".", "-B", build, "-G", "Unix Makefiles")
		out := tool(t, build, "cmake", "--build", build, "--target", "help") + tool(t, build, "ctest", "-N")
		for _, m := range own.FindAllStringSubmatch(out, -1) {
			switch name := m[1] + m[2]; {
			case slices.Contains([]string{"all", "clean", "depend", "edit_cache", "rebuild_cache", "test"}, name):
			case m[2] != "":
				want["test "+name]++
			default:
				want[name]++
			}
		}
	}
	var always []string
	for name, n := range want {
		if n == 3 {
			always = append(always, name)
		}
	}
	slices.Sort(always)
	listed := slices.DeleteFunc(slices.Clone(got), func(n string) bool { return strings.HasSuffix(n, "*") })
	if !slices.Equal(listed, always) {
		t.Errorf("listed       %q\ncmake itself %q", listed, always)
	}
	for _, name := range got {
		if name, hidden := strings.CutSuffix(name, "*"); hidden && want[name] == 0 {
			t.Errorf("%s is hidden, and never there", name)
		}
	}
	if about := named(t, s, "configure").About; !strings.Contains(about, "it names more targets or tests (CMakeLists.txt:4") {
		t.Errorf("configure: %s", about)
	}
}
