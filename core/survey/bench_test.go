package survey

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
)

// BenchmarkTenThousandFiles surveys a tree of 10 000 files with 260 declaring
// ones.
func BenchmarkTenThousandFiles(b *testing.B) {
	root := b.TempDir()
	for i := range 200 {
		dir := filepath.Join(root, fmt.Sprintf("g%d", i%14), fmt.Sprintf("part%d", i))
		if err := os.MkdirAll(filepath.Join(dir, "src"), 0o755); err != nil {
			b.Fatal(err)
		}
		for k := range 49 {
			if err := os.WriteFile(filepath.Join(dir, "src", fmt.Sprintf("f%d.c", k)), nil, 0o644); err != nil {
				b.Fatal(err)
			}
		}
		text, name := "all: lib ## Build\n\ttrue\nlib clean:\n\ttrue\n", "Makefile"
		if i%2 == 0 {
			text, name = `{"scripts":{"build":"tsc","test":"node --test","lint":"eslint ."}}`, "package.json"
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	for b.Loop() {
		s, err := Of(root)
		if err != nil || len(s.Tasks) != 600 {
			b.Fatal(len(s.Tasks), err)
		}
	}
}

// treeVariable names a tree that scripts/tree laid out.
const treeVariable = "TIDYTALLY_BENCH_TREE"

// BenchmarkSecondSurvey surveys a large tree again after one change.
func BenchmarkSecondSurvey(b *testing.B) {
	root := os.Getenv(treeVariable)
	if root == "" {
		b.Skipf("%s is not set", treeVariable)
	}
	v := NewSurveyor(root)
	if _, err := v.Survey(nil); err != nil {
		b.Fatal(err)
	}
	changed := filepath.Join("group00", "part00000", "package.json")
	for b.Loop() {
		if _, err := v.Update([]string{changed}); err != nil {
			b.Fatal(err)
		}
	}
}
