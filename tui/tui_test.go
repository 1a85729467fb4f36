package tui

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/session"
	"tidytally/demo"
	"tidytally/internal/testtree"
	"tidytally/tui/ink"
)

// open makes a model on a workspace, without a terminal and a history.
func open(t *testing.T, files map[string]string) *Model {
	t.Helper()
	return openOn(t, layWorkspace(t, files), false)
}

// openKept is open with a history.
func openKept(t *testing.T, files map[string]string) *Model {
	t.Helper()
	return openOn(t, layWorkspace(t, files), true)
}

// layWorkspace makes a workspace of files; of the demo's where there are none.
func layWorkspace(t *testing.T, files map[string]string) string {
	t.Helper()
	root := filepath.Join(testtree.Folder(t), "emberclay")
	lay := demo.Lay
	if files != nil {
		lay = func(root string) error { return os.MkdirAll(root, 0o755) }
	}
	if err := lay(root); err != nil {
		t.Fatal(err)
	}
	testtree.Fill(t, root, files)
	return root
}

// openOn makes a model on a folder, which keeps a history if it is asked to.
func openOn(t *testing.T, root string, history bool) *Model {
	t.Helper()
	m, err := newModel(root, session.Options{NoHistory: !history, Run: run.Options{UpWhenQuiet: time.Hour}}) // on a busy machine, too, what is silent is not up yet
	if err != nil {
		t.Fatal(err)
	}
	m.execute = func(cmd *exec.Cmd, _ tea.ExecCallback) tea.Cmd {
		return func() tea.Msg {
			m.say(false, "opened: %s", strings.ReplaceAll(strings.Join(cmd.Args, " "), root+"/", ""))
			return nil
		}
	}
	t.Cleanup(func() { m.session.Close() })
	m.asked = true // nothing goes on elsewhere
	m.readsFor = time.Minute
	m.ink = ink.Well{Dark: true, CanStrike: true}
	m.width, m.height = 140, 38
	m.resurvey(t)
	return m
}

// sync waits until the session has done what is due, and shows it.
func (m *Model) sync(t *testing.T) {
	t.Helper()
	if _, err := m.session.Settle(t.Context()); err != nil {
		t.Fatal(err)
	}
	m.Update(newsMsg{})
}

// resurvey reads the workspace anew, or some paths of it.
func (m *Model) resurvey(t *testing.T, paths ...string) {
	t.Helper()
	m.session.Touch(paths...)
	m.sync(t)
}

func (m *Model) do(keys ...string) {
	for _, k := range keys {
		m.hit(k)
	}
}

// namedKeys are the keys that are no characters.
var namedKeys = map[string]rune{
	"enter": tea.KeyEnter, "esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown, "tab": tea.KeyTab, "space": tea.KeySpace, "left": tea.KeyLeft,
	"backspace": tea.KeyBackspace, "pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "home": tea.KeyHome, "end": tea.KeyEnd,
}

// hit presses a key and returns what the page wants done.
func (m *Model) hit(k string) tea.Cmd {
	msg := tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}
	if code, named := namedKeys[k]; named {
		msg = tea.KeyPressMsg{Code: code}
	}
	if k == "space" {
		msg.Text = " "
	}
	_, cmd := m.Update(msg)
	return cmd
}

// finish waits for the end of all runs.
func (m *Model) finish(t *testing.T) {
	t.Helper()
	for _, r := range m.session.Runs() {
		select {
		case <-r.Done():
		case <-time.After(20 * time.Second):
			t.Fatal("a run does not end")
		}
	}
	m.sync(t)
}

func (m *Model) screen() []string {
	return strings.Split(ansi.Strip(m.View().Content), "\n")
}

