package output

import (
	"bytes"
	"fmt"
	"math/rand"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"testing"
	"unicode/utf8"
)

func index(t testing.TB, data string, cut int) *Index {
	t.Helper()
	x := NewIndex(bytes.NewReader([]byte(data)))
	for rest := data; len(rest) > 0; rest = rest[min(cut, len(rest)):] {
		x.Write([]byte(rest[:min(cut, len(rest))]))
	}
	return x
}

func shown(x *Index) string {
	var out []string
	for i := range x.Lines() {
		out = append(out, x.Line(i).Plain)
	}
	return strings.TrimRight(strings.Join(out, "\n"), "\n")
}

var drawings = map[string]string{
	"plain":                    "one\ntwo\r\n\r\nthree",
	"progress":                 "  0%\r 50%\r100%\r\ndone\n",
	"shorter over":             "abcdef\rxy\n",
	"erase to end":             "abcdef\rxy\x1b[K\n",
	"erase line":               "abcdef\x1b[2K\rxy\n",
	"backspace":                "abc\b\bX\n",
	"tabs":                     "a\tb\r\tc\n",
	"columns":                  "abc\x1b[10Gx\x1b[2Dy\x1b[3Cz\n",
	"wide":                     "日本\rx\nä é\n",
	"moving up":                "a: 1\r\nb: 1\r\n\x1b[2A\ra: 2\x1b[K\r\nb: 2\x1b[K\r\n\x1b[2A\ra: 3\x1b[K\r\nb: 3\x1b[K\r\nend\r\n",
	"colours":                  "\x1b[31mred\x1b[0m plain \x1b[1;38;5;4mx\x1b[m\n",
	"title and link":           "\x1b]0;title\x07a\x1b]8;;http://x\x1b\\link\x1b]8;;\x1b\\\n",
	"delete characters":        "abcdef\r\x1b[2Pz\n",
	"a sequence in a sequence": "a\nb\n\x1b[\x1b[Ax\n",
	"a sequence in a string":   "a\nb\n\x1b]0;t\x1b[Ax\n",
	"a sequence in a charset":  "a\nb\n\x1b(\x1b[Ax\n",
	"two escapes":              "a\nb\n\x1b\x1b[Ax\n",
	"a charset of a bracket":   "a\nb\n\x1b([Ax\n",
	"strings":                  "a\x1bPq\x1b\\b\x1b^p\x1b\\c\x1b_q\x1b\\d\x1bXr\x1b\\e\n",
	"charset and keypad":       "\x1b(B\x1b=a\x1b>b\n",
}

// What is shown is what a real terminal shows.
func TestLinesAgainstATerminal(t *testing.T) {
	if _, err := exec.LookPath("tmux"); err != nil {
		t.Skip("tmux is not installed")
	}
	socket := fmt.Sprintf("tidytally-output-%d", os.Getpid())
	defer exec.Command("tmux", "-L", socket, "kill-server").Run()
	for name, data := range drawings {
		file := t.TempDir() + "/data"
		if err := os.WriteFile(file, []byte(strings.ReplaceAll(strings.ReplaceAll(data, "\r\n", "\n"), "\n", "\r\n")), 0o644); err != nil {
			t.Fatal(err)
		}
		out, err := exec.Command("tmux", "-u", "-L", socket, "-f", "/dev/null", "new-session", "-d", "-x", "80", "-y", "24",
			"cat "+file+"; tmux -L "+socket+" wait-for -S done; sleep 60").CombinedOutput()
		if err != nil {
			t.Skipf("tmux does not start: %s", out)
		}
		if err := exec.Command("tmux", "-L", socket, "wait-for", "done").Run(); err != nil {
			t.Fatal(err)
		}
		out, err = exec.Command("tmux", "-L", socket, "capture-pane", "-p").Output()
		if err != nil {
			t.Fatal(err)
		}
		exec.Command("tmux", "-L", socket, "kill-session").Run()
		var want []string
		for _, l := range strings.Split(string(out), "\n") {
			want = append(want, strings.TrimRight(l, " "))
		}
		if got := shown(index(t, data, 1000)); got != strings.TrimRight(strings.Join(want, "\n"), "\n") {
			t.Errorf("%s: got\n%q\nthe terminal shows\n%q", name, got, strings.TrimRight(strings.Join(want, "\n"), "\n"))
		}
	}
}

