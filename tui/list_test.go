package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/keep"
	"tidytally/core/plan"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/session"
	"tidytally/core/survey"
)

// follow does what the program's loop does with a command: it runs it and hands
// its message on, until nothing more comes.
func (m *Model) follow(cmd tea.Cmd) {
	for cmd != nil {
		msg := cmd()
		if batch, ok := msg.(tea.BatchMsg); ok {
			for _, c := range batch {
				m.follow(c)
			}
			return
		}
		_, cmd = m.Update(msg)
	}
}

func (m *Model) page_() string { return strings.Join(m.screen(), "\n") }

// order returns the headings and the names of the list.
func order(m *Model) string {
	var out []string
	for _, r := range pageOf[*tasksPage](m).rows {
		switch {
		case r.task != nil:
			out = append(out, r.task.Name)
		case r.opens != "":
			out = append(out, "…")
		default:
			out = append(out, r.head+":")
		}
	}
	return strings.Join(out, " ")
}

var someTasks = map[string]string{
	"Makefile":       "all:\n\ttrue\ntest:\n\ttrue\nclean:\n\ttrue\n",
	"a/Makefile":     "lint:\n\ttrue\n",
	"tidytally.toml": "# mine\n[workspace]\nname = \"w\" # here\n\n[task.one-file]\nrun = \"cat {file}\"\nfor = [\"*.c\"]\n[task.flash]\nrun = \"echo {ask.port}\"\n",
	"src/x.c":        "int x;\n",
}

// Pins stand on top, are kept outside of the workspace, and let go again.
func TestPinsAndGroups(t *testing.T) {
	m := open(t, someTasks)
	before := order(m)
	if before != "w: all test clean one-file flash a: lint" {
		t.Fatalf("the list is %s", before)
	}
	m.do("end", "p")
	if got := order(m); got != "pinned: lint w: all test clean one-file flash" {
		t.Errorf("pinned: %s", got)
	}
	if k, err := keep.Load(m.root); err != nil || !k.Pinned("a/Makefile#lint") {
		t.Errorf("kept: %v, %+v", err, k)
	}
	if _, err := os.Stat(filepath.Join(m.root, ".tidytally")); err == nil {
		t.Error("something was written into the workspace")
	}
	m.do("/", "i", "s", ":", "p", "i", "n", "n", "e", "d")
	if got := order(m); got != "pinned: lint" {
		t.Errorf("is:pinned shows %s", got)
	}
	m.do("esc", "p", "g")
	if got := order(m); got != "build: all check: lint test: test run: flash clean: clean other: one-file" {
		t.Errorf("by kind: %s", got)
	}
	m.do("g")
	if got := order(m); got != "make: all test clean lint tally: one-file flash" {
		t.Errorf("by source: %s", got)
	}
	m.do("g")
	if got := order(m); got != before {
		t.Errorf("by folder again: %s", got)
	}
}

