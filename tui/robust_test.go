package tui

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/draw"
	"tidytally/core/files"
	"tidytally/core/history"
	"tidytally/core/run"
	"tidytally/tui/ink"
)

// text is the screen without styles.
func (m *Model) text() string { return strings.Join(m.screen(), "\n") }

// draw draws the screen as the terminal library does.
func (m *Model) draw() {
	b := uv.NewScreenBuffer(m.width+2*paperEdge, m.height)
	uv.NewStyledString(m.View().Content).Draw(b, b.Bounds())
}

// Styles that are never ended by 0, and sequences of many parameters, pile up nowhere.
func TestStylesThatPileUp(t *testing.T) {
	line := `\033[2m10:00\033[22m \033[1m\033[32mok\033[39m\033[22m `
	m := open(t, map[string]string{"tidytally.toml": fmt.Sprintf("[task.tests]\nrun = '''printf '%s\\n\\033[%sm many\\n' '''\n", strings.Repeat(line, 40), strings.Repeat("1;3;", 17)+"35")})
	m.said(t, "tests")
	m.do("o")
	m.draw()
	if text := m.text(); strings.Count(text, "10:00 ok") < 5 || !strings.Contains(text, "2 ¦  many") {
		t.Error(text)
	}
}

// A run that is stopped in the midst of a later pass: the tally has the problems of that pass.
func TestTheTallyOfAPassThatIsStopped(t *testing.T) {
	m := open(t, map[string]string{
		"tidytally.toml": "[task.build]\nrun = \"cat log; test -e slow && sleep 100\"\nrerun_on = [\"src\"]\n", "src": "", "log": "a.c:1:1: error: one\na.c:2:1: error: two\n",
	})
	m.do("enter", "y")
	r := m.run
	until := func(what string, holds func(run.Snapshot) bool) {
		t.Helper()
		for deadline := time.Now().Add(20 * time.Second); !holds(r.Snapshot()); time.Sleep(time.Millisecond) {
			m.Update(runsMsg{}) // at each moment
			m.View()
			if time.Now().After(deadline) {
				t.Fatal(what)
			}
		}
		m.Update(runsMsg{})
	}
	until("the first pass does not end", func(s run.Snapshot) bool { return s.State == run.Watching })
	for name, text := range map[string]string{"log": "c.c:1:1: error: three\nc.c:2:1: error: four\nc.c:3:1: error: five\n", "slow": "", "src": "saved"} {
		if err := os.WriteFile(filepath.Join(m.root, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	until("the second pass does not begin", func(s run.Snapshot) bool {
		return s.Pass() == 2 && s.State == run.Running && len(s.Problems) == 3
	})
	m.do("x")
	m.finish(t)
	if text := m.text(); !strings.Contains(text, "three") || !strings.Contains(text, "new 3") {
		t.Error(text)
	}
}

// Keys that lead beyond what there is.
func TestKeysAtTheEdges(t *testing.T) {
	m := open(t, map[string]string{
		"tidytally.toml": "[task.one]\nrun = \"echo one\"\n[task.pair]\nrun = \"true\"\nbefore = [\"#one\"]\nwith = [\"#stay\"]\n[task.stay]\nrun = \"sleep 50\"\nready = \"x\"\n[task.other]\nrun = \"true\"\n",
	})
	ctrl := func(r rune) { m.Update(tea.KeyPressMsg{Code: r, Mod: tea.ModCtrl}) }
	m.do("/")
	ctrl('p')
	m.do("up", "down")
	ctrl('n')
	m.do("esc")
	m.said(t, "one")
	m.do("o", "/", "up", "down", "esc", "t")
	m.do("n", "z", "z", "z", "z", "down", "up", "enter", "esc", "esc")
	// Woven output of a plan, and then another run without one.
	m.do("/", "p", "a", "i", "r", "enter", "enter", "T", "g", "t", "esc", "/", "o", "t", "h", "e", "r", "enter", "enter")
	m.do("T", "g", "up", "T", "t", "esc")
	if text := m.text(); strings.Contains(text, "a fault of Tidy Tally") {
		t.Error(text)
	}
}

// The run before one that the history has, and the run after it, are found in the history.
func TestRunsBesideOneOfAnEarlierDay(t *testing.T) {
	m := openKept(t, map[string]string{"tidytally.toml": "[task.one]\nrun = \"echo now\"\n"})
	store, err := history.Open(m.root)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		at := time.Now().Add(time.Duration(i-9) * 24 * time.Hour)
		if _, err := store.Add(history.Run{Task: "tidytally.toml#one", Command: "echo", Start: at, End: at.Add(time.Second), State: "ok"}, nil, nil, fmt.Sprintf("day %d\n", i)); err != nil {
			t.Fatal(err)
		}
	}
	store.Close()
	m.perform(t, "SYNC", false)
	m.follow(m.hit("H"))
	m.do("down", "enter") // the second of the three
	for _, c := range []struct{ key, want string }{{"[", "day 0"}, {"[", "day 0"}, {"]", "day 1"}, {"]", "day 2"}, {"]", "day 2"}} {
		m.do(c.key)
		if text := m.text(); !strings.Contains(text, "1 ¦ "+c.want) {
			t.Errorf("after %s: no %q in\n%s", c.key, c.want, text)
		}
	}
	m.said(t, "one")
	m.do("t", "o", "[")
	if text := m.text(); !strings.Contains(text, "day 2") {
		t.Errorf("before the run of today:\n%s", text)
	}
	m.do("[", "]", "]")
	if text := m.text(); !strings.Contains(text, "1 ¦ now") {
		t.Errorf("back at the run of today:\n%s", text)
	}
}

// A line belongs to the task that it was begun for, whatever becomes of the workspace meanwhile.
func TestArgumentsGoToTheirTask(t *testing.T) {
	const two = "[task.first]\nrun = \"echo first\"\n[task.second]\nrun = \"echo second\"\n"
	m := open(t, map[string]string{"tidytally.toml": two})
	change := func(text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(m.root, "tidytally.toml"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		m.resurvey(t)
	}
	m.do("a", "x")
	change("[task.second]\nrun = \"echo second\"\n")
	m.do("y", "up", "down", "enter")
	if text := m.text(); len(m.session.Runs()) > 0 || !strings.Contains(text, "first is declared no longer") {
		t.Errorf("%d runs\n%s", len(m.session.Runs()), text)
	}
	change(two) // it is there again, and so is the line
	m.do("enter")
	m.finish(t)
	if r := m.session.Runs(); len(r) != 1 || r[0].Prepared.Display != "echo first xy" {
		t.Errorf("%d runs\n%s", len(r), m.text())
	}
	m.do("a")
	change("")
	m.do("up", "down", "z", "enter", "esc")
	if m.text(); len(m.session.Runs()) != 1 {
		t.Error("something ran")
	}
}

// A task of the personal tally file is changed like any other.
func TestChangingAPersonalTask(t *testing.T) {
	own := filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "tidytally", "tidytally.toml")
	if err := os.MkdirAll(filepath.Dir(own), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(own, []byte("[task.mine]\nrun = \"true\"\nin = \"kiln\"\nenv_file = \"kiln/.env\"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	defer os.Remove(own)
	m := open(t, map[string]string{"kiln/coil.c": "int coil;\n"})
	m.do("/", "m", "i", "n", "e", "enter", "E")
	if text := m.text(); !strings.Contains(text, "kiln/.env") {
		t.Error(text)
	}
}

// No number of the footing is cut, at any width, and what did not run is not counted.
func TestTheFootingAtAllWidths(t *testing.T) {
	var log strings.Builder
	for i := range 1234 {
		fmt.Fprintf(&log, "src/f%d.c:%d:1: warning: w%d\n", i%7, i+1, i)
	}
	m := open(t, map[string]string{"tidytally.toml": "[task.a-long-name-for-a-task-that-stays-up]\nrun = \"sleep 50\"\n[task.fails]\nrun = \"cat log; exit 1\"\n[task.behind]\nrun = \"true\"\nbefore = [\"#fails\"]\n", "log": log.String()})
	m.said(t, "behind")
	m.finish(t)
	check := func(want string) {
		t.Helper()
		for width := leastWidth; width < 200; width++ {
			m.Update(tea.WindowSizeMsg{Width: width, Height: 24})
			lines := m.screen()
			foot := lines[len(lines)-2]
			before, _, cut := strings.Cut(foot, "…")
			if !strings.Contains(foot, want) || cut && strings.ContainsAny(before[len(before)-1:], "0123456789") {
				t.Fatalf("at %d: %q", width, foot)
			}
		}
	}
	check("now 1234")
	m.Update(tea.WindowSizeMsg{Width: 140, Height: 24})
	if text := m.text(); !strings.Contains(text, "fails failed (1) after ") {
		t.Errorf("what did not run is counted:\n%s", text)
	}
	for _, x := range m.snap.Survey.Tasks {
		if strings.HasPrefix(x.Name, "a-long") {
			m.start(x, nil)
		}
	}
	m.Update(runsMsg{})
	check("now 1234")
}

// In the smallest window the history shows runs.
func TestTheHistoryInASmallWindow(t *testing.T) {
	m := openKept(t, map[string]string{"tidytally.toml": "[task.one]\nrun = \"echo now\"\n"})
	m.perform(t, "SAID:one SAID:one SAID:one SYNC", false)
	m.follow(m.hit("H"))
	m.Update(tea.WindowSizeMsg{Width: leastWidth, Height: leastHeight})
	if text := m.text(); strings.Count(text, "¦ ") < 3 {
		t.Error(text)
	}
}

// Pasted text is drawn as fast as typed text: the work grows with the window, not with the text.
func TestALongPastedLine(t *testing.T) {
	m := open(t, nil)
	m.do("/")
	m.Update(tea.PasteMsg{Content: strings.Repeat("kiln ", 1000)})
	f := m.field()
	allocations := testing.AllocsPerRun(3, func() { f.show(m.row(), 40) })
	if allocations > 400 {
		t.Errorf("%v allocations to draw a line of 40 cells", allocations)
	}
	if text := m.text(); !strings.Contains(text, "kiln kiln") {
		t.Error(text)
	}
}

// A large file is shown at once, and gets its colours when they are ready.
func TestColoursOfALargeFile(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.cc]\nrun = \"echo 'a.c:4000:5: error: wrong'\"\n", "a.c": strings.Repeat("static int a; /* glaze */\n", 8000)})
	m.said(t, "cc")
	m.do("y")
	if text := m.text(); !strings.Contains(text, "4000 ¦  static int a;") {
		t.Fatal(text)
	}
	for deadline := time.Now().Add(time.Minute); ; { // as a run that changes wakes the page
		select {
		case <-m.news:
		case <-time.After(time.Until(deadline)):
			t.Fatal("the colours do not come")
		}
		m.sync(t)
		if strings.Contains(inMarks(m.View().Content), "bbbbbb bbbuu") || strings.Contains(m.View().Content, "\x1b[1ms") {
			return
		}
	}
}

// broken is a page that panics where it is told to.
type broken struct {
	*tasksPage
	at string
}

func (p *broken) name() string { return "broken" }

func (p *broken) fails(at string) {
	if p.at == at {
		var none []int
		_ = none[len(at)]
	}
}

func (p *broken) update(msg tea.Msg) tea.Cmd {
	p.fails("update")
	if p.at == "command" {
		p.at = ""
		return func() tea.Msg { panic("in a command") }
	}
	return p.tasksPage.update(msg)
}

func (p *broken) clamp() {
	p.fails("clamp")
	p.tasksPage.clamp()
}

func (p *broken) body() []string {
	p.fails("body")
	return p.tasksPage.body()
}

func (p *broken) heading(r *ink.Row) {
	p.fails("heading")
	p.tasksPage.heading(r)
}

func (p *broken) keys() []key {
	return []key{{names: []string{"K"}, label: "crack", act: func() tea.Cmd {
		p.fails("key")
		return nil
	}}}
}

// A panic in a page costs that page: it says what happened and where the report lies, and all else goes on.
func TestAPageThatPanics(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	for _, at := range []string{"update", "clamp", "body", "heading", "key", "command"} {
		m := open(t, map[string]string{"tidytally.toml": "[task.one]\nrun = \"sleep 0.2; echo one\"\n"})
		p := &broken{tasksPage: newTasksPage(m.desk)}
		m.pages = append(m.pages, p)
		m.do("enter")
		m.at, p.at = p, at
		if at == "key" {
			m.do("K")
		} else {
			_, cmd := m.Update(sourcesChangedMsg{})
			m.follow(cmd)
		}
		text := m.text()
		if !strings.Contains(text, "a fault of Tidy Tally in ") {
			t.Errorf("%s: nothing is told in\n%s", at, text)
		}
		m.at = m.pages[0]
		p.at = ""
		m.finish(t)
		m.do("o")
		if text := m.text(); !strings.Contains(text, "1 ¦ one") {
			t.Errorf("%s: the run did not go on\n%s", at, text)
		}
	}
	reports, _ := filepath.Glob(filepath.Join(os.Getenv("XDG_STATE_HOME"), "tidytally/reports/*.txt"))
	if len(reports) < 6 {
		t.Fatalf("%d reports", len(reports))
	}
	text, err := os.ReadFile(reports[0])
	if err != nil || !strings.Contains(ansi.Strip(string(text)), "robust_test.go:") {
		t.Errorf("%v\n%s", err, text)
	}
}

// A run whose secrets were not kept asks for them before it runs again, from every page.
func TestARunWithoutItsSecrets(t *testing.T) {
	m := openKept(t, map[string]string{"tidytally.toml": "[task.deploy]\nrun = \"echo to\"\nsecrets = [\"--pin\"]\n"})
	m.perform(t, "/ TYPE:deploy enter a TYPE:--password_hunter22_--pin_4711_lab enter AWAIT SYNC", true)
	if r := m.session.Runs()[0]; r.Prepared.Display != "echo to --password hunter22 --pin 4711 lab" {
		t.Fatalf("ran %s", r.Prepared.Display)
	}
	m.follow(m.hit("H"))
	m.do("r")
	text := m.text()
	if !strings.Contains(text, "was not kept: type it") || !strings.Contains(text, "--password … --pin … lab") || strings.Contains(text, "hunter22") || strings.Contains(text, "4711") {
		t.Fatal(text)
	}
	m.do("enter")
	if len(m.session.Runs()) != 1 {
		t.Error("it ran without its secrets")
	}
	m.perform(t, "CTRL:u TYPE:--password_other33 enter AWAIT", true)
	if runs := m.session.Runs(); len(runs) != 2 || runs[1].Prepared.Display != "echo to --password other33" {
		t.Errorf("%d runs\n%s", len(runs), m.text())
	}
	m.perform(t, "a CTRL:s TYPE:mine enter", true)
	if kept, err := m.session.Store().Presets("tidytally.toml#deploy"); err != nil || strings.Join(kept["mine"], " ") != "--password …" {
		t.Errorf("the preset: %q, %v\n%s", kept, err, m.text())
	}
}

// A drawing that panics costs that drawing.
func TestADrawingThatPanics(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	m := open(t, map[string]string{"tidytally.toml": "[task.one]\nrun = \"true\"\n"})
	m.ask("What is to be drawn?", m.drawing("trend.svg", "", func(io.Writer, draw.Paper) error { panic("cracked") }))
	m.follow(m.hit("enter"))
	if text := m.text(); !strings.Contains(text, "a fault of Tidy Tally in ") {
		t.Error(text)
	}
	m.said(t, "one")
}

// An expression that is being changed belongs to its line: where that is another one meanwhile, nothing is written.
func TestALineOfASieveThatChanges(t *testing.T) {
	const toml = "[task.one]\nrun = \"echo a.c: hot\"\n[sieve.own]\n[[sieve.own.lines]]\nmatch = '^(?P<file>\\S+): hot$'\n"
	m := open(t, map[string]string{"tidytally.toml": toml})
	m.said(t, "one")
	m.do("o", "s", "enter", "x")
	other := strings.Replace(toml, "hot$", "cold$", 1)
	if err := os.WriteFile(filepath.Join(m.root, "tidytally.toml"), []byte(other), 0o644); err != nil {
		t.Fatal(err)
	}
	m.resurvey(t)
	m.do("enter")
	if text := m.text(); !strings.Contains(text, "was changed meanwhile") {
		t.Error(text)
	}
	if now, err := os.ReadFile(filepath.Join(m.root, "tidytally.toml")); err != nil || string(now) != other {
		t.Errorf("%v\n%s", err, now)
	}
}

// A draft that was given up has no keys: the page is one that t comes back to.
func TestADraftThatIsGone(t *testing.T) {
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	m := open(t, map[string]string{"a/tidytally.toml": "[task.one]\nrun = \"true\"\n"})
	m.perform(t, "C w t", true)
	for _, k := range []string{"f", "e", "w", "backspace", "delete", "enter"} {
		m.perform(t, k, true)
		if text := m.text(); strings.Contains(text, "a fault of Tidy Tally") {
			t.Fatalf("after %s:\n%s", k, text)
		}
	}
}

// A disk that does not answer holds up no key: what is read comes when it is there.
func TestASlowDiskHoldsUpNoKey(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.cc]\nrun = \"echo 'a.c:2:5: error: wrong'\"\n", "a.c": "int a;\nint wrong;\n"})
	answer := make(chan struct{})
	m.readsFor = frame
	m.readFile = func(file string, most int64) ([]byte, error) {
		<-answer
		return files.Read(file, most)
	}
	m.said(t, "cc")
	m.do("y")
	if text := m.text(); !strings.Contains(text, "the file is being read") || strings.Contains(text, "int wrong;") {
		t.Errorf("before it was read:\n%s", text)
	}
	for range 20 {
		m.do("t", "y", "down", "up")
		m.text()
	}
	close(answer)
	for deadline := time.Now().Add(20 * time.Second); !strings.Contains(m.text(), "int wrong;"); time.Sleep(time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatalf("it is not shown:\n%s", m.text())
		}
		m.Update(newsMsg{})
	}
}
