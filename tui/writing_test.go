package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
)

// A shelf has launchers, places, a second tally file and tasks of which each can be changed in its own way.
var aShelf = map[string]string{
	"Makefile": "bowl: bowl.c ; cc -o $@ bowl.c\nclean: ; rm -f bowl\n",
	"bowl.c":   "int main(void)\n{\n\treturn glaze;\n}\n",
	"log":      "bowl.c:3:9: too hot\nbowl.c:1:5: too cold\nall is fired\n",
	"tidytally.toml": `# the shelf
[via.wrap]
run = ["nice", "{command}"]
[via.box]
run = ["env", "BOX=1", "{command}"]
folders = ["old"]
[place.shed]
run = ["env"]
[task.greet]
run = "echo hello {{}}"
about = "says hello"
kind = "check"
[task.fires]
run = "cat log; exit 1"
[task.wrapped]
run = "true"
via = "wrap"
[task.there]
run = "true"
at = "shed"
[task.dev]
run = "sleep 50"
long_running = true
[task.asks]
run = "cat; echo done"
[task.both]
run = "true"
before = ["#greet"]
with = ["#dev"]
`,
	"kiln/tidytally.toml": "[task.ramp]\nrun = \"true\"\nin = \"..\"\n",
}

// writings are what is typed, as perform has it, where something comes to be written or started: the screen
// and the files that it leads to.
var writings = []struct{ name, keys string }{
	{"a new task, written", "n down enter TYPE:ramp_up enter TYPE:echo_1000_degrees enter w"},
	{"a new task, its lines", "n down enter TYPE:ramp_up enter TYPE:echo_1000_degrees enter"},
	{"a new task without a name", "n down enter enter"},
	{"a new task without a command", "n down enter TYPE:ramp enter enter"},
	{"a new task of a name that is taken", "n down enter TYPE:greet enter TYPE:true enter"},
	{"a new task in another file", "n down enter TYPE:ramp enter TYPE:true enter f"},
	{"a new task in another file, written", "n down enter TYPE:ramp enter TYPE:true enter f w"},
	{"a new task of one's own", "n down enter TYPE:soak enter TYPE:true enter f f"},
	{"a new task in the first file again", "n down enter TYPE:soak enter TYPE:true enter f f f"},
	{"a new launcher", "n down down enter TYPE:kiln2 enter enter"},
	{"a new launcher, written", "n down down enter TYPE:kiln2 enter enter w"},
	{"a new task, another name", "n down enter TYPE:ramp enter TYPE:true enter home enter backspace backspace backspace TYPE:oast enter"},
	{"a new task, no name", "n down enter TYPE:r enter TYPE:true enter home enter backspace enter"},
	{"a copy, written", "/ TYPE:greet enter C w"},
	{"a copy in another file", "/ TYPE:greet enter C f"},
	{"a copy of a task in a folder, in its file", "/ TYPE:ramp enter C f"},
	{"a change of a task that a tally file declares", "/ TYPE:greet enter E down enter TYPE:,_loudly enter"},
	{"a change of a task that a tally file declares, written", "/ TYPE:greet enter E down enter TYPE:,_loudly enter w"},
	{"a change of a task that another file declares, written", "/ TYPE:clean enter E down enter TYPE:away_with_it enter w"},
	{"a change, taken back", "/ TYPE:clean enter E down enter TYPE:away_with_it enter w CTRL:z"},
	{"a change, taken back twice", "/ TYPE:clean enter E down enter TYPE:away_with_it enter w CTRL:z CTRL:z"},
	{"a change that another program changed", "/ TYPE:clean enter E down enter TYPE:away_with_it enter w WRITE:tidytally.toml CTRL:z"},
	{"a change of nothing, written", "/ TYPE:greet enter E w"},
	{"a value taken away", "/ TYPE:greet enter E down backspace"},
	{"a value taken away that is not there", "/ TYPE:greet enter E end backspace"},
	{"a name that cannot be taken away", "/ TYPE:greet enter C home backspace"},
	{"a value that is none", "/ TYPE:greet enter E CHOOSE:before enter TYPE:' enter"},
	{"a value that is none of the choices", "/ TYPE:greet enter E CHOOSE:kind enter TYPE:x enter"},
	{"a value that is given up", "/ TYPE:greet enter E down enter TYPE:x esc"},
	{"a launcher among the values", "/ TYPE:greet enter E CHOOSE:via enter TYPE:w tab"},
	{"a task among the values", "/ TYPE:greet enter E CHOOSE:before enter TYPE:Make tab"},
	{"a folder among the values", "/ TYPE:greet enter E CHOOSE:in enter TYPE:k tab enter"},
	{"a kind among the values", "/ TYPE:both enter E CHOOSE:kind enter TYPE:ch tab enter"},
	{"a row of a draft clicked", "/ TYPE:greet enter E CLICK:6"},
	{"below the rows of a draft clicked", "/ TYPE:greet enter E CLICK:24"},
	{"above the rows of a draft clicked", "/ TYPE:greet enter E down CLICK:3"},
	{"the wheel in a draft", "/ TYPE:greet enter E WHEELDOWN WHEELDOWN WHEELDOWN WHEELDOWN WHEELDOWN WHEELDOWN WHEEL"},
	{"the launchers of a task", "/ TYPE:greet enter V"},
	{"what runs through a launcher", "/ TYPE:greet enter V 2"},
	{"a task through a launcher", "/ TYPE:greet enter V 2 1"},
	{"a task of a Makefile through a launcher", "/ TYPE:clean enter V 2 1"},
	{"a kind through a launcher", "/ TYPE:clean enter V 2 2"},
	{"a folder through a launcher", "/ TYPE:ramp enter V 1 3"},
	{"the launchers of a task that has one", "/ TYPE:wrapped enter V"},
	{"the places of a task that has one", "/ TYPE:there enter V"},
	{"a task at a place, always", "/ TYPE:greet enter V 3 2"},
	{"a task of a Makefile at a place, always", "/ TYPE:clean enter V 3 2"},
	{"a task at a place, once", "/ TYPE:greet enter V 3 1 AWAIT o"},
	{"a sieve from a line, its name", "SAID:fires o m enter"},
	{"a sieve from a line, written", "SAID:fires o m enter enter"},
	{"a sieve from a line without a name", "SAID:fires o m enter BACKSPACES:5 enter"},
	{"a sieve from a line, given up", "SAID:fires o m enter esc"},
	{"a sieve from another line", "SAID:fires o m down"},
	{"a sieve from the line before", "SAID:fires o m up up up"},
	{"a sieve from a line that is clicked", "SAID:fires o m CLICK:10"},
	{"below the lines of a sieve clicked", "SAID:fires o m CLICK:20"},
	{"above the lines of a sieve clicked", "SAID:fires o m CLICK:4"},
	{"the wheel among the lines of a sieve", "SAID:fires o m WHEELDOWN"},
	{"a mark taken off", "SAID:fires o m backspace"},
	{"two marks taken off", "SAID:fires o m backspace right backspace enter"},
	{"a mark in the message", "SAID:fires o m right right right right 5"},
	{"a word before the first", "SAID:fires o m left left 7"},
	{"a word behind the last", "SAID:fires o m right right right right right right right 7"},
	{"the output before anything ran, to make a sieve of", "o m"},
	{"the keyboard given", "START:asks o i"},
	{"typed to a task", "START:asks o i TYPE:hot enter CTRL:d AWAIT"},
	{"the keyboard taken back", "START:asks o i CTRL:o"},
	{"the keyboard given from the tasks", "/ TYPE:asks enter START:asks i"},
	{"no keyboard for what has ended", "SAID:fires o i"},
	{"no address", "START:dev o b"},
	{"a plan drawn", "/ TYPE:both enter l d 1"},
	{"a plan drawn over a file", "/ TYPE:both enter l d 1 d 1"},
	{"a plan run", "/ TYPE:both enter l r AWAIT t"},
	{"a step of a plan that did not run", "/ TYPE:both enter l home enter"},
	{"nothing waits for a slot", "/ TYPE:both enter l !"},
	{"no tool to ask", "/ TYPE:both enter l Q"},
	{"a tool that is asked", "/ TYPE:bowl enter l Q"},
	{"no offer", "/ TYPE:both enter l B"},
	{"the editor at a declaration", "/ TYPE:both enter l e"},
	{"the editor at a declaration that is gone", "/ TYPE:both enter l GONE:tidytally.toml e"},
	{"a task that is up, started again", "START:dev / TYPE:dev enter enter"},
	{"run again, when it is declared no longer", "SAID:fires o WRITE:tidytally.toml SURVEY r"},
	{"a plan whose task is declared no longer", "SAID:fires l WRITE:tidytally.toml SURVEY r"},
	{"a problem put to another kiln's editor", "SAID:fires o home e"},
	{"files of a task that did not run", "/ TYPE:greet enter M"},
	{"files, the changed ones of none", "/ TYPE:greet enter M c"},
	{"files, none to edit", "/ TYPE:greet enter M e"},
	{"nothing that is lacking", "/ TYPE:greet enter I"},
	{"a task to debug that is no program", "/ TYPE:greet enter D"},
	{"nothing was written", "CTRL:z"},
	{"nothing was found among starting points", "n TYPE:zzz enter"},
	{"a starting point found by its letters", "n TYPE:remote"},
	{"starting points, up and down", "n down down down up"},
	{"starting points, left", "n esc"},
}

