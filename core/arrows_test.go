// Package core_test holds the direction of the imports: arrows point downward.
package core_test

import (
	"encoding/json"
	"errors"
	"io"
	"os/exec"
	"slices"
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

// What a problem, a task or a text is does not hang on how it was found.
func TestTheGroundDependsOnNothingAbove(t *testing.T) {
	all := packages(t)
	ground := map[string][]string{
		"tidytally/core/problem":   nil,
		"tidytally/core/printable": nil,
		"tidytally/core/filter":    nil,
		"tidytally/core/task":      nil,
		"tidytally/core/sieve":     {"tidytally/core/problem", "tidytally/core/printable"},
		"tidytally/core/workspace": {"tidytally/core/task"},
		"tidytally/core/tallyfile": {"tidytally/core/task", "tidytally/core/datatext"},
		"tidytally/core/datatext":  {"tidytally/core/jsontext"},
		"tidytally/core/jsontext":  nil,
	}
	for path, allowed := range ground {
		p, ok := all[path]
		if !ok {
			t.Errorf("there is no %s", path)
		}
		for _, d := range p.Imports {
			if strings.HasPrefix(d, "tidytally/") && !slices.Contains(allowed, d) {
				t.Errorf("%s imports %s", path, d)
			}
		}
	}
}
