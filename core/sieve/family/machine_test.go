package family

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sarif"
	"tidytally/core/sieve"
	"tidytally/internal/testtree"
)

// toolOutput runs a tool in a folder and gives what it prints, however it ends.
func toolOutput(t *testing.T, dir, name string, args ...string) []byte {
	t.Helper()
	if !strings.Contains(name, "/") { // else it is a program that a test made
		testtree.Needs(t, name)
	}
	cmd := exec.Command(name, args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "PYTHONDONTWRITEBYTECODE=1", "RUST_BACKTRACE=0", "NODE_OPTIONS=")
	out, _ := cmd.CombinedOutput() // it fails: the input is wrong on purpose
	return out
}

// heads are problems without what only one of two forms tells.
func heads(problems []problem.Problem, column bool) (out []string) {
	for _, p := range problems {
		p.Place = problem.Place{File: filepath.Base(p.File), Line: p.Line, Column: p.Column}
		if !column {
			p.Column = 0
		}
		out = append(out, p.GNU())
	}
	slices.Sort(out)
	return out
}

// What a tool says to other programs is read as what it says to people.
func TestMachineReadableFormsAgreeWithTheText(t *testing.T) {
	t.Parallel()
	shell := t.TempDir()
	if err := os.WriteFile(filepath.Join(shell, "a.sh"), []byte("#!/bin/sh\necho $1\nif [ $x = 1 ]; then\n  cd $y\nfi\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	module := t.TempDir()
	for name, text := range map[string]string{
		"go.mod":           "module kiln\n\ngo 1.21\n",
		"a/a_test.go":      "package a\n\nimport \"testing\"\n\nfunc TestOne(t *testing.T) {\n\tt.Log(\"fine\")\n\tt.Run(\"inner\", func(t *testing.T) {\n\t\tt.Errorf(\"too hot: %d\", 3)\n\t})\n}\n",
		"b/b_test.go":      "package b\n\nimport \"testing\"\n\nfunc TestTwo(t *testing.T) { t.Fatal(\"cold\") }\n",
		"c/broken.go":      "package c\n\nvar x int = \"s\"\n",
		"c/broken_test.go": "package c\n\nimport \"testing\"\n\nfunc TestThree(t *testing.T) {}\n",
	} {
		full := filepath.Join(module, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	rust := t.TempDir()
	if err := os.WriteFile(filepath.Join(rust, "a.rs"), []byte("fn main() {\n    let unused = 1;\n    let s: i32 = \"x\";\n    missing();\n}\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		name, dir     string
		tool          string
		text, machine []string
		count         int
	}{
		{"gcc", "testdata/c", "gcc", []string{"-Wall", "-Wextra", "-c", "-o", os.DevNull, "syntax.c"}, []string{"-fdiagnostics-format=json", "-Wall", "-Wextra", "-c", "-o", os.DevNull, "syntax.c"}, 2},
		{"shellcheck", shell, "shellcheck", []string{"a.sh"}, []string{"-f", "json", "a.sh"}, 3},
		{"go test", module, "go", []string{"test", "./..."}, []string{"test", "-json", "./..."}, 3},
		{"rustc", rust, "rustc", []string{"a.rs"}, []string{"--error-format=json", "a.rs"}, 2},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := sift(t, toolOutput(t, c.dir, c.tool, c.text...))
			out := toolOutput(t, c.dir, c.tool, c.machine...)
			machine := sift(t, out)
			if len(text) < c.count {
				t.Fatalf("only %d problems in the text", len(text))
			}
			if got, want := heads(machine, true), heads(text, true); !reflect.DeepEqual(got, want) {
				t.Errorf("from %s\ngot\n%s\nwant\n%s", out, strings.Join(got, "\n"), strings.Join(want, "\n"))
			}
		})
	}
}

const sarifLog = `{
  "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
  "version": "2.1.0",
  "runs": [{
    "tool": {"driver": {"name": "kilnlint", "rules": [{"id": "K1", "defaultConfiguration": {"level": "error"}, "messageStrings": {"hot": {"text": "too hot"}}}]}},
    "originalUriBaseIds": {"SRC": {"uri": "src/"}},
    "results": [
      {"ruleIndex": 0, "message": {"id": "hot"}, "locations": [{"physicalLocation": {"artifactLocation": {"uri": "my%20kiln.c", "uriBaseId": "SRC"}, "region": {"startLine": 3, "startColumn": 5, "endColumn": 9}}}]},
      {"ruleId": "K2", "level": "note", "message": {"text": "see there"}, "relatedLocations": [{"physicalLocation": {"artifactLocation": {"uri": "b.c"}}, "message": {"text": "here"}}]},
      {"ruleId": "K3", "kind": "pass", "message": {"text": "all is well"}},
      {"ruleId": "K4", "suppressions": [{"kind": "inSource"}], "message": {"text": "known"}}
    ]
  }]
}
`

func TestDocumentsInTheMidstOfAnOutput(t *testing.T) {
	t.Parallel()
	want := []string{"a.c:1:2: error: before", "src/my kiln.c:3:5: error: too hot [K1]", "note: see there [K2]", "a.c:9:2: error: behind"}
	text := "a.c:1:2: error: before\n" + sarifLog + "a.c:9:2: error: behind\n"
	for _, n := range []int{1, 13, len(text)} {
		var c sieve.Collector
		e := sieve.New(All, sieve.Options{Problem: c.Problem, Repeat: c.Repeat})
		for rest := []byte(text); len(rest) > 0; rest = rest[min(n, len(rest)):] {
			e.Write(rest[:min(n, len(rest))])
		}
		e.Close()
		var got []string
		for _, p := range c.Problems {
			got = append(got, p.GNU())
		}
		if !reflect.DeepEqual(got, want) {
			t.Errorf("in pieces of %d: got %q", n, got)
		}
		if len(c.Problems) == 4 && (c.Problems[1].EndColumn != 9 || c.Problems[1].Output.FirstLine != 2 || c.Problems[3].Output.FirstLine != 16) {
			t.Errorf("%+v", c.Problems[1])
		}
	}
}

// What is written as SARIF and read again is the same.
func TestSARIFComesBack(t *testing.T) {
	t.Parallel()
	first := sift(t, []byte("my dir/a.c:3:4: warning: odd [-Wunused-variable]\na.c:1:2: error: x\n"))
	var b bytes.Buffer
	if err := sarif.Write(&b, first); err != nil {
		t.Fatal(err)
	}
	if got, want := heads(sift(t, b.Bytes()), true), heads(first, true); !reflect.DeepEqual(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
}

// Lines that begin like a document and are none lose nothing, and hold nothing
// back for long.
func TestWhatIsNoDocumentIsReadAsBefore(t *testing.T) {
	t.Parallel()
	for _, lead := range []string{"{\n", "[\n", "{ \"a\": 1,\n", "[1/3] cc\n", "{\n  int x;\n}\n", "<?xml version=\"1.0\"?>\n", "[[\n[\n", "{\"unclosed\": \"\n", strings.Repeat("[\n", 30)} {
		var c sieve.Collector
		e := sieve.New(All, sieve.Options{Problem: c.Problem, Repeat: c.Repeat})
		e.Write([]byte(lead + "a.c:1:2: error: x\n" + strings.Repeat("more\n", 15)))
		e.Pause()
		if len(c.Problems) != 1 || c.Problems[0].Line != 1 || c.Problems[0].Output.FirstLine != strings.Count(lead, "\n")+1 {
			t.Errorf("%q: %v", lead, c.Problems)
		}
	}
}

func TestTAP(t *testing.T) {
	t.Parallel()
	text := `TAP version 14
1..5
ok 1 - fine
not ok 2 - glaze melts # TODO not yet
not ok 3 - kiln heats
  ---
  message: 'too cold: 12'
  severity: fail
  at:
    file: test/kiln.test.js
    line: 12
    column: 3
  ...
    # Subtest: inner
    not ok 1 - holds
      ---
      error: |-
        Expected values to be equal:
        1 !== 2
      stack: |-
        node:internal/test 1:2
        Object.<anonymous> (file:///w/test/hold.test.mjs:7:10)
      ...
ok 4 - skipped # SKIP
Bail out! the kiln is gone
`
	want := []string{"test/kiln.test.js:12:3: error: too cold: 12 [kiln heats]", "/w/test/hold.test.mjs:7:10: error: Expected values to be equal: 1 !== 2 [holds]", "error: bailed out: the kiln is gone"}
	var got []string
	for _, p := range sift(t, []byte(text)) {
		got = append(got, p.GNU())
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got  %q\nwant %q", got, want)
	}
}

func TestNodesOwnTAP(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "kiln.test.mjs"), []byte("import test from 'node:test';\nimport assert from 'node:assert';\n\ntest('heats', () => {\n  assert.strictEqual(1, 2);\n});\ntest('holds', () => {});\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	out := toolOutput(t, dir, "node", "--test", "--test-reporter=tap", "kiln.test.mjs")
	found := false
	for _, p := range sift(t, out) {
		found = found || p.Code == "heats" && filepath.Base(p.File) == "kiln.test.mjs" && (p.Line == 4 || p.Line == 5)
		if p.Code == "holds" {
			t.Errorf("%s", p.GNU())
		}
	}
	if !found {
		t.Errorf("not found in %v from\n%s", lines(sift(t, out)), out)
	}
}

func TestJUnit(t *testing.T) {
	t.Parallel()
	text := `<?xml version="1.0" encoding="UTF-8"?>
<testsuites>
<testsuite name="kiln" tests="3">
<testcase classname="KilnTest" name="heats" file="test/kiln_test.py" line="8"><failure message="1 != 2">Traceback (most recent call last):
  File "test/kiln_test.py", line 12, in heats
    assert 1 == 2
AssertionError: 1 != 2
</failure></testcase>
<testcase classname="KilnTest" name="holds" file="test/kiln_test.py" line="20"><error type="E">boom</error></testcase>
<testcase classname="KilnTest" name="cools"/>
</testsuite>
</testsuites>
a.c:1:2: error: behind
`
	want := []string{"test/kiln_test.py:12: error: 1 != 2 [KilnTest.heats]", "test/kiln_test.py:20: error: boom [KilnTest.holds]", "a.c:1:2: error: behind"}
	var got []string
	for _, p := range sift(t, []byte(text)) {
		got = append(got, p.GNU())
	}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("got  %q\nwant %q", got, want)
	}
}

func TestLinterLists(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		`[{"filePath":"/w/a.js","messages":[{"ruleId":"no-undef","severity":2,"message":"x is not defined","line":3,"column":5,"endLine":3,"endColumn":6}]}]`:                                                                                          "/w/a.js:3:5: error: x is not defined [no-undef]",
		"[\n    {\n        \"type\": \"convention\",\n        \"line\": 1,\n        \"column\": 0,\n        \"path\": \"a.py\",\n        \"symbol\": \"x\",\n        \"message\": \"Missing docstring\",\n        \"message-id\": \"C0114\"\n    }\n]": "a.py:1:1: note: Missing docstring [C0114]",
		`[{"code":"F401","end_location":{"column":10,"row":1},"filename":"/w/a.py","location":{"column":8,"row":1},"message":"imported but unused"}]`:                                                                                                  "/w/a.py:1:8: error: imported but unused [F401]",
		`{"file": "a.py", "line": 4, "column": 11, "message": "Incompatible types", "hint": null, "code": "assignment", "severity": "error"}`:                                                                                                          "a.py:4:11: error: Incompatible types [assignment]",
	} {
		got := sift(t, []byte(text+"\n"))
		if len(got) != 1 || got[0].GNU() != want {
			t.Errorf("got %v, want %s", lines(got), want)
		}
	}
}

// The list of a check of a configuration says what its text does, and columns.
func TestConfigurationAsJSON(t *testing.T) {
	t.Parallel()
	text, list := sift(t, read(t, "golden/terraform.log")), sift(t, read(t, "golden/terraform.json"))
	for _, p := range list {
		if p.Column == 0 || p.EndColumn <= p.Column {
			t.Errorf("no range: %+v", p.Place)
		}
	}
	words := func(problems []problem.Problem) (said []string) {
		for _, p := range problems {
			said = append(said, fmt.Sprint(p.File, p.Line, p.Severity, strings.Fields(p.Message)))
		}
		slices.Sort(said)
		return said
	}
	if got, want := words(list), words(text); len(want) < 3 || !slices.Equal(got, want) {
		t.Errorf("as JSON\n%q\nas text\n%q", got, want)
	}
	line := `{"@level":"error","@message":"Error: Invalid value","@timestamp":"2026-11-25T17:55:56Z","diagnostic":{"severity":"error","summary":"Invalid value","detail":"The kiln needs more than 3.","range":{"filename":"kiln.tf","start":{"line":1,"column":1,"byte":0},"end":{"line":1,"column":13,"byte":12}}},"type":"diagnostic"}`
	if got := lines(sift(t, []byte("{\"type\":\"version\"}\n"+line+"\n"))); got != "kiln.tf:1:1: error: Invalid value The kiln needs more than 3.\n" {
		t.Errorf("in a stream: %s", got)
	}
}

func FuzzDocuments(f *testing.F) {
	f.Add(sarifLog, 7)
	f.Add("{\"Action\":\"output\",\"Package\":\"p\",\"Output\":\"x.go:1:2: y\\n\"}\n{\"Action\":\"fail\",\"Package\":\"p\"}\n", 3)
	f.Add("<testsuite><testcase name=\"a\"><failure>x\n</failure></testcase></testsuite>\n", 1)
	f.Add("[\n{\"file\":\"a\",\n{\na.c:1:2: error: x\n", 2)
	f.Fuzz(func(t *testing.T, text string, n int) {
		read := func(n int) string {
			var c sieve.Collector
			e := sieve.New(All, sieve.Options{Problem: c.Problem, Repeat: c.Repeat, Cycle: c.NextCycle})
			for rest := []byte(text); len(rest) > 0; rest = rest[min(n, len(rest)):] {
				e.Write(rest[:min(n, len(rest))])
			}
			e.Close()
			return fmt.Sprint(c.Problems)
		}
		if got, want := read(max(1, n%50)), read(len(text)+1); got != want {
			t.Errorf("in pieces %s\nas a whole %s", got, want)
		}
	})
}
