package tui

// A monkey: random keys, texts, clicks, sizes, files and runs on the real model, without a terminal. Its short form is a
// test like any other; scripts/monkey goes on for as long as one likes. For a finding it prints the seed and the shortest
// steps that lead to it.

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"runtime/debug"
	"slices"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"

	"tidytally/core/history"
	"tidytally/core/output"
	"tidytally/core/problem"
	"tidytally/core/session"
	"tidytally/demo"
	"tidytally/internal/testtree"
	"tidytally/tui/ink"
)

var (
	monkeySeeds = flag.String("monkey.seeds", "1-2", "the seeds of the monkey")
	monkeySteps = flag.Int("monkey.steps", 120, "its steps of each seed")
	monkeyTime  = flag.Duration("monkey.time", time.Hour, "how long it begins further seeds")
	monkeySlow  = flag.Bool("monkey.slow", false, "a step that takes long is a finding, too")
	monkeyOps   = flag.String("monkey.ops", "", "play the steps of a file, one a line, in the workspace of the first seed")
	monkeyPrint = flag.Bool("monkey.print", false, "print the screen after each of these steps")
)

// monkeyMark is a variable that all processes have which the monkey's runs start.
const monkeyMark = "TIDYTALLY_MONKEY"

// finding is something that is wrong. sig names its kind.
type finding struct {
	sig, text string
	seed      uint64
	ops       []string
	times     int
}

type monkey struct {
	t       *testing.T
	seed    uint64
	r       *rand.Rand
	root    string
	models  []*driven
	at      int
	ops     []string
	found   map[string]*finding
	corpus  []string
	names   []string // of the task files
	steps   int
	slowest time.Duration
	done    bool
	orig    map[string]string
}

// driven is a model with a loop of its own.
type driven struct {
	m      *Model
	msgs   chan tea.Msg
	quit   int
	width  int
	height int
}

func (k *monkey) fail(sig, format string, args ...any) {
	f := k.found[sig]
	if f == nil {
		f = &finding{sig: sig, text: fmt.Sprintf(format, args...), seed: k.seed, ops: slices.Clone(k.ops)}
		k.found[sig] = f
		k.t.Logf("seed %d step %d: %s\n%s", k.seed, len(k.ops), sig, f.text)
	}
	f.times++
}

var frameOf = regexp.MustCompile(`(?m)^(tidytally/\S+|charm\.land/\S+|github\.com/charmbracelet/\S+)\(.*\n\t(\S+:\d+)`)

// framesOf names the innermost frames of a stack.
func framesOf(stack string) (at string) {
	for _, found := range frameOf.FindAllStringSubmatch(stack, -1) {
		if !strings.Contains(found[2], "monkey_test") && !strings.Contains(found[1], "core/crash") {
			at += " " + found[1] + " " + filepath.Base(found[2])
			if strings.Count(at, ".go:") == 3 {
				break
			}
		}
	}
	return at
}

// guarded calls something; a panic is a finding.
func (k *monkey) guarded(what string, f func()) (ok bool) {
	defer func() {
		if p := recover(); p != nil {
			stack := string(debug.Stack())
			k.fail("PANIC in "+what+":"+framesOf(stack), "%v\n%s", p, stack)
			ok = false
			k.done = true
		}
	}()
	f()
	return true
}

// ---- the workspace

// monkeyLogs are the logs of the corpora of this repository.
func monkeyLogs(t *testing.T) (logs []string) {
	files, _ := filepath.Glob("../core/sieve/family/testdata/*/*")
	for _, file := range files {
		if info, err := os.Stat(file); err == nil && info.Mode().IsRegular() && info.Size() < 1<<20 {
			data, err := os.ReadFile(file)
			if err != nil {
				t.Fatal(err)
			}
			logs = append(logs, string(data))
		}
	}
	if len(logs) < 10 {
		t.Fatalf("%d logs", len(logs))
	}
	return logs
}

var pieces = []string{
	"\x1b[31mred\x1b[m ", "\x1b[1;4;38;2;1;2;3mx\x1b[22;24;39m", "\x1b[2J", "\x1b[H", "\x1b[3A", "\x1b[10;5H", "\x1b[K", "\x1b[1K", "\r", "\b\b", "\t", "\x1b[?25l", "\x1b]0;title\x07", "\x1b]8;;http://x\x1b\\link\x1b]8;;\x1b\\",
	"日本語", "e\u0301", "👩‍👩‍👧‍👦", "\u202e", "\u200b", "\xff\xfe", "🇩🇪", "\x00", "src/a.c:3:4: error: odd\n", "src/日本.c:2:1: warning: weit\n", "make[1]: Entering directory 'src'\n", "\n", "\n\n", "ok\n", "한국어 ", "ｆｕｌｌ", "\x1b[38;5;99mp\x1b[0m", "\x1b[4:3mcurly\x1b[4:0m", "\x1b[1@", "\x1b[5P", "\x1b[2D", "\x1b[9C", "\x1b[M", "\x1b[2L", "\x1bM", "\x1b7", "\x1b8", "\x1b[?1049h", "\x1b[?1049l", "\x9b31m", "áéí", "\x1b[58;5;3m", "\x1b[;m", "\x1b[1;;3m", "\x1b[0;0m",
}

func (k *monkey) log(r *rand.Rand) string {
	switch r.IntN(10) {
	case 0:
		return ""
	case 1, 2:
		var b strings.Builder
		for range 5 + r.IntN(120) {
			b.WriteString(pieces[r.IntN(len(pieces))])
			if r.IntN(3) == 0 {
				fmt.Fprintf(&b, "src/f%d.c:%d:%d: %s: m%d [-Wx%d]\n", r.IntN(4), r.IntN(50), r.IntN(90), []string{"error", "warning", "note"}[r.IntN(3)], r.IntN(9), r.IntN(4))
			}
		}
		return b.String()
	case 3:
		var b strings.Builder
		for i := range r.IntN(3000) {
			fmt.Fprintf(&b, "src/f%d.c:%d:%d: %s: number %d\n", i/40, i, i%70, []string{"error", "warning", "note"}[r.IntN(3)], i)
		}
		return b.String()
	case 4:
		l := k.corpus[r.IntN(len(k.corpus))]
		b := []byte(l)
		for range 1 + len(b)/200 {
			if len(b) > 0 {
				b[r.IntN(len(b))] = byte(r.IntN(256))
			}
		}
		return string(b)
	case 5:
		return k.corpus[r.IntN(len(k.corpus))] + k.corpus[r.IntN(len(k.corpus))]
	}
	return k.corpus[r.IntN(len(k.corpus))]
}

