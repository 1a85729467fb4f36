package output

import (
	"fmt"
	"math/rand"
	"os"
	"strings"
	"testing"
)

// drawn is what a text draws: the plain line, and the cells where they have styles.
func drawn(t *testing.T, text string) (plain, styles string) {
	t.Helper()
	x := index(t, text, len(text))
	l := x.Line(0)
	for _, c := range l.Cells {
		styles += fmt.Sprintf("%s(%s)", c.Text, c.Style)
	}
	return l.Plain, styles
}

// Each movement and each way of erasing, at its borders.
func TestDrawing(t *testing.T) {
	for in, want := range map[string]string{
		"abc\x1b[Dx":                             "abx",
		"abc\x1b[2Dx":                            "axc",
		"abc\x1b[9Dx":                            "xbc",
		"abc\x1b[0Dx":                            "abx",
		"a\x1b[Cb":                               "a b",
		"a\x1b[3Cb":                              "a   b",
		"abc\x1b[Gx":                             "xbc",
		"abc\x1b[1Gx":                            "xbc",
		"abc\x1b[2Gx":                            "axc",
		"abcd\x1b[2G\x1b[K":                      "a",
		"abcd\x1b[2G\x1b[0K":                     "a",
		"abcd\x1b[2G\x1b[1K":                     "  cd",
		"abcd\x1b[4G\x1b[1K":                     "",
		"abcd\x1b[9G\x1b[1K":                     "",
		"abcd\x1b[2G\x1b[2Kx":                    " x",
		"abcd\x1b[2G\x1b[3Kx":                    "axcd",
		"abcd\x1b[9G\x1b[K":                      "abcd",
		"abcd\x1b[2G\x1b[P":                      "acd",
		"abcd\x1b[2G\x1b[2P":                     "ad",
		"abcd\x1b[2G\x1b[9P":                     "a",
		"abcd\x1b[4G\x1b[P":                      "abc",
		"abcd\x1b[5G\x1b[P":                      "abcd",
		"ab\b\bx":                                "xb",
		"a\b\b\bx":                               "x",
		"a\tb":                                   "a       b",
		"1234567\tb":                             "1234567 b",
		"12345678\tb":                            "12345678        b",
		"日本\rx":                                  "x 本",
		"日本\x1b[2Gx":                             " x本",
		"日本\x1b[3Gx":                             "日x",
		"日本\x1b[4Gx":                             "日 x",
		"a日\x1b[Gxy":                             "xy",
		"a日b\x1b[2Gx":                            "ax b",
		"ab\x1b[G日":                              "日",
		"e\u0301x":                               "e\u0301x",
		"\u0301x":                                "x",
		"a\x07\x0e\x0f\x00b":                     "ab",
		"a\x01b":                                 "a␁b",
		"a\x7fb":                                 "a␡b",
		"a\xffb":                                 "a\ufffdb",
		"a\u200bb":                               "a\ufffdb",
		"a\u202eb":                               "a\ufffdb",
		"👩\u200d👧":                               "👩\ufffd👧",
		"a\x1b]0;t\x07b":                         "ab",
		"a  ":                                    "a",
		"\x1b[31ma\x1b[m  ":                      "a",
		"x\x1b[1000000Cy":                        "x",
		"x\x1b[1000000Gy":                        "x" + strings.Repeat(" ", maxColumns-2) + "y",
		"x\x1b[1;2Cy":                            "x y",
		"a\x1b[m\u0301b":                         "a\u0301b",
		"日\x1b[m\u0301b":                         "日b", // its second column has no text to join
		"ab\x1b[G\x1b[m\u0301":                   "ab",
		"a\x1b[9G\x1b[m\u0301":                   "a", // nothing is drawn there
		"a\x1bPq\x1b\\b":                         "ab",
		"a\x1b(0b":                               "ab",
		"a\x1b%Gb":                               "ab",
		"a\x1b7b":                                "ab",
		"a\x1b[?25lb":                            "ab",
		"a" + strings.Repeat("\x1b[m\u0301", 40): "a" + strings.Repeat("\u0301", 16), // 33 bytes
	} {
		if got, _ := drawn(t, in); got != want {
			t.Errorf("%q draws %q, want %q", in, got, want)
		}
	}
}