// The file saved last brings what is for it to the top; a file that is kept in
// hand stays there.
func TestTheFileInHand(t *testing.T) {
	m := open(t, someTasks)
	m.resurvey(t, "src/x.c", "src/gone.c", "notes.txt")
	if got := order(m); got != "for x.c: one-file … w: all test clean flash a: lint" {
		t.Errorf("with a C file: %s", got)
	}
	if ctx := m.session.Context(); ctx.File != filepath.Join(m.root, "src/x.c") {
		t.Errorf("commands are given %q", ctx.File)
	}
	if text := m.page_(); !strings.Contains(text, "saved last src/x.c") {
		t.Errorf("the heading does not name it:\n%s", text)
	}
	m.do("f", "enter") // the one saved last is offered first
	if err := os.WriteFile(filepath.Join(m.root, "y.go"), []byte("package y\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	m.resurvey(t, "y.go")
	if m.currentRel() != "src/x.c" {
		t.Errorf("current is %s", m.currentRel())
	}
	m.do("f", "enter")
	if m.currentRel() != "y.go" || !strings.HasPrefix(order(m), "for y.go: …") {
		t.Errorf("let go: %s, %s", m.currentRel(), order(m))
	}
}

// A task that asks for a value is not run without one.
func TestATaskThatAsksOpensItsArguments(t *testing.T) {
	m := open(t, someTasks)
	m.do("/", "f", "l", "a", "s", "h", "enter", "enter")
	if !pageOf[*tasksPage](m).asking || pageOf[*tasksPage](m).arguments.String() != "port=" {
		t.Fatalf("asking %v, %q", pageOf[*tasksPage](m).asking, pageOf[*tasksPage](m).arguments.String())
	}
	m.do("7")
	if text := m.page_(); !strings.Contains(text, "echo 7") {
		t.Errorf("what will run is not shown:\n%s", text)
	}
}

// The usual task is offered when none is chosen; the tally file keeps its
// comments when the choice is written into it.
func TestTheUsualTaskIsOffered(t *testing.T) {
	m := open(t, someTasks)
	m.do("u")
	if m.choice == nil || m.choice.answers[0].text != "Makefile#all" {
		t.Fatalf("offered is %+v", m.choice)
	}
	m.do("esc")
	if m.choice != nil {
		t.Error("esc leaves the question")
	}
	m.do("u", "enter")
	m.follow(m.answer("1"))
	m.sync(t)
	data, err := os.ReadFile(filepath.Join(m.root, "tidytally.toml"))
	if err != nil || !strings.HasPrefix(string(data), "# mine\n[workspace]\nname = \"w\" # here\nusual = \"Makefile#all\"\n") {
		t.Errorf("%v\n%s", err, data)
	}
	if u := m.usual(); u == nil || u.Name != "all" {
		t.Errorf("the usual task is %v", u)
	}
	m.kept.Usual = "Makefile#test" // for one alone
	if u := m.usual(); u.Name != "test" {
		t.Errorf("one's own choice goes before: %s", u.Name)
	}
}

// Rules are switched from the survey, and paths left out, in the tally file.
func TestTheSurveySwitchesRules(t *testing.T) {
	files := map[string]string{
		"tidytally.toml":            "[workspace]\nname = \"w\"\n\n# the rest\n[set]\nx = \"1\"\n",
		"Makefile":                  "all:\n\ttrue\n",
		"old/Makefile":              "all:\n\ttrue\n",
		"node_modules/a/x.js":       "",
		"node_modules/package.json": `{"scripts":{"hidden":"true"}}`,
		".gitignore":                "*.tmp\n",
		"a.tmp/Makefile":            "tmp:\n\ttrue\n",
	}
	m := open(t, files)
	choose := func(text string) {
		t.Helper()
		for i, r := range pageOf[*surveyPage](m).rows {
			if r.left == text {
				pageOf[*surveyPage](m).chosen = i
				return
			}
		}
		t.Fatalf("no row %q on\n%s", text, m.page_())
	}
	tally := func() string {
		data, err := os.ReadFile(filepath.Join(m.root, "tidytally.toml"))
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	switches := func() {
		t.Helper()
		before := tally()
		m.do("s")
		if tally() != before || m.choice == nil {
			t.Fatal("it is written without a question")
		}
		m.follow(m.answer("enter"))
		m.sync(t)
	}
	m.do("v")
	choose("built-in: dependency folders")
	switches()
	if !strings.Contains(order(m), "hidden") || !strings.Contains(tally(), `rules_off = ["dependency folders"]`) {
		t.Errorf("switched off: %s\n%s", order(m), tally())
	}
	choose("dependency folders")
	switches()
	if strings.Contains(order(m), "hidden") {
		t.Errorf("switched on again: %s", order(m))
	}
	choose(".gitignore:1: *.tmp")
	switches()
	if !strings.Contains(order(m), "tmp") {
		t.Errorf("an ignore file switched off: %s\n%s", order(m), tally())
	}
	choose("old/Makefile")
	m.do("i")
	if m.choice == nil || len(m.choice.answers) != 3 || m.choice.answers[1].text != "old" {
		t.Fatalf("%+v", m.choice)
	}
	m.follow(m.answer("2"))
	m.sync(t)
	if strings.Contains(order(m), "old:") || !strings.Contains(tally(), `ignore = ["old"]`) {
		t.Errorf("left out: %s\n%s", order(m), tally())
	}
	choose("tidytally.toml: ignore old")
	switches()
	if !strings.Contains(order(m), "old:") {
		t.Errorf("back again: %s", order(m))
	}
	if !strings.Contains(tally(), "# the rest\n[set]\nx = \"1\"\n") {
		t.Errorf("the rest of the file has changed:\n%s", tally())
	}
	if strings.Contains(tally(), "ignore = ") {
		t.Errorf("an empty list is left behind:\n%s", tally())
	}
	m.follow(m.undo())
	m.sync(t)
	if strings.Contains(order(m), "old:") || !strings.Contains(tally(), `ignore = ["old"]`) {
		t.Errorf("the last change was not taken back:\n%s", tally())
	}
	if m.undo(); !strings.Contains(footing(m), "nothing was written") {
		t.Errorf("taken back twice: %s", footing(m))
	}
}

// said runs a task that prints a text, and waits for its end.
func (m *Model) said(t *testing.T, name string) *run.Run {
	t.Helper()
	for _, x := range m.snap.Survey.Tasks {
		if x.Name == name {
			m.start(x, nil)
			r := m.last(x)
			select {
			case <-r.Done():
			case <-time.After(20 * time.Second):
				t.Fatal("it does not end")
			}
			m.sync(t)
			return r
		}
	}
	t.Fatalf("no task %s", name)
	return nil
}

func (m *Model) tallyRows() string {
	var out []string
	for _, r := range pageOf[*tallyPage](m).rows {
		if r.p == nil {
			out = append(out, r.head+":")
			continue
		}
		out = append(out, fmt.Sprintf("%s%d", map[problem.State]string{problem.New: "+", problem.Gone: "-"}[r.state], r.p.Line))
	}
	return strings.Join(out, " ")
}

// The problems stand in four orders, pass a filter, and count in the heading.
func TestOrdersOfTheTally(t *testing.T) {
	m := open(t, map[string]string{
		"tidytally.toml": "[task.one]\nrun = \"cat log\"\n[task.two]\nrun = \"cat log2\"\n[task.broken]\n",
		"log":            "b.c:9:1: warning: late [-Wx]\na.c:5:1: error: bad\na.c:2:1: warning: early [-Wy]\n",
		"log2":           "c.c:7:1: note: seen\n",
		"a.c":            strings.Repeat("int a;\n", 9),
	})
	m.said(t, "two")
	m.said(t, "one")
	m.do("y")
	const faults = " in the task files: 5"
	for i, want := range []string{
		"b.c: +9 a.c: +2 +5" + faults,
		"errors: +5 warnings: +9 +2" + faults,
		"two: +7 one: +9 +5 +2" + faults,
		"as they came: +9 +5 +2" + faults,
		"b.c: +9 a.c: +2 +5" + faults,
	} {
		if got := m.tallyRows(); got != want {
			t.Errorf("order %d: got %s, want %s", i, got, want)
		}
		m.do("g")
	}
	pageOf[*tallyPage](m).order = tallyByFile
	for filter, want := range map[string]string{"sev:error": "a.c: +5 in the task files: 5", "code:x": "b.c: +9", "is:new -file:a": "b.c: +9", "early": "a.c: +2", "nothing": ""} {
		pageOf[*tallyPage](m).find.set(filter)
		pageOf[*tallyPage](m).refresh()
		if got := m.tallyRows(); got != want {
			t.Errorf("%s: got %s, want %s", filter, got, want)
		}
	}
	pageOf[*tallyPage](m).find.set("nothing")
	pageOf[*tallyPage](m).refresh()
	if text := m.page_(); !strings.Contains(text, "it hides 4 problems") {
		t.Errorf("what the filter hides is not told:\n%s", text)
	}
	m.do("esc")
	if m.front() != tallyName || len(pageOf[*tallyPage](m).rows) != 7 {
		t.Errorf("esc clears the filter first: %s", m.tallyRows())
	}
}

// A place moves with the text of its line; a line that is gone says so.
func TestPlacesMoveWithTheirLines(t *testing.T) {
	source := "int a;\nint b;\nint c = d;\nint e;\n"
	m := open(t, map[string]string{
		"tidytally.toml": "[task.one]\nrun = \"cat log\"\n", "log": "x.c:3:9: error: no d\n", "x.c": source,
	})
	m.said(t, "one")
	m.do("y")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(m.root, "x.c"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		m.resurvey(t, "x.c")
	}
	row := pageOf[*tallyPage](m).current()
	if line, note := pageOf[*tallyPage](m).placeNow(row); line != 3 || note != "" {
		t.Errorf("unchanged: %d, %q", line, note)
	}
	write("// new\n// lines\n" + source)
	if line, note := pageOf[*tallyPage](m).placeNow(row); line != 5 || !strings.Contains(note, "line 5 was line 3") {
		t.Errorf("moved: %d, %q", line, note)
	}
	if text := m.page_(); !strings.Contains(text, "5:9") || !strings.Contains(text, "int c = d;") {
		t.Errorf("the page shows\n%s", text)
	}
	write(strings.Replace(source, "c = d", "c = 1", 1))
	if line, note := pageOf[*tallyPage](m).placeNow(row); line != 3 || !strings.Contains(note, "it said: int c = d;") {
		t.Errorf("mended: %d, %q", line, note)
	}
	write("")
	if _, note := pageOf[*tallyPage](m).placeNow(row); note == "" {
		t.Error("an empty file is a changed one")
	}
	if err := os.Remove(filepath.Join(m.root, "x.c")); err != nil {
		t.Fatal(err)
	}
	m.Update(sourcesChangedMsg{})
	if text := m.page_(); !strings.Contains(text, "the file is gone") {
		t.Errorf("a file that is gone is told:\n%s", text)
	}
}

// The tool's own count is shown where it differs from what was found.
func TestADifferentCountIsShown(t *testing.T) {
	m := open(t, map[string]string{
		"tidytally.toml": "[task.one]\nrun = \"cat log\"\n",
		"log":            "a.ts(1,2): error TS2322: x\nsome odd line\n\nFound 2 errors in 2 files.\n",
	})
	m.said(t, "one")
	m.do("y")
	if text := m.page_(); !strings.Contains(text, "the tool itself counts 2, of which 1 were found: see line 4") {
		t.Errorf("the page shows\n%s", text)
	}
}

// A sieve of the user's own reads the output of tasks; one that is private to a task
// reads that task's alone.
func TestOwnSievesReadOutputs(t *testing.T) {
	m := open(t, map[string]string{
		"tidytally.toml":   "[task.one]\nrun = \"cat log\"\n[task.gnu-alone]\nrun = \"cat log\"\nsieves = [\"gnu\"]\n[sieve.kilnsim]\n[[sieve.kilnsim.lines]]\nmatch = '^!! (?P<message>.*) in (?P<file>\\S+)$'\n",
		"log":              "!! odd in a.c\nb.c:2:1: error: x\nquill a.c 7 private\n",
		".quill/jobs.json": `{"tasks":[{"name":"quilled","command":"cat log","regex":"^quill (\\S+) (\\d+) (.*)$"}]}`,
	})
	for name, want := range map[string]string{"one": "a.c: error: odd; b.c:2:1: error: x", "gnu-alone": "b.c:2:1: error: x", "quilled": "a.c: error: odd; b.c:2:1: error: x; a.c:7: error: private"} {
		var got []string
		for _, p := range m.said(t, name).Snapshot().Problems {
			got = append(got, p.GNU())
		}
		if strings.Join(got, "; ") != want {
			t.Errorf("%s: got %q, want %q", name, got, want)
		}
	}
}

// The help finds settings by their words.
func TestTheHelpFindsSettings(t *testing.T) {
	m := open(t, someTasks)
	m.do("?", "e", "n", "v", "_", "f")
	text := m.page_()
	if !strings.Contains(text, "[task.NAME] env_file") || strings.Contains(text, "rules_off") {
		t.Errorf("the help shows\n%s", text)
	}
	if m.do("esc"); !m.help.open || m.help.find.String() != "" {
		t.Error("esc takes the words away first")
	}
	if m.do("esc"); m.help.open {
		t.Error("esc leaves the help")
	}
	m.height = 30
	m.do("?", "down", "down")
	for _, want := range []string{"3 to ", "run the usual task"} {
		if !strings.Contains(m.page_(), want) {
			t.Errorf("the help has no %q\n%s", want, m.page_())
		}
	}
}

// A task that says what it reads is stale when that has changed since its last
// good run, and fresh after the next one.
func TestStaleTasksSaySo(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.bake]\nrun = \"true\"\nreads = [\"src/*.c\"]\n[task.other]\nrun = \"true\"\n", "src/a.c": "", "src/b.c": ""})
	later := func(name string) {
		t.Helper()
		at := time.Now().Add(time.Minute)
		if err := os.Chtimes(filepath.Join(m.root, name), at, at); err != nil {
			t.Fatal(err)
		}
	}
	look := func() string {
		t.Helper()
		m.session.LookAhead()
		m.sync(t)
		return m.page_()
	}
	if text := look(); strings.Contains(text, "stale") {
		t.Errorf("never run, it is stale:\n%s", text)
	}
	m.said(t, "bake")
	if text := look(); strings.Contains(text, "stale") {
		t.Errorf("just run, it is stale:\n%s", text)
	}
	later("src/a.c")
	if err := os.WriteFile(filepath.Join(m.root, "src/a.c"), []byte("int a;\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if text := look(); !strings.Contains(text, "stale (1)") || !strings.Contains(text, "src/a.c changed   by what it declares") {
		t.Errorf("a file has changed:\n%s", text)
	}
	m.do("/", "i", "s", ":", "s", "t", "a", "l", "e")
	if got := order(m); got != "emberclay: bake" {
		t.Errorf("is:stale shows %s", got)
	}
}

// When the window grows, the list shows its top again as far as the chosen row
// allows.
func TestALargerWindowShowsTheTop(t *testing.T) {
	m := open(t, nil)
	m.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	if pageOf[*tasksPage](m).top == 0 {
		t.Fatal("the chosen row should be below the first page")
	}
	m.Update(tea.WindowSizeMsg{Width: 142, Height: 44})
	if pageOf[*tasksPage](m).top != 0 {
		t.Errorf("the list begins at row %d", pageOf[*tasksPage](m).top)
	}
}

// A search in the output counts, and the output is written to a file as it was printed.
func TestOutputCountedAndWritten(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.say]\nrun = \"printf 'cone 1\\\\nglaze\\\\ncone \\\\033[31m2\\\\033[0m\\\\n'\"\n"})
	m.do("enter")
	m.finish(t)
	m.do("o", "/", "c", "o", "n", "e", "enter")
	if text := m.page_(); !strings.Contains(text, `of 2 with "cone"`) {
		t.Errorf("the count:\n%s", text)
	}
	m.do("w", "enter")
	if text := m.page_(); !strings.Contains(text, "written to "+filepath.Join(m.root, "say.log")) {
		t.Errorf("writing:\n%s", text)
	}
	data, err := os.ReadFile(filepath.Join(m.root, "say.log"))
	if err != nil || strings.ReplaceAll(string(data), "\r\n", "\n") != "cone 1\nglaze\ncone \x1b[31m2\x1b[0m\n" {
		t.Errorf("written: %q (%v)", data, err)
	}
	m.do("w", "enter")
	if text := m.page_(); !strings.Contains(text, "file exists") {
		t.Errorf("a file that is there:\n%s", text)
	}
}