func (k *monkey) files() map[string]string {
	r := rand.New(rand.NewPCG(k.seed, 1))
	files := map[string]string{}
	n := 3 + r.IntN(8)
	for i := range n {
		l := k.log(r)
		if len(l) > 1<<20 {
			l = l[:1<<20]
		}
		files[fmt.Sprintf("logs/l%d", i)] = l
	}
	log := func() string { return fmt.Sprintf("logs/l%d", r.IntN(n)) }
	code := func() string {
		return []string{"", "; exit 1", "; exit 2", "; kill -9 $$$$", "", "; sleep 0.3; exit 3"}[r.IntN(6)]
	}
	sh := func() string { return strings.ReplaceAll(code(), "$$", "$") }
	var mk strings.Builder
	mk.WriteString("COILS ?= 3\n")
	for i := range 1 + r.IntN(12) {
		fmt.Fprintf(&mk, "m%d: %s## does %s\n\t@cat %s%s\n", i, map[bool]string{true: fmt.Sprintf("m%d ", (i+1)%7), false: ""}[r.IntN(4) == 0 && i < 6], pieces[14+r.IntN(3)], log(), code())
	}
	files["Makefile"] = mk.String()
	scripts := map[string]string{"build": "cat ../" + log() + sh(), "test": "cat ../" + log(), "pre日本": "true", "prebuild": "echo pre", "watch": "while sleep 0.2; do date; done"}
	data, _ := json.Marshal(map[string]any{"name": "app", "scripts": scripts})
	files["app/package.json"] = string(data)
	if r.IntN(3) == 0 {
		for i := range r.IntN(60) {
			files[fmt.Sprintf("deep/d%d/Makefile", i)] = "all:\n\ttrue\ntest:\n\tcat ../../" + log() + "\n"
		}
	}
	var tt strings.Builder
	fmt.Fprintf(&tt, "[workspace]\nusual = \"#t%d\"\nslots = %d\n", r.IntN(8), 1+r.IntN(4))
	fmt.Fprintf(&tt, "[task.t0]\nrun = \"cat %s%s\"\nabout = \"%s first\"\nkey = \"f7\"\n", log(), sh(), pieces[14])
	fmt.Fprintf(&tt, "[task.t1]\nrun = \"cat %s%s\"\nbefore = [\"#t0\"]\n", log(), sh())
	fmt.Fprintf(&tt, "[task.t2]\nrun = \"cat %s; sleep 0.2; cat %s%s\"\nwith = [\"#t5\"]\nafter = [\"#t0\"]\n", log(), log(), sh())
	fmt.Fprintf(&tt, "[task.t3]\nrun = \"cat %s%s\"\nrerun_on = [\"src/*\", \"logs/*\"]\n", log(), sh())
	fmt.Fprintf(&tt, "[task.t4]\nrun = \"echo {ask.WHO}; cat %s\"\nargs = [{name=\"WHO\", choices=[\"a\",\"b\"]}, {name=\"HOW\", default=\"x\"}]\npresets = {\"first\"=\"WHO=a\"}\n", log())
	fmt.Fprintf(&tt, "[task.t5]\nrun = \"cat %s; echo up on http://127.0.0.1:1/; sleep 100\"\nready = 'up on (?P<url>\\S+)'\nrestart = \"on-failure\"\n", log())
	fmt.Fprintf(&tt, "[task.t6]\nrun = \"cat %s%s\"\nat = \"shed\"\nsieves = [\"own\"]\nshow = \"on-problem\"\n", log(), sh())
	fmt.Fprintf(&tt, "[task.t7]\nrun = \"printf 'name? '; read x; echo got $x; cat %s\"\nshow = \"always\"\ntimeout = \"20s\"\n", log())
	fmt.Fprintf(&tt, "[task.t8]\nrun = [\"no-such-program\"]\n[task.t9]\nrun = \"cat {file}\"\nfor = [\"*.c\"]\n")
	fmt.Fprintf(&tt, "[task.t10]\nwith = [\"#t5\", \"#t3\"]\n[task.t11]\nbefore = [\"Makefile#m0\", \"app/package.json#build\", \"#t1\"]\nrun = \"cat %s\"\nvia = \"wrap\"\n", log())
	fmt.Fprintf(&tt, "[task.t12]\nrun = \"cat src/f0.c > made.o; cat %s\"\nreads = [\"src/*\"]\nmakes = [\"made.o\"]\nskip = \"fresh\"\n", log())
	fmt.Fprintf(&tt, "[task.t13]\nrun = \"cat %s; sh -c 'trap \\\"\\\" INT TERM; sleep 50' & sleep 0.1\"\nrerun_on = [\"src/*.c\"]\n", log())
	fmt.Fprintf(&tt, "[task.t14]\nrun = \"i=0; while [ $i -lt 60 ]; do cat %s | head -c 3000; sleep 0.02; i=$((i+1)); done\"\n", log())
	tt.WriteString("[via.wrap]\nrun = [\"nice\", \"{command}\"]\n[place.shed]\nrun = [\"env\"]\n[sieve.own]\n[[sieve.own.lines]]\nmatch = '^(?P<file>[^:]+):(?P<line>\\d+):(?P<message>.*)$'\n")
	files["tidytally.toml"] = tt.String()
	for i := range 4 {
		files[fmt.Sprintf("src/f%d.c", i)] = strings.Repeat(fmt.Sprintf("int f%d; // 日本\t\x1b[31m\n", i), r.IntN(60))
	}
	files["src/日本.c"] = "int x;\n"
	files["src/a.c"] = "int a;\nint b;\nint c;\n"
	k.names = nil
	for name := range files {
		k.names = append(k.names, name)
	}
	sort.Strings(k.names)
	k.orig = files
	return files
}

