package tui

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/run"
	"tidytally/core/task"
)

var update = flag.Bool("update", false, "write the golden files")

// A kiln has a bit of everything that a page shows.
var aKiln = map[string]string{
	"Makefile": `# kiln
COILS ?= 3
.PHONY: all controller clean
all: controller ## everything
controller: ## the firing curve
	@cat log; exit 2
coil.o: coil.c
	true
clean: ; rm -f *.o
`,
	"glaze/package.json": `{"name": "glaze", "scripts": {"pack": "cat ../log2 && echo packed", "prepack": "true", "steps": "echo one\necho two\n echo three"}}`,
	"tidytally.toml": `[workspace]
name = "emberclay"
ignore = ["old/**"]
usual = "Makefile#controller"
[task.greet]
run = "echo hello {{}}"
about = "says hello"
args = [{ name = "WHO", default = "all of you" }, { name = "HOW", choices = ["loud", "low"] }]
[task.firing]
run = "true"
before = ["Makefile#all"]
abuot = "x"
[task.build]
run = "cat log2; echo built"
in = "."
[task.dev]
run = "sleep 50"
[task.lint]
run = "false"
[task.many]
run = "cat many"
[task.pour]
run = "echo {ask.GLAZE} {env.NOT_THERE}"
[adjust."Makefile#all"]
about = "all that burns"
[sieve.kilnsim]
[[sieve.kilnsim.lines]]
match = '^!! (?P<message>.+) in (?P<file>\S+)$'
`,
	"old/Makefile": "dust: ; true\n",
	"coil.c":       "int coil(void)\n{\n\tint wire = 3;\n\treturn wires;\n}\n",
	"coil.h":       "int coil(void);\n",
	"log": "cc -c coil.c\ncoil.c:4:9: \x1b[1;31merror:\x1b[m 'wires' undeclared [-Wwires]\ncoil.c:3:6: note: did you mean wire?\n" +
		"coil.h:1:5: warning: coil has no prototype [-Wproto]\ncoil.h:1:5: warning: coil has no prototype [-Wproto]\ngone.c:2:1: error: where is it?\n1 warning and 2 errors generated.\n" + strings.Repeat("firing …\n", 40) + "!! too hot in coil.c\n",
	"many": func() (out string) {
		for i := range 60 {
			out += fmt.Sprintf("src/part%d.c:%d:2: warning: part %d of many\n", i/7, i+1, i)
			if i == 8 {
				out += "src/part1.c:9:2: error: " + strings.Repeat("a part that goes on and on ", 9) + "\n"
			}
			if i%9 == 3 {
				out += fmt.Sprintf("src/part%d.c:%d:2: note: as here\n", i/7, i)
			}
		}
		return out
	}(),
	"src/part0.c": strings.Repeat("int part;\n", 40),
	"log2":        "glaze.ts(3,7): error TS2304: Cannot find name 'ash'.\n",
}

// A bowl has nothing wrong with its task files.
var aBowl = map[string]string{
	"package.json":   `{"scripts": {"pack": "true"}}`,
	"tidytally.toml": "[task.lint]\nrun = \"false\"\n[task.good]\nrun = \"echo one; echo two\"\n[task.dev]\nrun = \"sleep 50\"\n[task.missing]\nrun = [\"no-such-program-here\"]\nenv = { PATH = \"/nowhere\" }\n[task.serve]\nrun = \"echo up on http://127.0.0.1:9/; sleep 50\"\nready = 'up on (?P<url>\\S+)'\n[via.wrap]\nrun = [\"nice\", \"{command}\"]\n[place.shed]\nrun = [\"env\"]\n[task.wrapped]\nrun = \"true\"\nvia = \"wrap\"\n[task.nowhere]\nrun = \"cat log3; exit 1\"\n",
	"log3":           "ld: cannot find -lglaze: No such file\ncollect2: error: ld returned 1 exit status\nglaze.rs:4:1: too hot\n",
}

