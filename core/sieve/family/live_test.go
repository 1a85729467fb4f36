package family

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/internal/testtree"
)

// The tools that are on this machine are run on the sources of the golden data:
// their text must give what their machine-readable form says. A newer version
// may say more than the golden one; both are sifted.
func live(t *testing.T, argv ...string) (stdout, stderr []byte) {
	t.Helper()
	testtree.Needs(t, argv[0])
	dir, err := filepath.Abs("testdata/golden/src")
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "PYTHONDONTWRITEBYTECODE=1")
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	_ = cmd.Run() // it fails: the input is wrong on purpose
	if out.Len()+errs.Len() == 0 {
		t.Skipf("%v says nothing", argv)
	}
	return out.Bytes(), errs.Bytes()
}

// keyed words problems so that two lists can be compared in any order.
func keyed(problems []problem.Problem, message bool) (out []string) {
	for _, p := range problems {
		k := fmt.Sprintf("%s:%d:%d %s", p.File, p.Line, p.Column, p.Severity)
		if message {
			first, _, _ := strings.Cut(p.Message, "\n")
			k += " " + p.Code + " " + strings.TrimSuffix(first, ".")
		}
		out = append(out, k)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func same(t *testing.T, got, want []string) {
	t.Helper()
	if len(want) == 0 || !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}

func TestRustcLive(t *testing.T) {
	t.Parallel()
	out := filepath.Join(t.TempDir(), "out")
	_, text := live(t, "rustc", "--edition", "2021", "a.rs", "-o", out)
	_, raw := live(t, "rustc", "--edition", "2021", "--error-format=json", "a.rs", "-o", out)
	_, short := live(t, "rustc", "--edition", "2021", "--error-format=short", "a.rs", "-o", out)
	var want []problem.Problem
	ends := map[problem.Place]int{}
	for s := bufio.NewScanner(bytes.NewReader(raw)); s.Scan(); {
		var d struct {
			Message, Level string
			Code           *struct{ Code string }
			Spans          []struct {
				FileName    string `json:"file_name"`
				LineStart   int    `json:"line_start"`
				ColumnStart int    `json:"column_start"`
				LineEnd     int    `json:"line_end"`
				ColumnEnd   int    `json:"column_end"`
				IsPrimary   bool   `json:"is_primary"`
			}
		}
		if err := json.Unmarshal(s.Bytes(), &d); err != nil {
			t.Fatal(err)
		}
		for _, span := range d.Spans {
			if span.IsPrimary {
				p := problem.Problem{Place: problem.Place{File: span.FileName, Line: span.LineStart, Column: span.ColumnStart}, Message: d.Message}
				if d.Level == "warning" {
					p.Severity = problem.Warning
				}
				if d.Code != nil {
					p.Code = d.Code.Code
				}
				want = append(want, p)
				if span.LineEnd == span.LineStart { // of a range of lines rustc draws the whole
					ends[p.Place] = span.ColumnEnd
				}
				break
			}
		}
	}
	found := sift(t, text)
	same(t, keyed(found, true), keyed(want, true))
	for _, p := range found {
		if end := ends[problem.Place{File: p.File, Line: p.Line, Column: p.Column}]; end != p.EndColumn {
			t.Errorf("%s ends at column %d, not %d", p.Place, p.EndColumn, end)
		}
	}
	same(t, keyed(sift(t, short), false), keyed(want, false))
}

func TestJavacLive(t *testing.T) {
	t.Parallel()
	classes := t.TempDir()
	_, text := live(t, "javac", "-Xlint:all", "-d", classes, "shop/Order.java")
	_, raw := live(t, "javac", "-Xlint:all", "-XDrawDiagnostics", "-d", classes, "shop/Order.java")
	var want []problem.Problem
	for _, m := range regexp.MustCompile(`(?m)^(\w+\.java):(\d+):(\d+): compiler\.(err|warn)`).FindAllStringSubmatch(string(raw), -1) {
		p := problem.Problem{Place: problem.Place{File: "shop/" + m[1]}}
		fmt.Sscan(m[2], &p.Line)
		fmt.Sscan(m[3], &p.Column)
		if m[4] == "warn" {
			p.Severity = problem.Warning
		}
		want = append(want, p)
	}
	same(t, keyed(sift(t, text), false), keyed(want, false))
}

// python itself says where an exception was raised, through its own module.
func TestPythonLive(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for name, source := range map[string]string{
		"plain": "def f(x):\n    return x['missing']\n\ndef g():\n    f({})\n\ng()\n",
		"deep":  "import json\n\ndef load(s):\n    return json.loads(s)\n\nload('{')\n",
		"cause": "def f():\n    try:\n        int('x')\n    except ValueError as e:\n        raise RuntimeError('bad') from e\n\nf()\n",
		"empty": "class Odd(Exception):\n    pass\n\nraise Odd\n",
	} {
		path := filepath.Join(dir, name+".py")
		if err := os.WriteFile(path, []byte(source), 0o644); err != nil {
			t.Fatal(err)
		}
		_, text := live(t, "python3", path)
		truth, _ := live(t, "python3", "-c", `
import runpy, sys, traceback
try:
    runpy.run_path(sys.argv[1], run_name="__main__")
except BaseException as e:
    own = [f for f in traceback.extract_tb(e.__traceback__) if f.filename == sys.argv[1]]
    print(own[-1].lineno, type(e).__name__)
`, path)
		var line int
		var kind string
		fmt.Sscan(string(truth), &line, &kind)
		got := sift(t, text)
		if len(got) != 1 || got[0].File != path || got[0].Line != line || !strings.Contains(got[0].Message, kind) {
			t.Errorf("%s: got\n%swant line %d, %s", name, lines(got), line, kind)
		}
		if name == "cause" && (len(got[0].Related) != 1 || got[0].Related[0].Line != 3) {
			t.Errorf("the cause: %+v", got[0].Related)
		}
	}
}

// The shells' own words name the line of the command that they did not find.
func TestShellsLive(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "run.sh")
	if err := os.WriteFile(path, []byte("true\n\nno-such-command-here x\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, shell := range []string{"bash", "dash", "sh"} {
		if _, err := exec.LookPath(shell); err != nil {
			continue
		}
		_, text := live(t, shell, path)
		got := sift(t, text)
		if len(got) != 1 || got[0].File != path || got[0].Line != 3 || !strings.Contains(got[0].Message, "no-such-command-here") {
			t.Errorf("%s: %q gives\n%s", shell, text, lines(got))
		}
	}
}

func TestNodeLive(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for name, c := range map[string]struct {
		source string
		want   string
	}{
		"throw.js":  {"function f() {\n  return x.y;\n}\nf();\n", ":2:10: error: ReferenceError: x is not defined"},
		"syntax.js": {"const a = ;\n", ":1:11: error: SyntaxError: Unexpected token ';'"},
	} {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(c.source), 0o644); err != nil {
			t.Fatal(err)
		}
		_, text := live(t, "node", path)
		got := sift(t, text)
		// Versions differ in which column of a statement they give.
		loose := func(s string) string { return regexp.MustCompile(`:(\d+):\d+: `).ReplaceAllString(s, ":$1: ") }
		if len(got) != 1 || loose(got[0].GNU()) != loose(path+c.want) {
			t.Errorf("%s: got\n%swant %s", name, lines(got), path+c.want)
		}
	}
}

func TestClangLive(t *testing.T) {
	t.Parallel()
	for _, form := range []string{"clang", "vi", "msvc"} {
		_, text := live(t, "clang", "-Wall", "-fsyntax-only", "-fdiagnostics-format="+form, "../../c/plain.c")
		got := sift(t, text)
		summary := regexp.MustCompile(`(?:(\d+) warnings? )?(?:and )?(?:(\d+) errors? )?generated`).FindSubmatch(text)
		if summary == nil {
			t.Fatalf("clang gives no summary:\n%s", text)
		}
		var warnings, errs int
		fmt.Sscan(string(summary[1]), &warnings)
		fmt.Sscan(string(summary[2]), &errs)
		said := map[problem.Severity]int{} // what is said twice counts twice there
		for _, p := range got {
			said[p.Severity] += p.Times
		}
		if said[problem.Warning] != warnings || said[problem.Error] != errs {
			t.Errorf("%s: %v, clang says %s", form, said, summary[0])
		}
	}
}

// Tools that have no machine-readable form: the mistakes are known, as they were
// made here.
func TestKnownMistakesLive(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, file, text string
		argv             []string
		want             []string // places of errors, in order
	}{
		{"git's white space", "a.txt", "one \ntwo\n<<<<<<< ours\nx\n", []string{"git", "diff", "--no-index", "--check", os.DevNull, "a.txt"}, []string{"a.txt:1", "a.txt:3"}},
		{"ruby", "a.rb", "def heat\n  1 +\nend\n", []string{"ruby", "-c", "a.rb"}, []string{"a.rb:3"}},
		{"ruby at work", "b.rb", "def heat\n  raise 'hot'\nend\nheat\n", []string{"ruby", "b.rb"}, []string{"b.rb:2"}},
		{"php", "a.php", "<?php\n$a = 1;\necho $a\necho 2;\n", []string{"php", "-l", "a.php"}, []string{"a.php:4"}},
		{"php at work", "b.php", "<?php\nfunction heat() {\n  throw new Exception('hot');\n}\nheat();\n", []string{"php", "b.php"}, []string{"b.php:3"}},
		{"lua", "a.lua", "local x = 1\nx.y.z = 2\n", []string{"lua5.4", "a.lua"}, []string{"a.lua:2"}},
		{"lua's syntax", "b.lua", "local x =\nend\n", []string{"lua5.4", "b.lua"}, []string{"b.lua:2"}},
		{"perl", "a.pl", "use strict;\nmy $x = 1;\n$y = 2;\n", []string{"perl", "-c", "a.pl"}, []string{"a.pl:3"}},
		{"xmllint", "a.xml", "<a>\n  <b>\n</a>\n", []string{"xmllint", "--noout", "a.xml"}, []string{"a.xml:3", "a.xml:4"}},
		{"cmake", "CMakeLists.txt", "cmake_minimum_required(VERSION 3.20)\nproject(kiln NONE)\n\nno_such_command(x)\n", []string{"cmake", "-S", ".", "-B", "build"}, []string{"CMakeLists.txt:4"}},
		{"cmake's own message", "CMakeLists.txt", "cmake_minimum_required(VERSION 3.20)\nproject(kiln NONE)\nfunction(heat)\n  message(SEND_ERROR \"too hot\")\nendfunction()\nheat()\n", []string{"cmake", "-S", ".", "-B", "build"}, []string{"CMakeLists.txt:4"}},
		{"ninja", "build.ninja", "rule fail\n  command = false\nbuild out: fail\n", []string{"ninja"}, []string{""}},
		{"ninja's own", "build.ninja", "rule fail\n  command = false\nbuild out: missing\n", []string{"ninja"}, []string{"build.ninja:3"}},
		{"meson", "meson.build", "project('kiln')\nno_such_function()\n", []string{"meson", "setup", "build"}, []string{"meson.build:2:1"}},
		{"ant", "build.xml", "<project default='a'>\n<target name='a'>\n<fail message='hot'/>\n</target>\n</project>\n", []string{"ant"}, []string{"build.xml:3"}},
		{"node's syntax", "a.mjs", "const a = 1;\nconst = 2;\n", []string{"node", "--check", "a.mjs"}, []string{"a.mjs:2:7"}},
		{"node at work", "b.mjs", "function heat() {\n  throw new Error('hot');\n}\nheat();\n", []string{"node", "b.mjs"}, []string{"b.mjs:2:9"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := t.TempDir()
			if err := os.WriteFile(filepath.Join(dir, c.file), []byte(c.text), 0o644); err != nil {
				t.Fatal(err)
			}
			out := toolOutput(t, dir, c.argv[0], c.argv[1:]...)
			var got []string
			for _, p := range sift(t, out) {
				place := p.Place
				if filepath.IsAbs(place.File) {
					place.File = filepath.Base(place.File)
				}
				got = append(got, place.String())
			}
			if !slices.Equal(got, c.want) {
				t.Errorf("got %q, want %q from\n%s", got, c.want, out)
			}
		})
	}
}

