// Package core_test holds the direction of the imports: arrows point downward.
package core_test

import (
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

type listed struct {
	ImportPath string
	Imports    []string
	Deps       []string
}

func packages(t *testing.T) map[string]listed {
	t.Helper()
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "tidytally/...")
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	all := map[string]listed{}
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p listed
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		all[p.ImportPath] = p
	}
	return all
}

func TestTheCoreHasNoInterfaceCode(t *testing.T) {
	found := 0
	for path, p := range packages(t) {
		if !strings.HasPrefix(path, "tidytally/core/") {
			continue
		}
		found++
		for _, d := range p.Deps {
			if strings.HasPrefix(d, "charm.land/") || strings.HasPrefix(d, "tidytally/tui") || strings.HasPrefix(d, "tidytally/cmd") || strings.HasPrefix(d, "tidytally/demo") || strings.HasPrefix(d, "github.com/spf13/cobra") {
				t.Errorf("%s depends on %s", path, d)
			}
		}
	}
	if found < 8 {
		t.Errorf("only %d packages of the core were looked at", found)
	}
}

// floors lists the packages of the core from the ground up. A package imports
// only those of lower floors, and those of its own floor that stand before it.
var floors = [][]string{
	{"files", "secret", "printable", "jsontext", "filter", "sieve/buildlog"},
	{"datatext", "task", "problem", "keep", "crash", "commit"},
	{"output", "trace", "learn", "plan", "workspace", "tallyfile", "toolchain", "sieve/lex", "sarif", "draft"},
	{"sieve", "reader/declare"},
	{"sieve/family", "reach", "reader/makefile", "reader/cmakelists", "reader/editorfile"},
	{"sift", "reader"},
	{"run", "survey"},
	{"history", "draw", "hand"},
	{"session"},
}

func TestArrowsPointDownward(t *testing.T) {
	const core = "tidytally/core/"
	floor, place := map[string]int{}, map[string]int{}
	for i, names := range floors {
		for j, name := range names {
			floor[core+name], place[core+name] = i, j
		}
	}
	for path, p := range packages(t) {
		if !strings.HasPrefix(path, core) {
			continue
		}
		at, ok := floor[path]
		if !ok {
			t.Errorf("%s is on no floor: give it one in floors", path)
		}
		for _, d := range p.Imports {
			if !strings.HasPrefix(d, "tidytally/") || strings.HasPrefix(d, "tidytally/internal/") {
				continue
			}
			if below, ok := floor[d]; !ok || below > at || below == at && place[d] >= place[path] {
				t.Errorf("%s imports %s, which is not below it", path, d)
			}
		}
	}
}

// Each statement about what is read, run and kept names tests that there are.
func TestStatementsNameTheirTests(t *testing.T) {
	text, err := os.ReadFile("../docs/trust.md")
	if err != nil {
		t.Fatal(err)
	}
	known := map[string]bool{}
	err = filepath.WalkDir("..", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(name, "_test.go") {
			return err
		}
		data, err := os.ReadFile(name)
		for _, m := range regexp.MustCompile(`(?m)^func (\w+)\(`).FindAllSubmatch(data, -1) {
			known[string(m[1])] = true
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`((?:Test|Fuzz)\\w+)`").FindAllStringSubmatch(string(text), -1)
	for _, m := range named {
		if !known[m[1]] {
			t.Errorf("there is no test %s", m[1])
		}
	}
	if len(named) < 30 {
		t.Errorf("only %d tests are named", len(named))
	}
}
