package tui

import (
	"regexp"
	"strconv"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
)

// numbers returns the numbers that an expression captures on the screen; the test fails if it is not
// there.
func numbers(t *testing.T, m *Model, expression string) (out []int) {
	t.Helper()
	found := regexp.MustCompile(expression).FindStringSubmatch(m.page_())
	if found == nil {
		t.Fatalf("no %s on\n%s", expression, m.page_())
	}
	for _, text := range found[1:] {
		n, err := strconv.Atoi(text)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, n)
	}
	return out
}

// rowsOf counts the lines of the screen that match.
func rowsOf(m *Model, expression string) int {
	return len(regexp.MustCompile("(?m)"+expression).FindAllString(m.page_(), -1))
}

// All pages of the demo count the same things alike: tasks, files, lines and problems.
func TestNumbersAgreeOnAllPages(t *testing.T) {
	m := open(t, nil)
	m.Update(tea.WindowSizeMsg{Width: 142, Height: 100})
	m.do("d") // the list has the whole page
	list := numbers(t, m, `(\d+) of (\d+) tasks shown   h shows (\d+) hidden   (\d+) files ignored by (\d+) rule`)
	shown, all, aside, ignored, rules := list[0], list[1], list[2], list[3], list[4]
	if rows := rowsOf(m, `^ +¦ `); rows != shown || shown+aside != all {
		t.Errorf("%d rows; it says %d of %d, %d hidden", rows, shown, all, aside)
	}
	if n := numbers(t, m, `\n (\d+) tasks in \d+ folders\n`); n[0] != all {
		t.Errorf("the footing counts %d of %d tasks", n[0], all)
	}
	m.do("h")
	if n := numbers(t, m, `(\d+) of (\d+) tasks shown`); n[0] != all || n[1] != all || rowsOf(m, `^ +¦ `) != all {
		t.Errorf("with the hidden ones: %d of %d, %d rows", n[0], n[1], rowsOf(m, `^ +¦ `))
	}
	m.do("h", "/", "m", "a", "k", "e", "enter")
	if n := numbers(t, m, `(\d+) of (\d+) tasks shown, (\d+) hidden by the filter   h shows (\d+)`); n[0]+n[2]+n[3] != n[1] || n[1] != all || rowsOf(m, `^ +¦ `) != n[0] {
		t.Errorf("with a filter: %v, %d rows", n, rowsOf(m, `^ +¦ `))
	}
	m.do("esc", "v")
	sum := 0
	for _, l := range m.screen() {
		if found := regexp.MustCompile(` (\d+) tasks?$`).FindStringSubmatch(strings.TrimRight(l, " ")); found != nil {
			n, _ := strconv.Atoi(found[1])
			sum += n
		}
	}
	if sum != all {
		t.Errorf("the files of the survey have %d of %d tasks\n%s", sum, all, m.page_())
	}
	read := numbers(t, m, `read: (\d+) files`)[0]
	if rows := rowsOf(m, ` \d+ tasks?$`); rows != read {
		t.Errorf("%d files in %d rows", read, rows)
	}
	if n := numbers(t, m, `ignored by (\d+) rule`); n[0] != rules {
		t.Errorf("%d rules here, %d there", n[0], rules)
	}
	if n := numbers(t, m, `\.venv +(\d+) files`); n[0] != ignored {
		t.Errorf("%d files ignored here, %d there", n[0], ignored)
	}

	// A run: the problems in the heading, above the list, in the rows and in the footing.
	m.do("t", "u")
	m.finish(t)
	foot := func() []int { return numbers(t, m, `before (\d+) · new (\d+) · gone (\d+) · now (\d+)`) }
	tasks := foot()
	m.do("y")
	count := numbers(t, m, `\n (\d+) error, (\d+) warnings in (\d+) file, by file`)
	problems := count[0] + count[1]
	heading := numbers(t, m, `problem \d+ of (\d+)`)[0]
	rows := rowsOf(m, `^ +\+ +¦ +\d+:\d+ +(error|warning) `)
	if own := foot(); problems != heading || problems != rows || own[3] != problems || tasks[3] != problems {
		t.Errorf("%d problems above the list, %d in the heading, %d rows, %v and %v in footings\n%s", problems, heading, rows, own, tasks, m.page_())
	}
	lines := numbers(t, m, `output, line \d+ of (\d+)`)[0]
	m.do("o")
	if n := numbers(t, m, `(\d+) lines`); n[0] != lines || rowsOf(m, `^ +[ew]? +\d+ ¦ `) != lines {
		t.Errorf("%d lines of output here, %d there, %d rows\n%s", n[0], lines, rowsOf(m, `^ +[ew]? +\d+ ¦ `), m.page_())
	}

	// What was read without a problem has as many lines on both pages.
	m.do("t", "/")
	for _, c := range "name:recipe" {
		m.do(string(c))
	}
	m.do("enter", "enter")
	m.finish(t)
	m.do("o")
	printed := numbers(t, m, ` (\d+) lines? *\n`)[0]
	m.do("y")
	if n := numbers(t, m, `printed (\d+) lines?`); n[0] != printed {
		t.Errorf("%d lines of output, and\n%s", printed, m.page_())
	}
	m.do("t", "esc")
	if n := numbers(t, m, `(\d+) problems left in 1 other task`); n[0] == 0 {
		t.Errorf("the other task left none: %s", m.page_())
	}
}