var hostile = map[string]string{
	"Makefile":                          "all: ## " + strings.Repeat("日本語の説明 ", 30) + "\n\t@printf 'src/日本.c:3:5: error: \\351\\033[2J bad 日本語日本語 \\t\\n'; exit 1\n" + strings.Repeat("x", 300) + ":\n\ttrue\n",
	"package.json":                      `{"scripts":{"a\u001b[31mb":"echo \u202e evil","tab\there":"x"}}`,
	"src/日本.c":                          "\n\n\tint 日本語 = \"\u202e\";\x1b[31m\n",
	"deep/er/and/deeper/still/Makefile": "t: ; true\n",
	"tidytally.toml":                    "[task.long]\nrun = \"" + strings.Repeat("very long ", 60) + "\"\nabuot = 1\n",
}

// At every size every line of every page fits, and there are as many as rows;
// nothing but text and style is written.
func TestEveryPageFitsAtEverySize(t *testing.T) {
	for name, files := range map[string]map[string]string{"demo": nil, "hostile": hostile, "empty": {}} {
		m := open(t, files)
		if name != "empty" {
			m.do("/")
			for _, c := range map[string]string{"demo": "name:controller", "hostile": "name:all"}[name] {
				m.do(string(c))
			}
			m.do("enter", "enter")
			m.finish(t)
		}
		for _, page := range []string{"t", "o", "y", "g", "s", "esc", "v", "i", "esc", "?", "?", "t", "g", "p", "U", "esc", "tab", "t", "a", "esc", "d", "/"} {
			m.do(page)
			for _, size := range [][2]int{{60, 16}, {61, 17}, {80, 24}, {99, 29}, {100, 30}, {142, 38}, {179, 50}, {240, 70}, {59, 16}, {10, 3}} {
				m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
				view := m.View().Content
				lines := strings.Split(view, "\n")
				if !m.tooSmall() && len(lines) != size[1] {
					t.Errorf("%s, page %s at %v: %d lines", name, page, size, len(lines))
				}
				for i, l := range lines {
					if w := ansi.StringWidth(l); w > size[0] {
						t.Errorf("%s, page %s at %v: line %d has %d columns: %q", name, page, size, i, w, ansi.Strip(l))
					}
					plain := ansi.Strip(l)
					if strings.ContainsAny(plain, "\x1b\x07\r\t") || strings.ContainsRune(plain, '\u202e') {
						t.Errorf("%s, page %s: a control character is written: %q", name, page, plain)
					}
				}
				for rest := view; ; {
					i := strings.IndexByte(rest, 0x1b)
					if i < 0 {
						break
					}
					rest = rest[i+1:]
					end := strings.IndexByte(rest, 'm')
					if end < 0 || rest[0] != '[' || strings.Trim(rest[1:end], "0123456789;:") != "" {
						t.Fatalf("%s, page %s: %q is no style", name, page, rest[:min(20, len(rest))])
					}
				}
			}
		}
	}
}

func TestEmptyPagesSayWhatToDo(t *testing.T) {
	m := open(t, map[string]string{})
	for _, c := range []struct{ key, words string }{
		{"t", "No tasks are declared here."}, {"o", "No run yet: choose a task"}, {"y", "No run yet: choose a task"}, {"v", "no faults"},
	} {
		if c.key != "t" {
			m.do(c.key)
		}
		if text := strings.Join(m.screen(), "\n"); !strings.Contains(text, c.words) {
			t.Errorf("%s: no %q in\n%s", c.key, c.words, text)
		}
	}
	m = open(t, nil)
	m.do("/", "z", "z", "z", "q")
	if text := strings.Join(m.screen(), "\n"); !strings.Contains(text, "Nothing matches the filter; it hides 35 tasks.") {
		t.Error(text)
	}
}