// Styles add up until they are taken off; what is no list of numbers changes nothing.
func TestStyles(t *testing.T) {
	long := strings.Repeat("1;", 40) + "31"
	for in, want := range map[string]string{
		"\x1b[31ma":                                "a(31)",
		"\x1b[31m\x1b[1ma":                         "a(1;31)",
		"\x1b[31m\x1b[ma":                          "a()",
		"\x1b[31m\x1b[0ma":                         "a()",
		"\x1b[31m\x1b[0;4ma":                       "a(4)",
		"\x1b[31m\x1b[4;0ma":                       "a()",
		"\x1b[31m\x1b[4;;1ma":                      "a(1)",
		"\x1b[31m\x1b[?1ma":                        "a(31)",
		"\x1b[31m\x1b[1/ma":                        "a(31)",
		"\x1b[31m\x1b[1<ma":                        "a(31)",
		"\x1b[1;2;22;3ma":                          "a(3)",
		"\x1b[3;4;7;9;53m\x1b[23;24;27;29;55ma":    "a()",
		"\x1b[3;4;7;9;53ma":                        "a(3;4;7;9;53)",
		"\x1b[21ma\x1b[24mb":                       "a(4)b()",
		"\x1b[4:3ma\x1b[4:0mb":                     "a(4)b()",
		"\x1b[5;8ma":                               "a()",
		"\x1b[91;107ma":                            "a(91;107)",
		"\x1b[97;100m\x1b[39ma\x1b[49mb":           "a(100)b()",
		"\x1b[38;5;9ma":                            "a(91)",
		"\x1b[48;5;208;1ma":                        "a(1;48;5;208)",
		"\x1b[38;5;256;1ma":                        "a(1)",
		"\x1b[38:5:208ma":                          "a(38;5;208)",
		"\x1b[38;2;1;2;3;1ma":                      "a(1;38;2;1;2;3)",
		"\x1b[38:2::1:2:3ma":                       "a(38;2;1;2;3)",
		"\x1b[48:2:1:2:3;4ma":                      "a(4;48;2;1;2;3)",
		"\x1b[38;2;1;2ma":                          "a(38;2;1;2;0)",
		"\x1b[38:2:1ma":                            "a()",
		"\x1b[58;5;1;3ma":                          "a(3)",
		"\x1b[58:2::1:2:3;4ma":                     "a(4)",
		"\x1b[99999999999999999999;1ma":            "a(1)",
		"\x1b[;ma":                                 "a()",
		"\x1b[31ma \x1b[m":                         "a(31) (31)",
		"a\x1b[31mb\x1b[mc":                        "a()b(31)c()",
		"\x1b[" + long + "ma":                      "a(1;31)",
		"\x1b[" + strings.Repeat("1;", 300) + "ma": "a()", // too long for a style
	} {
		if _, got := drawn(t, in); got != want {
			t.Errorf("%q has %q, want %q", in, got, want)
		}
	}
}

// A style is bounded by what it is, however it came about; and any style can be turned into any
// other by a sequence that is never longer than setting it anew.
func TestStylesTurnIntoEachOther(t *testing.T) {
	random := rand.New(rand.NewSource(1))
	words := []string{"0", "1", "2", "3", "4", "7", "9", "21", "22", "23", "24", "27", "29", "31", "36", "38;5;20", "38;5;200", "38;2;9;0;255", "39", "44", "48;5;3", "48:2::7:8:9", "49", "53", "55", "92", "101", ""}
	var s Style
	for range 20_000 {
		before := s
		var said []string
		for range 1 + random.Intn(4) {
			said = append(said, words[random.Intn(len(words))])
		}
		s.apply(strings.Join(said, ";"))
		if text := s.String(); strings.Count(text, ";") > 16 {
			t.Fatalf("%v is said with %q", s, text)
		}
		sequence := s.From(before)
		if len(sequence) > len("\x1b[0;m")+len(s.String()) {
			t.Fatalf("%q to %q takes %q", before, s, sequence)
		}
		turned := before
		if sequence != "" {
			turned.apply(strings.TrimSuffix(strings.TrimPrefix(sequence, "\x1b["), "m"))
		}
		if turned != s {
			t.Fatalf("%q to %q: %q makes %q", before, s, sequence, turned)
		}
	}
}