// ---- the loop

func (k *monkey) newDriven() *driven {
	m, err := newModel(k.root, session.Options{Follow: true})
	if err != nil {
		k.t.Fatal(err)
	}
	d := &driven{m: m, msgs: make(chan tea.Msg, 4096), width: 120, height: 40}
	m.execute = func(cmd *exec.Cmd, done tea.ExecCallback) tea.Cmd {
		return func() tea.Msg { return done(nil) }
	}
	m.ink = ink.Well{Dark: true, CanStrike: true}
	m.session.OpenHistory()
	d.exec(m.Init())
	return d
}

// exec runs a command beside the loop.
func (d *driven) exec(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	go func() {
		msg := cmd()
		if batch, ok := msg.(tea.BatchMsg); ok {
			for _, c := range batch {
				d.exec(c)
			}
			return
		}
		if msg != nil {
			select {
			case d.msgs <- msg:
			case <-time.After(time.Minute):
			}
		}
	}()
}

func threadCPU() time.Duration {
	var u syscall.Rusage
	_ = syscall.Getrusage(1 /* RUSAGE_THREAD */, &u)
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// send gives a message to the model and looks at the screen.
func (k *monkey) send(d *driven, msg tea.Msg) {
	if k.done {
		return
	}
	if _, quit := msg.(tea.QuitMsg); quit {
		d.quit++
		d.m.quitting = false
		return
	}
	if msg == nil {
		return
	}
	start, cpu := time.Now(), threadCPU()
	var view tea.View
	if !k.guarded(fmt.Sprintf("Update(%T)", msg), func() {
		_, cmd := d.m.Update(msg)
		d.exec(cmd)
	}) {
		return
	}
	updated := time.Since(start)
	if !k.guarded("View", func() { view = d.m.View() }) {
		return
	}
	if reports, _ := filepath.Glob(filepath.Join(os.Getenv("XDG_STATE_HOME"), "tidytally/reports/*")); len(reports) > 0 { // a panic that was contained
		text, _ := os.ReadFile(reports[0])
		k.fail("PANIC"+framesOf(string(text)), "%s", text)
		_ = os.RemoveAll(filepath.Dir(reports[0]))
		k.done = true
		return
	}
	took, used := time.Since(start), threadCPU()-cpu
	if took > k.slowest {
		k.slowest = took
	}
	if used > 150*time.Millisecond && *monkeySlow {
		k.fail(fmt.Sprintf("SLOW %T on %s", msg, d.m.front()), "%v (%v of it in Update, %v of processor) for %#v on %s; %d runs", took, updated, used, msg, d.m.front(), len(d.m.session.Runs()))
	} else if took > 1500*time.Millisecond && *monkeySlow {
		k.fail(fmt.Sprintf("BLOCKED %T on %s", msg, d.m.front()), "%v (%v of it in Update, %v of processor) for %#v on %s", took, updated, used, msg, d.m.front())
	}
	k.look(d, view.Content)
}

// drain hands over what has come, for at most so long; quiet says that it waits for more.
func (k *monkey) drain(d *driven, wait time.Duration) {
	end := time.After(wait)
	for n := 0; n < 400 && !k.done; n++ {
		select {
		case msg := <-d.msgs:
			k.send(d, msg)
			continue
		default:
		}
		if wait == 0 {
			return
		}
		select {
		case msg := <-d.msgs:
			k.send(d, msg)
		case <-end:
			return
		}
	}
}

// ---- what is looked at

var (
	inks = map[bool][]string{false: {"166;61;47", "143;100;16", "47;107;94", "91;100;112"}, true: {"224;122;102", "217;164;65", "125;187;168", "154;165;177"}}

	balanceWords = regexp.MustCompile(`before (\d+) · new (\d+) · gone (\d+)(?: · not checked (\d+))? · now (\d+)( {6}(?:\d+ (?:error|warning|note)s?(?:, )?)+)?`)
	countWords   = regexp.MustCompile(`(\d+) (error|warning|note)s?`)
	ofWords      = regexp.MustCompile(`(?:problem )?(\d+) of (\d+)\s*$`)
	tasksWords   = regexp.MustCompile(`(\d+) of (\d+) tasks? shown`)
	linesWords   = regexp.MustCompile(`(?:^|\s)(?:line (\d+) of )?(\d+)( lines?)?(, followed)?\s*$`)
)

func atoi(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}

func (k *monkey) look(d *driven, view string) {
	m := d.m
	lines := strings.Split(view, "\n")
	plain := strings.Split(ansi.Strip(view), "\n")
	page := m.front()
	if m.choice != nil {
		page += "+choice"
	} else if m.help.open {
		page += "+help"
	} else if m.field() != nil {
		page += "+typing"
	}
	screen := func() string {
		return fmt.Sprintf("window %dx%d, page %s\n%s", d.width, d.height, page, strings.Join(plain, "\n"))
	}
	if m.tooSmall() {
		if len(lines) > max(1, d.height) {
			k.fail("HEIGHT too small", "%s", screen())
		}
		for _, l := range plain {
			if ansi.StringWidth(l) > max(0, d.width) {
				k.fail("WIDTH too small", "%d wide\n%s", ansi.StringWidth(l), screen())
			}
		}
		return
	}
	if len(lines) != d.height {
		k.fail("HEIGHT "+page, "%d lines\n%s", len(lines), screen())
	}
	for i, l := range lines {
		if w := ansi.StringWidth(l); w > d.width {
			where := "body"
			switch i {
			case 0:
				where = "heading"
			case len(lines) - 2:
				where = "footing"
			case len(lines) - 1:
				where = "keys"
			case 2:
				where = "first row"
			}
			k.fail("WIDTH "+page+" "+where, "row %d has %d columns: %q\n%s", i, w, ansi.Strip(l), screen())
		}
	}
	for _, r := range ansi.Strip(view) {
		if r != '\n' && (r < 0x20 || r == 0x7f || r >= 0x80 && r < 0xa0) || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 {
			k.fail(fmt.Sprintf("CONTROL %U %s", r, page), "%s", screen())
			break
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
			k.fail("ESCAPE "+page, "%q\n%s", rest[:min(20, len(rest))], screen())
			break
		}
	}
	k.guarded("drawing", func() {
		b := uv.NewScreenBuffer(d.width, d.height)
		uv.NewStyledString(view).Draw(b, b.Bounds())
	})
	for _, colour := range inks[!m.ink.Dark] {
		if strings.Contains(view, colour) {
			k.fail("PAPER "+page, "an ink for other paper (dark is %v): %s\n%s", m.ink.Dark, colour, screen())
		}
	}
	k.counts(d, page, plain, screen)
	// The chosen row is in view.
	if m.choice == nil && !m.help.open && m.field() == nil {
		body := strings.Join(lines[2:len(lines)-3], "\n")
		reversed := strings.Contains(body, "\x1b[7") || strings.Contains(body, ";7m") || strings.Contains(body, ";7;")
		if !reversed {
			chosen := false
			switch p := m.at.(type) {
			case *tasksPage:
				chosen = len(p.tasks) > 0
			case *tallyPage:
				chosen = len(p.places) > 0
			case *historyPage:
				chosen = len(p.places) > 0
			case *surveyPage:
				chosen = p.chosen < len(p.rows) && p.rows[p.chosen].left != ""
			}
			if chosen {
				k.fail("CHOSEN OUT OF VIEW "+page, "%s", screen())
			}
		}
	} else if m.choice != nil && len(m.choice.answers) > 0 {
		body := strings.Join(lines[2:len(lines)-3], "\n")
		if !strings.Contains(body, "\x1b[7m") {
			k.fail("ANSWER OUT OF VIEW "+page, "%s", screen())
		}
	}
}

// counts compares numbers on the screen with what they count.
func (k *monkey) counts(d *driven, page string, plain []string, screen func() string) {
	m := d.m
	foot, head := plain[len(plain)-2], strings.TrimRight(plain[0], " ")
	if cut := regexp.MustCompile(`(^| )\d+…`).FindString(foot); cut != "" && strings.Contains(foot, "now ") && m.notice == "" {
		k.fail("CUT NUMBER in the footing", "%s\n%s", strings.TrimSpace(foot), screen())
		foot = ""
	}
	if b := balanceWords.FindStringSubmatch(foot); b != nil && m.notice == "" {
		before, fresh, gone, now := atoi(b[1]), atoi(b[2]), atoi(b[3]), atoi(b[5])
		if before+fresh-gone != now {
			k.fail("BALANCE "+page, "%s\n%s", strings.TrimSpace(foot), screen())
		}
		if rest := b[6]; rest != "" && !strings.Contains(foot, "…") {
			sum := 0
			for _, c := range countWords.FindAllStringSubmatch(rest, -1) {
				sum += atoi(c[1])
			}
			if sum != now {
				k.fail("SUM "+page, "%s\n%s", strings.TrimSpace(foot), screen())
			}
		}
	}
	if m.choice != nil || m.help.open {
		return
	}
	switch p := m.at.(type) {
	case *tasksPage:
		if n := tasksWords.FindStringSubmatch(plain[2]); n != nil && m.snap.Survey != nil {
			if atoi(n[2]) != len(m.snap.Survey.Tasks) {
				k.fail("TASKS all", "%d tasks\n%s", len(m.snap.Survey.Tasks), screen())
			}
			rows := 0
			for _, r := range p.rows {
				if r.task != nil && slices.Contains(m.snap.Survey.Tasks, r.task) {
					rows++
				}
			}
			if atoi(n[1]) != rows {
				k.fail("TASKS shown", "%d rows of tasks\n%s", rows, screen())
			}
			c := p.counts
			if c.shown+c.folded+c.filtered+c.aside != c.all || c.shown < 0 || c.folded < 0 || c.filtered < 0 || c.aside < 0 {
				k.fail("TASKS parts", "%+v\n%s", c, screen())
			}
		}
	case *tallyPage:
		if len(p.rows) == 0 {
			return
		}
		here := 0
		for _, at := range p.places {
			if row := p.rows[at]; row.run != nil && row.state != problem.Gone {
				here++
			}
		}
		if n := ofWords.FindStringSubmatch(head); n != nil && (strings.Contains(head, "problem ") || d.width < narrow+2) {
			if atoi(n[2]) != here || atoi(n[1]) > atoi(n[2]) || atoi(n[1]) < 1 {
				k.fail("TALLY heading", "%d here\n%s", here, screen())
			}
		}
		if strings.Contains(plain[2], " shown, ") || strings.Contains(plain[2], " hidden by the filter") || p.finding || p.find.String() != "" {
			return
		}
		part := plain[2]
		if i := strings.Index(part, "   the tool"); i >= 0 {
			part = part[:i]
		}
		if i := strings.Index(part, " in "); i >= 0 {
			part = part[:i]
		}
		sum := 0
		for _, c := range countWords.FindAllStringSubmatch(part, -1) {
			sum += atoi(c[1])
		}
		if sum != here {
			k.fail("TALLY line", "%d here\n%s", here, screen())
		}
		if p.order != tallyByTask && m.notice == "" {
			if b := balanceWords.FindStringSubmatch(foot); b != nil && atoi(b[5]) != here {
				k.fail("TALLY footing and list", "%d here\n%s", here, screen())
			}
		}
	case *outputPage:
		if m.run == nil || !m.run.Snapshot().State.Ended() {
			return
		}
		printed := 0
		m.run.Output(func(x *output.Index) { printed = x.Printed() })
		if n := linesWords.FindStringSubmatch(head); n != nil && (n[1] != "" || n[3] != "") && printed == p.lines {
			if atoi(n[2]) != printed || n[1] != "" && (atoi(n[1]) < 1 || atoi(n[1]) > printed) {
				k.fail("OUTPUT lines", "%d printed\n%s", printed, screen())
			}
		}
	}
}

// settled compares the screen before and after everything is told again: where nothing happens, they
// are the same.
func (k *monkey) settled(d *driven) {
	if k.done {
		return
	}
	m := d.m
	_, _ = m.session.Settle(k.t.Context())
	k.drain(d, 30*time.Millisecond)
	if len(m.active()) > 0 || len(d.msgs) > 0 || len(m.news) > 0 || k.done || m.tooSmall() {
		return
	}
	now := m.now
	clock := m.clock
	m.clock = func() time.Time { return now }
	defer func() { m.clock = clock }()
	k.guarded("settled", func() {
		before := m.View().Content
		m.tell(runsMsg{})
		m.clamp()
		after := m.View().Content
		if before != after && len(m.active()) == 0 {
			k.differs("STALE after runs", d, before, after)
		}
		if _, ok := m.at.(*tasksPage); !ok { // that shows its top where it can
			m.tell(tea.WindowSizeMsg{Width: d.width, Height: d.height})
			m.clamp()
		}
		again := m.View().Content
		if again != after {
			k.differs("STALE after size", d, after, again)
		}
		if p, ok := m.at.(*tasksPage); ok && m.field() == nil && m.choice == nil && m.snap.Survey != nil {
			p.arrange()
			if now := m.View().Content; now != again {
				k.differs("STALE list", d, again, now)
			}
		}
		if p, ok := m.at.(*planPage); ok && m.choice == nil && !m.help.open {
			chosen := p.chosen
			p.fill()
			p.chosen = chosen
			p.clamp()
			if now := m.View().Content; now != again {
				k.differs("STALE plan", d, again, now)
			}
		}
	})
}

func (k *monkey) differs(sig string, d *driven, before, after string) {
	a, b := strings.Split(ansi.Strip(before), "\n"), strings.Split(ansi.Strip(after), "\n")
	var out []string
	for i := range max(len(a), len(b)) {
		if i >= len(a) || i >= len(b) || a[i] != b[i] {
			out = append(out, fmt.Sprintf("%d: %q\n   %q", i, a[min(i, len(a)-1)], b[min(i, len(b)-1)]))
		}
	}
	if len(out) == 0 {
		out = []string{"only styles differ"}
	}
	k.fail(sig+" "+d.m.front(), "%s\n%s", strings.Join(out[:min(len(out), 8)], "\n"), strings.Join(b, "\n"))
}

// ---- steps

var monkeyKeys = []string{
	"enter", "enter", "enter", "esc", "esc", "up", "down", "down", "down", "pgup", "pgdown", "home", "end", "tab", "space", "left", "right", "backspace", "delete", "shift+up", "shift+down", "shift+tab",
	"t", "o", "o", "y", "y", "y", "l", "l", "T", "H", "H", "v", "M", "n", "C", "E", "m", "s", "?", "a", "u", "U", "r", "x", "x", "i", "b", "I", "S", "F", "R", "L", "A", "D", "!", "/", "f", "g", "g", "h", "z", "N", ".", ",", "[", "]", "=", "e", "d", "w", "p", "c", "V", "B", "Q",
	"1", "2", "3", "9", "ctrl+s", "ctrl+t", "ctrl+p", "ctrl+z", "ctrl+o", "ctrl+o", "ctrl+a", "ctrl+k", "ctrl+u", "ctrl+w", "alt+b", "f7", "alt+x", "q", "ctrl+c", "insert", "G", "j", "k", "P", "W", "X", "Y", "Z", "0", "-", "+", "ctrl+d", "ctrl+r",
}

var monkeyTexts = []string{
	"t1", "kind:test", "is:failed", "is:new", "sev:error", "file:src", "日本語", "e\u0301x", "👩‍👩‍👧‍👦", "WHO=a", "WHO=b HOW=日", "'", "\"", "\\", "{{}}", "{file}", "^(?P<file>[^:]+):(?P<line>\\d+): (?P<message>.*)$", "(", "[", "a b c", "-is:gone", "since:2d", "x y", "../../etc", "/nowhere/at/all/x", "out.svg", "zzz", "*", "**", "is:", ":", "-", "name:m1 -kind:build", strings.Repeat("lang ", 60), "error", "\u202eabc", "ﬀİ", "K", "m0", "t3", "t13",
}

// monkeyWays are keys that belong together.
var monkeyWays = []string{
	"esc,H,WAIT,down,down,enter,y", "esc,H,WAIT,enter,[", "H,WAIT,=,down,=", "H,WAIT,g,end,enter,M", "H,WAIT,down,enter,w,enter", "H,WAIT,enter,r,WAIT,o", "H,WAIT,enter,m", "H,WAIT,enter,s", "H,WAIT,/,TEXT:is:failed,enter,enter,y",
	"t,/,TEXT:t11,enter,enter,WAIT,T,g", "t,/,TEXT:t2,enter,enter,WAIT,T,right,enter", "t,esc,T", "T,g,up,up,pgup,end",
	"t,/,TEXT:t3,enter,enter,WAIT,y", "t,/,TEXT:t10,enter,enter,WAIT,l", "l,down,down,enter", "l,r,WAIT,!", "l,d,enter", "y,g,g,down,enter", "y,/,TEXT:is:gone,enter,end", "y,/,TEXT:sev:warning,enter,g", "y,m,right,1,right,2,right,6,enter,enter", "y,s,enter,end,TEXT:x,enter", "o,s,enter,home,delete,esc",
	"o,/,TEXT:error,enter,.,.", "o,/,TEXT:zz,up,down,enter", "o,home,pgdown,pgdown,end,up", "o,w,TEXT:x,enter", "o,end,n,n,N", "o,home,n,enter",
	"t,a,TEXT:x,enter,WAIT,a,up,up,down,esc", "t,a,ctrl+s,TEXT:mine,enter,ctrl+t,enter,enter", "t,/,TEXT:t4,enter,a,tab,ctrl+p,enter", "t,n,down,down,enter,enter,enter,w,enter", "t,C,down,enter,TEXT:y,enter,w", "t,E,down,down,down,enter,TEXT:z,enter,w", "t,C,w,ctrl+z", "t,V,enter,enter", "t,V,down,enter,down,enter", "t,n,TEXT:zz,down,enter", "t,n,TEXT:serve,enter,tab,enter,w",
	"t,f,TEXT:f1,enter,enter", "t,f,enter,home,enter,WAIT,down,enter", "t,g,z,z,g,z", "t,p,home,p", "t,u,WAIT,U,down,enter,u", "t,tab,down,down,enter,tab", "t,L,WAIT,M,down,enter,c", "t,/,TEXT:t12,enter,L,WAIT,M,enter", "t,/,TEXT:t12,enter,enter,WAIT,enter,WAIT,o,A", "t,/,TEXT:t7,enter,i,TEXT:me,enter,ctrl+o", "t,/,TEXT:t7,enter,enter,WAIT,i,TEXT:y,enter,WAIT,ctrl+o",
	"v,i,enter", "v,down,down,down,i,down,enter", "v,end,s,enter", "v,end,s,enter,ctrl+z", "v,end,enter,home,enter", "?,TEXT:run,pgdown,esc,esc", "?,end,pgdown,pgdown,up,?", "y,R,WAIT,y", "y,D,WAIT,ctrl+o", "y,w,c,f", "y,i,TEXT:a,ctrl+o", "x,WAIT,x,WAIT,r", "r,r,r,WAIT,[,[,],]", "t,S,enter", "t,F", "t,!,!", "t,b", "t,Q,l,Q,B",
}

var monkeyPastes = []string{"two\nlines", "\x1b[31mred\x1b[m\n\x07\x00", "tab\there", "日本\r\n語", "\u202e\u200b", strings.Repeat("p", 5000), "", "\n", "\xff\xfe", "q\nq\n"}

var named = map[string]rune{
	"enter": tea.KeyEnter, "esc": tea.KeyEscape, "up": tea.KeyUp, "down": tea.KeyDown, "tab": tea.KeyTab, "space": tea.KeySpace, "left": tea.KeyLeft, "right": tea.KeyRight,
	"backspace": tea.KeyBackspace, "delete": tea.KeyDelete, "pgup": tea.KeyPgUp, "pgdown": tea.KeyPgDown, "home": tea.KeyHome, "end": tea.KeyEnd, "insert": tea.KeyInsert, "f7": tea.KeyF7,
}

func monkeyKey(k string) tea.KeyPressMsg {
	var msg tea.KeyPressMsg
	for {
		if rest, ok := strings.CutPrefix(k, "ctrl+"); ok {
			msg.Mod |= tea.ModCtrl
			k = rest
			continue
		}
		if rest, ok := strings.CutPrefix(k, "alt+"); ok {
			msg.Mod |= tea.ModAlt
			k = rest
			continue
		}
		if rest, ok := strings.CutPrefix(k, "shift+"); ok {
			msg.Mod |= tea.ModShift
			k = rest
			continue
		}
		break
	}
	if code, ok := named[k]; ok {
		msg.Code = code
		if k == "space" {
			msg.Text = " "
		}
		return msg
	}
	msg.Code = []rune(k)[0]
	if msg.Mod&(tea.ModCtrl|tea.ModAlt) == 0 {
		msg.Text = k
	}
	return msg
}

// next makes up a step.
func (k *monkey) next() string {
	r := k.r
	d := k.models[k.at]
	switch n := r.IntN(100); {
	case n < 52:
		return "key " + monkeyKeys[r.IntN(len(monkeyKeys))]
	case n < 58: // a key of the table of the page
		keys := d.m.allKeys()
		q := keys[r.IntN(len(keys))]
		name := q.names[r.IntN(len(q.names))]
		if name == "q" || name == "ctrl+c" {
			name = "down"
		}
		return "key " + name
	case n < 62:
		return "text " + strconv.Quote(monkeyTexts[r.IntN(len(monkeyTexts))])
	case n < 64:
		return "paste " + strconv.Quote(monkeyPastes[r.IntN(len(monkeyPastes))])
	case n < 69:
		return fmt.Sprintf("click %d %d", r.IntN(max(1, d.width)+2), r.IntN(max(1, d.height)+2))
	case n < 71:
		return fmt.Sprintf("double %d %d", r.IntN(max(1, d.width)), r.IntN(max(1, d.height)))
	case n < 74:
		return "wheel " + []string{"up", "down"}[r.IntN(2)]
	case n < 78:
		sizes := [][2]int{{80, 24}, {60, 16}, {62, 16}, {59, 15}, {20, 5}, {0, 0}, {1, 1}, {300, 100}, {200, 60}, {120, 40}, {100, 30}, {180, 50}, {60, 100}, {300, 16}, {182, 30}, {72, 29}, {0, 24}, {80, 0}}
		s := sizes[r.IntN(len(sizes))]
		if r.IntN(3) == 0 {
			s = [2]int{20 + r.IntN(281), 5 + r.IntN(96)}
		}
		return fmt.Sprintf("size %d %d", s[0], s[1])
	case n < 80:
		return "dark " + strconv.Itoa(r.IntN(2))
	case n < 85:
		return "wait " + strconv.Itoa([]int{5, 20, 60, 150, 400}[r.IntN(5)])
	case n < 88:
		return fmt.Sprintf("write %s %d", k.names[r.IntN(len(k.names))], r.IntN(1<<30))
	case n < 89:
		return "remove " + k.names[r.IntN(len(k.names))]
	case n < 91:
		return "restore " + k.names[r.IntN(len(k.names))]
	case n < 93: // ways that people go
		return "play " + monkeyWays[r.IntN(len(monkeyWays))]
	case n < 95: // something to look at
		page := []string{"y", "o", "l", "T", "H", "M", "t"}[r.IntN(7)]
		return "play " + strings.Join([]string{"esc", "esc", "esc", "/", "TEXT:t" + strconv.Itoa(r.IntN(15)), "enter", "enter", "WAIT", page}, ",")
	case n < 96 && len(k.models) > 1:
		return "model " + strconv.Itoa(1-k.at)
	case n < 98:
		return "settled"
	case n < 99:
		return "reset"
	}
	return "key " + monkeyKeys[r.IntN(len(monkeyKeys))]
}

func (k *monkey) key(d *driven, name string) {
	k.send(d, monkeyKey(name))
}

func (k *monkey) text(d *driven, text string) {
	for _, c := range text {
		if c == ' ' {
			k.key(d, "space")
		} else {
			k.send(d, tea.KeyPressMsg{Code: c, Text: string(c)})
		}
	}
}

func (k *monkey) do(op string) {
	k.ops = append(k.ops, op)
	k.steps++
	d := k.models[k.at]
	name, arg, _ := strings.Cut(op, " ")
	words := strings.Fields(arg)
	two := func() (int, int) { return atoi(words[0]), atoi(words[1]) }
	switch name {
	case "key":
		k.key(d, arg)
	case "text":
		s, _ := strconv.Unquote(arg)
		k.text(d, s)
	case "paste":
		s, _ := strconv.Unquote(arg)
		k.send(d, tea.PasteMsg{Content: s})
	case "click", "double":
		x, y := two()
		k.send(d, tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft})
		if name == "double" {
			k.send(d, tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft})
		}
	case "wheel":
		b := tea.MouseWheelUp
		if arg == "down" {
			b = tea.MouseWheelDown
		}
		k.send(d, tea.MouseWheelMsg{X: 5, Y: 5, Button: b})
	case "size":
		d.width, d.height = two()
		k.send(d, tea.WindowSizeMsg{Width: d.width, Height: d.height})
	case "dark":
		if arg == "1" {
			k.send(d, tea.BackgroundColorMsg{Color: rgb{0}})
		} else {
			k.send(d, tea.BackgroundColorMsg{Color: rgb{0xffff}})
		}
	case "wait":
		k.drain(d, time.Duration(atoi(arg))*time.Millisecond)
	case "write":
		k.write(words[0], uint64(atoi(words[1])))
	case "remove":
		_ = os.Remove(filepath.Join(k.root, words[0]))
	case "restore":
		_ = os.MkdirAll(filepath.Dir(filepath.Join(k.root, words[0])), 0o755)
		_ = os.WriteFile(filepath.Join(k.root, words[0]), []byte(k.orig[words[0]]), 0o644)
	case "play":
		for w := range strings.SplitSeq(arg, ",") {
			if t, ok := strings.CutPrefix(w, "TEXT:"); ok {
				k.text(d, t)
			} else if w == "" {
				continue
			} else if w == "WAIT" {
				k.drain(d, 120*time.Millisecond)
			} else {
				k.key(d, w)
			}
		}
	case "model":
		k.at = atoi(arg)
	case "settled":
		k.settled(d)
	case "reset":
		k.size(d, 120, 40)
		k.leave(d)
	}
	for _, d := range k.models {
		k.drain(d, 0)
	}
}

