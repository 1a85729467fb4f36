package survey

import (
	"fmt"
	"strings"
	"testing"

	"tidytally/core/task"
)

// lines words the tasks of a survey, one a line: id, line, command, and what
// else a reader found out.
func lines(s *Survey, source string) string {
	var b strings.Builder
	for _, k := range s.Tasks {
		if k.Source != source {
			continue
		}
		fmt.Fprintf(&b, "%s:%d %s", k.ID(), k.Line, k.Command)
		if k.Dir != k.Folder() {
			fmt.Fprintf(&b, " in %s", k.Dir)
		}
		if k.About != "" {
			fmt.Fprintf(&b, " (%s)", k.About)
		}
		if len(k.Prerequisites) > 0 {
			fmt.Fprintf(&b, " needs %s", strings.Join(k.Prerequisites, ","))
		}
		if k.Default {
			b.WriteString(" default")
		}
		if k.Hidden {
			b.WriteString(" hidden")
		}
		b.WriteString("\n")
	}
	return b.String()
}

func TestKinds(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, source string
		files        map[string]string
		want         string
		faults       string
	}{
		{"ant includes under a prefix", "ant", map[string]string{
			"build.xml":   "<project name=\"top\" default=\"all\">\n<target name=\"all\" depends=\"sub.compile\"/>\n<include file=\"${basedir}/sub.xml\"/>\n<import file=\"${lib}/x.xml\"/>\n<import file=\"gone.xml\"/>\n<import file=\"maybe.xml\" optional=\"true\"/>\n<extension-point name=\"ready\"/>\n</project>",
			"sub.xml":     "<project name=\"sub\">\n<target name=\"compile\" description=\"Compiles   all\"/>\n</project>",
			"x/build.xml": "<html><target name=\"no\"/></html>",
		}, "build.xml#all:2 ant all needs sub.compile default\nbuild.xml#sub.compile:3 ant sub.compile (Compiles all)\nbuild.xml#ready:7 ant ready\n", "build.xml:5: import gone.xml: does not exist; the rest of the file was read\n"},
		{"ant broken in the middle", "ant", map[string]string{
			"build.xml": "<project>\n<target name=\"before\"/>\n<target name=\"cut\n",
		}, "build.xml#before:2 ant before\n", "XML"},
		{"maven modules and their wrapper", "maven", map[string]string{
			"pom.xml": "<project><profiles><profile><id>ci</id></profile><profile/></profiles></project>", "mvnw": "", "sub/pom.xml": "<project/>", "src/it/pom.xml": "<project/>",
		}, "", ""},
		{"gradle in both languages", "gradle", map[string]string{
			"settings.gradle.kts": "include(\"lib\")\n", "gradlew": "",
			"build.gradle.kts": "plugins {\n    application\n}\n/* task(\"no\") */\ntasks.register<Copy>(\"copyDocs\") {\n    description = \"Copies\"\n}\nval pack by tasks.registering(Zip::class) { }\ntasks.create(\"made\")\n",
			"lib/build.gradle": "task integrationTest(type: Test) {\n}\ntask('quoted') { }\ndef name = 'x'\n// tasks.register('commented')\nprintln \"task notThis\"\n",
		}, "build.gradle.kts#run:2 ./gradlew :run\nbuild.gradle.kts#installDist:2 ./gradlew :installDist\nbuild.gradle.kts#distZip:2 ./gradlew :distZip\nbuild.gradle.kts#copyDocs:5 ./gradlew :copyDocs (Copies)\nbuild.gradle.kts#pack:8 ./gradlew :pack\nbuild.gradle.kts#made:9 ./gradlew :made\n" +
			"lib/build.gradle#integrationTest:1 ./gradlew :lib:integrationTest in .\nlib/build.gradle#quoted:3 ./gradlew :lib:quoted in .\n", ""},
		{"composer", "composer", map[string]string{
			"composer.json": "{\n\"scripts\": {\n\"test\": [\"@lint\", \"phpunit --colors\"],\n\"lint\": \"php -l\",\n\"bad\": 3\n},\n\"scripts-descriptions\": {\"test\": \"Tests it\"}\n}",
		}, "composer.json#test:3 composer run test (Tests it) needs lint\ncomposer.json#lint:4 composer run lint\n", "composer.json:5:1: the script \"bad\" is a number where a string or an array should stand\n"},
		{"python in its files", "python", map[string]string{
			"pyproject.toml": "[project]\nname = \"x\"\n[project.scripts]\nglaze = \"glaze:main\"\n[tool.poetry.scripts]\nkiln = \"kiln:main\"\n", "setup.cfg": "[metadata]\nname = x\n[tool:pytest]\n",
			"tox.ini": "[tox]\nenvlist = py3{9,10}, lint, docs\n[testenv]\n[testenv:docs]\n[testenv:extra]\n", "manage.py": "#!/usr/bin/env python\n",
		}, "manage.py#manage.py:1 python3 manage.py (The project's own commands)\npyproject.toml#run%20glaze:4 glaze (glaze:main)\npyproject.toml#run%20kiln:6 poetry run kiln (kiln:main)\nsetup.cfg#test:3 python3 -m pytest (Run the tests with pytest)\n" +
			"tox.ini#env%20lint:2 tox -e lint (Run tox in this environment)\ntox.ini#env%20docs:2 tox -e docs (Run tox in this environment)\ntox.ini#env%20extra:5 tox -e extra (Run tox in this environment)\n", ""},
		{"scripts", "script", map[string]string{
			"bin/a": "#!/bin/sh\n# Does it.\n", "b.py": "#!/usr/bin/env python3\n# -*- coding: utf-8 -*-\n\"\"\"Does that.\"\"\"\n", "c.sh": "echo no shebang\n", "d.rb": "#! /usr/bin/ruby -w\n",
			"vendor/e.sh": "#!/bin/sh\n", "crlf.sh": "#!/bin/bash\r\n# Line ends\r\n", "bad": "#!relative\n", "empty": "",
		}, "b.py#b.py:1 python3 b.py (Does that.)\ncrlf.sh#crlf.sh:1 /bin/bash crlf.sh (Line ends)\nd.rb#d.rb:1 /usr/bin/ruby d.rb\nbin/a#a:1 /bin/sh bin/a in . (Does it.)\nvendor/e.sh#e.sh:1 /bin/sh vendor/e.sh in . hidden\n", ""},
		{"cargo's 2015 edition and switches", "cargo", map[string]string{
			"Cargo.toml": "[package]\nname = \"old\"\nversion = \"0.1.0\"\n[[bin]]\nname = \"only\"\npath = \"src/only.rs\"\n", "src/main.rs": "", "src/only.rs": "", "src/bin/x.rs": "", "tests/t.rs": "",
		}, "Cargo.toml#build:1 cargo build\nCargo.toml#test:1 cargo test\nCargo.toml#clippy:1 cargo clippy\nCargo.toml#test%20t:1 cargo test --test t\nCargo.toml#run%20only:4 cargo run --bin only\n", ""},
		{"ninja without its rules", "ninja", map[string]string{
			"build.ninja": "build a: phony\ninclude gone.ninja\nbuild b: cc a\n",
		}, "build.ninja#a:1 ninja a\nbuild.ninja#b:3 ninja b\n", "build.ninja:2: include gone.ninja: does not exist; the rest of the file was read\n"},
		{"meson part without its top", "meson", map[string]string{"sub/meson.build": "executable('x', 'x.c')\n"}, "", ""},
		{"cmake without a folder", "cmake", map[string]string{
			"CMakeLists.txt": "project(x)\nadd_subdirectory(gone)\nadd_executable(here a.c)\nadd_executable(${UNKNOWN_NAME}x a.c)\nset(N $ENV{HOME})\nadd_library(l${N} a.c)\n",
		}, "CMakeLists.txt#configure:1 cmake -S . -B build (Configure the build in build; it names more targets or tests (CMakeLists.txt:6))\nCMakeLists.txt#build:1 cmake --build build (Build everything)\nCMakeLists.txt#here:3 cmake --build build --target here\nCMakeLists.txt#run%20here:3 build/here (Run what here builds) hidden\nCMakeLists.txt#x:4 cmake --build build --target x\nCMakeLists.txt#run%20x:4 build/x (Run what x builds) hidden\n", "CMakeLists.txt:2: add_subdirectory gone: there is no CMakeLists.txt; the rest of the file was read\n"},
		{"broken go.mod", "go", map[string]string{"go.mod": "module x\n\nrequire (\n", "main.go": "package main\n"}, "", "go.mod:"},
		{"make prefers its own file", "make", map[string]string{"GNUmakefile": "g: ; true\n", "makefile": "m: ; true\n", "Makefile": "M: ; true\n", "sub/makefile": "s: ; true\n"}, "GNUmakefile#g:1 make g default\nsub/makefile#s:1 make s default\n", ""},
		{"make goals with odd names", "make", map[string]string{"Makefile": ".PHONY: -x a=b\n-x: ; true\na=b: ; true\n.hidden: ; true\n%.o: ; true\n.c.o: ; true\nx/y: ; true\n"}, "Makefile#-x:2 make -- -x default\nMakefile#.hidden:4 make .hidden\nMakefile#x/y:7 make x/y hidden\n", ""},
	} {
		s := survey(t, c.files)
		if c.name == "maven modules and their wrapper" {
			var got []string
			for _, k := range s.Tasks {
				if k.Source == "maven" && (k.Name == "verify" || strings.HasPrefix(k.Name, "profile")) {
					got = append(got, k.ID()+" "+k.Command.String())
				}
			}
			if want := "pom.xml#verify ./mvnw verify|pom.xml#profile%20ci ./mvnw -P ci verify|sub/pom.xml#verify ../mvnw verify"; strings.Join(got, "|") != want {
				t.Errorf("%s: got %s, want %s", c.name, strings.Join(got, "|"), want)
			}
			continue
		}
		if got := lines(s, c.source); got != c.want && c.name != "broken go.mod" {
			t.Errorf("%s: got\n%swant\n%s", c.name, got, c.want)
		}
		if got := faults(s); !strings.Contains(got, c.faults) || (got == "") != (c.faults == "") {
			t.Errorf("%s: faults\n%swant\n%s", c.name, got, c.faults)
		}
	}
}