// screens are what is typed, as perform has it, and the screen that it leads to. Screens that begin with
// PLAIN are of a workspace without faults.
var screens = []struct{ name, keys string }{
	{"tasks", ""},
	{"tasks found", "/ c o i"},
	{"tasks found, kept", "/ k i n d : b u i l d enter"},
	{"no task found", "/ z z z"},
	{"tasks by kind", "g"},
	{"tasks by source, intermediate ones too", "g g h"},
	{"tasks without details", "d"},
	{"a pinned task", "down down p home"},
	{"arguments", "/ g r e e t enter a"},
	{"arguments that are not words", "/ g r e e t enter a ' x"},
	{"the usual task", "U"},
	{"values", "/ g r e e t enter tab down"},
	{"values of a task that calls", "/ f i r i n g enter tab"},
	{"the survey", "v"},
	{"the survey, further down", "v down down down down down"},
	{"ignoring a folder", "v i"},
	{"keys", "?"},
	{"keys, further down", "? pgdown pgdown"},
	{"keys found", "? / s i e v e enter"},
	{"no run", "o"},
	{"no problems", "y"},
	{"a run that failed", "SAID:lint t"},
	{"a run with problems", "SAID:controller t"},
	{"its output", "SAID:controller o"},
	{"its output from the top", "SAID:controller o home"},
	{"found in the output", "SAID:controller o / f i r enter ."},
	{"the tally", "SAID:controller y"},
	{"the tally of two", "SAID:build SAID:controller y down"},
	{"the tally by severity", "SAID:controller y g"},
	{"the tally by task", "SAID:build SAID:controller y g g down"},
	{"the tally, found", "SAID:controller y / s e v : e enter"},
	{"the tally, nothing found", "SAID:controller y / z enter"},
	{"the tally after the next run", "SAID:controller LOG SAID:controller y"},
	{"a problem and its output", "SAID:controller y down enter"},
	{"the sieve", "SAID:controller o s"},
	{"the expression of a sieve", "SAID:controller o s enter"},
	{"quitting while a task runs", "START:dev q"},
	{"a task that runs", "START:dev t"},
	{"a value clicked", "/ g r e e t enter tab CLICK:6"},
	{"a click behind the values", "/ g r e e t enter tab down CLICK:20"},
	{"a problem clicked", "SAID:controller y CLICK:12"},
	{"the source of a problem clicked", "SAID:controller y down CLICK:7"},
	{"a click behind the problems", "SAID:controller y CLICK:22"},
	{"the wheel in the tally", "SAID:controller y WHEEL"},
	{"the last problem", "SAID:controller y end"},
	{"the last but one problem", "SAID:controller y end up up"},
	{"a line of output clicked", "SAID:controller o home CLICK:5"},
	{"a line of output that is no problem clicked", "SAID:controller o home CLICK:4"},
	{"the wheel in the output", "SAID:controller o WHEEL WHEEL"},
	{"arguments refused", "/ g r e e t enter a ' x enter"},
	{"arguments taken", "/ g r e e t enter a x enter AWAIT"},
	{"arguments given up", "/ g r e e t enter a x esc"},
	{"arguments again", "/ g r e e t enter a x enter AWAIT a up"},
	{"a script of several lines", "/ s t e p s enter"},
	{"the usual task run", "u AWAIT"},
	{"the next problem", "SAID:controller t n n"},
	{"the problem before", "SAID:controller t n n N"},
	{"nothing to stop", "x"},
	{"the last task", "end"},
	{"a task clicked", "CLICK:8"},
	{"a pin taken back", "down p p"},
	{"pinned tasks", "down p / i s : p i n n e d"},
	{"a wrong field", "/ k i n d : z z enter"},
	{"the survey, a file chosen", "v CLICK:8"},
	{"the sieve, another expression", "SAID:controller o s enter end x"},
	{"the tally, all of its fields", "SAID:controller y / f i l e : c o i l c o d e : w i r e s enter"},
	{"an answer chosen by its number", "U 2"},
	{"a question about where", "U enter"},
	{"many problems", "SAID:many y"},
	{"the end of many problems", "SAID:many y end"},
	{"up from the end of many problems", "SAID:many y end up up up up up up up up up up up up up up up up up up up up"},
	{"a page of many problems", "SAID:many y pgdown"},
	{"pages of many problems", "SAID:many y pgdown pgdown pgdown pgup"},
	{"up to a heading of many problems", "SAID:many y end pgup pgup pgup up up up up"},
	{"the wheel in many problems", "SAID:many y end WHEEL WHEEL WHEEL"},
	{"one of many problems clicked", "SAID:many y pgdown pgdown CLICK:9"},
	{"many problems found", "SAID:many y / p a r t 3"},
	{"many problems' output", "SAID:many o home pgdown"},
	{"the first value clicked", "/ g r e e t enter tab down down CLICK:3"},
	{"the second value clicked", "/ g r e e t enter tab CLICK:4"},
	{"above the values clicked", "/ g r e e t enter tab down down CLICK:2"},
	{"typing in the middle", "/ c o i n backspace backspace left x"},
	{"an argument that is asked for", "/ p o u r enter a"},
	{"an argument that is given", "/ p o u r enter a G L A Z E = a s h"},
	{"a variable that is not there", "/ p o u r enter a G L A Z E = a s h enter"},
	{"the survey, nothing to ignore", "v end i"},
	{"the survey, the last file", "v end up up"},
	{"the help closed", "? down ?"},
	{"the help, one up", "? down down down up"},
	{"what leaves the help", "? down o"},
	{"keys not found", "? / z z z enter"},
	{"a key that does nothing", "w"},
	{"two views of a run", "SAID:controller y o t"},
	{"esc goes back", "SAID:controller y esc"},
	{"the footing of a failed run without problems", "SAID:lint y"},
	{"an output searched backward", "SAID:controller o / f i r enter , ,"},
	{"an output where nothing is found", "SAID:controller o / z z enter ."},
	{"the sieve, a page down", "SAID:controller o s pgdown"},
	{"quitting, and staying", "START:dev q esc"},
	{"the best group first", "/ l"},
	{"the best group first, another", "/ d"},
	{"moving while typing", "/ c down down up"},
	{"an argument's name begun", "/ g r e e t enter a H"},
	{"an argument's name completed", "/ g r e e t enter a H tab"},
	{"an argument's choice completed", "/ g r e e t enter a H O W = l o u tab"},
	{"an argument without choices", "/ g r e e t enter a W H O = l tab"},
	{"older arguments", "/ g r e e t enter a x enter AWAIT a y enter AWAIT a up"},
	{"the oldest arguments, changed", "/ g r e e t enter a x enter AWAIT a y enter AWAIT a up up up z"},
	{"the newest arguments again", "/ g r e e t enter a x enter AWAIT a y enter AWAIT a up up down"},
	{"values of a task with a hook", "/ p a c k enter tab end"},
	{"the top of the survey", "v end home up"},
	{"a survey without faults", "PLAIN v"},
	{"no problems in a failed run", "PLAIN SAID:lint y"},
	{"no problems in a good run", "PLAIN SAID:good y"},
	{"no problems in what cannot run", "PLAIN SAID:missing y"},
	{"the output of what cannot run", "PLAIN SAID:missing o"},
	{"no problems so far", "PLAIN START:dev y"},
	{"a server that is up", "PLAIN START:serve o"},
	{"a server in the list", "PLAIN START:serve t"},
	{"tasks without faults", "PLAIN t end"},
	{"the long message of a problem", "SAID:many y pgdown up up up up up up up up"},
	{"the last answer", "U end"},
	{"the second answer", "U down"},
	{"the answer above the first", "U up"},
	{"an answer clicked", "U CLICK:6"},
	{"two tasks that run", "PLAIN START:dev START:serve t"},
	{"two tasks that run, and problems", "START:dev SAID:controller y"},
	{"the file of a problem is the current one", "SAID:controller y f t"},
	{"a sieve written", "SAID:controller o s enter end x enter"},
	{"a heading of tasks clicked", "down CLICK:5"},
	{"the filter clicked", "down CLICK:2"},
	{"below the tasks clicked", "down CLICK:24"},
	{"a short output", "PLAIN SAID:good o"},
	{"arguments of the run before", "/ g r e e t enter a x enter AWAIT a"},
	{"a field completed", "/ k tab"},
	{"a value of a field completed", "/ k i n d : c tab"},
	{"a field completed behind a word", "/ o space i s : r u tab"},
	{"a problem of the task files", "SAID:controller y end enter"},
	{"the tally in order of output", "SAID:controller SAID:many y g g g"},
	{"the output of a run without a line", "SAID:lint o"},
	{"the run after", "SAID:lint SAID:controller o [ ]"},
	{"run again", "PLAIN SAID:good o r AWAIT"},
	{"the run before, on the tally", "SAID:controller LOG SAID:controller y ["},
	{"a task declared elsewhere in the values", "/ a l l enter tab"},
	{"the sieve without one of our own", "PLAIN SAID:good o s"},
	{"the run before", "SAID:lint SAID:controller o ["},
	{"keys sought", "? / s i e v"},
	{"the first of three runs", "SAID:lint SAID:build SAID:controller o [ ["},
	{"the second of three runs", "SAID:lint SAID:build SAID:controller o [ [ ]"},
	{"the problem chosen before the task ran again", "SAID:controller y down down SAID:controller y"},
	{"text pasted into the filter", "/ PASTE:coil"},
	{"text pasted where nothing is typed", "PASTE:coil"},
	{"below the survey clicked", "v CLICK:30"},
	{"a problem that was not checked", "START:dev SAID:controller LOG2 SAID:controller y"},
	{"the wheel in the tasks", "WHEELDOWN WHEELDOWN"},
	{"down and up with the wheel in the tasks", "WHEELDOWN WHEELDOWN WHEEL"},
	{"copying where no task is", "/ z z z enter c"},
	{"a heading of the survey opened", "v enter"},
	{"an answer chosen by its number, and then a key", "U 2 down"},
	{"arguments of earlier runs", "/ g r e e t enter a x enter AWAIT a y enter AWAIT a up up"},
	{"arguments of earlier runs, opened again", "/ g r e e t enter a x enter AWAIT a y enter AWAIT a up esc a up"},
	{"the last problem's output", "SAID:controller o home n n"},
	{"a first problem's output", "SAID:controller o end n N"},
	{"without colours", "NOCOLOUR SAID:controller o home"},
	{"the tally without colours", "NOCOLOUR SAID:controller y down"},
	{"a plan", "/ f i r i n g enter l"},
	{"the second step of a plan", "/ f i r i n g enter l down"},
	{"the wheel in a plan", "/ f i r i n g enter l WHEELDOWN"},
	{"down and up with the wheel in a plan", "/ f i r i n g enter l WHEELDOWN WHEELDOWN WHEEL"},
	{"a step of a plan clicked", "/ f i r i n g enter l CLICK:4"},
	{"the output of a step", "SAID:firing l home enter"},
	{"steps together", "SAID:firing T"},
	{"starting points", "n"},
	{"a starting point", "n down enter"},
	{"a new task", "n enter f i r e"},
	{"a new task given up", "n enter f esc esc"},
	{"a task copied", "/ g r e e t enter C"},
	{"a field of a copy", "/ g r e e t enter C down down enter x"},
	{"a task changed", "/ l i n t enter E"},
	{"launchers", "/ l i n t enter V"},
	{"files to choose from", "f"},
	{"files found", "f c o i"},
	{"the current file chosen", "f c o i enter"},
	{"a history without runs", "H"},
	{"a line that is marked", "PLAIN SAID:nowhere o m"},
	{"parts of a line that are marked", "PLAIN SAID:nowhere o m right right 1 right 2"},
	{"problems without a place", "PLAIN SAID:nowhere y"},
	{"problems without a place by task", "PLAIN SAID:nowhere y g g"},
	{"a heading of the survey opened and closed", "v enter enter"},
	{"below a heading of the survey", "v enter down down down"},
	{"a task that is no suite", "/ l i n t enter F"},
	{"the launchers of a wrapped task", "PLAIN / w r a p p e d enter V"},
	{"a task sent to a place", "PLAIN / g o o d enter V down down enter"},
	{"an expression that is none", "SAID:controller o s enter end ( enter"},
	{"the survey, nothing to switch", "v s"},
	{"the survey, a rule to switch", "v end s"},
	{"the filter of before", "/ c o i enter / tab"},
	{"a fault opened", "v down enter"},
	{"the slots of a plan", "PLAIN / w r a p p e d enter l"},
	{"found in the first line", "PLAIN SAID:good o / o n e enter ."},
	{"only what was not checked", "SAID:controller LOG2 SAID:controller y / i s : n o t - c h e c k e d enter"},
}