func (k *monkey) size(d *driven, w, h int) {
	d.width, d.height = w, h
	k.send(d, tea.WindowSizeMsg{Width: w, Height: h})
}

// leave presses what leads out, to the first page.
func (k *monkey) leave(d *driven) {
	k.key(d, "ctrl+o")
	for range 12 {
		k.key(d, "esc")
	}
	if k.done {
		return
	}
	m := d.m
	if m.help.open || m.choice != nil || m.field() != nil || m.at != m.pages[0] {
		k.fail("NO WAY OUT "+m.front(), "help %v, choice %v, field %v", m.help.open, m.choice != nil, m.field() != nil)
	}
}

type rgb struct{ v uint32 }

func (c rgb) RGBA() (r, g, b, a uint32) { return c.v, c.v, c.v, 0xffff }

func (k *monkey) write(name string, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 2))
	path := filepath.Join(k.root, name)
	data, err := os.ReadFile(path)
	if err != nil {
		data = []byte(k.orig[name])
	}
	switch r.IntN(6) {
	case 0:
		data = append(data, []byte("\n# more\n")...)
	case 1:
		data = data[:r.IntN(len(data)+1)]
	case 2:
		for range 3 {
			if len(data) > 0 {
				data[r.IntN(len(data))] = "[]{}\"'=\n#:;\x00\xff"[r.IntN(13)]
			}
		}
	case 3:
		if strings.HasPrefix(name, "logs/") {
			data = []byte(k.log(r))
		} else {
			lines := bytes.SplitAfter(data, []byte("\n"))
			r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
			data = bytes.Join(lines, nil)
		}
	case 4:
		data = append([]byte("\n\n"), data...)
	case 5:
		if strings.HasPrefix(name, "logs/") {
			lines := bytes.SplitAfter(data, []byte("\n"))
			data = bytes.Join(lines[:r.IntN(len(lines))], nil)
		}
	}
	_ = os.MkdirAll(filepath.Dir(path), 0o755)
	_ = os.WriteFile(path, data, 0o644)
}

