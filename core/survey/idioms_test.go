package survey

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// idioms are ways in which projects compute the names of targets and tests, each in a folder of its own.
var idioms = []string{
	"function(mk)\n  foreach(n ${ARGN})\n    add_custom_target(${ARGV0}_${n})\n  endforeach()\nendfunction()\nmk(argn one two)",
	"macro(mk name)\n  if(${ARGC} GREATER 1)\n    add_custom_target(mac_${name}_${ARGV1}_${ARGN})\n  endif()\nendmacro()\nmk(a b)",
	"function(mk)\n  cmake_parse_arguments(P \"FAST;SLOW\" \"NAME\" \"PARTS;MORE\" ${ARGN})\n  foreach(p ${P_PARTS})\n    add_custom_target(parsed_${P_NAME}_${p}_${P_FAST}_${P_SLOW})\n  endforeach()\n  add_custom_target(rest_${P_UNPARSED_ARGUMENTS})\nendfunction()\nmk(x NAME kiln FAST PARTS a b)",
	"function(mk)\n  cmake_parse_arguments(PARSE_ARGV 1 P \"\" \"NAME\" \"L\")\n  list(LENGTH P_L n)\n  add_custom_target(argv_${ARGV0}_${P_NAME}_${n})\nendfunction()\nmk(z NAME q L 1 2 3)",
	"foreach(i RANGE 3)\n  add_custom_target(to${i})\nendforeach()\nforeach(i RANGE 2 10 4)\n  add_custom_target(step${i})\nendforeach()",
	"set(A x y)\nset(B p q r)\nforeach(a b IN ZIP_LISTS A B)\n  add_custom_target(zip_${a}_${b})\nendforeach()\nforeach(i IN ZIP_LISTS A B)\n  add_custom_target(zipped_${i_0}_${i_1})\nendforeach()",
	"set(A x \"y;z\")\nforeach(a IN LISTS A ITEMS last)\n  add_custom_target(lists_${a})\nendforeach()",
	"foreach(i a b c d)\n  if(i STREQUAL b)\n    continue()\n  elseif(i STREQUAL d)\n    break()\n  endif()\n  add_custom_target(only_${i})\nendforeach()",
	"set(i 0)\nwhile(i LESS 3)\n  math(EXPR i \"${i} + 1\")\n  math(EXPR sq \"(${i} * ${i}) % 7 << 1\")\n  add_custom_target(round${i}_${sq})\nendwhile()",
	"set(L c a b a)\nlist(SORT L)\nlist(REMOVE_DUPLICATES L)\nlist(REVERSE L)\nlist(GET L 0 -1 ends)\nlist(JOIN ends _ j)\nlist(FIND L b at)\nlist(SUBLIST L 1 2 part)\nlist(JOIN part - p)\nadd_custom_target(list_${j}_${at}_${p})",
	"set(L a.c b.c skip.h)\nlist(FILTER L INCLUDE REGEX \"\\\\.c$\")\nlist(TRANSFORM L REPLACE \"(.*)\\\\.c\" \"t_\\\\1\")\nlist(TRANSFORM L TOUPPER OUTPUT_VARIABLE U)\nforeach(l ${L} ${U})\n  add_custom_target(${l})\nendforeach()",
	"set(L a b c d)\nlist(POP_FRONT L f)\nlist(POP_BACK L g)\nlist(INSERT L 1 new)\nlist(REMOVE_AT L 0)\nlist(PREPEND L pre)\nlist(TRANSFORM L APPEND _x AT 0)\nlist(JOIN L . j)\nadd_custom_target(pop_${f}${g}_${j})",
	"string(TOUPPER kiln U)\nstring(SUBSTRING ${U} 1 2 S)\nstring(LENGTH ${U} N)\nstring(FIND ${U} L F)\nstring(REPEAT ab 2 R)\nstring(JOIN + J a b)\nstring(MAKE_C_IDENTIFIER \"a-b c\" C)\nstring(STRIP \"  s \" T)\nadd_custom_target(str_${S}_${N}_${F}_${R}_${J}_${C}_${T})",
	"string(REGEX MATCHALL \"[a-z]+\" M \"ab12cd\")\nstring(REGEX REPLACE \"^([a-z]+)([0-9]+)\" \"\\\\2\\\\1\" R \"ab12cd\")\nstring(REGEX MATCH \"([0-9])(.)\" X \"ab12cd\")\nadd_custom_target(rx_${R}_${CMAKE_MATCH_2})\nforeach(m ${M})\n  add_custom_target(rx_${m})\nendforeach()",
	"string(CONCAT C a b)\nstring(APPEND C c)\nstring(PREPEND C z)\nstring(MD5 H \"${C}\")\nstring(SUBSTRING ${H} 0 6 H)\nset(V 7)\nstring(CONFIGURE \"@V@_${V}\" G @ONLY)\nadd_custom_target(hash_${C}_${H}_${G})",
	"get_filename_component(D ${CMAKE_CURRENT_SOURCE_DIR} NAME)\nget_filename_component(W a/b.tar.gz NAME_WE)\nget_filename_component(L a/b.tar.gz NAME_WLE)\nget_filename_component(E a/b.tar.gz EXT)\nget_filename_component(P a/b/c DIRECTORY)\nget_filename_component(Q ${P} NAME)\nadd_custom_target(file_${D}_${W}_${L}${E}_${Q})",
	"cmake_path(SET P /x/y.t.cc)\ncmake_path(GET P STEM S)\ncmake_path(GET P EXTENSION LAST_ONLY E)\ncmake_path(APPEND Q a b)\ncmake_path(GET Q FILENAME F)\nadd_custom_target(path_${S}${E}_${F})",
	"file(GLOB F RELATIVE ${CMAKE_CURRENT_SOURCE_DIR} parts/*.txt)\nfile(GLOB_RECURSE R parts/*.md)\nforeach(f ${F})\n  get_filename_component(n ${f} NAME_WE)\n  add_custom_target(glob_${n})\nendforeach()\nforeach(f ${R})\n  file(RELATIVE_PATH n ${CMAKE_CURRENT_SOURCE_DIR}/parts ${f})\n  string(REPLACE / . n ${n})\n  add_custom_target(deep_${n})\nendforeach()",
	"file(STRINGS parts/names N REGEX \"^[a-z]\")\nforeach(n ${N})\n  add_test(NAME strings.${n} COMMAND true)\nendforeach()\nfile(READ parts/names ALL)\nstring(REGEX MATCH \"version ([0-9.]+)\" v \"${ALL}\")\nadd_custom_target(read_${CMAKE_MATCH_1})",
	"set_property(GLOBAL APPEND PROPERTY KILNS a)\nset_property(GLOBAL APPEND PROPERTY KILNS b)\nget_property(K GLOBAL PROPERTY KILNS)\nforeach(k ${K})\n  add_custom_target(prop_${k})\nendforeach()\nset_directory_properties(PROPERTIES GLAZE ash)\nget_directory_property(G GLAZE)\nadd_custom_target(dir_${G})",
	"add_custom_target(base)\nset_target_properties(base PROPERTIES LABEL seven)\nget_target_property(L base LABEL)\nget_target_property(N base NOTHING)\nget_property(T TARGET base PROPERTY TYPE)\nadd_custom_target(of_${L}_${N}_${T})\nget_property(ALL DIRECTORY PROPERTY BUILDSYSTEM_TARGETS)\nforeach(t ${ALL})\n  add_test(NAME has.${t} COMMAND true)\nendforeach()",
	"list(APPEND CMAKE_MODULE_PATH ${CMAKE_CURRENT_SOURCE_DIR}/modules)\ninclude(Helper)\nhelp(me)\ninclude(${CMAKE_CURRENT_LIST_DIR}/modules/Once.cmake)\ninclude(modules/Once.cmake)\ninclude(None OPTIONAL RESULT_VARIABLE R)\nif(NOT R)\n  add_custom_target(optional)\nendif()",
	"option(WITH_A \"\" ON)\nset(WITH_B yes CACHE STRING \"\")\nset(WITH_B no CACHE STRING \"\")\ninclude(CMakeDependentOption)\ncmake_dependent_option(WITH_C \"\" ON \"WITH_A;NOT WITH_D\" OFF)\ncmake_dependent_option(WITH_E \"\" ON \"WITH_D\" OFF)\nadd_custom_target(opt_${WITH_A}_${WITH_B}_${WITH_C}_${WITH_E}_$CACHE{WITH_A})",
	"function(outer)\n  set(X in)\n  set(Y up PARENT_SCOPE)\n  set(X up PARENT_SCOPE)\n  add_custom_target(scope_${X}_${Y})\nendfunction()\nset(Y before)\nouter()\nunset(Z)\nadd_custom_target(after_${X}_${Y}${Z})",
	"block(SCOPE_FOR VARIABLES PROPAGATE P)\n  set(P out)\n  set(Q lost)\nendblock()\nadd_custom_target(block_${P}_${Q})",
	"cmake_language(CALL add_custom_target called)\ncmake_language(EVAL CODE \"add_custom_target(evaluated)\")\nset(n a)\nset(name_a nested)\nadd_custom_target(${name_${n}}_deref)",
	"if(\"${CMAKE_SOURCE_DIR}\" STREQUAL \"${CMAKE_CURRENT_SOURCE_DIR}\")\n  add_custom_target(top)\nelseif(EXISTS ${CMAKE_CURRENT_SOURCE_DIR}/parts/names AND NOT EXISTS ${CMAKE_CURRENT_SOURCE_DIR}/gone AND IS_DIRECTORY ${CMAKE_CURRENT_SOURCE_DIR}/parts)\n  add_custom_target(below)\nendif()\nif(NOT TARGET below_not AND TARGET below AND COMMAND add_test)\n  add_custom_target(asked)\nendif()",
	"function(early n)\n  if(n EQUAL 2)\n    return()\n  endif()\n  add_custom_target(early${n})\nendfunction()\nforeach(n 1 2 3)\n  early(${n})\nendforeach()\nif(FALSE)\n  message(FATAL_ERROR \"never\")\nendif()",
	"add_library(lib_obj OBJECT ${CMAKE_SOURCE_DIR}/main.c)\nadd_library(lib_if INTERFACE)\nadd_library(al::ias ALIAS lib_obj)\nadd_library(imp SHARED IMPORTED)\nadd_executable(exe ${CMAKE_SOURCE_DIR}/main.c)\nadd_executable(ex::e ALIAS exe)\nif(TARGET al::ias AND TARGET lib_if)\n  add_custom_target(aliases)\nendif()",
	"set(tests [[raw]] [=[two words]=] \"semi\\;colon\")\nforeach(t IN LISTS tests)\n  add_test(NAME \"t ${t}\" COMMAND true)\nendforeach()\nadd_test(old-style true)",
	"macro(wrap name)\n  add_test(NAME ${name} COMMAND ${ARGN})\n  set(last_${name} ${ARGC})\nendmacro()\nwrap(wrapped true a b)\nadd_custom_target(last_${last_wrapped})\nfunction(add_test_twice n)\n  add_test(NAME ${n}.1 COMMAND true)\n  add_test(NAME ${n}.2 COMMAND true)\nendfunction()\nadd_test_twice(double)",
	"set(VERSIONS 11 14 17)\nforeach(v IN LISTS VERSIONS)\n  if(v VERSION_GREATER_EQUAL 14 AND NOT v IN_LIST SKIP)\n    add_executable(cpp${v} ${CMAKE_SOURCE_DIR}/main.c)\n    add_test(NAME cpp${v}.run COMMAND cpp${v})\n  endif()\nendforeach()",
	"set(a b)\nset(b c)\nif(a STREQUAL b)\n  add_custom_target(cond_wrong)\nelse()\n  add_custom_target(cond_right)\nendif()\nif(\"kiln-7\" MATCHES \"^kiln-([0-9]+)$\")\n  add_custom_target(cond_${CMAKE_MATCH_1}_${CMAKE_MATCH_COUNT})\nendif()",
	"separate_arguments(W UNIX_COMMAND \"p q\")\nforeach(w ${W})\n  add_custom_target(sep_${w})\nendforeach()\nset(S \"x y\")\nseparate_arguments(S)\nforeach(w ${S})\n  add_custom_target(sepd_${w})\nendforeach()",
}