func TestCutAnywhereGivesTheSameLines(t *testing.T) {
	for name, data := range drawings {
		want := shown(index(t, data, 1<<20))
		for cut := 1; cut < 9; cut++ {
			if got := shown(index(t, data, cut)); got != want {
				t.Errorf("%s in pieces of %d: %q, want %q", name, cut, got, want)
			}
		}
	}
}

// A sequence whose end is lost takes no line with it.
func TestNoSequenceGoesOverALine(t *testing.T) {
	for _, begin := range []string{"", "[", "[3", "]0;", "P", "^", "_", "X", "("} {
		for cut := 1; cut < 9; cut++ {
			if got := shown(index(t, "a\x1b"+begin+"\nb\nc\n", cut)); got != "a\nb\nc" {
				t.Errorf("%q: %q", begin, got)
			}
		}
	}
}

func TestStylesGoOnOverLines(t *testing.T) {
	x := index(t, "\x1b[31mred\nstill\x1b[0m off\n\x1b[1m\x1b[4mboth\n\x1b[31;evil\x1b[?25hm\n", 3)
	if c := x.Line(1).Cells; c[0].Style.String() != "31" || c[5].Style != (Style{}) {
		t.Errorf("second line: %+v", c)
	}
	if c := x.Line(2).Cells; c[0].Style.String() != "1;4" {
		t.Errorf("third line: %+v", c[0])
	}
}

func TestLineOfAByteAndFinding(t *testing.T) {
	var b strings.Builder
	for i := range 5000 {
		fmt.Fprintf(&b, "line %d \x1b[31mRed%d\x1b[0m\n", i, i)
	}
	x := index(t, b.String(), 777)
	for i := 0; i < 5000; i += 321 {
		if got := x.LineAt(x.StartOf(i) + 3); got != i {
			t.Errorf("a byte of line %d is said to be of line %d", i, got)
		}
	}
	for _, c := range []struct {
		text    string
		from    int
		forward bool
		want    int
	}{
		{"red4321", 0, true, 4321}, {"Red10", 11, true, 100}, {"RED1", 0, true, -1}, {"line 3 ", 2000, true, 3}, {"red99", 4000, false, 999}, {"nowhere", 5, true, -1},
	} {
		if got := x.Find(c.text, c.from, c.forward); got != c.want {
			t.Errorf("%q from %d: %d, want %d", c.text, c.from, got, c.want)
		}
	}
}

func FuzzLine(f *testing.F) {
	for _, d := range drawings {
		f.Add([]byte(d))
	}
	f.Add([]byte("0\xc3"))
	f.Add([]byte("\x1b[999999999C\x1b[9999Ax\x1b[2J\x1b[3J\xff\xc3"))
	f.Fuzz(func(t *testing.T, data []byte) {
		x := index(t, string(data), 1+rand.Intn(50))
		for i := range x.Lines() {
			l := x.Line(i)
			if strings.ContainsAny(l.Plain, "\x1b\r\n\x07\x00\u009b") || !utf8.ValidString(l.Plain) {
				t.Errorf("line %d of %q: %q", i, data, l.Plain)
			}
			for _, c := range l.Cells {
				if strings.ContainsAny(c.Text, "\x1b\x07") {
					t.Errorf("cell %+v", c)
				}
			}
		}
	})
}

// A program moves up at most so many lines: what lies further above stays as it is.
func TestMovingUpIsBounded(t *testing.T) {
	var text strings.Builder
	for i := range 3 * maxUp {
		fmt.Fprintf(&text, "line %d\n", i)
	}
	for _, up := range []string{"\x1b[1000000A", strings.Repeat("\x1b[A", 3*maxUp)} {
		data := text.String() + up + "over\n"
		x := index(t, data, len(data))
		if got := x.Line(2*maxUp - 1).Plain; got != fmt.Sprintf("line %d", 2*maxUp-1) {
			t.Errorf("line %d reads %q", 2*maxUp-1, got)
		}
		changed := 0
		for i := range x.Lines() {
			if strings.HasPrefix(x.Line(i).Plain, "over") {
				changed++
				if i < 2*maxUp {
					t.Errorf("line %d was written over", i)
				}
			}
		}
		if changed != 1 {
			t.Errorf("%d lines were written over", changed)
		}
	}
}

