package family

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/internal/testtree"
)

// gccDiagnostic is gcc's -fdiagnostics-format=json (GCC manual, "Options to
// Control Diagnostic Messages Formatting").
type gccDiagnostic struct {
	Kind      string
	Message   string
	Option    string
	Locations []struct {
		Caret struct {
			File   string
			Line   int
			Column int
		}
	}
	Children []gccDiagnostic
}

// The compiler's text, plain and in colour, is compared with its own JSON for
// the same input.
func TestGccAgainstItsJSON(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ compiler, file string }{{"gcc", "c/plain.c"}, {"gcc", "c/syntax.c"}, {"g++", "c/templates.cc"}} {
		if _, err := exec.LookPath(c.compiler); err != nil {
			t.Skipf("%s is not installed", c.compiler)
		}
		run := func(args ...string) []byte {
			cmd := exec.Command(c.compiler, append(args, "-Wall", "-Wextra", "-c", "-o", os.DevNull, filepath.Base(c.file))...)
			cmd.Dir = filepath.Join("testdata", filepath.Dir(c.file))
			out, _ := cmd.CombinedOutput() // it fails: the input is wrong on purpose
			return out
		}
		var truth []gccDiagnostic
		raw := run("-fdiagnostics-format=json")
		if err := json.NewDecoder(bytes.NewReader(raw[bytes.IndexByte(raw, '['):])).Decode(&truth); err != nil {
			t.Fatal(err)
		}
		// A note that follows its problem in the JSON belongs to it.
		for i := len(truth) - 1; i > 0; i-- {
			if truth[i].Kind == "note" && !strings.Contains(truth[i].Message, "#pragma message") {
				truth[i-1].Children = append(append(truth[i-1].Children, truth[i]), truth[i].Children...)
				truth = slices.Delete(truth, i, i+1)
			}
		}
		// The text says again what a macro brings twice; it is counted there.
		truth = slices.CompactFunc(truth, func(a, b gccDiagnostic) bool {
			return a.Message == b.Message && a.Kind == b.Kind && a.Locations[0] == b.Locations[0]
		})
		if len(truth) < 2 {
			t.Fatalf("%s finds only %d problems in %s", c.compiler, len(truth), c.file)
		}
		for _, colour := range []string{"never", "always"} {
			got := sift(t, run("-fdiagnostics-color="+colour))
			if len(got) != len(truth) {
				t.Fatalf("%s, colour %s: %d problems, want %d:\n%s", c.file, colour, len(got), len(truth), lines(got))
			}
			for i, w := range truth {
				compareGcc(t, c.file+" "+colour, got[i], w)
			}
		}
	}
}

func compareGcc(t *testing.T, name string, got problem.Problem, want gccDiagnostic) {
	t.Helper()
	severity := strings.TrimPrefix(want.Kind, "fatal ")
	at := want.Locations[0].Caret
	place := got.Place
	if place.Line != at.Line && len(got.Related) > 0 {
		place = got.Related[len(got.Related)-1].Place // inside of a macro: the JSON says where it was expanded
	}
	if got.Severity.String() != severity || place.File != at.File || place.Line != at.Line || place.Column != at.Column || got.Message != want.Message {
		t.Errorf("%s: got %s\nwant %s:%d:%d: %s: %s", name, got.GNU(), at.File, at.Line, at.Column, severity, want.Message)
	}
	if code := cleanCode(want.Option); got.Code != code {
		t.Errorf("%s: %s: code %q, want %q", name, got.GNU(), got.Code, code)
	}
	for _, child := range want.Children {
		c := child.Locations[0].Caret
		if !slices.ContainsFunc(got.Related, func(r problem.Related) bool {
			return r.File == c.File && r.Line == c.Line && r.Column == c.Column && words(r.Message) == words(child.Message)
		}) {
			t.Errorf("%s: %s: the note %s:%d:%d: %s is missing", name, got.GNU(), c.File, c.Line, c.Column, child.Message)
		}
	}
}

func goTool(t *testing.T, dir string, args ...string) []byte {
	t.Helper()
	cmd := exec.Command("go", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "GOFLAGS=-mod=mod", "GOWORK=off")
	out, _ := cmd.CombinedOutput() // it fails: the input is wrong on purpose
	return out
}