// No key does two things on a page, and every key that works is in the help.
func TestKeysAreTheTables(t *testing.T) {
	m := open(t, map[string]string{})
	for _, p := range m.pages {
		m.at, m.width, m.height = p, 140, 80
		seen := map[string]string{}
		for _, k := range m.allKeys() {
			for _, name := range k.names {
				if other, twice := seen[name]; twice {
					t.Errorf("on %s, %s is both %q and %q", p.name(), name, other, k.help)
				}
				seen[name] = k.help
			}
		}
		help := ansi.Strip(strings.Join(m.helpLines(), "\n"))
		for name, what := range seen {
			if !strings.Contains(help, name) || !strings.Contains(help, what) {
				t.Errorf("the help of %s lacks %s: %s", p.name(), name, what)
			}
		}
		for width := 58; width < 200; width++ {
			m.width = width
			if l := ansi.Strip(m.keyLine()); ansi.StringWidth(l) > width || !strings.HasSuffix(l, "? all keys") {
				t.Errorf("%s at %d: %q", p.name(), width, l)
			}
		}
	}
}

func TestStrokes(t *testing.T) {
	w := ink.Well{Dark: true, CanStrike: true}
	for n, want := range map[int]string{0: "", 1: "|", 4: "||||", 5: "||||", 6: "|||| |", 7: "|||| ||", 10: "|||| ||||", 15: "|||| |||| ||||", 16: "16", 200: "200"} {
		text, width := w.Strokes(n, 20, ink.Madder)
		if ansi.Strip(text) != want || width != len(want) {
			t.Errorf("%d: %q, width %d, want %q", n, ansi.Strip(text), width, want)
		}
		if struck := strings.Count(text, ";9") + strings.Count(text, "[9"); n <= 15 && struck != n/5 {
			t.Errorf("%d: %d groups are struck through: %q", n, struck, text)
		}
	}
	if text, _ := w.Strokes(9, 4, ink.Madder); ansi.Strip(text) != "9" {
		t.Errorf("where there is no room the number stands: %q", text)
	}
	plain := ink.Well{NoColour: true}
	if text, _ := plain.Strokes(3, 20, ink.Madder); text != "3" {
		t.Errorf("without strikethrough the number stands: %q", text)
	}
}

func TestShortPath(t *testing.T) {
	for _, c := range []struct {
		path    string
		columns int
		want    string
	}{
		{"kiln/src/coil.c", 40, "kiln/src/coil.c"}, {"kiln/source/deep/coil.c", 15, "kiln/so…/coil.c"}, {"kiln/source/coil.c", 9, "k…/coil.c"}, {"very/long-file-name.c", 8, "…/long-file-name.c"}, {"name.c", 3, "name.c"},
	} {
		if got := ink.ShortPath(c.path, c.columns); got != c.want {
			t.Errorf("%s in %d: %q, want %q", c.path, c.columns, got, c.want)
		}
	}
}

// A line that is typed knows words, keeps to one line, and completes.
func TestEditing(t *testing.T) {
	in := newField("make all")
	in.suggest = func(word string) []string { return []string{"kind:build", "kind:test", "in:kiln"} }
	press := func(keys ...tea.KeyPressMsg) {
		for _, k := range keys {
			in.update(k)
		}
	}
	ctrl := func(r rune) tea.KeyPressMsg { return tea.KeyPressMsg{Code: r, Mod: tea.ModCtrl} }
	want := func(text string) {
		t.Helper()
		if got := in.String(); got != text {
			t.Errorf("got %q, want %q", got, text)
		}
	}
	press(ctrl('w'), tea.KeyPressMsg{Text: "x", Code: 'x'}, ctrl('a'), tea.KeyPressMsg{Text: "ä", Code: 'ä'}, tea.KeyPressMsg{Code: tea.KeyRight}, tea.KeyPressMsg{Code: tea.KeyDelete})
	want("ämke x")
	press(tea.KeyPressMsg{Code: tea.KeyBackspace}, ctrl('e'), tea.KeyPressMsg{Code: tea.KeyBackspace}, ctrl('k'))
	want("äke ")
	in.update(tea.PasteMsg{Content: "two\nlines\x1b[31m"})
	want("äke two lines[31m")
	press(ctrl('u'))
	want("")
	in.set("one two three")
	press(tea.KeyPressMsg{Code: tea.KeyLeft, Mod: tea.ModAlt}, tea.KeyPressMsg{Text: "+", Code: '+'})
	want("one two +three")
	in.set("run k")
	press(tea.KeyPressMsg{Text: "i", Code: 'i'})
	w := ink.Well{}
	r := w.Row(40)
	in.show(r, 30)
	if got := ansi.Strip(r.String()); got != "run kind:build" {
		t.Errorf("offered is %q", got)
	}
	press(tea.KeyPressMsg{Code: tea.KeyTab})
	want("run kind:build")
}

