package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"tidytally/internal/testtree"
)

// mark stands in every hostile text, so that what comes through is known by it.
const mark = "HOSTILE"

// hostileTexts has a text of each class of what a terminal would obey.
var hostileTexts = map[string]string{
	"bell":            mark + "\x07",
	"backspace":       mark + "\b\b\b",
	"delete":          mark + "\x7f",
	"colour":          "\x1b[31m" + mark,
	"clear":           "\x1b[2J" + mark,
	"report":          "\x1b[6n\x1b[5n" + mark,
	"title":           "\x1b]0;" + mark + "\x07",
	"clipboard":       "\x1b]52;c;" + mark + "\x1b\\",
	"link":            "\x1b]8;;http://" + mark + "\x1b\\x\x1b]8;;\x1b\\",
	"device string":   "\x1bP+q" + mark + "\x1b\\",
	"private message": "\x1b^" + mark + "\x1b\\",
	"C1":              "\u009b31m\u009d0;" + mark + "\u009c",
	"C1 in one byte":  "\x9b31m" + mark,
	"bidi":            "\u202e" + mark + "\u2066",
	"zero width":      "\u200b\ufeff\u2060" + mark,
	"line separator":  "\u2028" + mark,
	"tags":            "\U000e0041" + mark,
}

// obeyed returns what in a terminal's input is of hostile origin, or "". The
// sequences of the interface itself are known: none of them reports a position,
// none has the mark in it.
func obeyed(stream []byte) string {
	for i := 0; i < len(stream); {
		r, n := utf8.DecodeRune(stream[i:])
		near := func(from, to int) string { return fmt.Sprintf("%q", stream[max(0, from-30):min(len(stream), to+30)]) }
		switch {
		case r == 0x1b && i+1 < len(stream) && strings.IndexByte("]P^_X", stream[i+1]) >= 0:
			end := bytes.IndexAny(stream[i+2:], "\x07\x1b")
			if end < 0 {
				return ""
			}
			end += i + 2
			if own := bytes.HasPrefix(stream[i:], []byte("\x1b]2;Tidy Tally: ")); bytes.Contains(stream[i:end], []byte(mark)) && !own {
				return near(i, end)
			}
			if i = end + 1; stream[end] == 0x1b {
				i++
			}
			continue
		case bytes.HasPrefix(stream[i:], []byte("\x1b[6n")), bytes.HasPrefix(stream[i:], []byte("\x1b[5n")):
			return near(i, i+4)
		case bytes.HasPrefix(stream[i:], []byte("\x1b[2J"+mark)):
			return near(i, i+8)
		case r == utf8.RuneError && n == 1, r == 0x07, r == 0x7f, r >= 0x80 && r < 0xa0, r == 0x202e, r == 0x2066, r == 0x2028,
			r == 0x200b, r == 0xfeff, r == 0x2060, r >= 0xe0000 && r < 0xe0080:
			return near(i, i+n)
		}
		i += n
	}
	return ""
}

