package family

import (
	"encoding/xml"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"tidytally/core/problem"
	"tidytally/internal/testtree"
)

// These tests run programs that fail, under what watches over them, and compare
// what is read from the text with what the same run says in another form.

func places(problems []problem.Problem) (all []string) {
	for _, p := range problems {
		all = append(all, fmt.Sprintf("%s:%d", filepath.Base(p.File), p.Line))
	}
	slices.Sort(all)
	return all
}

const overrunC = `#include <stdlib.h>
static int heat(int *p, int i)
{
	return p[i];
}
int main(int argc, char **argv)
{
	int *p = malloc(4 * sizeof *p);
	return heat(p, 3 + argc) & 0;
}
`

// The summary of a sanitizer names the place that its report must give.
func TestSanitizersAgainstTheirSummary(t *testing.T) {
	t.Parallel()
	testtree.Needs(t, "gcc")
	for _, c := range []struct{ kind, source string }{
		{"address", overrunC},
		{"thread", "#include <pthread.h>\nstatic int temp;\nstatic void *work(void *p)\n{\n\ttemp++;\n\treturn p;\n}\nint main(void)\n{\n\tpthread_t t;\n\tpthread_create(&t, 0, work, 0);\n\ttemp = 2;\n\tpthread_join(t, 0);\n\treturn temp & 0;\n}\n"},
	} {
		t.Run(c.kind, func(t *testing.T) {
			dir := testtree.Lay(t, map[string]string{"kiln.c": c.source})
			if out := toolOutput(t, dir, "gcc", "-g", "-fsanitize="+c.kind, "kiln.c", "-o", "kiln", "-lpthread"); len(out) > 0 {
				t.Skipf("not to be had: %s", out)
			}
			out := toolOutput(t, dir, "./kiln")
			summary := regexp.MustCompile(`SUMMARY: \w+: [\w -]+? \S*?(\w+\.c:\d+)`).FindSubmatch(out)
			if summary == nil {
				t.Skipf("the sanitizer does not run here: %s", out)
			}
			got := sift(t, out)
			if len(got) != 1 || places(got)[0] != string(summary[1]) {
				t.Fatalf("got %q, the summary says %s:\n%s", places(got), summary[1], out)
			}
			if len(got[0].Related) == 0 {
				t.Errorf("the other stacks are not told: %s", out)
			}
		})
	}
}

