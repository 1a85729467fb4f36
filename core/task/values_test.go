package task

import (
	"strings"
	"testing"
)

// A fault and an origin name their place as far as it is known.
func TestPlacesInWords(t *testing.T) {
	for want, f := range map[string]Fault{
		"kiln/Makefile:14:3: include cycle": {File: "kiln/Makefile", Line: 14, Column: 3, Message: "include cycle"},
		"kiln/Makefile:14: include cycle":   {File: "kiln/Makefile", Line: 14, Message: "include cycle"},
		"kiln/Makefile: gone":               {File: "kiln/Makefile", Column: 3, Message: "gone"},
	} {
		if got := f.String(); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
	for want, o := range map[string]Origin{
		"kiln/Makefile:12, declared":              {File: "kiln/Makefile", Line: 12, Manner: Declared},
		"package-lock.json, inferred: lock file":  {File: "package-lock.json", Manner: Inferred, Note: "lock file"},
		"tidytally.toml:1, adjusted: by the team": {File: "tidytally.toml", Line: 1, Manner: Adjusted, Note: "by the team"},
	} {
		if got := o.String(); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}

// Further arguments go behind the command, and behind what the package manager needs
// before them; without any, the command stays as it is.
func TestFurtherArguments(t *testing.T) {
	for _, c := range []struct {
		task Task
		args []string
		want string
	}{
		{Task{Command: Command{Argv: []string{"npm", "run", "x"}}, ArgLead: []string{"--"}}, nil, "npm run x"},
		{Task{Command: Command{Argv: []string{"npm", "run", "x"}}, ArgLead: []string{"--"}}, []string{"a b"}, "npm run x -- 'a b'"},
		{Task{Command: Command{Shell: "echo $HOME"}}, nil, "echo $HOME"},
		{Task{Command: Command{Shell: "make x"}}, []string{"BOARD=mk2", "--flag=a b"}, "make x BOARD=mk2 --flag='a b'"},
		{Task{Command: Command{Argv: []string{"make"}}}, []string{"BOARD=mk2"}, "make BOARD=mk2"},
		{Task{Command: Command{Argv: []string{"A=b", "C=d"}}}, nil, "'A=b' C=d"},
	} {
		before := c.task.Command.String()
		if got := c.task.Full(c.args).String(); got != c.want {
			t.Errorf("%q with %q: %q, want %q", before, c.args, got, c.want)
		}
		if c.task.Command.String() != before {
			t.Errorf("the task's own command became %q", c.task.Command)
		}
	}
	if !(Command{}).IsZero() || (Command{Shell: "x"}).IsZero() || (Command{Argv: []string{"x"}}).IsZero() {
		t.Error("a command without words is none")
	}
	if got := (Command{}).With([]string{}).String(); got != "" {
		t.Errorf("no command and no arguments are %q", got)
	}
}

// A name that several tasks have means the listed one; if several are listed, none is guessed.
func TestFindPrefers(t *testing.T) {
	build := func(file string, manner Manner, hidden bool) *Task {
		return &Task{Name: "build", File: file, Manner: manner, Hidden: hidden}
	}
	for _, c := range []struct {
		name  string
		tasks []*Task
		want  string
	}{
		{"one is hidden", []*Task{build("a/x", Inferred, true), build("b/x", Inferred, false)}, "b/x#build"},
		{"all but one are hidden", []*Task{build("a/x", Inferred, true), build("b/x", Inferred, true), build("c/x", Inferred, false)}, "c/x#build"},
		{"two are listed", []*Task{build("a/x", Inferred, false), build("b/x", Inferred, false), build("c/x", Inferred, true)}, ""},
		{"one is declared", []*Task{build("a/x", Inferred, false), build("b/x", Declared, false)}, ""},
		{"two are declared", []*Task{build("a/x", Declared, false), build("b/x", Declared, false)}, ""},
		{"the declared one is hidden", []*Task{build("a/x", Declared, true), build("b/x", Inferred, false), build("c/x", Inferred, false)}, ""},
	} {
		got, err := Find(c.tasks, "build")
		if c.want == "" {
			if err == nil || strings.Count(err.Error(), "\n  ") != len(c.tasks) {
				t.Errorf("%s: %v, %v", c.name, got, err)
			}
		} else if err != nil || got.ID() != c.want {
			t.Errorf("%s: %v, %v", c.name, got, err)
		}
	}
}

// The nearest three of the listed ids are offered, those of a nearer file first.
func TestNearestIDs(t *testing.T) {
	var tasks []*Task
	for _, id := range []string{"zzz/Makefile#controller", "kiln/Makefile#controler", "kiln/rules#contr", "kilt/Makefile#controler", "a#b"} {
		file, name := SplitID(id)
		tasks = append(tasks, &Task{File: file, Name: name})
	}
	tasks = append(tasks, &Task{File: "kiln/Makefile", Name: "controllerx", Hidden: true})
	_, err := Find(tasks, "kiln/Makefile#controlle")
	want := "no task kiln/Makefile#controlle; the nearest are:\n  zzz/Makefile#controller\n  kiln/Makefile#controler\n  kilt/Makefile#controler"
	if err == nil || err.Error() != want {
		t.Errorf("got %v\nwant %s", err, want)
	}
	if _, err := Find(nil, "x"); err == nil || err.Error() != "no task x: the workspace declares none" {
		t.Errorf("without tasks: %v", err)
	}
	for word, want := range map[string]string{"contoller": "controller", "ab": "aa", "xyz": "", "tset": "test", "abcdefghi": "abcxyzghi", "abcdefgh": ""} {
		if got, ok := Nearest(word, []string{"controller", "aa", "test", "abcxyzghi"}); got != want || ok != (want != "") {
			t.Errorf("%s: %q, want %q", word, got, want)
		}
	}
}

// Distances count single edits and swaps of neighbours, whatever the case.
func TestDistanceAtItsBorders(t *testing.T) {
	long := strings.Repeat("a", 100)
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"", "", 0},
		{"", "abc", 3},
		{"ab", "ba", 1},
		{"abc", "acb", 1},
		{"Ab", "aB", 0},
		{"äö", "öä", 1},
		{"kitten", "sitting", 3},
		{"ca", "abc", 3},
		{long, long, 0},
		{long + "a", long, 101},
		{"b", long + "a", 101},
		{long, "a", 99},
	} {
		if got := Distance(c.a, c.b); got != c.want {
			t.Errorf("%.10q to %.10q: %d, want %d", c.a, c.b, got, c.want)
		}
	}
}

