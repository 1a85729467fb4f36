package family

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// prefixes are put before each line by what runs several things, or in a container,
// or logs: line by line, with the number of the line.
var prefixes = map[string]func(i int) string{
	"time of a CI log":     func(i int) string { return fmt.Sprintf("2026-11-26T08:%02d:%02d.%07dZ ", 40+i/60, i%60, i*7919) },
	"time and stream":      func(i int) string { return fmt.Sprintf("2026-11-26T08:%02d:%02d.%06dZ 00O ", 40+i/60, i%60, i) },
	"date and clock":       func(i int) string { return fmt.Sprintf("2026-11-26 08:%02d:%02d,%03d ", 40+i/60, i%60, i) },
	"date in brackets":     func(i int) string { return fmt.Sprintf("[2026-11-26T08:%02d:%02d+01:00] ", 40+i/60, i%60) },
	"system log":           func(i int) string { return fmt.Sprintf("Nov 26 08:%02d:%02d lab kiln[412]: ", 40+i/60, i%60) },
	"clock in brackets":    func(i int) string { return fmt.Sprintf("[08:%02d:%02d] ", 44+i/60, i%60) },
	"clock":                func(i int) string { return fmt.Sprintf("08:%02d:%02d.%03d ", 44+i/60, i%60, i) },
	"step of an image":     func(i int) string { return fmt.Sprintf("#9 0.%03d ", 300+i) },
	"step of a long image": func(i int) string { return fmt.Sprintf("#12 1%d.%d ", i, i%10) },
	"container":            func(int) string { return "build-1  | " },
	"container, coloured":  func(int) string { return "\x1b[36mbuild-1  | \x1b[0m" },
	"container, time":      func(i int) string { return fmt.Sprintf("web-1  | 2026-11-26T08:%02d:%02dZ ", 40+i/60, i%60) },
	"name on the right":    func(int) string { return "              +build | " },
	"name in brackets":     func(int) string { return "[build] " },
	"package in brackets":  func(int) string { return "[@emberclay/web]: " },
	"number in brackets":   func(int) string { return "[0] " },
	"folder and task":      func(int) string { return "packages/web build: " },
	"package":              func(int) string { return "@emberclay/web: " },
	"package and task":     func(int) string { return "@emberclay/web:build: " },
	"job":                  func(int) string { return "job: " },
	"name and arrow":       func(int) string { return "web> " },
	"level":                func(int) string { return "INFO  " },
	"thread and level":     func(i int) string { return fmt.Sprintf("08:%02d:%02d.%03d [main] INFO  ", 44+i/60, i%60, i) },
	"level in brackets":    func(int) string { return "[debug] " },
	"job, step and time":   func(i int) string { return fmt.Sprintf("build\tRun make\t2026-11-26T08:%02d:%02dZ ", 40+i/60, i%60) },
}

// behind puts a prefix before each line of an output.
func behind(prefix func(int) string, output string) string {
	var b strings.Builder
	for i, line := range strings.Split(strings.TrimSuffix(output, "\n"), "\n") {
		b.WriteString(prefix(i) + line + "\n")
	}
	return b.String()
}

// An output behind a prefix has the problems of the output alone, whatever the tool
// and the prefix.
func TestBehindAPrefix(t *testing.T) {
	t.Parallel()
	for name, prefix := range prefixes {
		for _, c := range outputs {
			if strings.Contains(c.output, "\n\n\n\n") {
				continue
			}
			// A few lines of what else is printed let the prefix be learned.
			around := "start\nrunning\n" + c.output + "done\n"
			want := lines(sift(t, []byte(around)))
			if got := lines(sift(t, []byte(behind(prefix, around)))); got != want {
				t.Errorf("%s, %s, behind a %s: got\n%swant\n%s", c.family, c.name, name, got, want)
			}
		}
	}
}

// The lines of two tools side by side come out as those of each alone.
func TestInterleavedBehindPrefixes(t *testing.T) {
	t.Parallel()
	for i, a := range outputs {
		b := outputs[(i+7)%len(outputs)]
		want := lines(sift(t, []byte(a.output))) + lines(sift(t, []byte(b.output)))
		one := strings.Split(strings.TrimSuffix(a.output, "\n"), "\n")
		two := strings.Split(strings.TrimSuffix(b.output, "\n"), "\n")
		mixed := "web | start\napi | start\nweb | more\napi | more\n"
		for len(one) > 0 || len(two) > 0 {
			if len(one) > 0 {
				mixed, one = mixed+"web | "+one[0]+"\n", one[1:]
			}
			if len(two) > 0 {
				mixed, two = mixed+"api | "+two[0]+"\n", two[1:]
			}
		}
		if got := lines(sift(t, []byte(mixed))); !sameLines(got, want) {
			t.Errorf("%s beside %s: got\n%swant\n%s", a.name, b.name, got, want)
		}
	}
}