// Keys that mean something to the line that is typed stand in the footing, and none
// of the page's.
func TestTheFootingShowsWhatOneIsDoing(t *testing.T) {
	m := open(t, nil)
	for _, c := range []struct{ keys, want, not string }{
		{"/", "enter keep the filter   esc clear it", "run"},
		{"a", "enter run   esc cancel   up earlier arguments", "usual"},
		{"U", "enter choose", "usual"},
		{"?", "? back   down further down", "copy"},
	} {
		for _, k := range c.keys {
			m.do(string(k))
		}
		lines := m.screen()
		if got := lines[len(lines)-1]; !strings.Contains(got, c.want) || strings.Contains(got, c.not) {
			t.Errorf("after %s: %q", c.keys, got)
		}
		m.do("esc", "esc")
		if m.help.open {
			m.do("?")
		}
	}
}

func TestEditorForms(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"vi", "nano", "emacs", "hx", "unheard-of", "sensible-editor"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", dir)
	for _, c := range []struct{ own, visual, editor, want string }{
		{"", "nano", "vi", "nano +3,7 /w/a b.c"},
		{"", "", "vi", "vi +3 /w/a b.c"},
		{"", "", "emacs -nw", "emacs -nw +3:7 /w/a b.c"},
		{"", "", "hx", "hx /w/a b.c:3:7"},
		{"", "", "unheard-of", "unheard-of +3 /w/a b.c"},
		{"vi -c '{line} {column}' {file}", "nano", "", "vi -c 3 7 /w/a b.c"},
		{"", "", "", "sensible-editor /w/a b.c"},
		{"", "missing-editor", "", "error: missing-editor from VISUAL: not found"},
		{"vi '", "", "", "error: TIDYTALLY_EDITOR=vi '"},
	} {
		t.Setenv(editorVariable, c.own)
		t.Setenv("VISUAL", c.visual)
		t.Setenv("EDITOR", c.editor)
		cmd, err := editorCommand("/w/a b.c", 3, 7)
		got := ""
		if err != nil {
			got = "error: " + err.Error()
		} else {
			got = strings.Join(cmd.Args, " ")
		}
		if !strings.HasPrefix(got, c.want) {
			t.Errorf("%q %q %q: %s, want %s", c.own, c.visual, c.editor, got, c.want)
		}
	}
	t.Setenv("PATH", t.TempDir())
	t.Setenv(editorVariable, "")
	t.Setenv("VISUAL", "")
	t.Setenv("EDITOR", "")
	if _, err := editorCommand("/x", 0, 0); err == nil || !strings.Contains(err.Error(), "set VISUAL or EDITOR") {
		t.Errorf("without any editor: %v", err)
	}
}