// Where something is written or started, pages and tally files have the golden text. go test ./tui -run
// TestWritings -update writes it; read the difference before it is kept.
func TestWritings(t *testing.T) {
	t.Setenv("EDITOR", "true")
	t.Setenv("PATH", "/usr/bin:/bin")
	t.Setenv("LC_ALL", "C.UTF-8")
	t.Run("each", func(t *testing.T) {
		for i, s := range writings {
			t.Run(s.name, func(t *testing.T) {
				t.Parallel()
				m := open(t, aShelf)
				m.perform(t, s.keys, true)
				var out strings.Builder
				for j, size := range [][2]int{{120, 31}, {80, 24}, {60, 16}} {
					if j > 0 && i%2 != j-1 {
						continue
					}
					m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
					fmt.Fprintf(&out, "%d by %d\n%s\n", size[0], size[1], m.shown())
				}
				m.super.Close()
				for _, name := range []string{"tidytally.toml", "kiln/tidytally.toml"} {
					if text, err := os.ReadFile(filepath.Join(m.root, name)); err == nil && string(text) != aShelf[name] {
						fmt.Fprintf(&out, "%s\n%s", name, text)
					}
				}
				compareScreen(t, "writing", s.name, out.String())
			})
		}
	})
	entries, err := os.ReadDir("testdata/writing")
	if err != nil || len(entries) != len(writings) {
		t.Errorf("%d golden screens for %d: %v", len(entries), len(writings), err)
	}
}
