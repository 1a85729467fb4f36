package problem_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/family"
)

// compile runs gcc on a source and sifts what it prints.
func compile(t *testing.T, source string) []problem.Problem {
	t.Helper()
	return compileAs(t, "a.c", source)
}

func compileAs(t *testing.T, name, source string) []problem.Problem {
	t.Helper()
	if _, err := exec.LookPath("gcc"); err != nil {
		t.Skip("gcc is not installed")
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, name), []byte(source), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("gcc", "-Wall", "-c", name, "-o", os.DevNull)
	cmd.Dir = dir
	out, _ := cmd.CombinedOutput() // it fails where the source is wrong
	var c sieve.Collector
	sources := problem.Sources{Root: dir}
	e := sieve.New(family.All, sieve.Options{Problem: func(p problem.Problem) {
		p.LineText = sources.Line(p.File, p.Line)
		c.Problem(p)
	}, Repeat: c.Repeat})
	e.Write(out)
	e.Close()
	return c.Problems
}

// A file that has another name is the same file to a person; one that is copied is
// not, and neither is the same mistake made again elsewhere.
func TestCompareFollowsRenamedFiles(t *testing.T) {
	t.Parallel()
	const source = "void f(void)\n{\n\tint unused;\n\tmissing = 1;\n}\n"
	before := compileAs(t, "old.c", source)
	if len(before) != 2 || before[0].LineText == "" {
		t.Fatalf("%+v", before)
	}
	for _, c := range []struct {
		name            string
		after           []problem.Problem
		entered, struck int
	}{
		{"renamed", compileAs(t, "new.c", "/* moved */\n"+source), 0, 0},
		{"renamed, and one mended", compileAs(t, "new.c", strings.Replace(source, "missing = 1", "", 1)), 0, 1},
		{"copied", append(compileAs(t, "old.c", source), compileAs(t, "new.c", source)...), 2, 0},
		{"another mistake in another file", compileAs(t, "new.c", "void g(void)\n{\n\tabsent = 1;\n}\n"), 1, 2},
	} {
		got := problem.Compare(before, c.after, problem.Looks{})
		if got.New != c.entered || got.Balance.Gone != c.struck || got.Before+got.New-got.Balance.Gone != got.Now {
			t.Errorf("%s: %+v", c.name, got.Balance)
		}
	}
}

// A whole afternoon: each step is compared with the one before, as a person
// going by the page sees it.
func TestCompareOverASequenceOfEdits(t *testing.T) {
	t.Parallel()
	steps := []struct {
		what, source    string
		entered, struck int
	}{
		{"the start", "int f(int n)\n{\n\tint i;\n\treturn n + k;\n}\nint g(int n)\n{\n\tint i;\n\treturn n + k;\n}\n", 0, 0},
		{"the second function goes above the first", "int g(int n)\n{\n\tint i;\n\treturn n + k;\n}\nint f(int n)\n{\n\tint i;\n\treturn n + k;\n}\n", 0, 0},
		{"k is declared", "static int k;\nint g(int n)\n{\n\tint i;\n\treturn n + k;\n}\nint f(int n)\n{\n\tint i;\n\treturn n + k;\n}\n", 0, 4},
		{"a variable gets a value and stays unused", "static int k;\nint g(int n)\n{\n\tint i = 3;\n\treturn n + k;\n}\nint f(int n)\n{\n\tint i;\n\treturn n + k;\n}\n", 0, 0},
		{"the other is taken out", "static int k;\nint g(int n)\n{\n\tint i = 3;\n\treturn n + k;\n}\nint f(int n)\n{\n\treturn n + k;\n}\n", 0, 1},
		{"a typo", "static int k;\nint g(int n)\n{\n\tint i = 3;\n\treturn n + kk;\n}\nint f(int n)\n{\n\treturn n + k;\n}\n", 2, 0},
		{"mended again", "static int k;\nint g(int n)\n{\n\treturn n + k;\n}\nint f(int n)\n{\n\treturn n + k;\n}\n", 0, 3},
	}
	before := compile(t, steps[0].source)
	for _, s := range steps[1:] {
		after := compile(t, s.source)
		got := problem.Compare(before, after, problem.Looks{})
		if got.New != s.entered || got.Balance.Gone != s.struck {
			t.Errorf("%s: %+v\nbefore %v\nafter  %v", s.what, got.Balance, before, after)
		}
		before = after
	}
}