// atAllSizes are the screens that are drawn at all sizes.
var atAllSizes = map[string]bool{"tasks": true, "the tally": true, "its output": true, "values": true, "the survey": true, "a run with problems": true}

// Each page shows the golden text and styles at several sizes. go test ./tui -run
// TestScreens -update writes it; read the difference before it is kept.
func TestScreens(t *testing.T) {
	t.Setenv("EDITOR", "true")
	t.Setenv("PATH", fewTools(t, "npm"))
	t.Setenv("LC_ALL", "C.UTF-8")
	t.Run("each", func(t *testing.T) {
		for i, s := range screens {
			t.Run(s.name, func(t *testing.T) {
				t.Parallel()
				files := aKiln
				if strings.HasPrefix(s.keys, "PLAIN ") {
					files = aBowl
				}
				m := openOn(t, layWorkspace(t, files), strings.HasPrefix(s.keys, "HISTORY") || strings.Contains(s.keys, " HISTORY"))
				m.perform(t, strings.TrimPrefix(s.keys, "PLAIN "), false)
				sizes := [][2]int{{140, 38}, {80, 24}, {200, 30}, {60, 16}, {100, 31}, {120, 29}, {180, 30}}
				if !atAllSizes[s.name] { // not all of them, for their size
					sizes = append(sizes[:2:2], sizes[2+i%5])
				}
				text := m.shownAt(m.shown, sizes...)
				m.session.Close()
				compareScreen(t, "screens", s.name, text)
			})
		}
	})
	entries, err := os.ReadDir("testdata/screens")
	if err != nil || len(entries) != len(screens) {
		t.Errorf("%d golden screens for %d: %v", len(entries), len(screens), err)
	}
}

