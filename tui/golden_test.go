package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/output"
)

// A golden screen is text that a person can review. Each row of the screen stands behind a blank; below it,
// behind a "~", stands a letter for the ink of each of its cells, if there is any: m, o, v and s for madder,
// ochre, verdigris and slate, b for bold; large letters for what is bold too, R for what is reversed, u for what is
// underlined and x for what is struck through. Other styles are those of a tool: they have digits, whose meaning stands
// at the end of the screen.

// inkLetters are the letters of the styles that the pages use on dark paper, by their SGR parameters.
var inkLetters = func() map[string]byte {
	letters := map[string]byte{"": ' ', "1": 'b'}
	for letter, colour := range map[byte]string{'m': "224;122;102", 'o': "217;164;65", 'v': "125;187;168", 's': "154;165;177"} {
		letters["38;2;"+colour] = letter
		letters["1;38;2;"+colour] = letter - 'a' + 'A'
	}
	return letters
}()

// inkLetter returns the letter of a style; 0 for one that is a tool's.
func inkLetter(s output.Style) byte {
	plain := s
	plain.Attributes &= output.Bold
	letter, known := inkLetters[plain.String()]
	switch rest := s.Attributes &^ output.Bold; {
	case !known:
		return 0
	case rest == 0:
		return letter
	case rest == output.Reversed:
		return 'R'
	case rest == output.Underlined:
		return 'u'
	case rest == output.Struck:
		return 'x'
	}
	return 0
}

// inMarks writes a screen with its styles as golden text.
func inMarks(screen string) string {
	x := output.NewIndex(strings.NewReader(screen))
	x.Write([]byte(screen))
	var out strings.Builder
	var tools []string
	for i := range x.Lines() {
		line := x.Line(i)
		var text, marks strings.Builder
		for _, c := range line.Cells {
			letter := inkLetter(c.Style)
			if letter == 0 {
				style := c.Style.String()
				n := indexOf(tools, style)
				if n == len(tools) {
					tools = append(tools, style)
				}
				letter = byte('1' + n)
			}
			text.WriteString(c.Text)
			marks.WriteString(strings.Repeat(string(letter), c.Width))
		}
		out.WriteString(strings.TrimRight(" "+text.String(), " ") + "\n")
		if m := strings.TrimRight(marks.String(), " "); m != "" {
			out.WriteString("~" + m + "\n")
		}
	}
	for n, style := range tools {
		fmt.Fprintf(&out, "~%c is %s\n", '1'+n, style)
	}
	return out.String()
}

func indexOf(all []string, one string) int {
	for i, s := range all {
		if s == one {
			return i
		}
	}
	return len(all)
}

// What differs from one run of the tests to the next, besides the names of folders.
var (
	aSince    = regexp.MustCompile(`(since|at) \d\d:\d\d`)
	anElapsed = regexp.MustCompile(`\d+\.\d s`)
	aMoment   = regexp.MustCompile(`run (\d+), \w+day \d+ \w+ \d\d:\d\d:\d\d`)
	aTime     = regexp.MustCompile(`¦ ((?:\x1b\[[\d;]*m)*)\d\d:\d\d `)
	aPass     = regexp.MustCompile(`pass (\d+) at \d\d:\d\d:\d\d`)
	aBar      = regexp.MustCompile(` *(\x1b\[[\d;]*m)[━█]+`)
	aFolder   = regexp.MustCompile(`A FOLDER[^\x1b\n]*`)
	aUsage    = regexp.MustCompile(`\d+ MB`)
)

// shown returns the screen without what differs from one run of the tests to the next.
func (m *Model) shown() string {
	text := m.View().Content
	for _, path := range []string{m.root, os.Getenv("XDG_CONFIG_HOME"), os.Getenv("PATH")} {
		text = strings.ReplaceAll(text, path, "A FOLDER")
		for n := len(path) - 1; n > 8; n-- { // clipped
			text = strings.ReplaceAll(text, path[:n]+"…", "A FOLDER")
		}
	}
	text = aFolder.ReplaceAllString(text, "A FOLDER") // what follows is clipped, or not
	text = aMoment.ReplaceAllString(text, "run $1, Sunday 29 November 09:30:00")
	text = aTime.ReplaceAllString(text, "¦ ${1}09:30 ")
	text = aBar.ReplaceAllString(text, " ${1}━")
	text = aPass.ReplaceAllString(text, "pass $1 at 09:30:00")
	text = anElapsed.ReplaceAllString(text, "0.0 s")
	text = aSince.ReplaceAllString(text, "$1 09:30")
	text = aUsage.ReplaceAllString(text, "10 MB")
	return text
}

// shownOfWeek returns the screen after a week whose times are the same each time.
func (m *Model) shownOfWeek() string { return strings.ReplaceAll(m.View().Content, m.root, "ROOT") }

// shownAt returns the screen at some sizes as golden text. The row of keys, which is the last, stands at the first size alone.
func (m *Model) shownAt(shown func() string, sizes ...[2]int) string {
	var out strings.Builder
	for i, size := range sizes {
		m.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		text := inMarks(shown())
		if i > 0 {
			if at := strings.LastIndex(text, "\n "); at >= 0 && !m.tooSmall() {
				text = text[:at+1]
			}
		}
		fmt.Fprintf(&out, "%d by %d\n%s\n", size[0], size[1], text)
	}
	return out.String()
}

// compareScreen compares a screen with its golden text, or writes that.
func compareScreen(t *testing.T, folder, name, text string) {
	t.Helper()
	golden := filepath.Join("testdata", folder, strings.ReplaceAll(strings.ReplaceAll(name, ",", ""), " ", "-")+".txt")
	if *update {
		if err := os.WriteFile(golden, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	want, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	got, lines := strings.Split(text, "\n"), strings.Split(string(want), "\n")
	for n := range max(len(got), len(lines)) {
		if n >= len(got) || n >= len(lines) || got[n] != lines[n] {
			t.Errorf("%s differs in line %d:\n%s\nwant\n%s", name, n+1, got[min(n, len(got)-1)], lines[min(n, len(lines)-1)])
			return
		}
	}
}