// byCMake runs cmake or ctest, which must be there in a version that knows all that is tried here. That it fails is a mistake of the test.
func byCMake(t *testing.T, dir string, argv ...string) string {
	t.Helper()
	var major, minor int
	if _, err := fmt.Sscanf(tool(t, dir, "cmake", "--version"), "cmake version %d.%d", &major, &minor); err != nil || major < 3 || major == 3 && minor < 25 {
		t.Skipf("cmake %d.%d is too old: %v", major, minor, err)
	}
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %v\n%s", argv, err, out)
	}
	return string(out)
}

// What CMake's own idioms compute is exactly what cmake and ctest have.
func TestIdiomsOfCMake(t *testing.T) {
	t.Parallel()
	files := map[string]string{"main.c": "int main(void) { return 0; }\n"}
	top := "cmake_minimum_required(VERSION 3.19)\nproject(idioms VERSION 2.4 LANGUAGES C)\nenable_testing()\nadd_custom_target(v_${PROJECT_VERSION_MAJOR}_${idioms_VERSION}_${CMAKE_PROJECT_NAME})\n"
	for i, text := range idioms {
		dir := fmt.Sprintf("i%02d", i)
		top += "add_subdirectory(" + dir + ")\n"
		files[dir+"/CMakeLists.txt"] = text + "\n"
		files[dir+"/parts/one.txt"], files[dir+"/parts/two.txt"], files[dir+"/parts/x/deep.md"], files[dir+"/parts/names"] = "", "", "", "alpha\nBeta\nversion 3.1\n"
		files[dir+"/modules/Helper.cmake"] = "function(help n)\n  get_filename_component(d ${CMAKE_CURRENT_FUNCTION_LIST_DIR} NAME)\n  add_custom_target(help_${n}_${d})\nendfunction()\n"
		files[dir+"/modules/Once.cmake"] = "include_guard()\nget_property(n GLOBAL PROPERTY ONCE)\nset_property(GLOBAL PROPERTY ONCE \"${n}x\")\nadd_custom_target(once_${n})\n"
	}
	files["CMakeLists.txt"] = top
	s := survey(t, files)
	build := filepath.Join(t.TempDir(), "build")
	byCMake(t, s.Root, "cmake", "-S", ".", "-B", build, "-G", "Unix Makefiles")
	out := byCMake(t, build, "cmake", "--build", build, "--target", "help")
	out += byCMake(t, build, "ctest", "-N")
	var want []string
	for _, m := range regexp.MustCompile(`(?m)^\.\.\. (\S+)$|^ +Test +#\d+: (.+?)$`).FindAllStringSubmatch(out, -1) {
		switch {
		case slices.Contains([]string{"all", "clean", "depend", "edit_cache", "rebuild_cache", "test"}, m[1]):
		case m[2] != "":
			want = append(want, "test "+m[2])
		case !strings.HasSuffix(m[1], ".o") && !strings.HasSuffix(m[1], ".i") && !strings.HasSuffix(m[1], ".s"):
			want = append(want, m[1])
		}
	}
	got := slices.DeleteFunc(names(s, "cmake"), func(n string) bool {
		return n == "configure" || n == "build" || n == "test" || strings.HasPrefix(n, "run ")
	})
	slices.Sort(want)
	for _, name := range want {
		if !slices.Contains(got, name) {
			t.Errorf("missing: %s", name)
		}
	}
	for _, name := range got {
		if !slices.Contains(want, name) {
			t.Errorf("cmake has no %s", name)
		}
	}
	if len(want) < 80 {
		t.Errorf("only %d names", len(want))
	}
	if len(s.Faults) > 0 {
		t.Errorf("faults: %v", s.Faults)
	}
}