// hostileWorkspace lays out a workspace with a text in every place that is shown.
func hostileWorkspace(t *testing.T, text string) string {
	t.Helper()
	dir := filepath.Join(testtree.Folder(t), "ws\u202e"+mark)
	asJSON := func(v any) string {
		data, err := json.Marshal(v)
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	type object = map[string]any
	sarif := asJSON(object{"version": "2.1.0", "runs": []any{object{"tool": object{"driver": object{"name": "x"}}, "results": []any{object{
		"ruleId": "R" + text, "message": object{"text": "sarif " + text},
		"locations":        []any{object{"physicalLocation": object{"artifactLocation": object{"uri": "a.c"}, "region": object{"startLine": 1}}}},
		"relatedLocations": []any{object{"message": object{"text": "related " + text}}},
	}}}}})
	valid := strings.ToValidUTF8(text, "?")
	files := map[string]string{
		"package.json": asJSON(object{"name": valid, "scripts": object{"npm" + valid: "echo " + valid}}),
		"Makefile":     "say: ## about " + text + "\n\t@cat output; exit 1\n",
		"output": "a.c:1:2: error: plain " + text + " [-W" + text + "]\n" + sarif + "\n" +
			"<testsuite name=\"s\"><testcase name=\"x\"><failure message=\"junit &lt;" + strings.Map(func(r rune) rune {
			if r < 0x20 && r != '\t' || r == utf8.RuneError {
				return -1
			}
			return r
		}, valid) + "\"/></testcase></testsuite>\nb" + text + ".c:3:1: warning: file\n",
		"a.c":              "int a; // " + text + "\n",
		".gitignore":       "*.tmp\n",
		".quill/jobs.json": asJSON(object{"tasks": []any{object{"name": "editor" + valid, "command": "echo " + valid}}}),
		"tidytally.toml": fmt.Sprintf("[workspace]\nname = \"w\\u202e\\u0007\"\n[set]\nx = %[1]s\n[via.%[1]s]\nrun = [\"env\", \"{command}\"]\n[task.%[1]s]\nabout = %[1]s\nrun = [\"echo\", %[1]s]\nenv = { A = %[1]s }\n"+
			"args = [{ name = \"N\", about = %[1]s, default = %[1]s }]\n[task.lost]\nrun = \"x\"\nvia = %[2]s\n[task.bad]\n%[1]s = 1\n", tomlString(valid), tomlString("no "+valid)),
	}
	for _, one := range hostileTexts {
		if one = strings.ReplaceAll(one, "/", "_"); strings.Contains(text, one) {
			files["dir"+one+"/Makefile"] = "deep:\n\ttrue\n"
			if !strings.ContainsAny(one, "[]\\") {
				files["x"+one+"y"] = ""
				files[".gitignore"] += "x" + one + "y\n"
			}
		}
	}
	testtree.Fill(t, dir, files)
	return dir
}

// tomlString writes a basic string of TOML.
func tomlString(s string) string {
	var b strings.Builder
	for _, r := range s {
		if r < 0x20 || r == 0x7f || r == '"' || r == '\\' || r >= 0x80 {
			fmt.Fprintf(&b, `\U%08x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	return `"` + b.String() + `"`
}

// Nothing hostile reaches the terminal, from any place of a workspace or an output,
// on any page: what the program writes is recorded outside of it.
func TestNothingHostileReachesThePages(t *testing.T) {
	all := ""
	for _, name := range slices.Sorted(maps.Keys(hostileTexts)) {
		all += hostileTexts[name] + " "
	}
	dir := hostileWorkspace(t, all)
	record := filepath.Join(t.TempDir(), "record")
	s := startCommand(t, dir, 142, 38, "tmux -L "+socketOf(t)+" pipe-pane -o \"cat > '"+record+"'\"; "+program)
	s.waitFor("shown", "faults", "say")
	s.find("name:say")
	s.waitFor("1 of")
	s.keys("a")
	s.waitFor("will run")
	s.keys("Enter")
	s.waitFor("failed (2)")
	s.keys("y")
	s.waitFor("tally of")
	for range 4 {
		s.keys("n", "n", "g")
		s.waitFor("the problems stand")
	}
	s.keys("o")
	s.waitFor("output of")
	s.keys("v")
	s.waitFor("nothing was run", "read: ")
	s.keys("End")
	s.waitFor("ignored by")
	s.keys("Home", "Down", "i")
	s.waitFor("to be ignored")
	s.keys("Escape")
	s.waitGone("to be ignored")
	s.keys("t")
	s.waitFor("shown")
	for _, task := range []string{"npm", "editor", "lost", "deep"} {
		s.keys("/", "C-u")
		s.typeText("name:" + task)
		s.waitFor("find name:" + task)
		s.keys("Enter", "Tab")
		s.waitFor("values of")
		s.keys("Tab", "Enter") // runs it, or says why it cannot
		s.waitFor("shown")
	}
	s.keys("U")
	s.waitFor("Which task is the usual one")
	s.keys("Escape")
	s.waitGone("Which task is the usual one")
	s.keys("?")
	s.waitFor("Keys of the page")
	s.keys("?")
	s.waitGone("Keys of the page")
	s.keys("q", "q")
	s.waitFor("exit ")
	stream, err := os.ReadFile(record)
	if err != nil || len(stream) < 1000 {
		t.Fatalf("%d bytes recorded: %v", len(stream), err)
	}
	if !bytes.Contains(stream, []byte(mark)) {
		t.Error("nothing of it was shown at all")
	}
	if what := obeyed(stream); what != "" {
		t.Errorf("the terminal is told %s", what)
	}
}

// Nor does any command write it.
func TestNothingHostileReachesThePrompt(t *testing.T) {
	for name, text := range hostileTexts {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := hostileWorkspace(t, text)
			for _, args := range [][]string{
				{"list"},
				{"list", "--json"},
				{"list", "--all", "in:dir"},
				{"show", "say"},
				{"show", "say", "--json"},
				{"plan", "say"},
				{"plan", "say", "--json"},
				{"show", "npm" + text},
				{"show", "no" + text},
				{"run", "lost"},
				{"run", "say"},
				{"check"},
				{"sift", "output"},
				{"sift", "--format", "gnu", "output"},
				{"sift", "--format", "jsonl", "output"},
				{"sift", "--format", "sarif", "output"},
				{"sift", "gone" + text},
				{"__complete", "show", ""},
				{text},
				{"check", "--sieve", text, "--sample", "output"},
				{"--" + text},
			} {
				out := command(dir, args...)
				if args[0] == "run" && args[1] == "say" {
					// What a task prints passes as it is where no terminal is; the rest does not.
					_, out, _ = bytes.Cut(out, []byte("Error 1\n"))
				}
				if what := obeyed(out); what != "" {
					t.Errorf("%q writes %s", args, what)
				}
			}
			// On a terminal a task's output passes with its colours alone.
			if _, err := exec.LookPath("script"); err == nil {
				out, _ := inTerminal(dir, program+" run say").CombinedOutput()
				if what := obeyed(bytes.ReplaceAll(out, []byte("\x1b[31m"), nil)); what != "" {
					t.Errorf("run on a terminal writes %s", what)
				}
			}
		})
	}
}

// command runs the program and returns all that it writes.
func command(dir string, args ...string) []byte {
	cmd := exec.Command(program, args...)
	cmd.Dir = dir
	out, _ := cmd.CombinedOutput()
	return out
}

// inTerminal makes a command that runs in a terminal of its own (util-linux, script(1)).
func inTerminal(dir, line string) *exec.Cmd {
	cmd := exec.Command("script", "-qec", line, "/dev/null")
	cmd.Dir = dir
	return cmd
}
