package tui

import (
	"errors"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/history"
	"tidytally/core/run"
	"tidytally/core/session"
	"tidytally/core/task"
	"tidytally/tui/ink"
)

// Times are told in the fewest words that say which they are.
func TestAgo(t *testing.T) {
	now := time.Date(2026, 3, 6, 17, 20, 0, 0, time.Local) // a Friday
	for _, c := range []struct {
		at   time.Time
		want string
	}{
		{now.Add(time.Second), "just now"}, // a clock that is ahead
		{now, "just now"},
		{now.Add(-59 * time.Second), "just now"},
		{now.Add(-time.Minute), "1 min ago"},
		{now.Add(-59*time.Minute - 59*time.Second), "59 min ago"},
		{now.Add(-time.Hour), "16:20"},
		{now.Add(-17 * time.Hour), "00:20"},
		{now.Add(-18 * time.Hour), "yesterday"},
		{now.Add(-41 * time.Hour), "yesterday"},
		{now.Add(-42 * time.Hour), "Wednesday"},
		{now.Add(-7*24*time.Hour + time.Second), "Friday"},
		{now.Add(-7 * 24 * time.Hour), "27 February"},
		{time.Date(2026, 1, 1, 0, 0, 0, 0, time.Local), "1 January"},
		{time.Date(2025, 12, 31, 23, 59, 0, 0, time.Local), "2025-12-31"},
	} {
		if got := ago(c.at, now); got != c.want {
			t.Errorf("%s: %q, want %q", c.at.Format(time.DateTime), got, c.want)
		}
	}
	for days, want := range map[int]string{0: "today", 1: "yesterday", 2: "Wednesday 4 March 2026", 365: "Thursday 6 March 2025"} {
		if got := dayOf(now.AddDate(0, 0, -days), now); got != want {
			t.Errorf("%d days ago: %q, want %q", days, got, want)
		}
	}
}

// How long a run still takes is told by the median of its earlier ones, where that is worth telling.
func TestHowLongARunStillTakes(t *testing.T) {
	m := open(t, aBowl)
	now := m.now
	of := func(after time.Duration, long bool) *run.Snapshot {
		return &run.Snapshot{Prepared: &run.Prepared{Task: &task.Task{File: "M", Name: "all", LongRunning: long}}, State: run.Running, Started: now.Add(-after)}
	}
	told := func(s *run.Snapshot) string {
		_, words, ok := m.toGo(s)
		if !ok {
			return ""
		}
		return words
	}
	if got := told(of(time.Second, false)); got != "" {
		t.Errorf("without a history: %q", got)
	}
	snap := *m.snap
	snap.Past = &session.Past{Expected: map[string]time.Duration{"M#all": 10 * time.Second}}
	m.snap = &snap
	for _, c := range []struct {
		after time.Duration
		want  string
	}{
		{0, "about 10 s to go"}, {4 * time.Second, "about 6 s to go"}, {9700 * time.Millisecond, "about 1 s to go"},
		{10 * time.Second, "about 1 s to go"}, {12 * time.Second, "2.0 s over the usual 10 s"},
	} {
		if got := told(of(c.after, false)); got != c.want {
			t.Errorf("after %s: %q, want %q", c.after, got, c.want)
		}
	}
	if done, _, _ := m.toGo(of(4*time.Second, false)); done < 0.39 || done > 0.41 {
		t.Errorf("after 4 of 10 s %.2f is done", done)
	}
	if done, _, _ := m.toGo(of(40*time.Second, false)); done != 1 {
		t.Errorf("after 40 of 10 s %.2f is done", done)
	}
	if got := told(of(time.Second, true)); got != "" {
		t.Errorf("of a server: %q", got)
	}
	ended := of(time.Second, false)
	ended.State = run.OK
	if got := told(ended); got != "" {
		t.Errorf("of what has ended: %q", got)
	}
	m.snap.Past.Expected["M#all"] = 999 * time.Millisecond
	if got := told(of(0, false)); got != "" {
		t.Errorf("of less than a second: %q", got)
	}
}