// The marked text is the one that the compiler means, behind tabs and wide
// characters too.
func TestMarkedRange(t *testing.T) {
	for _, c := range []struct {
		name, line string
		place      problem.Place
		columns    problem.Columns
		want       string
	}{
		{"word", "  n += p.z;", problem.Place{Column: 10}, problem.Guessed, "z"},
		{"range", "const x = { a: 1 };", problem.Place{Column: 11, EndColumn: 19}, problem.UTF16, "{ a: 1 }"},
		{"gcc counts a tab as eight", "\tint elapsed = 0;", problem.Place{Column: 13}, problem.Guessed, "elapsed"},
		{"two tabs", "\t\treturn c;", problem.Place{Column: 24}, problem.Guessed, "c"},
		{"tsc counts a tab as one", "\tconst tabbed: number", problem.Place{Column: 8}, problem.UTF16, "tabbed"},
		{"behind the end", "x;", problem.Place{Column: 9}, problem.Characters, ";"},
		{"a sign", "a @ b", problem.Place{Column: 3}, problem.Bytes, "@"},
	} {
		from, to := c.place.Runes(c.line, c.columns)
		if got := string([]rune(c.line)[from:to]); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestExcerptsSayWhatTheyCannotShow(t *testing.T) {
	m := open(t, map[string]string{"short.c": "int x;\n", "bin.c": "\x00\x01", "big.c": strings.Repeat("x\n", maxSource/2+10)})
	if err := os.Mkdir(filepath.Join(m.root, "folder.c"), 0o755); err != nil {
		t.Fatal(err)
	}
	for file, want := range map[string]string{
		"gone.c": "the file is gone", "short.c": "the file has only 2 lines now", "bin.c": "a binary file", "big.c": "bytes, more than the 4194304 that are read: no excerpt", "folder.c": "the file is a folder, no regular file: no excerpt",
	} {
		lines := excerpt(m, problem.Place{File: file, Line: 9, Column: 1}, problem.Guessed, 4, problem.Still)
		if len(lines) != 1 || !strings.Contains(lines[0], want) {
			t.Errorf("%s: %q, want %q", file, lines, want)
		}
	}
	if lines := excerpt(m, problem.Place{File: "short.c", Line: 1, Column: 5}, problem.Guessed, 4, problem.Still); len(lines) == 0 || !strings.Contains(ansi.Strip(lines[0]), "1 ¦  int x;") {
		t.Errorf("%q", lines)
	}
}

// The filter keeps what is chosen in sight, and the best match comes first.
func TestFilterAndChoice(t *testing.T) {
	m := open(t, nil)
	if u := pageOf[*tasksPage](m).current(); u == nil || u.Name != "controller" {
		t.Errorf("the usual task should be chosen at first, not %v", u)
	}
	m.do("/", "s", "e", "l", "f")
	if pageOf[*tasksPage](m).current().Name != "selftest" || len(pageOf[*tasksPage](m).tasks) == 0 {
		t.Errorf("chosen: %s of %d", pageOf[*tasksPage](m).current().Name, len(pageOf[*tasksPage](m).tasks))
	}
	m.do("esc")
	if pageOf[*tasksPage](m).current().Name != "selftest" || len(pageOf[*tasksPage](m).tasks) != 28 {
		t.Errorf("after the filter: %s of %d", pageOf[*tasksPage](m).current().Name, len(pageOf[*tasksPage](m).tasks))
	}
	m.do("end")
	last := pageOf[*tasksPage](m).current()
	m.do("down", "pgdown")
	if pageOf[*tasksPage](m).current() != last {
		t.Error("there is something behind the last task")
	}
	m.do("home", "up")
	if pageOf[*tasksPage](m).chosen != 0 || pageOf[*tasksPage](m).top != 0 {
		t.Errorf("at the top: %d, row %d", pageOf[*tasksPage](m).chosen, pageOf[*tasksPage](m).top)
	}
	m.do("h")
	if c := pageOf[*tasksPage](m).counts; c.aside != 0 || c.shown != c.all || c.shown <= 28 {
		t.Errorf("with those made on the way: %+v", c)
	}
}

// A hundred thousand problems: a key is answered within a frame.
func BenchmarkHundredThousandProblems(b *testing.B) {
	d := &desk{width: 140, height: 38, ink: ink.Well{Dark: true, CanStrike: true}, root: b.TempDir()}
	page := newTallyPage(d)
	for i := range 100_000 {
		p := &problem.Problem{Place: problem.Place{File: fmt.Sprintf("src/f%d.c", i/50), Line: i % 50}, Message: "unused variable", Code: "unused", Seq: i + 1}
		if i%50 == 0 {
			page.rows = append(page.rows, problemRow{head: p.File})
		}
		page.places = append(page.places, len(page.rows))
		page.rows = append(page.rows, problemRow{head: p.File, p: p, printed: p})
	}
	b.ResetTimer()
	for b.Loop() {
		page.move(37)
		if page.chosen >= len(page.places) {
			page.chosen = 0
		}
		page.clamp()
		for i := page.top; i < page.top+30; i++ {
			_ = page.line(&page.rows[i], i == page.places[page.chosen])
		}
	}
}

// The output and the tally are those of the task whose row was chosen last, or of the run
// that was started after that.
func TestTheChosenRowsOutputIsShown(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[workspace]\nusual = \"#one\"\n[task.one]\nrun = \"echo 'a.c:1:2: error: first'\"\n[task.three]\nrun = \"echo never\"\n[task.two]\nrun = \"echo 'b.c:3:4: error: second'\"\n"})
	m.Update(tea.WindowSizeMsg{Width: 100, Height: 24})
	shows := func(keys, want string) {
		t.Helper()
		for _, k := range strings.Fields(keys) {
			m.do(k)
		}
		m.finish(t)
		if text := strings.Join(m.screen(), "\n"); !strings.Contains(text, want) {
			t.Errorf("after %s: no %q in\n%s", keys, want, text)
		}
	}
	shows("enter o", "error: first")
	shows("t down down enter y", "second")
	shows("t up up o", "error: first")
	shows("y", "first")
	shows("t down down o", "error: second")
	shows("t up o", "error: second") // three has no run: what was shown stays
	shows("t down u o", "error: first")
	shows("t o", "error: first")
}