// marked returns the processes that have the mark of a seed in their environment.
func marked(value string) (out []string) {
	dirs, _ := filepath.Glob("/proc/[0-9]*")
	for _, dir := range dirs {
		if dir == fmt.Sprintf("/proc/%d", os.Getpid()) {
			continue
		}
		env, _ := os.ReadFile(dir + "/environ")
		if bytes.Contains(env, []byte(monkeyMark+"="+value+"\x00")) {
			cmd, _ := os.ReadFile(dir + "/cmdline")
			out = append(out, filepath.Base(dir)+" "+string(bytes.ReplaceAll(cmd, []byte{0}, []byte(" "))))
		}
	}
	return out
}

// play runs the steps of a seed, random ones if there are none.
func (k *monkey) play(ops []string, steps int) {
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	home, err := os.MkdirTemp("", "monkey-")
	if err != nil {
		k.t.Fatal(err)
	}
	home, _ = filepath.EvalSymlinks(home)
	defer os.RemoveAll(home)
	mark := fmt.Sprintf("%d.%d", k.seed, time.Now().UnixNano())
	for name, value := range map[string]string{"XDG_STATE_HOME": home + "/state", "XDG_CONFIG_HOME": home + "/config", "XDG_CACHE_HOME": home + "/cache", monkeyMark: mark, "BROWSER": "true", "npm_config_offline": "true", "EDITOR": "vi"} {
		os.Setenv(name, value)
	}
	k.root = filepath.Join(home, "emberclay")
	k.r = rand.New(rand.NewPCG(k.seed, 3))
	if k.seed%5 == 4 {
		if err := demo.Lay(k.root); err != nil {
			k.t.Fatal(err)
		}
	}
	files := k.files()
	testtree.Fill(k.t, k.root, files)
	if k.seed%3 == 0 { // a week of runs
		d := k.newHistory()
		if d != nil {
			k.t.Log(d)
		}
	}
	if k.seed%4 == 1 {
		c := exec.Command("sh", "-c", "git init -q . && git add -A && git -c user.name=a -c user.email=a@b commit -qm x")
		c.Dir = k.root
		_ = c.Run()
	}
	k.models = append(k.models, k.newDriven())
	if k.seed%2 == 0 {
		k.models = append(k.models, k.newDriven())
	}
	for _, d := range k.models {
		k.size(d, 120, 40)
		for range 100 {
			k.drain(d, 30*time.Millisecond)
			if d.m.snap.Survey != nil && !d.m.snap.Survey.Partial {
				break
			}
		}
	}
	if ops != nil {
		for _, op := range ops {
			if k.done {
				break
			}
			k.do(op)
			if *monkeyPrint {
				fmt.Printf("---- %s\n%s\n", op, ansi.Strip(k.models[k.at].m.View().Content))
			}
		}
	} else {
		for range steps {
			if k.done {
				break
			}
			k.do(k.next())
		}
	}
	if !k.done {
		k.ops = append(k.ops, "END")
		for _, d := range k.models {
			k.size(d, 120, 40)
			k.leave(d)
			d.quit = 0
			for range 3 {
				k.key(d, "q")
				k.drain(d, 5*time.Millisecond)
			}
			for wait := 0; d.quit == 0 && wait < 100; wait++ { // on a busy machine
				k.drain(d, 50*time.Millisecond)
			}
			if d.quit == 0 && !k.done {
				k.fail("Q DOES NOT QUIT", "%s", ansi.Strip(d.m.View().Content))
			}
		}
	}
	for _, d := range k.models {
		closed := make(chan struct{})
		start := time.Now()
		go func() {
			d.m.session.Close()
			close(closed)
		}()
		select {
		case <-closed:
			if took := time.Since(start); took > 8*time.Second {
				k.fail("CLOSE IS SLOW", "%v", took)
			}
		case <-time.After(40 * time.Second):
			buf := make([]byte, 1<<20)
			k.fail("CLOSE HANGS", "%s", buf[:runtime.Stack(buf, true)])
		}
	}
	time.Sleep(20 * time.Millisecond)
	if left := marked(mark); len(left) > 0 {
		time.Sleep(500 * time.Millisecond)
		if left = marked(mark); len(left) > 0 {
			k.fail("LEFT BEHIND", "%s", strings.Join(left, "\n"))
		}
	}
}

