package tui

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// A shelf has launchers, places, a second tally file and tasks of which each can be changed in its own way.
var aShelf = map[string]string{
	"Makefile": "bowl: bowl.c ; cc -o $@ bowl.c\nclean: ; rm -f bowl\n",
	"bowl.c":   "int main(void)\n{\n\treturn glaze;\n}\n",
	"log2":     "bowl.c:3:9: error: 'glaze' undeclared\nbowl.c:1:5: warning: main is cold [-Wcold]\nld: cannot find -lglaze: No such file\n",
	"log3":     "=== RUN   TestFire\n    fire_test.go:3: too hot\n--- FAIL: TestFire (0.00s)\nFAIL\nFAIL\tgrove\t0.01s\n",
	"log":      "bowl.c:3:9: too hot\nbowl.c:1:5: too cold\nall is fired\n",
	"tidytally.toml": `# the shelf
[workspace]
slots = 2
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
[task.glazes]
run = "cat log2; exit 1"
[task.tests]
run = "cat log3; exit 1"
[task.pair]
run = "true"
before = ["#greet"]
[task.both]
run = "true"
before = ["#greet"]
with = ["#dev"]
`,
	"kiln/tidytally.toml": "[task.ramp]\nrun = \"true\"\nin = \"..\"\n",
}

// A grove has more folders, tests and other people's projects than stand open in the list.
var aGrove = func() map[string]string {
	files := map[string]string{
		"Makefile": "all:\n\tfor d in src; do $(MAKE) -C $$d $@; done\nflash:\n\t@true\nobj/kiln.o:\n\ttrue\n", "src/Makefile": "all:\n\t@true\nunit:\n\t@echo kiln.c:1:1: error: cold; exit 1\n",
		"third_party/json/Makefile": "docs:\n\ttrue\n", "third_party/json/deep/Makefile": "more:\n\ttrue\n", "src/kiln.c": "int kiln;\n",
		"CMakeLists.txt": "project(grove C)\nenable_testing()\nforeach(i RANGE 1 14)\n add_test(NAME ramp${i} COMMAND true)\nendforeach()\n", "tidytally.toml": "[workspace]\nrules_off = [\"vendored\"]\nignore = [\"old\"]\n[task.lint]\nrun = \"exit 3\"\n", "old/Makefile": "dust: ; true\n", "node_modules/a/package.json": "{}",
	}
	for i := range 45 {
		files[fmt.Sprintf("packages/p%02d/Makefile", i)] = "bake: ; @true\nsay: ; @echo said\n"
	}
	return files
}()

