package family

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"tidytally/core/sieve"

	"tidytally/core/problem"
	"tidytally/internal/testtree"
)

// before stands before what is wrong: a tab, and characters of two, three and
// four bytes, the last of two units of UTF-16, two of them two cells wide.
const before = "\t/* é漢😀 */ "

// Each tool counts columns in its own way; whatever it is, the column leads to
// what the tool means. Where the tool is here it is asked; the columns in the
// table are those it gave.
func TestColumnsLeadToWhatIsMeant(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, family, file, text, word string
		column                         int
		argv                           []string
	}{
		{"gcc", "gnu", "a.c", "int f(void) {\n" + before + "return zzz;\n}\n", "zzz", 28, []string{"gcc", "-c", "a.c", "-o", os.DevNull}},
		{"gcc in bytes", "gnu", "a.c", "int f(void) {\n" + before + "return zzz;\n}\n", "zzz", 25, []string{"gcc", "-fdiagnostics-column-unit=byte", "-c", "a.c", "-o", os.DevNull}},
		{"clang", "gnu", "a.c", "int f(void) {\n" + before + "return zzz;\n}\n", "zzz", 25, []string{"clang", "-c", "a.c", "-o", os.DevNull}},
		{"go", "go", "a.go", "package a\n\nfunc f() int {\n" + before + "return zzz\n}\n", "zzz", 25, []string{"go", "vet", "a.go"}},
		{"tsc", "tsc", "a.ts", "export function f(): number {\n" + before + "return zzz;\n}\n", "zzz", 20, nil},
		{"rustc", "rust", "a.rs", "fn main() {\n" + before + "let _x = zzz;\n}\n", "zzz", 21, []string{"rustc", "a.rs", "-o", "a"}},
		{"javac", "java", "A.java", "class A { int f() {\n" + before + "return zzz;\n} }\n", "zzz", 20, []string{"javac", "-encoding", "UTF-8", "A.java"}},
		{"node", "node", "a.mjs", before + "const zzz = ;\n", ";", 25, []string{"node", "--check", "a.mjs"}},
		{"shellcheck", "shellcheck", "a.sh", "#!/bin/sh\n\techo \"é漢😀\" $zzz\n", "$zzz", 20, []string{"shellcheck", "a.sh"}},
		{"ocaml", "ocaml", "a.ml", "let f () =\n\tprint_string \"é漢😀\"; zzz ()\n", "zzz", 28, nil},
		{"nim", "nim", "a.nim", "echo \"é漢😀\", zzz\n", "zzz", 19, nil},
		{"zig", "zig", "a.zig", "\tconst x = \"é漢😀\"; _ = x; zzz();\n", "zzz", 32, nil},
		{"ghc", "ghc", "A.hs", "f = (length \"é漢😀\") + zzz\n", "zzz", 22, nil},
		{"erlc", "beam", "a.erl", "f() -> X = \"é漢😀\", zzz(X).\n", "zzz", 19, nil},
		{"biome", "boxed", "a.mjs", before + "const zzz = 1;\n", "zzz", 18, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			lines := strings.Split(c.text, "\n")
			leads := func(line string, column int) bool {
				runes := []rune(line)
				at := All.Columns(c.family).Rune(line, column)
				return at < len(runes) && strings.HasPrefix(string(runes[at:]), c.word)
			}
			for _, line := range lines {
				if strings.Contains(line, c.word) && strings.Contains(line, "漢") && !leads(line, c.column) {
					t.Errorf("column %d of %q does not lead to %s", c.column, line, c.word)
				}
			}
			if c.argv == nil {
				return
			}
			dir := testtree.Lay(t, map[string]string{c.file: c.text})
			got := sift(t, toolOutput(t, dir, c.argv[0], c.argv[1:]...))
			if len(got) == 0 {
				t.Fatal("nothing is wrong")
			}
			source, err := os.ReadFile(filepath.Join(dir, c.file))
			if err != nil {
				t.Fatal(err)
			}
			if p := got[0]; p.Family != c.family || !leads(string(bytes.Split(source, []byte("\n"))[p.Line-1]), p.Column) {
				t.Errorf("%s of %s leads elsewhere", p.GNU(), p.Family)
			}
		})
	}
}

// A column behind the end, or within a character, leads to no wrong place.
func FuzzColumns(f *testing.F) {
	f.Add("\tint é漢 = 1;", 9)
	f.Add("", 1)
	f.Add("\xff\xfe\t\u0301x", 4)
	f.Fuzz(func(t *testing.T, line string, column int) {
		n := len([]rune(line))
		for c := problem.Characters; c <= problem.Guessed; c++ {
			last := 0
			for at := 1; at <= min(max(column, 1), 300); at++ {
				i := c.Rune(line, at)
				if i < 0 || i > n {
					t.Fatalf("column %d of %q leads to %d of %d", at, line, i, n)
				}
				if c != problem.Guessed && i < last {
					t.Fatalf("column %d of %q leads back to %d", at, line, i)
				}
				last = i
			}
		}
	})
}

// Where a tool underlines what it means, the range is known: in characters, whatever their width and that of tabs.
func TestUnderlinedRanges(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]int{
		"error[E0308]: mismatched types\n --> a.rs:3:15\n  |\n3 |     let é: i32 = \"日本語x\";\n  |            ---   ^^^^^^^^^ expected `i32`\n": 21,
		"error: unexpected end\n --> a.rs:3:5\n  |\n3 |   if x {\n  |  _____^\n4 | |     y\n  | |_____^\n":                                     0, // of two lines
		"error[E1]: hot\n --> a.rs:3:5\n  |\n2 | fn a()\n3 |     hot();\n  |     ^^^ here\n":                                                   8,
		"▲ [WARNING] Comparison with NaN [equals-nan]\n\n    b.ts:3:10:\n      3 │ let z = x === NaN;\n        ╵           ~~~\n":              14,
		"✘ [ERROR] Unexpected \";\"\n\n    a.ts:3:26:\n      3 │   const fire: number = hot(;\n        ╵                            ^\n":       0, // a place between two characters
		"✘ [ERROR] Could not resolve \"ö\"\n\n    a.ts:1:14:\n      1 │ \timport y from \"góne日\";\n        ╵                 ~~~~~~~~\n":      22,
	} {
		var c sieve.Collector
		e := sieve.New(All, sieve.Options{Problem: c.Problem})
		e.Write([]byte(text))
		e.Close()
		if len(c.Problems) != 1 || c.Problems[0].EndColumn != want {
			t.Errorf("%q: %+v, want an end at %d", text, c.Problems, want)
		}
	}
}