func inFolder(t *testing.T, dir string, output []byte) []problem.Problem {
	t.Helper()
	var c sieve.Collector
	e := sieve.New(All, sieve.Options{Root: dir, Problem: c.Problem, Repeat: c.Repeat, Exists: func(p string) bool {
		if !filepath.IsAbs(p) {
			p = filepath.Join(dir, p)
		}
		_, err := os.Stat(p)
		return err == nil
	}})
	e.Write(output)
	e.Close()
	return c.Problems
}

var goModule = map[string]string{
	"go.mod": "module kiln.example/studio/firing\n\ngo 1.22\n",
	"vetted/v.go": `package vetted

import "fmt"

type T struct{ a int }

func F(t T) {
	t.a = t.a
	fmt.Printf("%d\n", "text")
	fmt.Println("x\n")
	return
	fmt.Println("never")
}
`,
	"broken/b.go": `package broken

func f(a int) int {
	x := 1
	var s string = a
	g(a, 2)
}

func g(a int) {}
func g(b string) {}
`,
	"tested/t.go": "package tested\n\nfunc Add(a, b int) int { return a - b }\n",
	"tested/t_test.go": `package tested

import "testing"

func TestAdd(t *testing.T) {
	if Add(1, 2) != 3 {
		t.Errorf("Add(1, 2) = %d,\nwant %d", Add(1, 2), 3)
	}
}

func TestLoud(t *testing.T) { t.Log("fine") }

func TestCases(t *testing.T) {
	for _, name := range []string{"good", "bad one"} {
		t.Run(name, func(t *testing.T) {
			if name != "good" {
				t.Fatal("spoilt")
			}
		})
	}
}
`,
	"panics/p_test.go": `package panics

import "testing"

func fire(n []int) int { return n[3] }

func TestFire(t *testing.T) { fire(nil) }
`,
}

// go vet -json gives the places that its text must give.
func TestGoVetAgainstItsJSON(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testtree.Fill(t, dir, goModule)
	got := inFolder(t, dir, goTool(t, dir, "vet", "./vetted"))
	raw := goTool(t, dir, "vet", "-json", "./vetted")
	var truth map[string]map[string][]struct{ Posn, Message string }
	start := bytes.IndexByte(raw, '{')
	if err := json.NewDecoder(bytes.NewReader(raw[start:])).Decode(&truth); err != nil {
		t.Fatalf("%v in %s", err, raw)
	}
	var want []string
	for _, byCheck := range truth {
		for _, list := range byCheck {
			for _, d := range list {
				want = append(want, strings.TrimPrefix(d.Posn, dir+"/")+": error: "+d.Message)
			}
		}
	}
	var have []string
	for _, p := range got {
		have = append(have, p.GNU())
	}
	slices.Sort(want)
	slices.Sort(have)
	if len(want) < 3 || !slices.Equal(want, have) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(have, "\n"), strings.Join(want, "\n"))
	}
}

func TestGoBuildAndTest(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	testtree.Fill(t, dir, goModule)
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"build", "./broken"}, "broken/b.go:4:2: error: declared and not used: x\nbroken/b.go:5:6: error: declared and not used: s\n" +
			"broken/b.go:5:17: error: cannot use a (variable of type int) as string value in variable declaration\n" +
			"broken/b.go:6:7: error: too many arguments in call to g have (int, number) want (int)\nbroken/b.go:7:1: error: missing return\n" +
			"broken/b.go:10:6: error: g redeclared in this block\n  broken/b.go:9:6: other declaration of g\n"},
		{[]string{"test", "./tested"}, "tested/t_test.go:7: error: Add(1, 2) = -1, want 3\ntested/t_test.go:17: error: spoilt\n"},
		{[]string{"test", "-v", "./tested"}, "tested/t_test.go:7: error: Add(1, 2) = -1, want 3\ntested/t_test.go:17: error: spoilt\n"},
		{[]string{"test", "./panics"}, "panics/p_test.go:5: error: panic: runtime error: index out of range [3] with length 0 [recovered, repanicked]\n  panics/p_test.go:7: called from here\n"},
	} {
		out := goTool(t, dir, c.args...)
		if got := lines(inFolder(t, dir, out)); got != c.want {
			t.Errorf("go %s: got\n%swant\n%soutput\n%s", strings.Join(c.args, " "), got, c.want, out)
		}
	}
}