// A task that has the keyboard gets the bytes that a terminal sends for a key: what the terminal here sends, as
// its table of abilities (terminfo(5)) has it, and the control characters of ASCII.
func TestKeysAsBytes(t *testing.T) {
	press := func(code rune, mod tea.KeyMod, text string) string {
		return string(keyBytes(tea.KeyPressMsg{Code: code, Mod: mod, Text: text}))
	}
	for _, c := range []struct {
		name string
		got  string
		want string
	}{
		{"a", press('a', 0, "a"), "a"},
		{"A", press('a', tea.ModShift, "A"), "A"},
		{"ä", press('ä', 0, "ä"), "ä"},
		{"ctrl+c", press('c', tea.ModCtrl, ""), "\x03"},
		{"ctrl+@", press('@', tea.ModCtrl, ""), "\x00"},
		{"ctrl+space", press(tea.KeySpace, tea.ModCtrl, ""), "\x00"},
		{"ctrl+]", press(']', tea.ModCtrl, ""), "\x1d"},
		{"ctrl+~", press('~', tea.ModCtrl, ""), "\x1e"},
		{"alt+x", press('x', tea.ModAlt, ""), "\x1bx"},
		{"alt+ctrl+x", press('x', tea.ModAlt|tea.ModCtrl, ""), "\x1b\x18"},
		{"enter", press(tea.KeyEnter, 0, ""), "\r"},
		{"escape", press(tea.KeyEscape, 0, ""), "\x1b"},
		{"alt+enter", press(tea.KeyEnter, tea.ModAlt, ""), "\x1b\r"},
		{"space", press(tea.KeySpace, 0, " "), " "},
		{"f1, which has no bytes here", press(tea.KeyF1, 0, ""), ""},
	} {
		if c.got != c.want {
			t.Errorf("%s: %q, want %q", c.name, c.got, c.want)
		}
	}
	for key, name := range map[rune]string{
		tea.KeyUp: "cuu1", tea.KeyRight: "cuf1", tea.KeyDelete: "kdch1", tea.KeyInsert: "kich1", tea.KeyPgUp: "kpp", tea.KeyPgDown: "knp", tea.KeyTab: "ht", tea.KeyBackspace: "kbs",
	} {
		want, err := exec.Command("tput", "-T", "xterm-256color", name).Output()
		if err != nil {
			t.Skipf("tput: %v", err)
		}
		if got := press(key, 0, ""); got != string(want) {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
}

// The colours of a state are those of a good, a bad and another end.
func TestInkOfStates(t *testing.T) {
	m := open(t, aBowl)
	for _, name := range []string{"lint", "good", "missing"} {
		m.said(t, name)
	}
	inks := map[string]any{}
	for _, r := range m.session.Runs() {
		s := r.Snapshot()
		inks[r.Prepared.Task.Name] = stateInk(&s)
	}
	if inks["lint"] == inks["good"] || inks["lint"] != inks["missing"] {
		t.Errorf("%v", inks)
	}
	good, bad, stopped := pastInk(&history.Run{State: "ok"}), pastInk(&history.Run{State: "failed"}), pastInk(&history.Run{State: "stopped"})
	if good == bad || bad == stopped || good == stopped || good != inks["good"] || bad != inks["lint"] {
		t.Errorf("good %v, bad %v, stopped %v", good, bad, stopped)
	}
}

// A problem whose file the workspace does not have is not opened in the editor, and says why.
func TestAFileThatIsNotThere(t *testing.T) {
	m := open(t, aBowl)
	if cmd := m.openEditor("gone.c", 1, 1); cmd != nil || m.notice == "" || !m.bad {
		t.Errorf("%v, %q", cmd, m.notice)
	}
	outside := t.TempDir() + "/there.c"
	if err := os.WriteFile(outside, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	t.Setenv("EDITOR", "true")
	if cmd := m.openEditor(outside, 1, 1); cmd == nil {
		t.Errorf("a file outside: %q", m.notice)
	}
	t.Setenv("EDITOR", "no-such-editor 'x")
	if cmd := m.openEditor(outside, 1, 1); cmd != nil || !m.bad {
		t.Errorf("an editor that is none: %q", m.notice)
	}
	if m.Update(editedMsg{errors.New("it fell over")}); m.notice != "editor: it fell over" {
		t.Errorf("after an editor that failed: %q", m.notice)
	}
	m.say(false, "")
	if m.Update(editedMsg{}); m.notice != "" {
		t.Errorf("after an editor that did not: %q", m.notice)
	}
	if got := m.absolute("a/b.c"); got != m.root+"/a/b.c" {
		t.Error(got)
	}
	if got := m.absolute(outside); got != outside {
		t.Error(got)
	}
}

// The steps of a run are drawn from the first on, to scale, with how long each took and how it ended; the names
// that are too long are cut.
func TestTheTimelineOfARun(t *testing.T) {
	m := open(t, aBowl)
	m.width = 80
	at := func(seconds int) time.Time { return m.now.Add(time.Duration(seconds-100) * time.Second) }
	steps := []*history.Run{ // the newest first
		{Task: "M#fire-the-kiln-until-it-glows", Start: at(30), State: "running"},
		{Task: "M#glaze", Start: at(10), End: at(30), State: "failed", Exit: 2},
		{Task: "M#mix", Start: at(0), End: at(10), State: "ok"},
	}
	p := pageOf[*historyPage](m)
	var got []string
	for _, l := range p.timelineLines(steps, 5) {
		got = append(got, strings.TrimRight(ansi.Strip(l), " "))
	}
	// 80 cells: 2, a third for the name, and 14 for 100 seconds.
	want := []string{
		"  mix                          █ 10 s  ok",
		"  glaze                        ██ 20 s  failed (2)",
		"  fire-the-kiln-until-it-gl…      █████████ 1 min 10 s  running",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if got := p.timelineLines(steps, 2); len(got) != 2 {
		t.Errorf("%d lines where there is room for 2", len(got))
	}
}

// When the steps of a plan ran is drawn to scale: all begin at the first start, and the last to end reaches the
// edge. What took no time at all is still seen.
func TestTheTimelineOfAPlan(t *testing.T) {
	m := open(t, aBowl)
	p := pageOf[*planPage](m)
	job := &run.Job{}
	for _, s := range []struct{ from, to int }{{0, 40}, {40, 40}, {20, 100}, {99, 100}} {
		job.Steps = append(job.Steps, m.session.Replay(run.Past{
			Task: &task.Task{File: "M", Name: "s"}, State: run.OK, Started: m.now.Add(time.Duration(s.from) * time.Second), Ended: m.now.Add(time.Duration(s.to) * time.Second),
		}))
	}
	p.job = job
	draw := func(width int) (lines []string) {
		m.width = width
		for _, s := range job.Steps {
			r := p.row().Put("name", ink.Plain)
			p.timeline(r, s)
			lines = append(lines, strings.TrimRight(ansi.Strip(r.String()), " "))
		}
		return lines
	}
	// 27 cells: 4 for the name, 3 beside, and 20 for 100 seconds.
	want := []string{"name ━━━━━━━━", "name         ━", "name     ━━━━━━━━━━━━━━━", "name                    ━"}
	if got := draw(27); strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if got := draw(17); got[0] != "name ━━━━" {
		t.Errorf("in 10 cells: %q", got[0])
	}
	if got := draw(16); got[0] != "name" {
		t.Errorf("in 9 cells: %q", got[0])
	}
	still := m.session.Replay(run.Past{Task: &task.Task{File: "M", Name: "s"}, State: run.OK, Started: m.now, Ended: m.now})
	p.job = &run.Job{Steps: []*run.Run{still}}
	r := p.row().Put("name", ink.Plain)
	if p.timeline(r, still); strings.TrimRight(ansi.Strip(r.String()), " ") != "name" {
		t.Errorf("without any time: %q", r.String())
	}
}

// A field scrolls so that its cursor is in view, and takes no more cells than it is given.
func TestAFieldScrolls(t *testing.T) {
	m := open(t, aBowl)
	show := func(f *field, columns int) string {
		r := m.row()
		f.show(r, columns)
		return strings.ReplaceAll(strings.ReplaceAll(r.String(), "\x1b[7m", "<"), "\x1b[m", ">")
	}
	f := newField("clay and glaze")
	for columns, want := range map[int]string{20: "clay and glaze< >", 15: "clay and glaze< >", 14: "lay and glaze< >", 5: "laze< >", 1: "< >"} {
		if got := show(&f, columns); got != want {
			t.Errorf("in %d cells: %q, want %q", columns, got, want)
		}
	}
	f.in.SetCursor(4)
	for columns, want := range map[int]string{20: "clay< >and glaze", 10: "clay< >and g", 5: "clay< >", 4: "lay< >"} {
		if got := show(&f, columns); got != want {
			t.Errorf("in the middle, in %d cells: %q, want %q", columns, got, want)
		}
	}
	f = newField("陶土の釉薬") // two cells each
	for columns, want := range map[int]string{11: "陶土の釉薬< >", 10: "土の釉薬< >", 4: "薬< >"} {
		if got := show(&f, columns); got != want {
			t.Errorf("wide, in %d cells: %q, want %q", columns, got, want)
		}
	}
	f = newField("")
	f.before = "is:failed in:kiln"
	if got := ansi.Strip(show(&f, 12)); got != "< > tab: is:f…>" {
		t.Errorf("what was there before: %q", got)
	}
}

// A problem that is in view when its run ends says since when it is known as soon as the run is kept.
func TestSinceWhenAProblemIsKnown(t *testing.T) {
	t.Setenv("PATH", fewTools(t))
	m := openKept(t, aWheel)
	m.perform(t, "START:holds ASKS i CTRL:d AWAIT START:holds ASKS y i CTRL:d CTRL:o y ENDED", true)
	m.View() // before the run is kept, or after
	m.finish(t)
	if text := m.page_(); !strings.Contains(text, "in the last 2 runs; first at ") {
		t.Errorf("the tally:\n%s", text)
	}
}
