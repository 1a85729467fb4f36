package ink

import (
	"fmt"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
)

// Names that differ are cut so that they differ, within the width, whatever they have in common.
func TestDistinct(t *testing.T) {
	var many []string
	for _, of := range []string{"alpha", "beta"} {
		for _, mode := range []string{"release", "debug"} {
			for _, platform := range []string{"arm64", "amd64"} {
				many = append(many, fmt.Sprintf("compile-everything-for-the-platform-%s-in-mode-%s-of-%s", platform, mode, of))
			}
		}
	}
	for _, names := range [][]string{
		many,
		{"build:production:browser", "build:production:server", "build", "test"},
		{"glasur-ofen-eins-ü", "glasur-ofen-eins-ö", "glasur-ofen-eins-"},
		{"短い名前の長い仕事一", "短い名前の長い仕事二"},
	} {
		for columns := 60; columns >= 14; columns-- {
			got := Distinct(names, columns)
			seen := map[string]bool{}
			for i, text := range got {
				if w := ansi.StringWidth(text); w > columns {
					t.Errorf("%q is %d cells wide, not %d", text, w, columns)
				}
				if ansi.StringWidth(names[i]) <= columns && len(names) < 8 && text != names[i] {
					t.Errorf("%q is cut to %q for %d cells", names[i], text, columns)
				}
				if seen[text] && columns >= 26 {
					t.Errorf("at %d cells two names read %q:\n%s", columns, text, strings.Join(got, "\n"))
				}
				seen[text] = true
			}
		}
	}
	if got := Distinct([]string{"same-name-twice", "same-name-twice"}, 8); got[0] != "same-na…" || got[1] != got[0] {
		t.Errorf("the same twice: %q", got)
	}
}