// surveyIs shows a survey.
func (m *Model) surveyIs(found *survey.Survey) {
	snap := *m.snap
	snap.Survey = found
	m.snap = &snap
	m.tell(surveyedMsg{})
}

// While the workspace is still read, the list stays at its top, until one moves in it.
func TestTheListStaysAtItsTop(t *testing.T) {
	m := open(t, map[string]string{"b/Makefile": "late:\n\ttrue\nlater:\n\ttrue\n"})
	p := pageOf[*tasksPage](m)
	whole := *m.snap.Survey
	early := whole
	early.Tasks = whole.Tasks[1:]
	m.surveyIs(&early)
	m.surveyIs(&whole)
	if got := p.current().Name; got != "late" {
		t.Errorf("it stands on %s", got)
	}
	m.do("down")
	m.surveyIs(&early)
	m.surveyIs(&whole)
	if got := p.current().Name; got != "later" {
		t.Errorf("once moved, it stands on %s", got)
	}
}

// The filter knows which tasks are stale, and which fresh.
func TestFilteringByWhatHasChanged(t *testing.T) {
	m := open(t, map[string]string{"Makefile": "kiln:\n\ttrue\nglaze:\n\ttrue\nclay:\n\ttrue\n"})
	p := pageOf[*tasksPage](m)
	snap := *m.snap
	snap.Ahead = &session.Ahead{Outlooks: map[string]plan.Outlook{"Makefile#kiln": {State: plan.Needed, Ran: true}, "Makefile#glaze": {State: plan.Fresh}, "Makefile#clay": {State: plan.Unknown}}}
	m.snap = &snap
	for filter, want := range map[string]string{"is:stale": "kiln", "is:fresh": "glaze", "is:pinned": ""} {
		p.find.set(filter)
		p.arrange()
		var got []string
		for _, at := range p.tasks {
			got = append(got, p.rows[at].task.Name)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %q", filter, got)
		}
	}
}

