package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/tui/ink"
)

// footing is the line of totals.
func footing(m *Model) string {
	lines := m.screen()
	return regexp.MustCompile(`after [0-9.]+ s`).ReplaceAllString(strings.TrimSpace(lines[len(lines)-2]), "after a while")
}

// The footing adds up on every page: before, new, gone and now, from run to run.
func TestTheFootingIsABalance(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.one]\nrun = \"cat log\"\n[task.two]\nrun = \"cat log2\"\n", "log": "", "log2": "z.c:1:1: error: other\n"})
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(m.root, "log"), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got := footing(m); got != "2 tasks in 1 folder" {
		t.Errorf("before any run: %q", got)
	}
	for i, c := range []struct{ log, want string }{
		{"a.c:1:1: error: x\nb.c:2:1: warning: y\n", "before 0 · new 2 · gone 0 · now 2      1 error, 1 warning"},
		{"b.c:2:1: warning: y\nc.c:3:1: error: z\n", "before 2 · new 1 · gone 1 · now 2      1 error, 1 warning"},
		{"", "before 2 · new 0 · gone 2 · now 0      no problems"},
		{"n.c:1:1: note: seen\n", "before 0 · new 1 · gone 0 · now 1      1 note"},
	} {
		write(c.log)
		m.said(t, "one")
		for _, page := range []string{"y", "o"} {
			m.do(page)
			if got := footing(m); got != c.want {
				t.Errorf("run %d, page %s: %q, want %q", i+1, page, got, c.want)
			}
			m.do("t")
		}
		if got := footing(m); got != "one ok after a while: "+c.want {
			t.Errorf("run %d, all tasks: %q, want %q", i+1, got, c.want)
		}
	}
	m.said(t, "two")
	if got := footing(m); got != "two ok after a while: before 0 · new 1 · gone 0 · now 1      1 error   1 problem left in 1 other task" {
		t.Errorf("the run that ended last, and what is left: %q", got)
	}
	m.do("y")
	if got := footing(m); got != "before 0 · new 1 · gone 0 · now 1      1 error" {
		t.Errorf("the chosen run alone: %q", got)
	}
	m.said(t, "one")
	if got := footing(m); got != "before 1 · new 0 · gone 0 · now 1      1 note" {
		t.Errorf("once more: %q", got)
	}
	m.do("[")
	if got := footing(m); got != "before 0 · new 1 · gone 0 · now 1      1 note" {
		t.Errorf("the run before: %q", got)
	}
}

// A second click counts within 400 milliseconds, on the same row.
func TestDoubleClick(t *testing.T) {
	m := open(t, someTasks)
	at := time.Now()
	click := func(row int, after time.Duration) bool {
		at = at.Add(after)
		m.now = at
		before := len(m.session.Runs())
		m.click(row)
		m.clamp()
		return len(m.session.Runs()) > before
	}
	const first = 5 // the first task: the heading, its rule, the filter, a blank, the folder
	if click(first, 0) || m.task.Name != "all" {
		t.Fatalf("one click runs nothing and chooses: %s", m.task.Name)
	}
	if click(first, 400*time.Millisecond) {
		t.Error("a late click runs it")
	}
	if click(first+1, 10*time.Millisecond) || m.task.Name != "test" {
		t.Errorf("a click elsewhere chooses: %s", m.task.Name)
	}
	if !click(first+1, 399*time.Millisecond) {
		t.Error("a second click in time runs nothing")
	}
	if click(first+1, 10*time.Millisecond) {
		t.Error("a third click runs it again")
	}
	if click(first-1, 500*time.Millisecond) || click(first-1, 10*time.Millisecond) || m.task.Name != "test" {
		t.Error("a heading is chosen")
	}
	m.finish(t)
}

// Five of the tasks run last stand above the others, the newest first.
func TestRecentTasksStandAbove(t *testing.T) {
	var toml strings.Builder
	for i := range 9 {
		fmt.Fprintf(&toml, "[task.t%d]\nrun = \"true\"\n", i)
	}
	m := open(t, map[string]string{"tidytally.toml": toml.String()})
	for _, i := range []int{3, 1, 8, 0, 5, 7, 2} {
		m.kept.Ran(fmt.Sprintf("tidytally.toml#t%d", i))
	}
	page := newTasksPage(m.desk)
	page.arrange()
	var names []string
	for _, r := range page.rows {
		if r.task != nil {
			names = append(names, r.task.Name)
		} else {
			names = append(names, r.head+":")
		}
	}
	if got := strings.Join(names, " "); got != "run last: t2 t7 t5 t0 t8 emberclay: t1 t3 t4 t6" {
		t.Errorf("the list is %s", got)
	}
}