// Problems that name no file are not counted as if they were in one.
func TestProblemsWithoutAPlaceAreCountedSo(t *testing.T) {
	m := open(t, map[string]string{"tidytally.toml": "[task.one]\nrun = \"cat log; exit 1\"\n[sieve.own]\n[[sieve.own.lines]]\nmatch = '^!! (?P<message>.+)$'\n", "log": "!! hot\n"})
	m.Update(tea.WindowSizeMsg{Width: 110, Height: 30})
	m.said(t, "one")
	m.do("y")
	if !strings.Contains(m.page_(), "1 error without a place, by file") {
		t.Errorf("the page says\n%s", m.page_())
	}
	m = open(t, map[string]string{"tidytally.toml": "[task.one]\nrun = \"cat log; exit 1\"\n[sieve.own]\n[[sieve.own.lines]]\nmatch = '^!! (?P<message>.+)$'\n", "log": "!! hot\na.c:1:2: error: cold\n"})
	m.Update(tea.WindowSizeMsg{Width: 110, Height: 30})
	m.said(t, "one")
	m.do("y")
	if !strings.Contains(m.page_(), "2 errors in 1 file, 1 of them without a place") {
		t.Errorf("the page says\n%s", m.page_())
	}
}

// The tally begins at the first error in a file of one's own, wherever it was printed; files of
// installed packages stand last. Once a row was chosen, the choice stays.
func TestTheTallyBeginsAtTheFirstErrorOfOnesOwn(t *testing.T) {
	m := open(t, map[string]string{
		"tidytally.toml": "[task.one]\nrun = \"cat log; exit 1\"\n", "package.json": "{}", "node_modules/left/index.c": "", "b.c": "", "a.c": "",
		"log": "node_modules/left/index.c:1:1: error: not mine\na.c:1:1: warning: mild\n/usr/include/x.h:2:2: error: nor mine\nb.c:1:1: error: mine\nb.c:2:1: error: mine too\n",
	})
	m.Update(tea.WindowSizeMsg{Width: 120, Height: 40})
	m.said(t, "one")
	m.do("y")
	p := pageOf[*tallyPage](m)
	if got := p.current().p.Message; got != "mine" {
		t.Errorf("it begins at %q", got)
	}
	var files []string
	for _, r := range p.rows {
		if r.p == nil {
			files = append(files, r.head)
		}
	}
	if got := strings.Join(files, " "); got != "a.c b.c node_modules/left/index.c /usr/include/x.h" {
		t.Errorf("the files stand as %s", got)
	}
	m.do("down", "g") // by severity
	if got := p.current().p.Message; got != "mine too" {
		t.Errorf("in another order it stands at %q", got)
	}
}
