package problem

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// Each way of counting leads to the same character, whatever stands before it.
func TestColumnsLeadToTheirCharacter(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		line    string
		columns Columns
		starts  string // the column of each character, from 1
	}{
		{"aé日🙂z", Characters, "1 2 3 4 5"},
		{"aé日🙂z", Bytes, "1 2 4 7 11"},
		{"aé日🙂z", UTF16, "1 2 3 4 6"},
		{"\ta\tb", Tabbed, "1 9 10 17"},
		{"1234567\tb", Tabbed, "1 2 3 4 5 6 7 8 9"},
		{"12345678\tb", Tabbed, "1 2 3 4 5 6 7 8 9 17"},
		{"\ta", UTF16, "1 2"},
		{"\uffffa", UTF16, "1 2"},
	} {
		runes := len([]rune(c.line))
		for i, start := range strings.Fields(c.starts) {
			var column int
			fmt.Sscan(start, &column)
			if got := c.columns.Rune(c.line, column); got != i {
				t.Errorf("%q, way %d: column %d is character %d, not %d", c.line, c.columns, column, got, i)
			}
		}
		if got := c.columns.Rune(c.line, 1000); got != runes {
			t.Errorf("%q: behind its end is character %d of %d", c.line, got, runes)
		}
		if got := c.columns.Rune(c.line, 0); got != 0 {
			t.Errorf("%q: no column is character %d", c.line, got)
		}
	}
}

// A guessed column counts cells, or bytes where only bytes lead to the start of a word.
func TestGuessedColumns(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		line   string
		column int
		want   string // the text from there
	}{
		{"int x = y;", 5, "x = y;"},
		{"\tint x;", 9, "int x;"},      // cells
		{"\tint x;", 2, "int x;"},      // bytes: cells are within the tab
		{"日本 = word;", 8, "word;"},     // cells: 4 for 日本
		{"日本 = word;", 10, "word;"},    // bytes lead to a word, cells into one
		{"日本 word two", 6, "word two"}, // cells
		{"é = a + b;", 5, "a + b;"},    // cells
		{"é = a + b;", 6, "a + b;"},    // bytes: in cells it is a blank
		{"日x", 2, "x"},                 // half of a wide character: bytes
		{"ab cd", 2, "b cd"},           // neither begins a word: cells
		{"é_b", 3, "b"},                // cells and bytes within a word: cells
		{"a = (b)", 5, "(b)"},          // a sign begins by itself
	} {
		runes := []rune(c.line)
		if got := string(runes[Guessed.Rune(c.line, c.column):]); got != c.want {
			t.Errorf("%q, column %d: %q, want %q", c.line, c.column, got, c.want)
		}
	}
}

// The line nearest to where a text was is found; of two as near, the one before.
func TestFindLine(t *testing.T) {
	t.Parallel()
	lines := []string{"  a", "b", "a  ", "c", "a", ""}
	for _, c := range []struct {
		text     string
		was, now int
	}{
		{"a", 1, 1}, {"a", 2, 1}, {"a", 3, 3}, {"a", 4, 3}, {"a", 5, 5}, {"a", 50, 5}, {"b", 6, 2}, {"c", 1, 4}, {"d", 3, 0}, {"", 6, 0}, {"b", 0, 2},
	} {
		if got := FindLine(lines, c.text, c.was); got != c.now {
			t.Errorf("%q was %d: now %d, want %d", c.text, c.was, got, c.now)
		}
	}
	if got := FindLine(nil, "a", 3); got != 0 {
		t.Errorf("in no lines: %d", got)
	}
}

// Lines of sources are read from the file as it is, and again when it has changed.
func TestSources(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, text string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	s := &Sources{Root: dir}
	abs := write("a.c", "\t one \r\ntwo\xff\n")
	for _, c := range []struct {
		file string
		line int
		want string
	}{
		{"a.c", 1, "one"}, {"a.c", 2, "two\ufffd"}, {"a.c", 3, ""}, {"a.c", 4, ""}, {"a.c", 0, ""}, {"a.c", -1, ""}, {"", 1, ""}, {"gone.c", 1, ""}, {".", 1, ""}, {abs, 1, "one"},
	} {
		if got := s.Line(c.file, c.line); got != c.want {
			t.Errorf("%s:%d is %q, want %q", c.file, c.line, got, c.want)
		}
	}
	write("a.c", "new!!!!\ntwo\n")
	later := time.Now().Add(time.Hour)
	if err := os.Chtimes(abs, later, later); err != nil {
		t.Fatal(err)
	}
	if got := s.Line("a.c", 1); got != "new!!!!" {
		t.Errorf("after a change it is %q", got)
	}
	write("long.c", strings.Repeat("x", 3*maxSourceLine))
	if got := s.Line("long.c", 1); len(got) != maxSourceLine {
		t.Errorf("%d bytes of a long line", len(got))
	}
	for size, want := range map[int]string{maxSourceFile: "x", maxSourceFile + 1: ""} {
		write("large.c", "x\n"+strings.Repeat("\n", size-2))
		if got := s.Line("large.c", 1); got != want {
			t.Errorf("of %d bytes: %q", size, got)
		}
	}
	// The held bytes have a bound.
	for i := range 20 {
		write(fmt.Sprintf("big%d.c", i), strings.Repeat("y\n", maxSourceFile/2))
		s.Line(fmt.Sprintf("big%d.c", i), 1)
		held := 0
		for _, f := range s.files {
			held += int(f.size)
		}
		if held != s.held || held > maxSources {
			t.Fatalf("%d bytes are held, counted as %d", held, s.held)
		}
	}
}