// The mouse wheel scrolls by three rows, a page by one row less than it has.
func TestMovingAround(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.long]\nrun = \"seq 500\"\n"})
	m.Update(tea.WindowSizeMsg{Width: 100, Height: 24})
	m.said(t, "long")
	m.do("o")
	out := pageOf[*outputPage](m)
	height := out.textHeight()
	if out.top != 500-height || !out.follow {
		t.Fatalf("the end is not in view: line %d of %d", out.top, out.lines)
	}
	m.Update(tea.MouseWheelMsg{Button: tea.MouseWheelUp})
	if out.top != 500-height-3 || out.follow {
		t.Errorf("a step of the wheel leads to line %d", out.top)
	}
	m.Update(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	if out.top != 500-height || !out.follow {
		t.Errorf("back at the end the output is followed: line %d, %v", out.top, out.follow)
	}
	m.do("home")
	if out.top != 0 {
		t.Errorf("home leads to line %d", out.top)
	}
	m.do("pgdown")
	if want := m.bodyHeight() - 1; out.top != want {
		t.Errorf("a page leads to line %d, not %d", out.top, want)
	}
	if text := m.page_(); !strings.Contains(text, fmt.Sprintf("line %d of 500", out.top+1)) {
		t.Errorf("the heading does not say so:\n%s", text)
	}
	m.do("/", "4", "9", "9", "enter")
	if text := m.page_(); !strings.Contains(text, "line 499") || out.found != 498 {
		t.Errorf("the text is found in line %d:\n%s", out.found, text)
	}
	m.do(".")
	if out.found != 498 {
		t.Errorf("the search goes around to line %d", out.found)
	}
	m.do("/", "x", "y", "z", "enter")
	if text := m.page_(); !strings.Contains(text, `nowhere in the output`) {
		t.Errorf("what is not there is not told:\n%s", text)
	}
}

// Quitting asks while something runs, and any other key takes it back.
func TestQuittingAsks(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.serve]\nrun = \"echo up; sleep 60\"\nready = \"up\"\n[task.second]\nrun = \"sleep 60\"\n"})
	quits := func() bool {
		_, cmd := m.Update(tea.KeyPressMsg{Text: "q", Code: 'q'})
		if cmd == nil {
			return false
		}
		_, quit := cmd().(tea.QuitMsg)
		return quit
	}
	for _, x := range m.snap.Survey.Tasks {
		m.start(x, nil)
	}
	if quits() || !strings.Contains(m.page_(), "2 tasks run: q again stops all and quits") {
		t.Errorf("it does not ask:\n%s", m.page_())
	}
	m.do("down")
	if quits() {
		t.Error("another key was pressed in between")
	}
	if !quits() {
		t.Error("asked, it stays")
	}
	m.session.StopAll()
	m.sync(t)
	if !quits() {
		t.Error("nothing runs, and it stays")
	}
}

// A long-running task is not started twice.
func TestALongRunningTaskIsStartedOnce(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.serve]\nrun = \"echo up; sleep 60\"\nready = \"up\"\n"})
	m.do("enter", "enter")
	if n := len(m.session.Runs()); n != 1 {
		t.Errorf("%d runs", n)
	}
	if text := m.page_(); !strings.Contains(text, "serve is") || !strings.Contains(text, "x stops it") {
		t.Errorf("nothing is said:\n%s", text)
	}
	m.do("x")
	m.finish(t)
	m.do("x")
	if text := m.page_(); !strings.Contains(text, "nothing of it is running") {
		t.Errorf("stopping what has ended:\n%s", text)
	}
}

// A task's page comes to the front by itself if the task asks for it.
func TestWhatComesToTheFront(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.loud]\nrun = \"echo x\"\nshow = \"always\"\n[task.bad]\nrun = \"echo 'a.c:1:1: error: x'\"\nshow = \"on-problem\"\n[task.good]\nrun = \"echo fine\"\nshow = \"on-problem\"\n"})
	start := func(name string) {
		t.Helper()
		for _, x := range m.snap.Survey.Tasks {
			if x.Name == name {
				m.start(x, nil)
			}
		}
		m.finish(t)
	}
	start("loud")
	if m.front() != outputName {
		t.Errorf("%s is in front", m.front())
	}
	m.do("t")
	start("good")
	if m.front() != tasksName {
		t.Errorf("nothing was found, and %s is in front", m.front())
	}
	start("bad")
	if m.front() != tallyName || m.run.Prepared.Task.Name != "bad" {
		t.Errorf("%s of %s is in front", m.front(), m.run.Prepared.Task.Name)
	}
}