// Lines far behind the end are found, read and searched as those near it, whatever their
// length and whatever was drawn over them while they were near.
func TestManyLines(t *testing.T) {
	const lines = 6000
	var b strings.Builder
	var want []string
	var starts []int
	for i := range lines {
		starts = append(starts, b.Len())
		text := fmt.Sprintf("line %d.%s", i, strings.Repeat("x", i*i%700))
		want = append(want, text)
		b.WriteString(text)
		switch {
		case i%97 == 5: // three lines up, and down again
			b.WriteString("\r\n\x1b[3Adrawn\x1b[K\r\n\x1b[2B")
			want[i-2] = "drawn"
		case i%89 == 7:
			b.WriteString("\x1b[31m\n")
		case i%89 == 9:
			b.WriteString("\x1b[m\n")
		case i%3 == 0:
			b.WriteString("\r\n")
		default:
			b.WriteString("\n")
		}
	}
	x := index(t, b.String(), 4096)
	if x.Lines() != lines+1 {
		t.Fatalf("%d lines, want %d", x.Lines(), lines+1)
	}
	for _, i := range []int{0, 255, 256, 257, 4095, 4096, 5999} {
		if got := x.Line(i).Plain; got != want[i] {
			t.Errorf("line %d is %q, want %q", i, got, want[i])
		}
	}
	red := false
	for i, w := range want {
		l := x.Line(i)
		if l.Plain != w {
			t.Fatalf("line %d is %q, want %q", i, l.Plain, w)
		}
		if is := l.Cells[len(l.Cells)-1].Style.String() == "31"; is != red && w != "drawn" {
			t.Fatalf("line %d is red: %v", i, is)
		}
		if i%97 != 5 {
			red = (red || i%89 == 7) && i%89 != 9
		}
		if i > 0 && (i-1)%97 == 5 {
			continue // the text begins behind the movements
		}
		if int(x.StartOf(i)) != starts[i] {
			t.Fatalf("line %d begins at %d, want %d", i, x.StartOf(i), starts[i])
		}
		for _, at := range []int{starts[i], starts[i] + 5} {
			if got := x.LineAt(int64(at)); got != i {
				t.Fatalf("byte %d is in line %d, want %d", at, got, i)
			}
		}
	}
	for _, forward := range []bool{true, false} {
		if got := x.Find("line 300.", 3000, forward); got != 300 {
			t.Errorf("line 300 is found at %d", got)
		}
	}
}

// The index keeps at most a few bytes a line in memory.
func TestIndexIsSmall(t *testing.T) {
	for name, c := range map[string]struct {
		line  string
		bytes uint64 // each line may take
	}{
		"empty lines":  {"\n", 2},
		"short lines":  {strings.Repeat("a", 59) + "\n", 3},
		"long lines":   {strings.Repeat("a", 300) + "\r\n", 4},
		"coloured":     {"\x1b[31mred\x1b[m\n", 3},
		"one style":    {"\x1b[1;31mred\n", 3},
		"drawn over":   {"x\x1b[A", 1},
		"up and again": {"x\n\x1b[A", 1},
	} {
		const n = 400_000
		heap := func() uint64 {
			runtime.GC()
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			return m.HeapAlloc
		}
		block := []byte(strings.Repeat(c.line, 1000))
		before := heap()
		x := NewIndex(strings.NewReader(""))
		for range n / 1000 {
			x.Write(block)
		}
		if after := heap(); after > before+n*c.bytes+200_000 {
			t.Errorf("%s: %d lines take %d bytes", name, n, after-before)
		}
		runtime.KeepAlive(x)
	}
}
