package survey

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"tidytally/internal/testtree"
)

// Each mistake is told at its line with its remedy, and nothing else is. A mark behind a line is
// what is said of it.
const mistakes = `
[workspace]
usual = "nothere"                           #! no task nothere; the nearest are:
ignore = ["[bad"]                           #! a [ or { is not closed
rules_off = ["virtual environmnts", "sub/.gitignore"]   #! did you mean virtual environments?

[set]
python = "python3"

[task.before-itself]
run = "true"
before = ["#after-itself"]                  #! cycle: tidytally.toml#after-itself
[task.after-itself]
run = "true"
after = ["#before-itself"]

[task.empty]
run = " "                                   #! run is empty
[task.emptylist]
run = []                                    #! run is empty
[task.needs-a-bad-one]
run = "true"
before = ["#empty"]

[task.setting]
run = ["echo", "{set.pyhton}"]              #! no [set] table has pyhton; did you mean python?
env = { A = "{set.python}" }
[task.debugged]
run = "true"
debug = "x {set.none}"                      #! no [set] table has none
[task.placeholder]
run = "echo {file.nam}"                     #! unknown placeholder {file.nam}
[task.placeholders-of-others]
run = "echo ${HOME} {{set.nope}} {env.X} {ask.y} {set.python}"

[task.folder]
run = "true"
in = "nowhere"                              #! the folder nowhere is not there; "in" counts from
[task.environment]
run = "true"
env_file = "no.env"                         #! the file no.env is not there

[task.key-one]
run = "true"
key = "f7"
[task.key-two]
run = "true"
key = "F7"                                  #! that of task key-one already, at tidytally.toml:45
[task.key-of-a-page]
run = "true"
key = "q"                                   #! other keys are those of the pages
[task.key-alt]
run = "true"
key = "alt+m"

[task.group]
with = ["#key-one"]
[task.nothing]                              #! has no run
about = "nothing at all"

[task.reads]
run = "true"
in = "sub"
reads = ["*.c", "src/**/*.c"]               #! src/**/*.c matches no file; "reads" counts from the folder that the task runs in, sub
rerun_on = ["../sub/*.c"]                   #! "rerun_on" counts from
makes = ["out/**"]
[task.reads-what-comes]
run = "true"
reads = ["sub/out/table.c", "sub/*.c"]

[task.names]
run = "true"
via = "bxo"                                 #! there is no [via.bxo]; did you mean box?
sieves = ["gnuu"]                           #! there is no sieve gnuu; did you mean gnu?
before = ["#folde"]                         #! no task tidytally.toml#folde; the nearest are: tidytally.toml#folder
[task.names-bad-ones]
run = "true"
via = "bad"
sieves = ["bad"]

[task.arguments]
run = "true"
args = [{ name = "A", choices = ["x"], default = "y" }]   #! none of its choices: x
[task.arguments-twice]
run = "true"
args = [{ name = "A" }, { name = "A" }]     #! argument A stands here twice
[task.presets]
run = "true"
presets = { p = "it's" }                    #! presets.p: the quote
[task.offered]
run = "true"
for = ["[a"]                                #! is no pattern

[via.box]
run = ["env", "{set.gone}", "{command}"]
[via.bad]                                   #! needs run with {command}
run = ["env"]
[sieve.bad]                                 #! has no lines
[adjust."sub/Makefile#nope"]                #! no task sub/Makefile#nope
about = "y"
`

func TestMistakesInTheTallyFile(t *testing.T) {
	t.Parallel()
	dir := testtree.Folder(t)
	for name, text := range map[string]string{"tidytally.toml": mistakes, "sub/a.c": "", "sub/.gitignore": ""} {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	s, err := Of(dir)
	if err != nil {
		t.Fatal(err)
	}
	said := map[int]string{}
	for _, f := range s.Faults {
		said[f.Line] += f.Message + "\n"
	}
	for i, l := range strings.Split(mistakes, "\n") {
		_, want, marked := strings.Cut(l, "#! ")
		got := said[i+1]
		if strings.HasPrefix(l, "[via.box]") { // of all its keys
			want, marked = "no [set] table has gone", true
		}
		if marked != (got != "") || !strings.Contains(got, want) || strings.Count(got, "\n") > 1 {
			t.Errorf("line %d: %s\nsaid: %q", i+1, l, got)
		}
	}
}

// A pattern without a match is not looked for in the whole of a large tree, and then nothing is
// said of it.
func TestASearchIsBounded(t *testing.T) {
	t.Parallel()
	dir := testtree.Folder(t)
	for i := range 3 {
		if err := os.MkdirAll(filepath.Join(dir, "a", fmt.Sprint(i)), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if !matchesNothing(dir, "**/*.c") || matchesNothing(dir, "a/*") {
		t.Error("a small tree is not searched")
	}
	for i := range maxSearched + 1 {
		if err := os.Mkdir(filepath.Join(dir, "a", fmt.Sprintf("x%d", i)), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if matchesNothing(dir, "**/*.c") {
		t.Error("it is said for certain that nothing matches")
	}
}