// perform types keys, one word a key. Words in capitals do what no key does.
//
// Of runs: SAID runs a task to its end and START starts it; AWAIT waits for the end of all, AWAITS of one, ENDED
// until all have ended and may not be kept yet, SLOT until one waits for a slot, ASKS until one waits for input,
// PASSES for so many passes; SYNC waits until it is kept, STALE looks at
// the files of tasks.
// Of the keyboard and the mouse: TYPE types a text with spaces for its underscores, BACKSPACES so many of that
// key, CTRL a key with that one, SHIFTUP and SHIFTDOWN arrows with shift, PASTE pastes a text, CLICK clicks on a
// row, WHEEL and WHEELDOWN turn the wheel.
// Of rows: FOLD, RULE and CHOOSE choose one by its name, COMPILERS brings those of a file.
// Of the workspace: WRITE writes a file, GONE removes one, MOVE moves its lines, LOG and LOG2 change what a task
// prints, SURVEY reads all anew.
//
// Where settle is set, the commands that the pages return are run.
func (m *Model) perform(t *testing.T, keys string, settle bool) {
	t.Helper()
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(m.root, filepath.FromSlash(name)), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	// until waits for a run of which something holds.
	until := func(holds func(run.Snapshot) bool) {
		t.Helper()
		for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(time.Millisecond) {
			if slices.ContainsFunc(m.session.Runs(), func(r *run.Run) bool { return holds(r.Snapshot()) }) {
				m.sync(t)
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("what %q waits for does not come", keys)
			}
		}
	}
	press := func(k string) {
		if cmd := m.hit(k); settle {
			m.follow(cmd)
			m.sync(t)
		}
	}
	for k := range strings.FieldsSeq(keys) {
		name, what, _ := strings.Cut(k, ":")
		if what == "" { // such a word alone is a key
			name = k
		}
		switch name {
		case "SAID":
			m.said(t, what)
		case "START":
			for _, x := range m.snap.Survey.Tasks {
				if x.Name == what {
					m.start(x, nil)
					for s := m.last(x).Snapshot(); s.State == run.Waiting || x.Ready != "" && s.State != run.Up; s = m.last(x).Snapshot() {
						time.Sleep(time.Millisecond)
					}
					m.sync(t)
				}
			}
		case "NOCOLOUR":
			m.ink.NoColour = true
		case "WHEEL":
			m.Update(tea.MouseWheelMsg{X: 20, Y: 9, Button: tea.MouseWheelUp})
		case "WHEELDOWN":
			m.Update(tea.MouseWheelMsg{X: 20, Y: 9, Button: tea.MouseWheelDown})
		case "CLICK":
			row, _ := strconv.Atoi(what)
			m.Update(tea.MouseClickMsg{X: 20, Y: row, Button: tea.MouseLeft})
		case "PASTE":
			m.Update(tea.PasteMsg{Content: what})
		case "TYPE":
			for _, c := range strings.ReplaceAll(what, "_", " ") {
				if c == ' ' {
					press("space")
				} else {
					press(string(c))
				}
			}
		case "CTRL":
			_, cmd := m.Update(tea.KeyPressMsg{Code: rune(what[0]), Mod: tea.ModCtrl})
			if settle {
				m.follow(cmd)
				m.sync(t)
			}
		case "CHOOSE": // a value of a draft
			pageOf[*draftPage](m).choose(what)
		case "SHIFTDOWN", "SHIFTUP":
			code := tea.KeyDown
			if name == "SHIFTUP" {
				code = tea.KeyUp
			}
			m.Update(tea.KeyPressMsg{Code: code, Mod: tea.ModShift})
		case "FOLD": // the row of a fold
			pageOf[*tasksPage](m).chooseFold(strings.NewReplacer("_of_", " of ", "in_", "in ").Replace(what))
			m.Update(runsMsg{})
		case "RULE": // the first rule of the survey that begins so
			p := pageOf[*surveyPage](m)
			p.chosen = slices.IndexFunc(p.rows, func(r surveyRow) bool { return strings.HasPrefix(r.rule, what) })
			m.Update(runsMsg{})
		case "COMPILERS": // as if they had been asked
			of := pageOf[*tasksPage](m)
			of.openedCompilers(versionsMsg{of.currentRel(), []*task.Task{{Name: "compile", File: of.currentRel(), Dir: ".", Kind: task.Build, About: "version 6", Command: task.Command{Argv: []string{"cc", "-c"}}}}})
		case "HISTORY", "SYNC": // what ended is in the history
			if err := m.session.Refresh(); err != nil {
				t.Fatal(err)
			}
			m.sync(t)
			if m.front() == historyName {
				m.follow(pageOf[*historyPage](m).readRuns(firstRuns))
			}
		case "STALE": // what is known of tasks before they run
			m.session.LookAhead()
			m.sync(t)
		case "PASSES": // so many of a run that runs again on change
			n, _ := strconv.Atoi(what)
			until(func(s run.Snapshot) bool { return s.State == run.Watching && len(s.Passes) >= n-1 })
		case "SLOT": // until a task waits for one
			until(func(s run.Snapshot) bool { return s.Prepared.Task.Name == what && strings.Contains(s.Words(), "slot") })
		case "ASKS": // until a task waits for input
			until(func(s run.Snapshot) bool { return s.Asks })
		case "ENDED": // until all have ended, kept or not
			until(func(run.Snapshot) bool { return len(m.active()) == 0 })
		case "AWAITS":
			for _, r := range m.session.Runs() {
				if r.Prepared.Task.Name == what {
					<-r.Done()
				}
			}
			m.sync(t)
		case "MOVE": // all lines of a file stand one further down
			text, err := os.ReadFile(filepath.Join(m.root, what))
			if err != nil {
				t.Fatal(err)
			}
			write(what, "// glazed\n"+string(text))
			m.tell(sourcesChangedMsg{})
		case "BACKSPACES":
			for n, _ := strconv.Atoi(what); n > 0; n-- {
				press("backspace")
			}
		case "SURVEY":
			m.resurvey(t)
		case "AWAIT":
			m.finish(t)
			for _, r := range m.session.Runs() {
				<-r.Job().Done()
			}
			m.sync(t)
		case "LOG":
			write("log", strings.Replace(aKiln["log"], "gone.c:2:1: error: where is it?\n", "cc -c gone.c\ncoil.c:5:1: warning: new\n", 1))
		case "LOG2": // another file is compiled, and no other
			write("log", "cc -c other.c\nother.c:2:1: warning: cold [-Wcold]\n")
		case "WRITE":
			write(what, "#!/bin/sh\n# another text\n")
			later := time.Now().Add(2 * time.Second) // than what was made of it in the same moment
			if err := os.Chtimes(filepath.Join(m.root, filepath.FromSlash(what)), later, later); err != nil {
				t.Fatal(err)
			}
			m.tell(sourcesChangedMsg{})
		case "GONE":
			if err := os.Remove(filepath.Join(m.root, filepath.FromSlash(what))); err != nil {
				t.Fatal(err)
			}
		default:
			press(k)
		}
	}
}