// Real edits, compiled by the real compiler, with what a person would say.
func TestCompareFollowsEdits(t *testing.T) {
	t.Parallel()
	const start = `void f(void)
{
	int a;
	int b;
	c = 1;
}

void g(void)
{
	int a;
	d = 1;
}
`
	type edit struct {
		name, source            string
		entered, struck, stayed int
	}
	before := compile(t, start)
	if len(before) != 5 {
		t.Fatalf("gcc finds %d problems, the test counts on 5: %v", len(before), before)
	}
	for _, e := range []edit{
		{"nothing", start, 0, 0, 5},
		{"lines inserted above", "/* one */\n/* two */\n\n" + start, 0, 0, 5},
		{"one mended", strings.Replace(start, "\tc = 1;\n", "", 1), 0, 1, 4},
		{"one added", strings.Replace(start, "d = 1", "int z; d = 1", 1), 1, 0, 5},
		{"one for another", strings.Replace(start, "d = 1", "other = 1", 1), 1, 1, 4},
		{"the second of two alike mended", strings.Replace(start, "void g(void)\n{\n\tint a;\n", "void g(void)\n{\n", 1), 0, 1, 4},
		{"functions in the other order", start[strings.Index(start, "void g"):] + "\n" + start[:strings.Index(start, "void g")], 0, 0, 5},
	} {
		after := compile(t, e.source)
		c := problem.Compare(before, after, problem.Looks{})
		if c.New != e.entered || c.Balance.Gone != e.struck || c.Now-c.New != e.stayed {
			t.Errorf("%s: %+v", e.name, c.Balance)
		}
		if c.Before+c.New-c.Balance.Gone != c.Now {
			t.Errorf("%s: the balance does not add up: %+v", e.name, c.Balance)
		}
	}
	// Of two alike, the one that is gone is the one that was mended.
	c := problem.Compare(before, compile(t, strings.Replace(start, "void f(void)\n{\n\tint a;\n", "void f(void)\n{\n", 1)), problem.Looks{})
	if len(c.Gone) != 1 || c.Gone[0].Line != 3 {
		t.Errorf("the first of two alike was mended, struck is %v", c.Gone)
	}
}

func TestCompareManyAlike(t *testing.T) {
	t.Parallel()
	var before, after []problem.Problem
	for i := range 20000 {
		before = append(before, problem.Problem{Place: problem.Place{File: "a.c", Line: i}, Message: "same"})
		if i%2 == 0 {
			after = append(after, problem.Problem{Place: problem.Place{File: "a.c", Line: i + 1}, Message: "same"})
		}
	}
	if c := problem.Compare(before, after, problem.Looks{}); c.Balance.Gone != 10000 || c.New != 0 {
		t.Errorf("%+v", c.Balance)
	}
}

func TestCountInWords(t *testing.T) {
	t.Parallel()
	for want, problems := range map[string][]problem.Severity{
		"no problems":         nil,
		"1 error":             {problem.Error},
		"2 errors, 1 warning": {problem.Error, problem.Warning, problem.Error},
	} {
		var list []problem.Problem
		for _, s := range problems {
			list = append(list, problem.Problem{Severity: s})
		}
		if got := fmt.Sprint(problem.CountOf(list)); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}

// The name that a message quotes is found in the line, in each kind of quotes, as a whole word that stands there once.
func TestTheNameThatAMessageQuotes(t *testing.T) {
	for _, c := range []struct{ message, line, want string }{
		{"cannot find symbol 'coil'", "\theat(coil, coils);", "coil"},
		{"undefined method `ramp' for nil", "    nil.ramp(n)", "ramp"},
		{"‘größe’ undeclared", "int y = größe;", "größe"},
		{`no field "a b" in 'heat'`, `x["a b"] = 1`, "a b"},
		{"'x' and 'y' differ", "y = z", "y"},
		{"unused variable 'i'", "i = i + 1", ""}, // which of them is not known
		{"can't open it's file", "can t open s", ""},
		{"unexpected token '('", "f(", "("},
		{"'coil", "coil", ""}, {"''", "''", ""}, {"plain", "plain", ""},
	} {
		from, to, ok := problem.Quoted(c.message, c.line)
		got := ""
		if ok {
			got = string([]rune(c.line)[from:to])
		}
		if got != c.want || ok != (c.want != "") {
			t.Errorf("%q in %q: %q, want %q", c.message, c.line, got, c.want)
		}
	}
}