// A run that is chosen before it has printed anything shows nothing of the one
// shown before.
func TestAnotherRunBeginsEmpty(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.long]\nrun = \"seq 500\"\n[task.late]\nrun = \"sleep 0.1; echo late\"\nbefore = [\"#long\"]\n"})
	m.Update(tea.WindowSizeMsg{Width: 100, Height: 24})
	m.do("enter", "o")
	m.finish(t)
	if text := strings.Join(m.screen(), "\n"); !strings.Contains(text, "500 ¦ 500") {
		t.Fatal(text)
	}
	m.do("t", "down", "enter", "o")
	for range 50 {
		if text := strings.Join(m.screen(), "\n"); strings.Contains(text, "500 ¦ 500") {
			t.Fatal(text)
		}
		m.sync(t)
	}
	m.finish(t)
	if text := strings.Join(m.screen(), "\n"); !strings.Contains(text, "1 ¦ late") {
		t.Error(text)
	}
}

// A survey that changes keeps the chosen row; at the top, a new fault is chosen.
func TestSurveyKeepsItsRow(t *testing.T) {
	m := open(t, nil)
	faults := len(m.snap.Survey.Faults)
	change := func(line string) string {
		t.Helper()
		path := filepath.Join(m.root, "tidytally.toml")
		if err := os.WriteFile(path, []byte(line), 0o644); err != nil {
			t.Fatal(err)
		}
		m.resurvey(t)
		if len(m.snap.Survey.Faults) == faults {
			t.Fatal("the fault was not found")
		}
		return pageOf[*surveyPage](m).rows[pageOf[*surveyPage](m).chosen].left
	}
	if got := change("rnu = 1\n"); got != "tidytally.toml:1" {
		t.Errorf("at the top, %q is chosen", got)
	}
	m.do("v", "end", "up")
	before := pageOf[*surveyPage](m).rows[pageOf[*surveyPage](m).chosen].left
	if got := change("rnu = 1\nrnv = 2\n"); got != before {
		t.Errorf("the choice went from %q to %q", before, got)
	}
}

// pageOf returns the page of a type.
func pageOf[P page](m *Model) P {
	for _, p := range m.pages {
		if p, ok := p.(P); ok {
			return p
		}
	}
	panic("no such page")
}

func excerpt(m *Model, p problem.Place, columns problem.Columns, indent int, state problem.State) []string {
	return pageOf[*tallyPage](m).sources.excerpt(p, "", columns, indent, m.width, state)
}