// A program that ends by an error has its problem in its own code, wherever Node.js noticed it.
func TestNodeCrashesLive(t *testing.T) {
	t.Parallel()
	node, err := exec.LookPath("node")
	if err != nil {
		t.Skip("node is not installed")
	}
	for _, c := range []struct{ name, text, want string }{
		{"missing.js", "\nconst x = require(\"./nope\");\n", "missing.js:2:11: error: Error: Cannot find module './nope'"},
		{"missing.mjs", "\nimport x from \"./nope.mjs\";\n", "missing.mjs: error: Error [ERR_MODULE_NOT_FOUND]: Cannot find module '"},
		{"package.mjs", "import x from \"leftover\";\n", "package.mjs: error: Error [ERR_MODULE_NOT_FOUND]: Cannot find package 'leftover'"},
		{"read.js", "const fs = require(\"fs\");\nfunction load() {\n  return fs.readFileSync(\"gone.json\");\n}\nload();\n", "read.js:3:13: error: Error: ENOENT"},
		{"parse.js", "const s = \"{bad\";\nJSON.parse(s);\n", "parse.js:2:6: error: SyntaxError: "},
		{"emit.js", "const E = require(\"events\");\nnew E().emit(\"error\", new Error(\"too hot\"));\n", "emit.js:2:23: error: Error: too hot"},
		{"url.js", "new URL(\"x\");\n", "url.js:1:1: error: TypeError"},
		{"made.js", "new Function(\"return 1 +\")();\n", "made.js:1:1: error: SyntaxError: "},
		{"text.js", "throw \"too hot\";\n", "text.js:1:1: error: Uncaught too hot"},
		{"reject.js", "Promise.reject(3);\n", "error: UnhandledPromiseRejection: "},
		{"null.js", "const n = null;\nn.x;\n", "null.js:2:3: error: TypeError: "},
	} {
		dir := t.TempDir()
		if err := os.WriteFile(filepath.Join(dir, c.name), []byte(c.text), 0o600); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command(node, c.name)
		cmd.Dir = dir
		out, _ := cmd.CombinedOutput() // it fails
		found := sift(t, out)
		if len(found) != 1 {
			t.Errorf("%s: %v\n%s", c.name, found, out)
			continue
		}
		p := found[0]
		p.File = strings.TrimPrefix(strings.TrimPrefix(p.File, "file://"), dir+"/")
		if got := p.GNU(); !strings.HasPrefix(got, c.want) {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
}