// Numbers of their own in a message do not count, those in names do.
func TestIdentity(t *testing.T) {
	t.Parallel()
	p := func(message string) Problem {
		return Problem{Place: Place{File: "a.c", Line: 1}, Code: "C", Message: message}
	}
	for _, c := range []struct {
		a, b string
		same bool
	}{
		{"line 12", "line 13", true},
		{"12", "7", true},
		{"x1", "x2", false},
		{"1x", "2x", false},
		{"a_1", "a_2", false},
		{"é1", "é2", false},
		{"(12)", "(3)", true},
		{"1.5", "20.75", true},
		{"", "", true},
		{"a", "b", false},
		{"12 a", "12 b", false},
		{"az", "aZ", false},
		{"0", "9", true},
		{"/0", ":0", false},
	} {
		pa, pb := p(c.a), p(c.b)
		if (pa.identity() == pb.identity()) != c.same {
			t.Errorf("%q and %q are the same: %v", c.a, c.b, !c.same)
		}
	}
	one := p("m")
	for name, other := range map[string]Problem{
		"file":     {Place: Place{File: "b.c"}, Code: "C", Message: "m"},
		"code":     {Place: Place{File: "a.c"}, Code: "D", Message: "m"},
		"severity": {Place: Place{File: "a.c"}, Code: "C", Message: "m", Severity: Warning},
	} {
		if other.identity() == one.identity() {
			t.Errorf("the %s does not count", name)
		}
	}
}

// Problems with the same source line are matched first, those of others by the least
// movement.
func TestAlikeProblemsAreMatchedBySource(t *testing.T) {
	t.Parallel()
	p := func(line int, text string) Problem {
		return Problem{Place: Place{File: "a.c", Line: line}, Message: "unused", LineText: text}
	}
	for _, c := range []struct {
		name          string
		before, after []Problem
		states        string
		gone          string
	}{
		{"the text decides", []Problem{p(1, "a"), p(2, "b")}, []Problem{p(2, "a"), p(9, "c")}, "still still", ""},
		{"one of two is gone", []Problem{p(1, "a"), p(5, "b")}, []Problem{p(1, "b")}, "still", "1"},
		{"without text, the line", []Problem{p(1, ""), p(5, "")}, []Problem{p(5, "")}, "still", "1"},
		{"the least movement", []Problem{p(10, ""), p(20, ""), p(30, "")}, []Problem{p(21, ""), p(31, "")}, "still still", "10"},
		{"a new one above", []Problem{p(10, ""), p(20, "")}, []Problem{p(3, ""), p(11, ""), p(21, "")}, "new still still", ""},
		{"texts on one side", []Problem{p(1, "a"), p(2, "a")}, []Problem{p(1, ""), p(2, "")}, "still still", ""},
	} {
		got := Compare(c.before, c.after, Looks{})
		var states, gone []string
		for _, s := range got.States {
			states = append(states, s.String())
		}
		for _, g := range got.Gone {
			gone = append(gone, fmt.Sprint(g.Line))
		}
		if strings.Join(states, " ") != c.states || strings.Join(gone, " ") != c.gone {
			t.Errorf("%s: %v, gone %v", c.name, states, gone)
		}
		if b := got.Balance; b.Before+b.New-b.Gone != b.Now || b.Before != len(c.before) || b.Now != len(c.after) {
			t.Errorf("%s: the balance is %+v", c.name, b)
		}
	}
}

// Places and counts read well in words.
func TestWords(t *testing.T) {
	t.Parallel()
	for want, p := range map[string]Place{"": {Line: 3}, "a.c": {File: "a.c", Column: 4}, "a.c:3": {File: "a.c", Line: 3}, "a.c:3:4": {File: "a.c", Line: 3, Column: 4}} {
		if got := p.String(); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
	for want, p := range map[string]Problem{
		"a.c:3: warning: two lines [W]": {Place: Place{File: "a.c", Line: 3}, Severity: Warning, Message: "two\n  lines", Code: "W"},
		"error: nowhere":                {Message: "nowhere"},
	} {
		if got := p.GNU(); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
	var s Severity
	if err := s.UnmarshalJSON([]byte(`"note"`)); err != nil || s != Note {
		t.Errorf("%v, %v", s, err)
	}
	for _, bad := range []string{`"fatal"`, `3`} {
		if err := s.UnmarshalJSON([]byte(bad)); err == nil {
			t.Errorf("%s is a severity", bad)
		}
	}
	x := Problem{Place: Place{File: "a.c"}, Severity: Warning, Code: "W", Message: "m"}
	for field, want := range map[string]string{"file": "a.c", "code": "W", "sev": "warning"} {
		if got, ok := x.Field(field); !ok || strings.Join(got, " ") != want {
			t.Errorf("%s: %q, %v", field, got, ok)
		}
	}
	if _, ok := x.Field("line"); ok {
		t.Error("there is no such field")
	}
}