// Lines that a program moves up to and draws over, and screens that it clears.
func TestMovingBetweenLines(t *testing.T) {
	for in, want := range map[string]string{
		"a\nb\nc":                                               "a|b|c",
		"a\r\nb\r\n\x1b[Ax\r\n":                                 "a|x",
		"a\r\nb\r\nc\r\n\x1b[2Ax\r\n":                           "a|x|c",
		"a\r\nb\r\nc\r\n\x1b[9Ax\r\n":                           "x|b|c",
		"a\r\nb\r\nc\r\n\x1b[3A\x1b[Bx\r\n":                     "a|x|c",
		"a\r\nb\r\nc\r\n\x1b[3A\x1b[2Bx\r\n":                    "a|b|x",
		"a\r\nb\r\nc\r\n\x1b[3A\x1b[9Bx\r\n":                    "a|b|c|x",
		"a\r\nb\r\n\x1b[Fx\r\n":                                 "a|x",
		"a\r\nb\r\nc\r\n\x1b[3A\x1b[Ex\r\n":                     "a|x|c",
		"a\r\nb\x1b[2J\x1b[Hc\r\n":                              "a|b|c",
		"a\r\n\x1b[2J\x1b[Hc\r\n":                               "a|c",
		"a\r\nb\r\n\x1b[2J\x1b[3J\x1b[Hc":                       "a|b||c",
		"a\r\nb\x1b[Jc":                                         "a|bc",
		"a\r\nb\r\n\x1b[2Ax\r\n\x1b[2Jy":                        "x|b||y",
		"a\r\nb\r\n\x1b( [Ax\r\n":                               "a|b|Ax",
		"a\r\nb\r\n\x1b/[Ax\r\n":                                "a|b|Ax",
		"a\r\nb\r\n\x1b0[Ax\r\n":                                "a|b|[Ax",
		"a\r\nb\r\n\x1b[" + strings.Repeat("0", 62) + "1Ax\r\n": "a|x",
	} {
		x := index(t, in, len(in))
		if got := strings.Join(strings.Split(shown(x), "\n"), "|"); got != want {
			t.Errorf("%q shows %q, want %q", in, got, want)
		}
	}
}

// Text is found forward and backward from a line on, around the end, whatever the case of
// small letters, and in what a terminal would show.
func TestFinding(t *testing.T) {
	text := "One\ntwo\n\x1b[31mth\x1b[mree\nfour\nONE\n" + strings.Repeat("x", maxShown) + "needle\n"
	x := index(t, text, 100)
	for _, c := range []struct {
		want    string
		from    int
		forward bool
		line    int
	}{
		{"one", 0, true, 0},
		{"one", 1, true, 4},
		{"one", 5, true, 0},
		{"one", 4, true, 4},
		{"one", 3, false, 0},
		{"one", 0, false, 0},
		{"one", 4, false, 4},
		{"One", 1, true, 0},
		{"ONE", 0, true, 4},
		{"three", 0, true, 2},
		{"four", 5, false, 3},
		{"gone", 0, true, -1},
		{"", 0, true, -1},
		{"needle", 0, true, -1},
		{"two", -1, true, 1},
		{"two", 100, false, 1},
	} {
		if got := x.Find(c.want, c.from, c.forward); got != c.line {
			t.Errorf("%q from %d, forward %v: line %d, want %d", c.want, c.from, c.forward, got, c.line)
		}
	}
	if l := x.Line(5); !l.Cut || len(l.Plain) != maxColumns {
		t.Errorf("a long line shows %d bytes, cut %v", len(l.Plain), l.Cut)
	}
	if l := x.Line(0); l.Cut {
		t.Error("a short line is cut")
	}
	if got := index(t, "", 1).Find("x", 0, true); got != -1 {
		t.Errorf("in nothing: %d", got)
	}
	// Where each byte is.
	for i := range x.Lines() {
		if at := x.StartOf(i); x.LineAt(at) != i || i > 0 && x.LineAt(at-1) != i-1 {
			t.Errorf("line %d begins at %d, which is line %d", i, at, x.LineAt(at))
		}
	}
}