// A wheel has tasks whose files are known, one that runs again on change, and a suite of three files, of which one fails.
var aWheel = map[string]string{
	"package.json": `{"scripts": {"rim": "npm run foot && echo rim", "foot": "echo foot"}}`,
	"pytest.ini":   "[pytest]\n", "tests/test_a.py": "", "tests/test_b.py": "", "tests/test_c.py": "",
	"bowl.in": "#!/bin/sh\necho a bowl\n", "log": "bowl.c:1:5: error: cold\nplate.c:1:1: warning: thin\n", "bowl.c": "int bowl;\n",
	"tidytally.toml": `[workspace]
slots = 2
[task.shape]
run = "cp bowl.in bowl; chmod +x bowl"
reads = ["bowl.in"]
makes = ["bowl"]
[task.eat]
run = ["./bowl"]
reads = ["bowl"]
[task.wash]
run = "cat bowl"
[task.turn]
run = "cat log"
rerun_on = ["bowl.c"]
[task.copy]
run = "cp bowl.in bowl.out"
reads = ["bowl.in", "bowl.c"]
makes = ["bowl.out"]
skip = "fresh"
[task.spin]
run = "echo spun"
before = ["#copy"]
[task.site]
run = "echo up on 127.0.0.1:9; sleep 50"
ready = "up on (?P<url>[0-9.:]+)"
[task.warm]
run = "echo warm; sleep 50"
ready = "warm"
[task.holds]
run = "cat log; cat; exit 1"
[task.debugs]
run = ["./bowl"]
debug = ["gdb", "bowl"]
`,
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
	{"the editor at the problem of the first line of output", "SAID:glazes o home enter enter"},
	{"files of a task that did not run", "/ TYPE:greet enter M"},
	{"files, the changed ones of none", "/ TYPE:greet enter M c"},
	{"files, none to edit", "/ TYPE:greet enter M e"},
	{"nothing that is lacking", "/ TYPE:greet enter I"},
	{"a task to debug that is no program", "/ TYPE:greet enter D"},
	{"a tree of many folders", "GROVE"},
	{"the next heading", "GROVE SHIFTDOWN"},
	{"a folder opened", "GROVE SHIFTDOWN SHIFTDOWN z"},
	{"a folder in a folder opened", "GROVE SHIFTDOWN SHIFTDOWN enter down down down enter"},
	{"the last row of a tree", "GROVE end"},
	{"the last row of a tree opened", "GROVE end enter end"},
	{"a folder opened and closed by its task", "GROVE FOLD:in_packages enter down down enter down down z"},
	{"the folder before", "GROVE end SHIFTUP SHIFTUP"},
	{"the first folder, and before", "GROVE SHIFTUP"},
	{"the same below, opened", "GROVE FOLD:./ enter down"},
	{"tests of a file", "GROVE FOLD:tests_of_CMakeLists.txt"},
	{"tests of a file, opened", "GROVE FOLD:tests_of_CMakeLists.txt enter down down down"},
	{"nothing is folded here", "GROVE down z"},
	{"a folder with a run that failed", "GROVE SAID:unit"},
	{"a folder with a run that failed, opened", "GROVE SAID:unit FOLD:in_src enter"},
	{"other people's project", "GROVE FOLD:third_party/json"},
	{"other people's project, opened", "GROVE FOLD:third_party/json enter end"},
	{"a tree, all of it, found", "GROVE / TYPE:bake enter"},
	{"a tree by kind", "GROVE g"},
	{"a tree, intermediate targets too", "GROVE h"},
	{"a row that opens clicked twice", "GROVE CLICK:13 CLICK:13"},
	{"the survey of a tree", "GROVE v"},
	{"a source of the survey opened", "GROVE v down enter down down"},
	{"a file of the survey edited", "GROVE v down enter down e"},
	{"the wheel in the survey", "GROVE v WHEELDOWN WHEELDOWN"},
	{"a rule to switch off", "GROVE v RULE:built-in s"},
	{"a rule switched off", "GROVE v RULE:built-in s 1"},
	{"a rule left as it is", "GROVE v RULE:built-in s 2"},
	{"a pattern taken out", "GROVE v RULE:tidytally.toml s 1"},
	{"a rule switched on again", "GROVE v RULE:vendored s 1"},
	{"a built-in rule switched off, and on again", "GROVE v RULE:built-in s 1 RULE:dependency s 1"},
	{"a file ignored", "GROVE v down enter down i 1"},
	{"a folder ignored", "GROVE v down enter down down i 2"},
	{"the compilers for a file", "GROVE f TYPE:kiln enter COMPILERS"},
	{"files to choose from, the last saved", "GROVE f"},
	{"the current file let go", "GROVE f TYPE:kiln enter f enter"},
	{"run with all its steps", "/ TYPE:both enter A AWAIT"},
	{"not to be watched", "/ TYPE:dev enter L"},
	{"the declaration in the editor", "/ TYPE:greet enter e"},
	{"at another place", "/ TYPE:greet enter a CTRL:p"},
	{"at another place, and here again", "/ TYPE:greet enter a CTRL:p CTRL:p"},
	{"at another place, run", "/ TYPE:greet enter a CTRL:p enter AWAIT o"},
	{"arguments to keep without a history", "/ TYPE:greet enter a TYPE:x CTRL:s"},
	{"no kept arguments", "/ TYPE:greet enter a CTRL:t"},
	{"arguments kept under a name", "HISTORY / TYPE:greet enter a TYPE:x_y CTRL:s TYPE:loud"},
	{"arguments kept", "HISTORY / TYPE:greet enter a TYPE:x_y CTRL:s TYPE:loud enter"},
	{"arguments kept, no name", "HISTORY / TYPE:greet enter a TYPE:x_y CTRL:s enter"},
	{"arguments kept, given up", "HISTORY / TYPE:greet enter a TYPE:x_y CTRL:s TYPE:l esc"},
	{"kept arguments offered", "HISTORY / TYPE:greet enter a TYPE:x_y CTRL:s TYPE:loud enter esc a CTRL:t"},
	{"kept arguments taken", "HISTORY / TYPE:greet enter a TYPE:x_y CTRL:s TYPE:loud enter esc a CTRL:t 1"},
	{"a run that is recorded", "HISTORY SAID:fires SYNC H"},
	{"a run that is recorded, its problems", "HISTORY SAID:glazes SYNC y"},
	{"problems known from the run before", "HISTORY SAID:glazes SAID:glazes SYNC y"},
	{"a run of history again", "HISTORY SAID:fires SYNC H r AWAIT"},
	{"a run of history whose task is gone", "HISTORY SAID:fires SYNC WRITE:tidytally.toml SURVEY H r"},
	{"the timeline of a plan", "HISTORY / TYPE:pair enter enter AWAIT SYNC H d"},
	{"a trend drawn", "HISTORY SAID:fires SYNC H d 1"},
	{"a timeline drawn", "HISTORY SAID:fires SYNC H d 4"},
	{"history since", "HISTORY SAID:fires SYNC H / TYPE:since:1d enter"},
	{"history since, while it is typed", "HISTORY SAID:fires SYNC H / TYPE:since:x"},
	{"history by its code", "HISTORY SAID:fires SAID:greet SYNC H / TYPE:code:1 enter"},
	{"history by its arguments", "HISTORY / TYPE:greet enter a TYPE:xy enter AWAIT SYNC H / TYPE:args:xy enter"},
	{"history of new problems", "HISTORY SAID:glazes SAID:greet SYNC H / TYPE:is:new enter"},
	{"history, its fields", "HISTORY SAID:fires SYNC H / tab"},
	{"history, what a run is", "HISTORY SAID:fires SYNC H / TYPE:is:f tab enter"},
	{"the editor at a problem", "SAID:glazes y enter"},
	{"a problem's file the current one, and its tasks", "SAID:glazes y f t home"},
	{"a problem copied", "SAID:glazes y c"},
	{"a problem without a file", "SAID:glazes y end enter"},
	{"a problem without a file kept", "SAID:glazes y end f"},
	{"to debug without a line", "SAID:glazes y end D"},
	{"to debug what is no program", "SAID:glazes y home D"},
	{"a test to run alone", "SAID:tests y"},
	{"a test run alone", "SAID:tests y R AWAIT o"},
	{"a test run alone again", "SAID:tests y R AWAIT o r AWAIT"},
	{"no test", "SAID:glazes y R"},
	{"who changed a line, without git", "SAID:glazes y w"},
	{"a line that has moved", "SAID:glazes MOVE:bowl.c y"},
	{"a line that has changed", "SAID:glazes WRITE:bowl.c y"},
	{"a file that is gone", "SAID:glazes GONE:bowl.c y enter"},
	{"output to write", "SAID:fires o w"},
	{"output written", "SAID:fires o w enter"},
	{"output written over a file", "SAID:fires o w enter w enter"},
	{"output not written", "SAID:fires o w esc"},
	{"found backward in the output", "SAID:fires o / TYPE:too enter , ,"},
	{"columns and woven", "/ TYPE:both enter enter AWAIT T g"},
	{"the next column", "/ TYPE:both enter enter AWAIT T right right"},
	{"the output of a column", "/ TYPE:both enter enter AWAIT T right enter"},
	{"the keyboard for a column that has ended", "/ TYPE:both enter enter AWAIT T right i"},
	{"woven runs that were started one by one", "SAID:fires T g"},
	{"the wheel in the sieve", "KILN SAID:controller o s WHEELDOWN"},
	{"a click in the sieve", "KILN SAID:controller o s CLICK:8"},
	{"the sieve taken out", "KILN SAID:controller o s GONE:tidytally.toml SURVEY"},
	{"an expression given up", "KILN SAID:controller o s enter TYPE:x esc"},
	{"an expression written", "KILN SAID:controller o s enter end TYPE:? enter"},
	{"files that are fresh", "WHEEL HISTORY SAID:shape SYNC STALE / TYPE:shape enter M"},
	{"files that are stale", "WHEEL HISTORY SAID:shape SYNC WRITE:bowl.in STALE / TYPE:shape enter M"},
	{"a file further down", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M down"},
	{"a file clicked", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M CLICK:6"},
	{"below the files clicked", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M CLICK:12"},
	{"above the files clicked", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M down CLICK:3"},
	{"the wheel in the files", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M WHEELDOWN WHEEL"},
	{"a file that was made, beside its source", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M end enter"},
	{"a source beside what was made of it", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M enter down"},
	{"a click beside the source", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M enter CLICK:6"},
	{"back from a file beside its source", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M enter esc"},
	{"files beside, once more", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M enter enter"},
	{"the changed files", "WHEEL HISTORY SAID:copy SYNC WRITE:bowl.in STALE / TYPE:copy enter M c"},
	{"the changed files of a fresh task", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M c"},
	{"all files again", "WHEEL HISTORY SAID:copy SYNC WRITE:bowl.in STALE / TYPE:copy enter M c esc"},
	{"a file edited", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter M e"},
	{"a file edited that is gone", "WHEEL HISTORY SAID:copy SYNC GONE:bowl.out STALE / TYPE:copy enter M home e"},
	{"an older program is about to run", "WHEEL HISTORY SAID:shape SAID:eat SYNC WRITE:bowl.in STALE / TYPE:eat enter enter"},
	{"an older program, built first", "WHEEL HISTORY SAID:shape SAID:eat SYNC WRITE:bowl.in STALE / TYPE:eat enter enter 2 AWAIT"},
	{"an older program, built first always", "WHEEL HISTORY SAID:shape SAID:eat SYNC WRITE:bowl.in STALE / TYPE:eat enter enter 1 AWAIT STALE"},
	{"an older program, run as it is", "WHEEL HISTORY SAID:shape SAID:eat SYNC WRITE:bowl.in STALE / TYPE:eat enter enter 3 AWAIT"},
	{"an older program, run as it is again", "WHEEL HISTORY SAID:shape SAID:eat SYNC WRITE:bowl.in STALE / TYPE:eat enter enter 3 AWAIT enter AWAIT"},
	{"an offer in a plan", "WHEEL HISTORY SAID:shape SAID:eat SYNC WRITE:bowl.in STALE / TYPE:eat enter l"},
	{"an offer taken", "WHEEL HISTORY SAID:shape SAID:eat SYNC WRITE:bowl.in STALE / TYPE:eat enter l B"},
	{"a plan with a fresh step", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:spin enter l"},
	{"a plan with a fresh step, run", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:spin enter l r AWAIT home"},
	{"the output of a fresh step", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:spin enter l r AWAIT home enter"},
	{"a stale task in the list", "WHEEL HISTORY SAID:copy SYNC WRITE:bowl.in STALE / TYPE:copy enter"},
	{"a fresh task in the list", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter"},
	{"fresh tasks found", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:is:fresh enter"},
	{"run anyway", "WHEEL HISTORY SAID:copy SYNC STALE / TYPE:copy enter A AWAIT"},
	{"a pass", "WHEEL START:turn PASSES:1 / TYPE:turn enter y"},
	{"a second pass", "WHEEL START:turn PASSES:1 WRITE:log WRITE:bowl.c PASSES:2 / TYPE:turn enter o"},
	{"the tally of a second pass", "WHEEL START:turn PASSES:1 WRITE:log WRITE:bowl.c PASSES:2 / TYPE:turn enter y"},
	{"the tally of a pass that found the same", "WHEEL START:turn PASSES:1 WRITE:bowl.c PASSES:2 / TYPE:turn enter y"},
	{"the tally of passes that were stopped", "WHEEL START:turn PASSES:1 WRITE:bowl.c PASSES:2 / TYPE:turn enter x AWAIT y"},
	{"the address of a server", "WHEEL START:site o b"},

	{"a suite", "WHEEL / TYPE:name:test enter S"},
	{"a suite split", "WHEEL / TYPE:name:test enter S 1 AWAIT l"},
	{"a suite split, one at a time", "WHEEL / TYPE:name:test enter S 2 AWAIT l"},
	{"what failed of a suite", "WHEEL / TYPE:name:test enter S 1 AWAIT S"},
	{"what failed of a suite, again", "WHEEL / TYPE:name:test enter S 1 AWAIT F AWAIT l"},
	{"nothing failed of a suite", "WHEEL / TYPE:name:test enter F"},
	{"no suite", "WHEEL / TYPE:wash enter S"},
	{"a debugger that is not there", "WHEEL SAID:shape / TYPE:debugs enter D AWAIT"},
	{"started beyond the slots", "START:asks START:asks / TYPE:greet enter enter SLOT:greet ! AWAITS:greet"},
	{"waiting for a slot", "START:asks START:asks / TYPE:greet enter enter SLOT:greet"},
	{"waiting for a slot in a plan", "START:asks START:asks / TYPE:pair enter enter SLOT:greet l"},
	{"a digit behind the answers", "WHEEL / TYPE:name:test enter S 3"},
	{"the last digit of the answers", "U 9"},
	{"one hidden by the filter", "KILN / TYPE:-lint enter"},
	{"the values of a task with all kinds of them", "/ TYPE:both enter tab end"},
	{"a run of history chosen while another ends", "HISTORY SAID:fires SAID:greet SYNC H down SAID:there SYNC"},
	{"the first run of history chosen while another ends", "HISTORY SAID:fires SAID:greet SYNC H SAID:there SYNC"},
	{"the steps of a plan in history", "HISTORY / TYPE:pair enter enter AWAIT SYNC H"},
	{"the steps of a plan in history, the first of them", "HISTORY / TYPE:pair enter enter AWAIT SYNC H end"},
	{"a run that is marked", "HISTORY SAID:fires SYNC H ="},
	{"a run marked no longer", "HISTORY SAID:fires SYNC H = esc"},
	{"history left by esc", "HISTORY SAID:fires SYNC H esc"},
	{"the filter of history taken off", "HISTORY SAID:fires SYNC H / TYPE:z enter esc"},
	{"the very first folder", "GROVE end SHIFTUP SHIFTUP SHIFTUP SHIFTUP SHIFTUP"},
	{"all values of a draft, the last", "/ TYPE:greet enter E end"},
	{"a call that is followed", "WHEEL / TYPE:name:rim enter tab down down down down down enter"},
	{"a call that is followed to its calls", "WHEEL / TYPE:name:rim enter tab down down down down down enter esc"},
	{"a call", "KILN / TYPE:pack enter tab down down down down down down"},
	{"a value without a place", "KILN / TYPE:pack enter tab end enter"},
	{"a server that is up without an address", "WHEEL START:warm o"},
	{"a server that is up without an address, in the tally", "WHEEL START:warm y"},
	{"a task that waits for input", "START:asks ASKS o"},
	{"a task that waits for input, in the list", "START:asks ASKS t"},
	{"the editor at a value", "/ TYPE:pair enter tab end enter"},
	{"the editor at a fault", "KILN v enter"},
	{"the editor at a rule", "GROVE v end enter"},
	{"the editor at the last problem of a file that changed", "SAID:glazes MOVE:bowl.c y enter"},
	{"the editor at the problem of a line of output", "SAID:glazes o home n n enter enter"},
	{"a command copied", "/ TYPE:greet enter c"},
	{"a command in a folder copied", "KILN / TYPE:pack enter c"},
	{"a command with arguments copied", "/ TYPE:greet enter a TYPE:x enter AWAIT c"},
	{"a command that cannot be made copied", "KILN / TYPE:pour enter c"},
	{"arguments of three runs", "/ TYPE:greet enter a TYPE:x enter AWAIT a BACKSPACES:1 TYPE:y enter AWAIT a BACKSPACES:1 TYPE:z enter AWAIT a up up down"},
	{"arguments with a history", "HISTORY / TYPE:greet enter a"},
	{"the next heading of a small tree", "KILN SHIFTDOWN"},
	{"the heading before of a small tree", "KILN SHIFTDOWN SHIFTUP"},
	{"a long filter of the tally", "SAID:glazes y / TYPE:a_text_that_is_longer_than_three_tenths_of_the_width_of_the_page_and_then_some_more"},
	{"a long text found in an output with a fault", "WHEEL SAID:eat o / TYPE:a_text_that_is_longer_than_three_tenths_of_the_width_of_the_page_and_then_some_more enter"},
	{"a long text found in an output with an address", "WHEEL START:site o / TYPE:a_text_that_is_longer_than_three_tenths_of_the_width_of_the_page_and_then_some_more enter"},
	{"a long text found in an output that waits", "START:asks ASKS o / TYPE:a_text_that_is_longer_than_three_tenths_of_the_width_of_the_page_and_then_some_more enter"},
	{"a long filter of the tasks", "/ TYPE:a_text_that_is_longer_than_three_tenths_of_the_width_of_the_page_and_then_some_more"},
	{"a long filter of the history", "HISTORY SAID:fires SYNC H / TYPE:a_text_that_is_longer_than_three_tenths_of_the_width_of_the_page_and_then_some_more"},
	{"below the last answer clicked", "WHEEL / TYPE:name:test enter S CLICK:7"},
	{"the last answer clicked", "WHEEL / TYPE:name:test enter S CLICK:6"},
	{"above the answers clicked", "WHEEL / TYPE:name:test enter S down CLICK:4"},
	{"a mark before the rest of the message", "SAID:fires o m right right right 5"},
	{"nothing to fold", "/ TYPE:zzzz enter z"},
	{"nothing to run, pin, copy, adjust or debug", "/ TYPE:zzzz enter enter p c C E V D A L e a"},
	{"no problem to copy, keep, blame, debug or run", "SAID:greet y c f w D R enter"},
	{"nothing was written", "CTRL:z"},
	{"nothing was found among starting points", "n TYPE:zzz enter"},
	{"a starting point found by its letters", "n TYPE:remote"},
	{"starting points, up and down", "n down down down up"},
	{"starting points, left", "n esc"},
}

// fewTools returns a folder with the programs that the tasks need, and some that are only there, more
// among them. What is ready and what is offered is then the same on all machines.
func fewTools(t *testing.T, more ...string) string {
	t.Helper()
	bin := t.TempDir()
	for _, name := range []string{"sh", "cat", "true", "sleep", "make", "env", "nice", "rm", "cp", "chmod"} {
		path, err := exec.LookPath(name)
		if err == nil {
			err = os.Symlink(path, filepath.Join(bin, name))
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range append(more, "python3", "ssh") {
		if err := os.WriteFile(filepath.Join(bin, name), []byte("#!/bin/sh\ncase $* in *_b.py) echo cold; exit 1; esac\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	return bin
}

// Where something is written or started, pages and tally files have the golden text. go test ./tui -run
// TestWritings -update writes it; read the difference before it is kept.
func TestWritings(t *testing.T) {
	t.Setenv(editorVariable, "true {file}:{line}:{column}")
	t.Setenv("PATH", fewTools(t))
	t.Setenv("LC_ALL", "C.UTF-8")
	t.Run("each", func(t *testing.T) {
		for i, s := range writings {
			t.Run(s.name, func(t *testing.T) {
				t.Parallel()
				files, keys := aShelf, s.keys
				for word, other := range map[string]map[string]string{"GROVE": aGrove, "KILN": aKiln, "WHEEL": aWheel} {
					if rest, ok := strings.CutPrefix(keys, word); ok {
						files, keys = other, rest
					}
				}
				m := openOn(t, layWorkspace(t, files), strings.HasPrefix(s.keys, "HISTORY") || strings.Contains(s.keys, " HISTORY"))
				m.perform(t, keys, true)
				var out strings.Builder
				out.WriteString(m.shownAt(m.shown, [2]int{120, 31}, [2][2]int{{80, 24}, {60, 16}}[i%2]))
				m.session.Close()
				for _, name := range []string{"tidytally.toml", "kiln/tidytally.toml", "fires.log"} {
					if text, err := os.ReadFile(filepath.Join(m.root, name)); err == nil && string(text) != files[name] {
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