// A survey that comes while one stands on a folder's row, or on a task that is gone, leaves one there.
func TestTheChosenRowStays(t *testing.T) {
	files := map[string]string{"Makefile": "all:\n\ttrue\nflash:\n\ttrue\n"}
	for i := range 60 {
		files[fmt.Sprintf("packages/p%02d/package.json", i)] = `{"scripts": {"build": "tsc", "say": "echo said"}}`
	}
	m := open(t, files)
	p := pageOf[*tasksPage](m)
	m.do("shift+down")
	row := p.rows[p.chosenRow()]
	if row.fold == "" {
		t.Fatalf("it stands on %+v", row)
	}
	whole := *m.snap.Survey
	again := whole
	again.Tasks = whole.Tasks[1:]
	m.surveyIs(&again)
	if got := p.rows[p.chosenRow()]; got.fold != row.fold {
		t.Errorf("after a survey it stands on %+v", got)
	}
	m.surveyIs(&whole)
	m.do("up")
	if p.current() == nil || p.current().Name != "flash" {
		t.Fatalf("it stands on %+v", p.rows[p.chosenRow()])
	}
	again.Tasks = slices.Delete(slices.Clone(whole.Tasks), 1, 2)
	m.surveyIs(&again)
	if p.chosen != 1 {
		t.Errorf("once its task is gone, it stands in row %d", p.chosen)
	}
}

// The bell rings once for each run that took long enough, and not without being asked for.
func TestTheBell(t *testing.T) {
	for text, want := range map[string]int{"[workspace]\nbell = \"1ms\"\n": 1, "[workspace]\nbell = \"1h\"\n": 0, "": 0} {
		m := open(t, map[string]string{"tidytally.toml": text + "[task.nap]\nrun = \"sleep 0.02\"\n"})
		m.do("enter")
		m.finish(t)
		m.ended = nil // the page has asked already
		rung := 0
		for range 3 {
			if m.rings(m.newlyEnded()) {
				rung++
			}
		}
		if rung != want {
			t.Errorf("%q: it rings %d times", text, rung)
		}
	}
}