// Of an executable it is known where its program comes to be, of a test which target makes its program, and the programs
// that no test calls can be run.
func TestProgramsOfCMake(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"main.c": "int main(void) { return 0; }\n",
		"CMakeLists.txt": "cmake_minimum_required(VERSION 3.19)\nproject(p C)\nenable_testing()\nadd_executable(plain main.c)\nadd_executable(named main.c)\nset_target_properties(named PROPERTIES OUTPUT_NAME other)\n" +
			"add_subdirectory(sub)\nset(CMAKE_RUNTIME_OUTPUT_DIRECTORY ${CMAKE_BINARY_DIR}/bin)\nadd_executable(placed main.c)\nadd_test(NAME here COMMAND plain --fast \"a b\")\nadd_test(NAME there COMMAND $<TARGET_FILE:inner>)\nadd_test(NAME path COMMAND ${CMAKE_BINARY_DIR}/bin/placed)\nadd_test(NAME shell COMMAND true)\n",
		"sub/CMakeLists.txt": "add_executable(inner ../main.c)\nadd_executable(far ../main.c)\nset_target_properties(far PROPERTIES RUNTIME_OUTPUT_DIRECTORY ${PROJECT_BINARY_DIR}/out)\nadd_executable(guess ../main.c)\nset_target_properties(guess PROPERTIES RUNTIME_OUTPUT_DIRECTORY $<IF:1,x,y>)\n",
	})
	byCMake(t, s.Root, "cmake", "-S", ".", "-B", "build")
	byCMake(t, s.Root, "cmake", "--build", "build")
	for name, makes := range map[string]string{"plain": "build/plain", "named": "build/other", "placed": "build/bin/placed", "inner": "build/sub/inner", "far": "build/out/far", "guess": ""} {
		if got := strings.Join(named(t, s, name).Makes, " "); got != makes {
			t.Errorf("%s makes %q, want %q", name, got, makes)
		}
		if _, err := os.Stat(filepath.Join(s.Root, makes)); err != nil {
			t.Error(err)
		}
	}
	for name, want := range map[string]string{
		"here": "CMakeLists.txt#plain; build/plain --fast 'a b'", "there": "sub/CMakeLists.txt#inner; build/sub/inner", "path": "CMakeLists.txt#placed; build/bin/placed", "shell": "; ",
	} {
		k := named(t, s, "test "+name)
		if got := strings.Join(k.Before, " ") + "; " + k.Debug.String(); got != want || !k.IsPartOf(named(t, s, "test")) {
			t.Errorf("test %s: %q, want %q; part of %s", name, got, want, k.PartOf)
		}
	}
	if k := named(t, s, "run far"); k.Command.String() != "build/out/far" || strings.Join(k.Before, " ") != "sub/CMakeLists.txt#far" {
		t.Errorf("run far: %s, before it %q", k.Command, k.Before)
	}
	for _, k := range s.Tasks {
		if k.Name == "run plain" || k.Name == "run guess" {
			t.Errorf("%s: a test's program, or one that is not known", k.Name)
		}
	}
	if suite := named(t, s, "test"); suite.Parts != 4 || strings.Join(suite.Before, " ") != "CMakeLists.txt#build" {
		t.Errorf("the suite has %d parts, before it %q", suite.Parts, suite.Before)
	}
}

