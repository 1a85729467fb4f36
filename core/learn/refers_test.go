package learn

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/cespare/xxhash/v2"
)

// What may lead to another file counts, wherever comments and strings begin and end; nothing else does.
func TestReferences(t *testing.T) {
	const c = "#include \"a.h\"\n#if X\n#include <b.h>\n#endif\nint main(void) { return f(\"/*\"); }\n"
	const golang = "package p\n\nimport (\n\t\"fmt\"\n)\n\nfunc f() { fmt.Println(\"x\") }\n"
	const rust = "mod a;\nuse b::c;\nfn main() { println!(\"{}\", 1); let c = '\"'; }\n"
	for _, c := range []struct {
		name, was, is string
		same          bool
	}{
		{"a.c", c, c + "// more\n/* and more */\nint x;\n", true},
		{"a.c", c, "/* #include \"c.h\" */\n" + c, true},
		{"a.c", "/*\n" + c, c, false},
		{"a.c", c, "/*\n" + c, false},
		{"a.c", c, "/*\n*/" + c, true},
		{"a.c", "//\\\n#include \"z.h\"\n", "//\n#include \"z.h\"\n", false},
		{"a.c", "char *s = \"\n#include <q.h>\n\";", "char *s = \"/*\n#include <q.h>\n\";", true},
		{"a.c", c, "#define X 1\n" + c, false},
		{"a.c", "#define X \\\n 1\n", "#define X \\\n 2\n", false},
		{"a.c", "int a = 'x';\n#include \"y\"\n", "int a = '\\'';/*\n#include \"y\"\n*/", false},
		{"a.cc", "auto s = R\"(/*)\";\n#include <a>\n", "auto s = R\"(/*)\"; int b;\n#include <a>\n", true},
		{"a.cc", "auto s = R\"x()\" /*)x\";\n#include <a>\n", "auto s = \"x()\" /*)x\";\n#include <a>\n*/", false},
		{"a.c", "#error don\"t\nchar *s = \"/*\";\n#include <a>\n", "#error don\"t\nchar *s = \"/*\";\n#include <b>\n", false},
		{"a.cc", "import m;\n", "import n;\n", false},
		{"a.cc", "  %: include <a>\n", "", false},
		{"a.s", "\t.incbin \"a\"\n", "\t.incbin \"b\"\n", false},
		{"a.go", golang, golang + "// more\nfunc g() {}\n", true},
		{"a.go", golang, "package p\n\nimport (\n\t\"os\"\n)\n\nfunc f() {}\n", false},
		{"a.go", golang, golang + "//go:embed x\n", false},
		{"a.go", golang, "//go:build linux\n\n" + golang, false},
		{"a.go", "package p\n\n// #include \"a.h\"\nimport \"C\"\n", "package p\n\n// #include \"b.h\"\nimport \"C\"\n", false},
		{"a.rs", rust, rust + "fn f<'a>(x: &'a str) -> &'a str { x } // mod b;\n/* /* */ mod c; */\n", true},
		{"a.rs", rust, rust + "mod b;\n", false},
		{"a.rs", rust, rust + "const X: &str = include_str!(\"x\");\n", false},
		{"a.rs", rust, rust + "fn g() { sql::query!(\"x\") }\n", false},
		{"a.rs", rust + "const S: &str = r#\"\"/*\"#;\nmod z;\n", rust + "const S: &str = r#\"\"/* \"#;\nmod z; // */\n", true},
	} {
		file := filepath.Join(t.TempDir(), c.name)
		var hashes [2]uint64
		for i, text := range []string{c.was, c.is} {
			if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
			if hashes[i] = referencesIn(file); hashes[i] == 0 {
				t.Errorf("%s: nothing is known of\n%s", c.name, text)
			}
		}
		if (hashes[0] == hashes[1]) != c.same {
			t.Errorf("%s: the same: %v\n%s----\n%s", c.name, !c.same, c.was, c.is)
		}
	}
	for name, text := range map[string]string{"a.go": "package", "a.py": "import x\n", "Makefile": "all:\n"} {
		file := filepath.Join(t.TempDir(), name)
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		if referencesIn(file) != 0 {
			t.Errorf("%s is taken for known", name)
		}
	}
}

// Comments that are taken away lose no line, nothing else, and end somewhere.
func FuzzWithoutComments(f *testing.F) {
	f.Add([]byte("a /* b */ c // d\n'\"' \"/*\" R\"x(/*)x\" r#\"\"#"), true)
	f.Fuzz(func(t *testing.T, text []byte, rust bool) {
		out := withoutComments(text, rust)
		if again := withoutComments(out, rust); len(again) > len(out) || len(out) > len(text)+1 {
			t.Errorf("%q: %q, then %q", text, out, again)
		}
		for i := range languages {
			languages[i].refer(text, xxhash.New())
		}
	})
}