// Where the values of a task come from is told for each.
func TestValuesAndTheirOrigins(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"package.json":   "{\n\"packageManager\": \"yarn@4.1.0\",\n\"scripts\": {\n\"serve\": \"vite\"\n},\n\"dependencies\": {\"vite\": \"5\"}}",
		"tidytally.toml": "[adjust.\"package.json#serve\"]\nready = 'on (?P<url>\\S+)'\nenv = { PORT = \"1 2\" }\nstop = { signal = \"TERM\" }\nin = \"web\"\n",
	})
	k, err := task.Find(s.Tasks, "serve")
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, v := range s.Values(k) {
		got = append(got, v.Field+" = "+v.Text+" <- "+v.Origin.String())
	}
	want := []string{
		"name = serve <- package.json:4, declared",
		"command = yarn run serve <- package.json:2, declared: field packageManager",
		"script = vite <- package.json:4, declared",
		"first = the packages are not installed; run yarn install first <- package.json:4, inferred",
		"dir = web <- tidytally.toml:5, adjusted",
		"env = PORT='1 2' <- tidytally.toml:3, adjusted",
		"kind = serve <- package.json:4, inferred: from the name",
		"longRunning = stays up <- package.json:4, inferred: from the name and what it runs",
		"ready = on (?P<url>\\S+) <- tidytally.toml:2, adjusted",
		"stop = TERM <- tidytally.toml:4, adjusted",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

// The user's own patterns and the ignore files keep declarations out, and the
// reading is counted.
func TestWhatIsKeptOut(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"tidytally.toml": "[workspace]\nignore = [\"**/fixtures/**\", \"old\"]\n", ".gitignore": "made/\n",
		"a/Makefile": "all: ; true\n", "a/fixtures/x/Makefile": "no: ; true\n", "old/Makefile": "no: ; true\n", "made/Makefile": "no: ; true\n", "node_modules/p/package.json": "{\"scripts\":{\"no\":\"x\"}}",
	})
	if got := brief(s); got != "a/Makefile#all:1 in a: make all\n" {
		t.Errorf("tasks:\n%s", got)
	}
	var got []string
	for _, k := range s.Skipped {
		got = append(got, fmt.Sprintf("%s: %s (%d)", k.Path, k.Rule, k.Files))
	}
	want := "a/fixtures: tidytally.toml: ignore **/fixtures/** (1)|made: .gitignore:1: made/ (1)|node_modules: built-in: dependency folders (1)|old: tidytally.toml: ignore old (1)"
	if strings.Join(got, "|") != want {
		t.Errorf("kept out: %s\nwant      %s", strings.Join(got, "|"), want)
	}
}