// What a project offers are arguments of configure, with their help, values and defaults; cmake knows each of them.
func TestOptionsOfCMake(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{"CMakeLists.txt": `cmake_minimum_required(VERSION 3.19)
project(p NONE)
option(WITH_GLAZE "Build the glaze" yes)
option(WITH_${PROJECT_NAME} "Named by the project")
set(ENGINE gas CACHE STRING "What heats")
set_property(CACHE ENGINE PROPERTY STRINGS gas wood)
set(KILN_DIR "/opt/kiln" CACHE PATH "Where it stands")
set(secret x CACHE INTERNAL "")
set(forced x CACHE STRING "not offered" FORCE)
include(CMakeDependentOption)
cmake_dependent_option(FAST "Fire fast" ON "WITH_GLAZE" OFF)
`})
	k := named(t, s, "configure")
	var got []string
	for _, a := range k.Args {
		got = append(got, fmt.Sprintf("%s=%s %q %s", a.Name, a.Default, a.About, strings.Join(a.Choices, ",")))
	}
	want := []string{
		`-DWITH_GLAZE=ON "Build the glaze" ON,OFF`, `-DWITH_p=OFF "Named by the project" ON,OFF`, `-DENGINE=gas "What heats" gas,wood`, `-DKILN_DIR=/opt/kiln "Where it stands" `, `-DFAST=ON "Fire fast" ON,OFF`,
		`-DCMAKE_BUILD_TYPE= "How it is compiled" Debug,Release,RelWithDebInfo,MinSizeRel`, `-DBUILD_SHARED_LIBS= "Libraries are shared ones where nothing else is said" ON,OFF`,
	}
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	byCMake(t, s.Root, "cmake", "-S", ".", "-B", "build")
	cache := byCMake(t, s.Root, "cmake", "-LH", "-N", "build")
	for _, a := range k.Args[:5] {
		if !strings.Contains(cache, "// "+a.About+"\n"+a.Name[2:]+":") {
			t.Errorf("cmake does not offer %s:\n%s", a.Name, cache)
		}
	}
}