// valgrind's XML names for each error its first frame with a file.
func TestValgrindAgainstItsXML(t *testing.T) {
	t.Parallel()
	testtree.Needs(t, "gcc", "valgrind")
	dir := testtree.Lay(t, map[string]string{"kiln.c": "#include <stdlib.h>\nstatic int use(int *p)\n{\n\tif (p[0] > 3)\n\t\treturn 1;\n\treturn p[4];\n}\nint main(void)\n{\n\tint *p = malloc(4 * sizeof *p);\n\tint r = use(p);\n\tfree(p);\n\tfree(p);\n\tp = malloc(7);\n\tp = 0;\n\treturn r & 0;\n}\n"})
	toolOutput(t, dir, "gcc", "-g", "-w", "kiln.c", "-o", "kiln")
	if out := toolOutput(t, dir, "valgrind", "--leak-check=full", "--xml=yes", "--xml-file=kiln.xml", "./kiln"); strings.Contains(string(out), "Fatal error at startup") {
		t.Skipf("valgrind does not run here: %s", out)
	}
	raw, err := os.ReadFile(filepath.Join(dir, "kiln.xml"))
	if err != nil {
		t.Fatal(err)
	}
	var truth struct {
		Errors []struct {
			Stacks []struct {
				Frames []struct {
					File string `xml:"file"`
					Line int    `xml:"line"`
				} `xml:"frame"`
			} `xml:"stack"`
		} `xml:"error"`
	}
	if err := xml.Unmarshal(raw, &truth); err != nil {
		t.Fatal(err)
	}
	var want []string
	for _, e := range truth.Errors {
		for _, f := range e.Stacks[0].Frames {
			if f.File != "" && !strings.HasPrefix(f.File, "vg_") {
				want = append(want, fmt.Sprintf("%s:%d", f.File, f.Line))
				break
			}
		}
	}
	slices.Sort(want)
	if got := places(sift(t, toolOutput(t, dir, "valgrind", "--leak-check=full", "./kiln"))); len(want) < 3 || !slices.Equal(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
}

// Node's test runner says the same in a terminal as in its protocol, and the
// dots name the frames.
func TestNodeTestsInEachForm(t *testing.T) {
	t.Parallel()
	testtree.Needs(t, "node")
	dir := testtree.Lay(t, map[string]string{
		"kiln.test.mjs": "import test from 'node:test';\nimport assert from 'node:assert';\nimport { heat } from './kiln.mjs';\ntest('heats', () => { assert.strictEqual(heat(2), 3); });\n\ntest('throws', () => { heat(9); });\ntest('passes', () => {});\ntest('late', async () => { await Promise.reject(new Error('late')); });\n",
		"kiln.mjs":      "export function heat(x) {\n  if (x > 5) throw new RangeError('too hot ' + x);\n  return x;\n}\n",
	})
	form := func(reporter string) []problem.Problem {
		return sift(t, toolOutput(t, dir, "node", "--test", "--test-reporter="+reporter, "kiln.test.mjs"))
	}
	tap := form("tap")
	if len(tap) == 0 || tap[0].Line == 0 {
		t.Skip("this Node.js tells no places")
	}
	spec := form("spec")
	said := func(problems []problem.Problem) (all []string) {
		for _, p := range problems {
			first, _, _ := strings.Cut(p.Message, "\n")
			all = append(all, fmt.Sprintf("%s:%d:%d %s %s", filepath.Base(p.File), p.Line, p.Column, p.Code, first))
		}
		slices.Sort(all)
		return all
	}
	if got, want := said(spec), said(tap); len(want) != 3 || !slices.Equal(got, want) {
		t.Errorf("for people\n%q\nas a protocol\n%q", got, want)
	}
	for _, p := range spec {
		if p.Code == "throws" && (filepath.Base(p.File) != "kiln.mjs" || len(p.Related) != 1 || p.Related[0].Line != 6) {
			t.Errorf("where it was thrown, and declared: %+v", p)
		}
	}
	if got, want := places(form("dot")), []string{"kiln.mjs:2", "kiln.test.mjs:4", "kiln.test.mjs:8"}; !slices.Equal(got, want) && len(got) > 0 {
		t.Errorf("with dots: %q, want %q", got, want)
	}
}

// A file of tests that cannot be loaded is one problem, in each form: why it cannot; and a test of it that has that name too
// stays, when nothing says why it failed.
func TestFilesThatNodeCannotLoad(t *testing.T) {
	t.Parallel()
	testtree.Needs(t, "node")
	dir := testtree.Lay(t, map[string]string{
		"a.test.mjs": "import test from 'node:test';\nimport x from './none.mjs';\n",
		"b.test.js":  "const test = require('node:test');\nJSON.parse('{');\n",
		"c.test.js":  "require('node:test');\nrequire('./c.js').fire();\n", "c.js": "exports.fire = () => { throw new Error('cold'); };\n",
		"d.test.js": "process.exit(3);\n", "e.test.js": "const x = ;\n",
	})
	for _, reporter := range []string{"tap", "spec"} {
		got := places(sift(t, toolOutput(t, dir, "node", "--test", "--test-reporter="+reporter)))
		if want := []string{"a.test.mjs:0", "b.test.js:2", "c.js:1", "d.test.js:1", "e.test.js:1"}; !slices.Equal(got, want) {
			t.Errorf("%s: %q, not %q", reporter, got, want)
		}
	}
}

// The interpreter runs what it says that it read: unittest, doctest, groups of
// exceptions, warnings.
func TestPythonProgramsLive(t *testing.T) {
	t.Parallel()
	testtree.Needs(t, "python3")
	kiln := "def heat(x):\n    \"\"\"\n    >>> heat(2)\n    3\n    >>> heat(4)\n    4\n    \"\"\"\n    if x > 8:\n        raise ValueError('too hot')\n    return x\n"
	for _, c := range []struct {
		name, main string
		argv       []string
		want       []string
	}{
		{"doctest", "", []string{"python3", "-m", "doctest", "kiln.py"}, []string{"kiln.py:3"}},
		{"unittest", "import unittest\nfrom kiln import heat\nclass K(unittest.TestCase):\n    def test_heat(self):\n        self.assertEqual(heat(1), 2)\n    def test_throw(self):\n        heat(9)\n    def test_ok(self):\n        heat(1)\n", []string{"python3", "-m", "unittest", "main"}, []string{"kiln.py:9", "main.py:5"}},
		{"group", "from kiln import heat\ndef each():\n    errors = []\n    for x in (9, 1, 'a'):\n        try:\n            heat(x)\n        except Exception as e:\n            errors.append(e)\n    raise ExceptionGroup('firing', errors)\neach()\n", []string{"python3", "main.py"}, []string{"kiln.py:8", "kiln.py:9"}},
		{"warning", "import warnings\nwarnings.warn('old glaze', DeprecationWarning)\n", []string{"python3", "-W", "always", "main.py"}, []string{"main.py:2"}},
		{"chain", "from kiln import heat\ntry:\n    heat(9)\nexcept ValueError as e:\n    raise KeyError('kiln') from e\n", []string{"python3", "main.py"}, []string{"main.py:5"}},
		{"compile", "def f(:\n    pass\n", []string{"python3", "-m", "py_compile", "main.py"}, []string{"main.py:1"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := testtree.Lay(t, map[string]string{"kiln.py": kiln, "main.py": c.main})
			if c.name == "group" && len(toolOutput(t, dir, "python3", "-c", "ExceptionGroup")) > 0 {
				t.Skip("this Python has no groups")
			}
			out := toolOutput(t, dir, c.argv[0], c.argv[1:]...)
			if got := places(sift(t, out)); !slices.Equal(got, c.want) {
				t.Errorf("got %q, want %q from\n%s", got, c.want, out)
			}
		})
	}
}

// cargo counts the tests that failed; each is a problem.
func TestCargoTestsAgainstTheirCount(t *testing.T) {
	t.Parallel()
	testtree.Needs(t, "cargo")
	dir := testtree.Lay(t, map[string]string{"Cargo.toml": "[package]\nname = \"kiln\"\nversion = \"0.1.0\"\nedition = \"2021\"\n[lib]\npath = \"lib.rs\"\n", "lib.rs": `pub fn heat(x: u32) -> u32 { x }
#[cfg(test)]
mod tests {
    #[test]
    fn equal() { assert_eq!(super::heat(1), 2, "not {}", "warm"); }
    #[test]
    fn index() { let v: Vec<u8> = vec![]; let _ = v[super::heat(3) as usize]; }
    #[test]
    fn result() -> Result<(), String> { Err("hot".into()) }
    #[test]
    #[should_panic]
    fn should() {}
    #[test]
    fn passes() {}
}
`})
	out := toolOutput(t, dir, "cargo", "test", "--offline")
	counted := regexp.MustCompile(`(\d+) passed; (\d+) failed`).FindSubmatch(out)
	if counted == nil {
		t.Skipf("cargo does not run here: %s", out)
	}
	got := sift(t, out)
	if fmt.Sprint(len(got)) != string(counted[2]) || string(counted[2]) != "4" {
		t.Errorf("%d problems, cargo counts %s:\n%s\n%s", len(got), counted[2], lines(got), out)
	}
}

// The words of one language must not stand for two severities, and must be found
// as they are printed.
func TestSpokenWords(t *testing.T) {
	t.Parallel()
	seen := map[string]problem.Severity{}
	for severity, list := range spokenWords {
		for _, word := range oneOf(list) {
			if before, twice := seen[word]; twice {
				t.Errorf("%q stands for %s and %s", word, before, severity)
			}
			seen[word] = severity
			if word != strings.ToLower(strings.TrimSpace(word)) || word == "" {
				t.Errorf("%q is not as it is looked for", word)
			}
			_, size := utf8.DecodeRuneInString(word)
			for _, text := range []string{word + ": x", word + "：x", word + "\u00a0: x", strings.ToUpper(word[:size]) + word[size:] + ": x"} {
				got, n, ok := spokenSeverity([]byte(text))
				if !ok || got != severity || strings.TrimSpace(text[n:]) != "x" {
					t.Errorf("%q: %v %v, the rest is %q", text, got, ok, text[n:])
				}
			}
		}
	}
	if len(enteringFolder) != len(leavingFolder) {
		t.Errorf("%d phrases of entering, %d of leaving", len(enteringFolder), len(leavingFolder))
	}
	for i := range enteringFolder {
		for _, phrases := range [][]string{enteringFolder, leavingFolder} {
			said := strings.Replace(phrases[i], "*", "„/w/kiln“", 1)
			if dir, ok := between([]byte(said), phrases); !ok || string(dir) != "/w/kiln" {
				t.Errorf("%q: %q %v", said, dir, ok)
			}
		}
	}
}

// maven says each problem twice, with its details in two forms, and its tests
// as traces; see testdata/maven/README.md.
func TestMaven(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{
		"compile": "/w/src/main/java/k/Kiln.java:5:5: warning: found raw type: java.util.List missing type arguments for generic class java.util.List<E>\n" +
			"/w/src/main/java/k/Kiln.java:5:18: warning: found raw type: java.util.ArrayList missing type arguments for generic class java.util.ArrayList<E>\n" +
			"/w/src/main/java/k/Kiln.java:4:13: error: incompatible types: java.lang.String cannot be converted to int\n" +
			"/w/src/main/java/k/Kiln.java:6:30: error: cannot find symbol symbol: method nope(int) location: class k.Kiln\n",
		"test": "k/KilnTest.java:5: error: java.lang.AssertionError: glaze expected:<3> but was:<2> [heats(k.KilnTest)]\n" +
			"k/KilnTest.java:6: error: java.lang.IllegalStateException: too hot [throwsIt(k.KilnTest)]\n",
	} {
		if got := lines(sift(t, read(t, "maven/"+name+".log"))); got != want {
			t.Errorf("%s: got\n%swant\n%s", name, got, want)
		}
	}
}

// A program that ends with an exception: the first frame of its own, also in an
// inner class, and what caused it.
func TestJavaProgramLive(t *testing.T) {
	t.Parallel()
	testtree.Needs(t, "javac", "java")
	dir := testtree.Lay(t, map[string]string{"Kiln.java": `package k;
public class Kiln {
    static class Coil {
        int heat(int x) {
            try {
                return java.util.List.of(1).get(x);
            } catch (RuntimeException e) {
                throw new IllegalStateException("too hot", e);
            }
        }
    }
    public static void main(String[] args) {
        new Coil().heat(5);
    }
}
`})
	if out := toolOutput(t, dir, "javac", "-d", "out", "Kiln.java"); len(out) > 0 {
		t.Fatalf("%s", out)
	}
	out := toolOutput(t, dir, "java", "-cp", "out", "k.Kiln")
	got := sift(t, out)
	if len(got) != 1 || got[0].File != "k/Kiln.java" || got[0].Line != 8 || !strings.HasPrefix(got[0].Message, "java.lang.IllegalStateException: too hot") ||
		len(got[0].Related) != 1 || got[0].Related[0].Line != 6 {
		t.Errorf("got\n%s\nfrom\n%s", lines(got), out)
	}
}