// The problems are stepped through from any page, gone ones passed over.
func TestSteppingThroughProblems(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.one]\nrun = \"cat log\"\n", "log": "a.c:1:1: error: first\nb.c:2:1: error: second\nc.c:3:1: error: third\n"})
	m.do("v", "n")
	if text := m.page_(); !strings.Contains(text, "no problems to go to") {
		t.Errorf("without problems:\n%s", text)
	}
	m.said(t, "one")
	if err := os.WriteFile(filepath.Join(m.root, "log"), []byte("filler\n\na.c:1:1: error: first\nc.c:3:1: error: third\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	m.said(t, "one")
	tally := pageOf[*tallyPage](m)
	at := func() string { return tally.current().p.Message }
	m.do("n")
	if m.front() != tallyName || at() != "first" {
		t.Errorf("the first step: %s on %s", at(), m.front())
	}
	m.do("n")
	if at() != "third" || tally.position() != 2 || tally.total() != 2 {
		t.Errorf("the next: %s, %d of %d", at(), tally.position(), tally.total())
	}
	m.do("n")
	if at() != "third" || !strings.Contains(m.page_(), "no more problems that way") {
		t.Errorf("behind the last: %s", at())
	}
	m.do("o", "N")
	if at() != "first" || !strings.Contains(m.page_(), "problem 1 of 2: first") || m.front() != outputName {
		t.Errorf("back, on the output: %s\n%s", at(), m.page_())
	}
	// A click on a line of output chooses its problem.
	m.click(2 + outputHead + 3)
	m.clamp()
	if at() != "third" {
		t.Errorf("clicked: %s", at())
	}
	m.do("enter")
	if m.front() != tallyName {
		t.Errorf("enter leads to %s", m.front())
	}
}

// Counts are drawn where there is room, and errors go before warnings.
func TestWorstStrokes(t *testing.T) {
	w := ink.Well{CanStrike: true}
	for _, c := range []struct {
		count problem.Count
		want  string
	}{
		{problem.Count{Errors: 2, Warnings: 7}, "     ||"}, {problem.Count{Warnings: 3}, "    |||"}, {problem.Count{Notes: 3}, ""}, {problem.Count{Errors: 200}, "    200"},
	} {
		r := w.Row(40)
		worstStrokes(r, c.count, 7)
		if got := ansi.Strip(r.String()); strings.TrimRight(got, " ") != c.want {
			t.Errorf("%+v: %q, want %q", c.count, got, c.want)
		}
	}
}

// How long ago and since when a run stands is said in words.
func TestSinceWhen(t *testing.T) {
	at := time.Date(2026, 3, 2, 10, 2, 0, 0, time.Local)
	d := &desk{now: at.Add(75 * time.Second)}
	for want, s := range map[string]run.Snapshot{
		"up since 10:02":         {State: run.Up, UpSince: at},
		"waiting":                {State: run.Waiting},
		"running 1 min 15 s":     {State: run.Running, Started: at},
		"ok after 2.0 s":         {State: run.OK, Started: at, Ended: at.Add(2 * time.Second)},
		"failed (2) after 1.0 s": {State: run.Failed, Code: 2, Started: at, Ended: at.Add(time.Second)},
		"not run":                {State: run.Skipped},
		"stopping 1 min 15 s":    {State: run.Running, Stopping: true, Started: at},
	} {
		if got := d.since(&s); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}

// The tasks are left by no key of their own, q leaves the help, and r runs the chosen task with its last arguments.
func TestKeysThatDoWhatOneExpects(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.heat]\nrun = \"echo to\"\n"})
	m.do("r")
	if text := m.page_(); !strings.Contains(text, "heat has not run yet; enter runs it") || len(m.session.Runs()) > 0 {
		t.Errorf("what has not run:\n%s", text)
	}
	m.do("a", "6", "enter")
	m.finish(t)
	m.do("r")
	m.finish(t)
	if runs := m.session.Runs(); len(runs) != 2 || strings.Join(runs[1].Args, " ") != "6" {
		t.Errorf("%d runs, the last with %q", len(runs), runs[len(runs)-1].Args)
	}
	m.do("o", "t", "t", "t")
	if m.at.name() != tasksName {
		t.Errorf("t leads from the tasks to %s", m.at.name())
	}
	m.do("?", "q")
	if m.help.open {
		t.Error("q stays in the help")
	}
	m.do("?", "f", "q")
	if !m.help.open || m.help.find.String() != "fq" {
		t.Errorf("q within a word: %q", m.help.find.String())
	}
}
