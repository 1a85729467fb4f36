package lexers

import (
	"io/fs"
	"testing"

	"github.com/alecthomas/chroma/v2"
)

// Each lexer can be read and finds its tokens: what is not understood is an error token.
func TestEachLexerColours(t *testing.T) {
	names, err := fs.Glob(files, "*.xml")
	if err != nil || len(names) < 60 {
		t.Fatalf("%d lexers (%v)", len(names), err)
	}
	for _, name := range names {
		l, err := chroma.NewXMLLexer(files, name)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if _, err := l.Tokenise(nil, "a = 1\n"); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, c := range []struct{ file, text string }{
		{"a/b.go", "package x\n\n// c\nvar s = \"a\\\"b\" + `c\nd` + string('\\n')\nfunc f(a int) (n []int) { return a<<3, 0x1F }\n"},
		{"main.c", "#include <x.h>\nint main(void) { return \"x\"[0]; } // end\n"},
		{"app.tsx", "const a: string = <b>x</b>;\n"},
		{"x.py", "def f():\n    return 'a'\n"},
		{"Makefile", "all:\n\ttrue\n"},
		{"x.rs", "fn main() { let x = 1; }\n"},
	} {
		l := Match(c.file)
		if l == nil {
			t.Errorf("no lexer for %s", c.file)
			continue
		}
		tokens, err := l.Tokenise(nil, c.text)
		if err != nil {
			t.Errorf("%s: %v", c.file, err)
			continue
		}
		kinds := map[chroma.TokenType]bool{}
		text := ""
		for tok := tokens(); tok != chroma.EOF; tok = tokens() {
			kinds[tok.Type] = true
			text += tok.Value
		}
		if kinds[chroma.Error] || text != c.text || len(kinds) < 3 {
			t.Errorf("%s: %v, text %q", c.file, kinds, text)
		}
	}
	if Match("x.unknown") != nil {
		t.Error("a lexer for an unknown ending")
	}
}
