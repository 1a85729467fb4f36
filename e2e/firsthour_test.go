package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"tidytally/demo"
	"tidytally/internal/testtree"
)

// docs/first-hour.md says what is seen: each key of its tables is pressed, each of its commands run, and
// what it says in bold, or below a command, is there.
func TestTheFirstHour(t *testing.T) {
	doc, err := os.ReadFile("../docs/first-hour.md")
	if err != nil {
		t.Fatal(err)
	}
	dir := filepath.Join(testtree.Folder(t), "emberclay")
	if err := demo.Lay(dir); err != nil {
		t.Fatal(err)
	}
	bin := filepath.Join(t.TempDir(), "bin")
	if err := os.MkdirAll(bin, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(program, filepath.Join(bin, "tidytally")); err != nil {
		t.Fatal(err)
	}
	state := "XDG_STATE_HOME=" + t.TempDir()
	s := start(t, dir, 142, 38, state)
	s.keys("F12") // whatever key ends the greeting
	pressed, ran := 0, 0
	lines := strings.Split(string(doc), "\n")
	for i := 0; i < len(lines); i++ {
		switch l := lines[i]; {
		case strings.HasPrefix(l, "| ") && !strings.HasPrefix(l, "| press"):
			cells := strings.SplitN(strings.Trim(l, "| "), " | ", 2)
			if strings.HasPrefix(l, "| |") {
				cells = []string{"", strings.Trim(l, "| ")}
			}
			s.pressAsWritten(cells[0])
			s.waitFor(bold(cells[1])...)
			pressed++
		case l == "```console":
			var end int
			for end = i + 1; lines[end] != "```"; end++ {
			}
			ran += runConsole(t, dir, bin, state, lines[i+1:end])
			i = end
		}
	}
	if pressed < 30 || ran < 8 {
		t.Errorf("%d rows and %d commands were tried", pressed, ran)
	}
}

// keyWords are a key, or a text that is typed.
var keyWords = regexp.MustCompile("`([^`]+)`|\"([^\"]+)\"")

// filtered matches a page with a filter, which esc takes away.
var filtered = regexp.MustCompile(`(?m)^ find \S`)

// pressAsWritten presses the keys of a row, one by one.
func (s *screen) pressAsWritten(cell string) {
	s.t.Helper()
	names := map[string]string{"enter": "Enter", "esc": "Escape", "home": "Home", "ctrl+z": "C-z"}
	for _, k := range keyWords.FindAllStringSubmatch(cell, -1) {
		before := s.text()
		if k[1] == "esc" { // what changes then shall be its doing
			s.waitUntil("rest", func(text string) bool {
				rests := text == before
				before = text
				return rests
			})
		}
		switch name, named := names[k[1]]; {
		case k[2] != "":
			s.typeText(k[2])
		case named:
			s.keys(name)
		default:
			s.keys(k[1])
		}
		if k[1] == "esc" || k[1] == "enter" { // esc right before another key would be taken for that key with alt
			s.waitUntil("what "+k[1]+" does", func(text string) bool {
				return text != before && (k[1] == "enter" || !filtered.MatchString(text))
			})
		}
	}
}

// bold returns the texts in bold.
func bold(text string) (words []string) {
	for _, m := range regexp.MustCompile(`\*\*([^*]+)\*\*`).FindAllStringSubmatch(text, -1) {
		words = append(words, m[1])
	}
	return words
}

// runConsole runs the commands of a block, and looks for the lines below each in what it prints. A
// line may end in "…".
func runConsole(t *testing.T, dir, bin, state string, lines []string) (ran int) {
	t.Helper()
	printed := ""
	for _, l := range lines {
		command, isCommand := strings.CutPrefix(l, "$ ")
		if isCommand {
			cmd := exec.Command("sh", "-c", command)
			cmd.Dir = dir
			cmd.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "GOWORK=off", "GOFLAGS=", state)
			out, _ := cmd.CombinedOutput() // some are to fail
			printed = string(out)
			ran++
			continue
		}
		found := false
		want, open := strings.CutSuffix(l, "…")
		for _, got := range strings.Split(printed, "\n") {
			got = strings.TrimRight(got, " ")
			found = found || got == want || open && strings.HasPrefix(got, want)
		}
		if !found {
			t.Errorf("no line %q in\n%s", l, printed)
		}
	}
	return ran
}