func (k *monkey) newHistory() error {
	store, err := history.Open(k.root)
	if err != nil {
		return err
	}
	defer store.Close()
	return demo.Week(store, k.root, time.Now())
}

func TestMonkey(t *testing.T) {
	first, last := testtree.Seeds(t, *monkeySeeds)
	restore := os.Environ()
	defer func() {
		os.Clearenv()
		for _, v := range restore {
			name, value, _ := strings.Cut(v, "=")
			os.Setenv(name, value)
		}
	}()
	corpus := monkeyLogs(t)
	found := map[string]*finding{}
	var ops []string
	if *monkeyOps != "" {
		text, err := os.ReadFile(*monkeyOps)
		if err != nil {
			t.Fatal(err)
		}
		ops = slices.DeleteFunc(strings.Split(string(text), "\n"), func(op string) bool { return op == "" || op == "END" })
	}
	begun, total := time.Now(), 0
	for seed := first; seed <= last && time.Since(begun) < *monkeyTime; seed++ {
		k := &monkey{t: t, seed: seed, corpus: corpus, found: found}
		k.play(ops, *monkeySteps)
		total += k.steps
		if testing.Verbose() {
			fmt.Printf("seed %d: %d steps, slowest %v, %d kinds of findings, %v\n", seed, k.steps, k.slowest.Round(time.Millisecond), len(found), time.Since(begun).Round(time.Second))
		}
	}
	for _, f := range found {
		fails := func(ops []string) bool {
			k := &monkey{t: t, seed: f.seed, corpus: corpus, found: map[string]*finding{}}
			k.play(ops, 0)
			return k.found[f.sig] != nil
		}
		short := shrink(slices.DeleteFunc(f.ops, func(op string) bool { return op == "END" }), fails, time.Now().Add(shrinksFor))
		t.Errorf("%s, %d times; seed %d:\n%s\n%s", f.sig, f.times, f.seed, strings.Join(short, "\n"), f.text)
	}
	t.Logf("%d steps in %v", total, time.Since(begun).Round(time.Second))
}

// shrinksFor bounds the search for shorter steps.
const shrinksFor = 20 * time.Second

// shrink leaves steps out as long as it still fails.
func shrink(ops []string, fails func([]string) bool, until time.Time) []string {
	for size := (len(ops) + 1) / 2; size >= 1; {
		changed := false
		for at := len(ops) - size; at > -size && time.Now().Before(until); at -= size {
			from := max(0, at)
			to := min(len(ops), at+size)
			if from >= to {
				continue
			}
			less := slices.Concat(ops[:from], ops[to:])
			if fails(less) {
				ops = less
				changed = true
			}
		}
		if size == 1 && !changed || time.Now().After(until) {
			break
		}
		if size > 1 {
			size = size / 2
		}
	}
	return ops
}