// sameLines reports whether two texts have the same lines in any order: problems come
// as they become complete.
func sameLines(a, b string) bool {
	count := map[string]int{}
	for line := range strings.Lines(a) {
		count[line]++
	}
	for line := range strings.Lines(b) {
		count[line]--
	}
	for _, n := range count {
		if n != 0 {
			return false
		}
	}
	return true
}

// What printed nothing to report has nothing to report behind a prefix, and a line
// that comes alone is understood as one of a block.
func TestCleanBehindAPrefix(t *testing.T) {
	t.Parallel()
	names, err := filepath.Glob("testdata/clean/*.log")
	if err != nil || len(names) < 30 {
		t.Fatalf("only %d clean logs: %v", len(names), err)
	}
	for _, name := range names {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for kind, prefix := range prefixes {
			if got := lines(sift(t, []byte(behind(prefix, string(data))))); got != "" {
				t.Errorf("%s behind a %s: %s", name, kind, got)
			}
		}
	}
}

// What a spinner or a progress line leaves before a line, and takes back, changes
// nothing, wherever it stands.
func TestAmongProgress(t *testing.T) {
	t.Parallel()
	noise := []string{
		"⠙\x1b[1G\x1b[0K", "⠙\x1b[2K\x1b[1G", "x\x1b[999D\x1b[K", "12345\x1b[5D\x1b[5X", "[50%]\x1b[5D\x1b[K", "|\b/\b-\b\\\b \b", "\x1b7[==> ] 40%\x1b8\x1b[K", "\a", "\x1b[?25l",
		"\r[12/40] Building a.o\x1b[K\r\x1b[K", "Compiling 3/9\r\x1b[2K", "⠋ waiting...\r\x1b[K", "  0% done [1s]\x1b[14D\x1b[1B> IDLE\x1b[6D\x1b[1A\x1b[2K",
	}
	for _, c := range outputs {
		want := lines(sift(t, []byte(c.output)))
		for first := range noise {
			var b strings.Builder
			for i, line := range strings.Split(strings.TrimSuffix(c.output, "\n"), "\n") {
				if i%2 == 0 && !strings.HasPrefix(line, "{") {
					b.WriteString(noise[(first+i/2)%len(noise)])
				}
				b.WriteString(line + "\r\n")
			}
			if got := lines(sift(t, []byte(b.String()))); got != want {
				t.Errorf("%s, %s, from noise %d: got\n%swant\n%s", c.family, c.name, first, got, want)
				break
			}
		}
	}
}

// A name or a mark before a single line is none of the file's, and what stands behind
// the mark of a test or the hash of a commit is no problem.
func TestLeads(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"[build] src/f.cpp:5:5: error: x":                        "src/f.cpp:5:5: error: x\n",
		"web | src/i.ts(1,2): error TS2304: x":                   "src/i.ts:1:2: error: x [TS2304]\n",
		"build-1  | a.go:5:5: undefined: x":                      "a.go:5:5: error: undefined: x\n",
		"#8 0.326 src/f.cpp:5:5: error: x":                       "src/f.cpp:5:5: error: x\n",
		"#9 0.412 src/main.c:4:10: error: gone":                  "src/main.c:4:10: error: gone\n",
		"2026-11-26T08:44:01.0007919Z src/f.cpp:5:5: error: x":   "src/f.cpp:5:5: error: x\n",
		"[08:44:01] src/f.cpp:5:5: error: x":                     "src/f.cpp:5:5: error: x\n",
		"job: src/f.cpp:5:5: error: x":                           "src/f.cpp:5:5: error: x\n",
		"@emberclay/web: src/i.ts(1,2): error TS2304: x":         "src/i.ts:1:2: error: x [TS2304]\n",
		"packages/web build: src/i.ts(1,7): error TS2304: x":     "src/i.ts:1:7: error: x [TS2304]\n",
		"- a.c:3:4: error: x":                                    "a.c:3:4: error: x\n",
		"my folder/a.c:3:4: error: x":                            "my folder/a.c:3:4: error: x\n",
		"/w/my folder/a.c:3:4: error: x":                         "/w/my folder/a.c:3:4: error: x\n",
		"✔ file.c:3:4: error: x":                                 "",
		"ok 1 - a.c:3:4: error: x":                               "",
		"not ok 1 - a.c:3:4: error: x\nok 2 - b.c:1:1: error: y": "error: failed [a.c:3:4: error: x]\n",
		"784829d a.py:3: error: name missing":                    "",
		"* 784829d a.py:3: error: name missing (closes #12)":     "",
		"784829d HEAD@{1}: commit: a.py:3: error: x":             "",
		"tests/t.py::t[file.c:1:3: error: x] PASSED":             "",
	} {
		if got := lines(sift(t, []byte(line+"\n"))); got != want {
			t.Errorf("%q: got\n%swant\n%s", line, got, want)
		}
	}
}
