package reader

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// What is plain data in a configuration is what the program itself exports; what
// is not is said to be unknown.
func TestPlainDataOfConfigurationsAgainstNode(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		line int // of the key; 0 where the value is no plain data
	}{
		"object.mjs":     {"export default { build: { outDir: 'dist/a' }, x: [1, 2] }", 1},
		"comments.mjs":   {"/* { build: { outDir: 'no' } }\n*/\nexport default {\n  // build: { outDir: 'no' },\n  build: { /* here */ outDir: \"b\", },\n}", 5},
		"function.mjs":   {"const define = (x) => x\nexport default define({\n  plugins: [function () { return { name: 'build: { outDir' } }],\n  build: { outDir: `c` },\n})", 4},
		"regular.mjs":    {"export default {\n  test: /[/'\"]{2}/,\n  half: 4 / 2,\n  'build': { 'outDir': 'd' },\n}", 4},
		"require.cjs":    {"const path = require('path')\nmodule.exports = {\n  build: { outDir: path.resolve(__dirname, 'e', 'f') },\n}", 3},
		"named.mjs":      {"const config = { build: { outDir: 'g' } }\nexport default config", 1},
		"escape.mjs":     {`export default { build: { outDir: 'it\'s' } }`, 1},
		"computed.mjs":   {"const d = 'x'\nexport default { build: { outDir: d } }", 0},
		"added.mjs":      {"export default { build: { outDir: 'a' + '/b' } }", 0},
		"template.mjs":   {"const v = 1\nexport default { build: { outDir: `v${v}` } }", 0},
		"choice.mjs":     {"export default { build: { outDir: 1 > 0 ? 'a' : 'b' } }", 0},
		"elsewhere.mjs":  {"export default { test: { build: { outDir: 'no' } }, build: {} }", 0},
		"returned.mjs":   {"function f() {\n  return { build: { outDir: 'h' } }\n}\nexport default f()", 2},
		"arrow.mjs":      {"const f = () => ({ build: { outDir: 'i' } })\nexport default f()", 1},
		"labels.mjs":     {"label: { let outDir = 'no' }\nconst q = true ? { build: 1 } : 2\nexport default { build: { outDir: 'j' } }", 3},
		"subfolders.mjs": {"export default { build: { rollup: { outDir: 'no' }, outDir: 'k' } }", 1},
	} {
		t.Run(name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), name)
			if err := os.WriteFile(file, []byte(c.text), 0o644); err != nil {
				t.Fatal(err)
			}
			out, err := exec.Command("node", "-e", `import(process.argv[1]).then(m => console.log(JSON.stringify((m.default.build || {}).outDir ?? null)))`, file).Output()
			if err != nil {
				t.Skipf("node: %v", err)
			}
			var truth *string
			if err := json.Unmarshal(out, &truth); err != nil {
				t.Fatalf("%s: %v", out, err)
			}
			got := jsSetting([]byte(c.text), "build.outDir")
			if c.line == 0 {
				if got.plain {
					t.Errorf("is said to be plain: %+v, node says %s", got, out)
				}
				return
			}
			want := strings.TrimPrefix(*truth, filepath.Dir(file)+"/")
			if !got.plain || len(got.texts) != 1 || got.texts[0] != want || got.line != c.line {
				t.Errorf("got %+v, node says %q, in line %d", got, want, c.line)
			}
		})
	}
}

func FuzzJSSetting(f *testing.F) {
	for _, s := range []string{"export default { a: { b: 'c' } }", "{a:[`${", "a: /[/]/ {", "path.join(__dirname,", "({a:{b:path.resolve(__dirname,'x')}})"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		if s := jsSetting(data, "a.b"); s.there && (s.line < 1 || s.line > strings.Count(string(data), "\n")+1) {
			t.Errorf("line %d of %q", s.line, data)
		}
	})
}

func FuzzShellCalls(f *testing.F) {
	for _, s := range []string{"a && b", "if x; then 'y z'; fi", "$(a `b`)", "a | b <<E\nE\n", "'"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, line string) {
		for _, c := range shellCalls(line) {
			if !strings.Contains(line, strings.TrimSpace(c.text)) {
				t.Errorf("%q is not in %q", c.text, line)
			}
		}
	})
}