// Placeholders are told from braces of the shell and of the text, at every border.
func TestPlaceholdersAtTheirBorders(t *testing.T) {
	v := &Values{Root: "/w", Dir: "/w/kiln", File: "/w/src/a b.tar.gz", Line: 7}
	for text, want := range map[string]string{
		"{file.stem}{file.ext}": "a b.targz", "{line}": "7", "{{line}}": "{line}", "${line}": "${line}", "${line": "${line", "$": "$", "{": "{", "}": "}", "{}": "{}",
		"{line": "{line", "a{{b": "a{b", "a}}b": "a}b", "${a}{line}": "${a}7", "{a,b}": "{a,b}", "{1..3}": "{1..3}", "x{line}y{line}": "x7y7",
	} {
		if got, err := v.Expand(text, false); err != nil || got != want {
			t.Errorf("%q: %q, %v; want %q", text, got, err, want)
		}
	}
	for text, want := range map[string]string{
		"cat {file}": "cat '/w/src/a b.tar.gz'", `cat "{file}"`: `cat "/w/src/a b.tar.gz"`, "cat '{file}'": "cat '/w/src/a b.tar.gz'", `\{line}`: `\{line}`, `'\'{line}`: `'\'7`, `"\"{line}"`: `"\"7"`,
		`\`: `\`, `"'"{file.ext}`: `"'"gz`,
	} {
		if got, err := v.Expand(text, true); err != nil || got != want {
			t.Errorf("in the shell, %q: %q, %v; want %q", text, got, err, want)
		}
	}
	for text, want := range map[string]string{
		"{line} {file.rel}": "line file.rel", "${line}{root}": "root", "${line": "", "{{line}}": "", "{": "", "{}": "", "{set.python} {a,b}": "set.python", "x{line}": "line", "{{{line}": "line",
	} {
		if got := strings.Join(Placeholders(text), " "); got != want {
			t.Errorf("%q names %q, want %q", text, got, want)
		}
	}
	for name, want := range map[string]bool{"file": true, "env.HOME": true, "env.": false, "set.x": true, "ask.y": true, "files": false, "": false} {
		if KnownPlaceholder(name) != want {
			t.Errorf("%q: known %v", name, !want)
		}
	}
	empty := &Values{Root: "/w"}
	for _, text := range []string{"{line}", "{file}"} {
		if _, err := empty.Expand(text, false); err == nil || !strings.Contains(err.Error(), "there is no current") {
			t.Errorf("%s without a current file: %v", text, err)
		}
	}
}

// Open quotes are told with the character at which they open.
func TestOpenQuotes(t *testing.T) {
	for line, want := range map[string]string{`a 'b`: "the quote ' at character 3", `a "b\"`: `the quote " at character 3`, `"`: `the quote " at character 1`} {
		if _, err := SplitWords(line); err == nil || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%s: %v, want %s", line, err, want)
		}
	}
	for line, want := range map[string]string{`"a\b\"c\\"`: `a\b"c\`, `\a`: "a", `a\`: `a`, "": "", " \t": "", `''`: "|"} {
		words, err := SplitWords(line)
		got := strings.Join(words, "|")
		if line == "''" && len(words) == 1 {
			got = "|"
		}
		if err != nil || got != want {
			t.Errorf("%s: %q, %v; want %q", line, got, err, want)
		}
	}
}

// The fields of a task that a filter knows.
func TestFieldsOfATask(t *testing.T) {
	x := &Task{
		Name: "n", File: "a/Makefile", Source: "make", Dir: "d", Kind: Build, Manner: Inferred, LongRunning: true, Pin: true, Default: true, Hidden: true,
		Command: Command{Argv: []string{"make", "n"}}, Script: "cc", Origins: map[string]Origin{"about": {Manner: Adjusted}},
	}
	for field, want := range map[string]string{"kind": "build", "in": "d a", "from": "make a/Makefile", "name": "n", "runs": "make n|cc"} {
		got, ok := x.Field(field)
		sep := " "
		if field == "runs" {
			sep = "|"
		}
		if !ok || strings.Join(got, sep) != want {
			t.Errorf("%s: %q", field, got)
		}
	}
	is := func(x *Task) string {
		words, _ := Known{Task: x, Is: func(*Task) []string { return []string{"stale"} }}.Field("is")
		return " " + strings.Join(words, " ") + " "
	}
	for _, word := range []string{"inferred", "adjusted", "long-running", "hidden", "pinned", "default", "stale"} {
		if !strings.Contains(is(x), " "+word+" ") {
			t.Errorf("it is %s, not %s", is(x), word)
		}
	}
	if got := is(&Task{Manner: Declared}); got != " declared stale " {
		t.Errorf("a plain task is%s", got)
	}
	if _, ok := x.Field("colour"); ok {
		t.Error("there is no such field")
	}
}
