package survey_test

import (
	"bytes"
	"strings"
	"testing"

	"tidytally/core/reader"
	"tidytally/core/reader/declare"
	"tidytally/core/survey"
	"tidytally/internal/testtree"
)

// A reader that panics costs its file: that is a fault with its name, and all else is found.
func TestAReaderThatPanics(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	read := reader.All[0].Read
	defer func() { reader.All[0].Read = read }()
	reader.All[0].Read = func(f *declare.File) declare.Found {
		if bytes.Contains(f.Data, []byte("crack")) {
			panic("cracked")
		}
		return read(f)
	}
	root := testtree.Lay(t, map[string]string{"Makefile": "crack:\n", "kiln/Makefile": "bake: ; true\n", "package.json": `{"scripts": {"glaze": "true"}}`})
	s, err := survey.Of(root)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, x := range s.Tasks {
		names = append(names, x.Name)
	}
	if got := strings.Join(names, " "); !strings.Contains(got, "bake") || !strings.Contains(got, "glaze") {
		t.Errorf("tasks: %s", got)
	}
	if len(s.Faults) != 1 || s.Faults[0].File != "Makefile" || !strings.Contains(s.Faults[0].Message, "cracked; the report is ") {
		t.Errorf("faults: %+v", s.Faults)
	}
}
