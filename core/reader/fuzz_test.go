package reader

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
	"tidytally/internal/cputime"
)

// No reader panics or hangs, whatever bytes it is given.
func FuzzReaders(f *testing.F) {
	f.Add(uint8(0), []byte("project(kiln C)\nset(PARTS one two)\n#[[ add_executable(no main.c) ]]\nforeach(p IN LISTS PARTS)\n  add_executable(part-${p} main.c)\nendforeach()\nif(WIN32 AND NOT X)\nadd_custom_target(t COMMENT \"x\")\nendif()\n"))
	f.Add(uint8(6), []byte("function(f)\n cmake_parse_arguments(P \"A\" \"B\" \"C\" ${ARGN})\n foreach(c IN LISTS P_C)\n  string(REGEX REPLACE \"(.)(.*)\" \"\\2\\1\" n \"${c}\")\n  add_test(NAME ${n}${P_B} COMMAND x)\n endforeach()\n set(X 1 PARENT_SCOPE)\nendfunction()\nenable_testing()\nf(A B b C one two)\nset(i 0)\nwhile(i LESS 5)\n math(EXPR i \"${i}+1\")\n list(APPEND L ${i})\nendwhile()\nlist(TRANSFORM L PREPEND t)\nset_property(GLOBAL APPEND PROPERTY Q ${L})\nget_property(q GLOBAL PROPERTY Q)\nif(DEFINED ENV{X} OR q MATCHES \"(1)[^;]*\")\n add_custom_target(${CMAKE_MATCH_1}x)\nendif()\nmacro(m)\n return()\nendmacro()\nblock(PROPAGATE a)\nset(a b)\nendblock()\nfile(GLOB_RECURSE g *.c)\ncmake_path(GET g STEM s)\ncmake_language(EVAL CODE \"add_custom_target(e)\")\n"))
	for i := range All {
		f.Add(uint8(i), []byte("[package]\nname=\"x\"\n<project><target name='a'><![CDATA[x]]>\nproject('x')\nfunction(f)\nf()\nendfunction()\nf()\nbuild a: b $\n"))
		f.Add(uint8(i), []byte("#!/usr/bin/env -S A=b\n{\"scripts\":{\"a\":[1,null]},\"include\":[\"CMakePresets.json\"],\"configurePresets\":[{\"name\":\"x\"}]}"))
		f.Add(uint8(i), []byte("<!DOCTYPE x [<!ENTITY a \"&b;&b;\"><!ENTITY b \"&a;&a;\">]><project><target name=\"&a;\"/></project>"))
	}
	ws := declare.NewWorkspace(f.TempDir(), nil)
	f.Fuzz(func(t *testing.T, which uint8, data []byte) {
		r := All[int(which)%len(All)]
		began := cputime.Used(t)
		name := map[string]string{"cargo": ".cargo/config.toml", "rake": "rakelib/x.rake"}[r.Source]
		if name == "" {
			name = "dir/" + r.Source
		}
		found := r.Read(ws.File(name, data))
		if d := cputime.Used(t) - began; d > 5*time.Second {
			t.Errorf("%s took %s", r.Source, d)
		}
		for _, k := range found.Tasks {
			if k.Name == "" || k.Command.IsZero() || strings.Contains(k.Name, declare.Unknown) {
				t.Errorf("impossible: %+v", k)
			}
		}
	})
}

func TestLargeInputIsBounded(t *testing.T) {
	for i := range All {
		for _, piece := range []string{"a: b\n", "<a>", "{\"a\":", "$(foreach x,1 2 3,$(x))", "[a]\n", "task :x do\n", "x(\n", "foreach(i RANGE 9999)\n", "build a$\n", "\"", "'", "\\\n"} {
			data := []byte(strings.Repeat(piece, (64<<10)/len(piece)))
			began := cputime.Used(t)
			All[i].Read(declare.NewWorkspace(os.TempDir(), nil).File("dir/file", data))
			if d := cputime.Used(t) - began; d > 5*time.Second {
				t.Errorf("%s: 64 KiB of %q took %s", All[i].Source, piece, d)
			}
		}
	}
}

// Names that a loop makes of a list that is written down are names; those that a
// program makes are not guessed.
func TestGradleTasksMadeInLoops(t *testing.T) {
	f := declare.NewWorkspace(t.TempDir(), nil).File("build.gradle", []byte(`['east', 'west'].each { r ->
    task "deploy_${r}" {
        doLast { println "task \"fake_$r\"" }
    }
    ["a", 'b'].each {
        tasks.register("pack_${r}_$it") { }
    }
}
listOf("mk1", "mk2").forEach { board -> tasks.register<Exec>("flash$board") }
task "late_${r}" { }
things().each { x -> task "odd_$x" { } }
tasks.create(type: Zip, name: 'bundle') { }
task(name: "plain")
`))
	var got []string
	for _, x := range readGradle(f).Tasks {
		got = append(got, fmt.Sprintf("%s:%d", x.Name, x.Line))
	}
	want := "deploy_east:2 deploy_west:2 pack_east_a:6 pack_east_b:6 pack_west_a:6 pack_west_b:6 flashmk1:9 flashmk2:9 bundle:12 plain:13"
	if strings.Join(got, " ") != want {
		t.Errorf("got  %s\nwant %s", strings.Join(got, " "), want)
	}
}

func FuzzPackageJSON(f *testing.F) {
	f.Add([]byte(`{"scripts":{"a":"b","a":1,"c":null},"packageManager":"yarn@1"}`))
	f.Add([]byte(`{"Scripts":{"a":"b"},"scripts":{"A":"b"}}`))
	f.Add([]byte("\ufeff{\"scripts\":{\"\\u00e9\":\"\\ud83d\\ude00\"}"))
	ws := declare.NewWorkspace(f.TempDir(), nil)
	f.Fuzz(func(t *testing.T, data []byte) {
		found := readNpm(ws.File("package.json", data))
		for _, k := range found.Tasks {
			if k.Line < 1 || k.Name == "" {
				t.Errorf("impossible: %+v", k)
			}
		}
		// Files that the standard library reads are read here too. The case of keys
		// counts, and of two equal ones npm takes the last.
		var file map[string]json.RawMessage
		var scripts map[string]any
		if json.Unmarshal(data, &file) == nil && json.Unmarshal(file["scripts"], &scripts) == nil && strings.Count(string(data), "scripts") == 1 {
			for name, v := range scripts {
				if _, text := v.(string); text && name != "" && !strings.HasPrefix(name, "//") && !slices.ContainsFunc(found.Tasks, func(k *task.Task) bool { return k.Name == name }) {
					t.Errorf("%q is lost", name)
				}
			}
		}
	})
}

// A meson.build file of any bytes is read to its end, within the limits.
func FuzzMeson(f *testing.F) {
	f.Add([]byte("a = ['x', 'y']\nforeach p : a\n  executable('t_' + p, '@0@.c'.format(p))\nendforeach\nd = {'k': {'v': f'@p@'}}\nforeach k, v : d + d\n test(k / v['v'], x)\nendforeach\n"))
	f.Add([]byte("x = ''\nforeach a : x.split(',')\nforeach b : [[[\nendforeach\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, c := range mesonCalls(data) {
			if c.line < 1 || len(c.literal) > 8192+len(data) {
				t.Errorf("impossible: %+v", c)
			}
		}
	})
}