// A search over more than is read at once finds all lines, in both directions.
func TestFindingInALongOutput(t *testing.T) {
	var b strings.Builder
	const n = 20_000
	for i := range n {
		fmt.Fprintf(&b, "line %d with some text behind it\n", i)
	}
	x := index(t, b.String(), 64<<10)
	for _, i := range []int{0, 1, 7777, n / 2, n - 1} {
		want := fmt.Sprintf("line %d with", i)
		for _, from := range []int{0, n / 3, n - 1} {
			if got := x.Find(want, from, true); got != i {
				t.Errorf("%s forward from %d: %d", want, from, got)
			}
			if got := x.Find(want, from, false); got != i {
				t.Errorf("%s backward from %d: %d", want, from, got)
			}
		}
	}
}

// Of a progress display only the newest drawings of a line count.
func TestManyDrawingsOfALine(t *testing.T) {
	in := "a\r\n" + strings.Repeat("\x1b[A1\r\n", 40) + "\x1b[A\x1b[5Gend\r\n"
	x := index(t, in, len(in))
	if got := x.Line(0).Plain; got != "1   end" {
		t.Errorf("the line shows %q", got)
	}
}

// A spool keeps what it is given, at any offset, and tells its size.
func TestSpool(t *testing.T) {
	s, err := NewSpool(t.TempDir(), "run-1")
	if err != nil {
		t.Fatal(err)
	}
	for i := range 3 {
		if n, err := fmt.Fprintf(s, "part %d\n", i); n != 7 || err != nil {
			t.Fatal(n, err)
		}
	}
	if s.Size() != 21 || s.Fault() != "" {
		t.Errorf("%d bytes, fault %q", s.Size(), s.Fault())
	}
	buf := make([]byte, 6)
	if n, err := s.ReadAt(buf, 7); n != 6 || err != nil || string(buf) != "part 1" {
		t.Errorf("%q, %d, %v", buf, n, err)
	}
	if err := s.Remove(); err != nil {
		t.Error(err)
	}
	if _, err := NewSpool(t.TempDir()+"/gone", "run-2"); err == nil {
		t.Error("a spool in a folder that is not there")
	}
}

// Exactly so many drawings of a line, and so many bytes of one, are shown.
func TestLimitsOfALine(t *testing.T) {
	var in strings.Builder
	in.WriteString("\r\n")
	for i := range 40 {
		fmt.Fprintf(&in, "\x1b[A\x1b[%dGx\r\n", i+1)
	}
	x := index(t, in.String(), in.Len())
	if got := x.Line(0).Plain; got != strings.Repeat(" ", 8)+strings.Repeat("x", 32) {
		t.Errorf("the newest drawings show %q", got)
	}
	for n, cut := range map[int]bool{maxShown - 1: false, maxShown: false, maxShown + 1: true} {
		x := index(t, strings.Repeat("\x1b[mxy\b", (maxShown-6)/6)+strings.Repeat("\b", n-(maxShown-6)/6*6)+"\nz\n", 4096)
		if l := x.Line(0); l.Cut != cut {
			t.Errorf("a line of %d bytes is cut: %v", n, l.Cut)
		}
		if got := x.Line(1).Plain; got != "z" {
			t.Errorf("the line behind shows %q", got)
		}
	}
}

// A wide character keeps its width when a harmful one is taken from behind it.
func TestWidths(t *testing.T) {
	for in, want := range map[string]string{"日\u200dx": "2 1 1", "a日": "1 2", "e\u0301\u200dx": "1 1 1", "👩\u200d👧": "2 1 2"} {
		x := index(t, in, len(in))
		var widths []string
		for _, c := range x.Line(0).Cells {
			widths = append(widths, fmt.Sprint(c.Width))
		}
		if got := strings.Join(widths, " "); got != want {
			t.Errorf("%q has widths %s, want %s", in, got, want)
		}
	}
}

// A disk that takes no more costs output, and the spool says how much; the run goes on.
func TestSpoolThatTakesNoMore(t *testing.T) {
	s, err := NewSpool(t.TempDir(), "run-1")
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprint(s, "kept")
	s.file.Close()
	for range 2 {
		if n, err := fmt.Fprint(s, "lost!"); n != 5 || err != nil {
			t.Errorf("%d, %v", n, err)
		}
	}
	if got := s.Fault(); s.Size() != 4 || !strings.HasPrefix(got, "10 bytes of output were not kept: ") {
		t.Errorf("%d bytes, %s", s.Size(), got)
	}
	if err := s.Remove(); err == nil {
		t.Error("that the file was closed already is not reported")
	}
	if _, err := os.Stat(s.Path()); err == nil {
		t.Error("the file is still there")
	}
}
